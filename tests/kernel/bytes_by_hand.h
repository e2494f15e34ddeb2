// Files put together byte by byte, as the formats' documents describe them.
#pragma once
#include <cstdint>
#include <cstring>
#include <string>
#include <utility>
#include <vector>

namespace test {

class ByteMaker {
 public:
  ByteMaker& big(std::uint32_t v) {
    for (int s = 24; s >= 0; s -= 8) bytes.push_back(static_cast<std::uint8_t>(v >> s));
    return *this;
  }
  ByteMaker& little(std::uint32_t v) {
    for (int s = 0; s < 32; s += 8) bytes.push_back(static_cast<std::uint8_t>(v >> s));
    return *this;
  }
  ByteMaker& real(double v) {
    std::uint64_t raw;
    std::memcpy(&raw, &v, 8);
    for (int s = 0; s < 64; s += 8) bytes.push_back(static_cast<std::uint8_t>(raw >> s));
    return *this;
  }
  ByteMaker& text(const std::string& t, std::size_t width, char fill = '\0') {
    for (std::size_t i = 0; i < width; ++i) bytes.push_back(static_cast<std::uint8_t>(i < t.size() ? t[i] : fill));
    return *this;
  }
  std::vector<std::uint8_t> bytes;
};

// A shapefile of the given type around records' contents.
inline std::vector<std::uint8_t> shapefile(int type, const std::vector<std::vector<std::uint8_t>>& records) {
  ByteMaker file;
  file.big(9994).big(0).big(0).big(0).big(0).big(0).big(0).little(1000).little(type);
  for (int i = 0; i < 8; ++i) file.real(0);
  int number = 0;
  for (const auto& content : records) {
    file.big(++number).big(static_cast<std::uint32_t>(content.size() / 2));
    file.bytes.insert(file.bytes.end(), content.begin(), content.end());
  }
  return file.bytes;
}

using Ring = std::vector<std::pair<double, double>>;

inline std::vector<std::uint8_t> poly_record(int type, const std::vector<Ring>& rings) {
  ByteMaker record;
  record.little(type).real(0).real(0).real(0).real(0);
  std::uint32_t points = 0;
  for (const Ring& ring : rings) points += static_cast<std::uint32_t>(ring.size());
  record.little(static_cast<std::uint32_t>(rings.size())).little(points);
  std::uint32_t start = 0;
  for (const Ring& ring : rings) {
    record.little(start);
    start += static_cast<std::uint32_t>(ring.size());
  }
  for (const Ring& ring : rings)
    for (auto [x, y] : ring) record.real(x).real(y);
  return record.bytes;
}

struct DbaseField {
  std::string name;
  char type;
  int width, decimals;
};

inline std::vector<std::uint8_t> dbase(const std::vector<DbaseField>& fields, const std::vector<std::string>& records) {
  int width = 1;
  for (const auto& field : fields) width += field.width;
  ByteMaker file;
  file.bytes = {3, 126, 11, 24};
  file.little(static_cast<std::uint32_t>(records.size()));
  const int header = 32 + 32 * static_cast<int>(fields.size()) + 1;
  for (int v : {header, width}) {
    file.bytes.push_back(static_cast<std::uint8_t>(v & 255));
    file.bytes.push_back(static_cast<std::uint8_t>(v >> 8));
  }
  file.text("", 20);
  for (const auto& field : fields) {
    file.text(field.name, 11);
    file.bytes.push_back(static_cast<std::uint8_t>(field.type));
    file.text("", 4);
    file.bytes.push_back(static_cast<std::uint8_t>(field.width));
    file.bytes.push_back(static_cast<std::uint8_t>(field.decimals));
    file.text("", 14);
  }
  file.bytes.push_back(0x0d);
  for (const auto& record : records) file.text(record, width, ' ');
  return file.bytes;
}

}  // namespace test
