// NTv2 grid files made byte by byte.
#pragma once
#include <algorithm>
#include <cmath>
#include <cstdint>
#include <cstring>
#include <string>
#include <vector>

namespace test {

// An NTv2 file by hand: shifts of latitude and longitude (west) in arc-seconds as functions of the place in
// arc-seconds.
class GridFile {
 public:
  explicit GridFile(bool swapped) : swapped_(swapped) {}
  void header(int grids, const char* from, const char* to) {
    record("NUM_OREC", 11);
    record("NUM_SREC", 11);
    record("NUM_FILE", grids);
    record("GS_TYPE", std::string("SECONDS"));
    record("VERSION", std::string("NTv2.0"));
    record("SYSTEM_F", std::string(from));
    record("SYSTEM_T", std::string(to));
    record("MAJOR_F", 6378206.4);
    record("MINOR_F", 6356583.8);
    record("MAJOR_T", 6378137.0);
    record("MINOR_T", 6356752.314);
  }
  template <class Shift>
  void grid(const char* name, const char* parent, double south, double north, double east, double west, double step,
            const Shift& shift) {
    record("SUB_NAME", std::string(name));
    record("PARENT", std::string(parent));
    record("CREATED", std::string());
    record("UPDATED", std::string());
    record("S_LAT", south);
    record("N_LAT", north);
    record("E_LONG", east);
    record("W_LONG", west);
    record("LAT_INC", step);
    record("LONG_INC", step);
    const int rows = static_cast<int>((north - south) / step + 1.5),
              columns = static_cast<int>((west - east) / step + 1.5);
    record("GS_COUNT", rows * columns);
    for (int r = 0; r < rows; ++r)
      for (int c = 0; c < columns; ++c) {
        const auto [latitude, longitude] = shift(south + r * step, east + c * step);
        for (const float value : {static_cast<float>(latitude), static_cast<float>(longitude), 0.05f, 0.05f})
          put(value);
      }
  }
  std::vector<std::uint8_t> bytes;

 private:
  template <class T>
  void put(T value) {
    std::uint8_t raw[sizeof(T)];
    std::memcpy(raw, &value, sizeof(T));
    if (swapped_) std::reverse(raw, raw + sizeof(T));
    bytes.insert(bytes.end(), raw, raw + sizeof(T));
  }
  void text(std::string value) {
    value.resize(8, ' ');
    bytes.insert(bytes.end(), value.begin(), value.end());
  }
  void record(const char* name, int value) {
    text(name);
    put(value);
    put(0);
  }
  void record(const char* name, double value) {
    text(name);
    put(value);
  }
  void record(const char* name, const std::string& value) {
    text(name);
    text(value);
  }
  bool swapped_;
};

// Two degrees from 44 N 76 W, with a finer grid inside that shifts by another second.
inline GridFile two_grids(bool swapped) {
  GridFile file(swapped);
  file.header(2, "NAD27", "NAD83");
  auto coarse = [](double lat, double west) { return std::pair{1 + lat * 1e-6, -2 + west * 1e-6}; };
  auto fine = [&](double lat, double west) { return std::pair{coarse(lat, west).first + 1, coarse(lat, west).second}; };
  file.grid("coarse", "NONE", 44 * 3600, 46 * 3600, 74 * 3600, 76 * 3600, 1800, coarse);
  file.grid("fine", "coarse", 44.5 * 3600, 45 * 3600, 74.5 * 3600, 75 * 3600, 600, fine);
  return file;
}

}  // namespace test
