// Files put together byte by byte, as the formats' documents describe them.
#pragma once
#include <cstdint>
#include <cstring>
#include <initializer_list>
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

// Metadata of a Parquet file in Thrift's compact protocol: the columns "a" (INT32) and "c" (DOUBLE), and the group
// "bbox" with xmin, ymin, xmax and ymax; two row groups, whose boxes are 0 to 1 and 10 to 11.
inline std::vector<std::uint8_t> parquet_metadata() {
  std::vector<std::uint8_t> out;
  auto put = [&](std::initializer_list<int> bytes) {
    for (int b : bytes) out.push_back(static_cast<std::uint8_t>(b));
  };
  auto text = [&](const std::string& t) {
    out.push_back(static_cast<std::uint8_t>(t.size()));
    out.insert(out.end(), t.begin(), t.end());
  };
  auto element = [&](int type, const std::string& name, int children) {
    if (type >= 0) put({0x15, 2 * type, 0x25, 0, 0x18});  // 1: type, 3: repetition, 4: name
    if (type < 0) put({0x35, 0, 0x18});                   // 3: repetition, 4: name
    text(name);
    if (children > 0) put({0x15, 2 * children});  // 5: children
    put({0});
  };
  const std::vector<std::string> edges{"xmin", "ymin", "xmax", "ymax"};
  put({0x15, 2, 0x19, 0x8c});  // 1: version, 2: schema of eight elements
  element(-1, "schema", 3);
  element(1, "a", 0);
  element(-1, "bbox", 4);
  for (const auto& edge : edges) element(5, edge, 0);
  element(5, "c", 0);
  put({0x16, 6, 0x19, 0x2c});  // 3: three rows, 4: two row groups
  for (int group = 0; group < 2; ++group) {
    put({0x19, 0x6c});  // 1: six columns
    auto column = [&](int type, const std::vector<std::string>& path, double low, double high) {
      put({0x3c, 0x15, 2 * type, 0x29, static_cast<int>(path.size()) << 4 | 8});
      for (const auto& name : path) text(name);
      if (path.size() == 2) {
        put({0x9c, 0x58, 8});  // 12: statistics, 5: greatest
        const std::vector<std::uint8_t> raw_high = ByteMaker().real(high).bytes, raw_low = ByteMaker().real(low).bytes;
        out.insert(out.end(), raw_high.begin(), raw_high.end());
        put({0x18, 8});  // 6: least
        out.insert(out.end(), raw_low.begin(), raw_low.end());
        put({0});
      }
      put({0, 0});
    };
    const double at = 10 * group;
    column(1, {"a"}, 0, 0);
    for (std::size_t e = 0; e < 4; ++e) column(5, {"bbox", edges[e]}, at + (e > 1), at + (e > 1));
    column(5, {"c"}, 0, 0);
    put({0x26, 2 * (group + 1), 0});  // 3: rows
  }
  put({0});
  return out;
}

}  // namespace test
