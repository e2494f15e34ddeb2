#include "thrift.h"

#include <algorithm>

#include "../base/error.h"

namespace civic::thrift {

Value* Value::field(int id) {
  for (Entry& candidate : fields)
    if (candidate.id == id) return &candidate.value;
  return nullptr;
}

Value& Value::need(int id, int wanted) {
  Value* found = field(id);
  if (!found || found->wire != wanted) throw FormatError("the Parquet metadata lacks field " + std::to_string(id));
  return *found;
}

std::int64_t Value::number_of(int id, std::int64_t otherwise) {
  const Value* found = field(id);
  return found ? unzigzag(found->number) : otherwise;
}

namespace {

class Reader {
 public:
  explicit Reader(ByteSpan bytes) : bytes_(bytes) {}

  Value read_record(int depth = 0) {
    if (depth > 32) fail();
    Value out;
    out.wire = record;
    std::int64_t id = 0;
    while (true) {
      const int head = take();
      if (head == stop) return out;
      id = head >> 4 ? id + (head >> 4) : unzigzag(varint());
      out.fields.push_back({static_cast<int>(id), read_value(head & 15, depth)});
    }
  }

  std::size_t at() const { return at_; }

 private:
  [[noreturn]] void fail() const {
    throw FormatError("the Parquet metadata is damaged (its byte " + std::to_string(at_) + ")");
  }
  int take() {
    if (at_ >= bytes_.size()) fail();
    return bytes_[at_++];
  }
  std::uint64_t varint() {
    std::uint64_t n = 0;
    for (int shift = 0; shift < 64; shift += 7) {
      const int b = take();
      n |= static_cast<std::uint64_t>(b & 127) << shift;
      if (b < 128) return n;
    }
    fail();
  }
  std::string text(std::uint64_t size) {
    if (size > bytes_.size() - at_) fail();
    std::string out(bytes_.begin() + at_, bytes_.begin() + at_ + size);
    at_ += size;
    return out;
  }

  Value read_value(int wire, int depth) {
    Value out;
    out.wire = wire;
    switch (wire) {
      case yes:
      case no:
        break;
      case byte:
        out.number = take();
        break;
      case i16:
      case i32:
      case i64:
        out.number = varint();
        break;
      case real:
        out.bytes = text(8);
        break;
      case binary:
        out.bytes = text(varint());
        break;
      case list:
      case set: {
        const int head = take();
        const std::uint64_t size = head >> 4 == 15 ? varint() : head >> 4;
        out.item = head & 15;
        if (size > bytes_.size() - at_) fail();
        for (std::uint64_t i = 0; i < size; ++i)
          out.items.push_back(out.item == yes || out.item == no ? read_value(byte, depth)
                                                                : read_value(out.item, depth + 1));
        break;
      }
      case record:
        out = read_record(depth + 1);
        break;
      default:
        fail();
    }
    return out;
  }

  ByteSpan bytes_;
  std::size_t at_ = 0;
};

class Writer {
 public:
  std::vector<std::uint8_t> out;

  void write_record(const Value& value) {
    int last = 0;
    for (const auto& [id, field] : value.fields) {
      const int step = id - last;
      put(step > 0 && step < 16 ? step << 4 | field.wire : field.wire);
      if (step <= 0 || step >= 16) varint(zigzag(id));
      last = id;
      write_value(field);
    }
    put(stop);
  }

 private:
  void put(int b) { out.push_back(static_cast<std::uint8_t>(b)); }
  void varint(std::uint64_t n) {
    for (; n > 127; n >>= 7) put(static_cast<int>(n & 127) | 128);
    put(static_cast<int>(n));
  }
  void write_value(const Value& value) {
    switch (value.wire) {
      case byte:
        put(static_cast<int>(value.number));
        break;
      case i16:
      case i32:
      case i64:
        varint(value.number);
        break;
      case binary:
        varint(value.bytes.size());
        [[fallthrough]];
      case real:
        out.insert(out.end(), value.bytes.begin(), value.bytes.end());
        break;
      case list:
      case set:
        put(static_cast<int>(std::min<std::size_t>(value.items.size(), 15)) << 4 | value.item);
        if (value.items.size() >= 15) varint(value.items.size());
        for (const Value& item : value.items) write_value(item);
        break;
      case record:
        write_record(value);
        break;
      default:
        break;
    }
  }
};

}  // namespace

Value number_value(std::int64_t n, int wire) {
  Value value;
  value.wire = wire;
  value.number = zigzag(n);
  return value;
}

Value text_value(const std::string& text) {
  Value value;
  value.wire = binary;
  value.bytes = text;
  return value;
}

Value list_value(int item, std::vector<Value> items) {
  Value value;
  value.wire = list;
  value.item = item;
  value.items = std::move(items);
  return value;
}

Value record_value(std::vector<Entry> fields) {
  Value value;
  value.wire = record;
  value.fields = std::move(fields);
  return value;
}

Value read_record(ByteSpan bytes, std::size_t* taken) {
  Reader reader(bytes);
  Value out = reader.read_record();
  if (taken) *taken = reader.at();
  return out;
}

std::vector<std::uint8_t> write_record(const Value& record) {
  Writer writer;
  writer.write_record(record);
  return std::move(writer.out);
}

}  // namespace civic::thrift
