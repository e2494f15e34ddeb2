// Values in Thrift's compact protocol (Apache Thrift, doc/specs/thrift-compact-protocol.md), in which Parquet keeps its
// metadata.
#pragma once
#include <string>
#include <vector>

#include "../io/bytes.h"

namespace civic::thrift {

// Types of Thrift's compact protocol.
enum Wire : int {
  stop = 0,
  yes = 1,
  no = 2,
  byte = 3,
  i16 = 4,
  i32 = 5,
  i64 = 6,
  real = 7,
  binary = 8,
  list = 9,
  set = 10,
  map = 11,
  record = 12
};

// Any Thrift value. Numbers keep their zigzag form, so that nothing is lost on the way through.
struct Entry;
struct Value {
  int wire = stop;
  std::uint64_t number = 0;
  std::string bytes;  // binary, and the eight bytes of a real
  int item = stop;    // wire type of a list's items
  std::vector<Value> items;
  std::vector<Entry> fields;

  Value* field(int id);
  Value& need(int id, int wanted);  // throws FormatError where it is not there
  // The number of a field, or what is taken where there is none.
  std::int64_t number_of(int id, std::int64_t otherwise);
};
struct Entry {
  int id;
  Value value;
};

inline std::uint64_t zigzag(std::int64_t n) {
  return static_cast<std::uint64_t>(n) << 1 ^ static_cast<std::uint64_t>(n >> 63);
}
inline std::int64_t unzigzag(std::uint64_t n) {
  return static_cast<std::int64_t>(n >> 1) ^ -static_cast<std::int64_t>(n & 1);
}

Value number_value(std::int64_t n, int wire = i32);
Value text_value(const std::string& text);
Value list_value(int item, std::vector<Value> items);
Value record_value(std::vector<Entry> fields);

// Reads the record that starts the bytes, and tells how many it took; throws FormatError where it is damaged.
Value read_record(ByteSpan bytes, std::size_t* taken = nullptr);
std::vector<std::uint8_t> write_record(const Value& record);

}  // namespace civic::thrift
