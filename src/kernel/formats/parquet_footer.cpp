#include "parquet_footer.h"

#include <algorithm>

#include "../base/error.h"

namespace civic {
namespace {

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
  Value& need(int id, int wanted);
};
struct Entry {
  int id;
  Value value;
};

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

std::uint64_t zigzag(std::int64_t n) {
  return static_cast<std::uint64_t>(n) << 1 ^ static_cast<std::uint64_t>(n >> 63);
}
std::int64_t unzigzag(std::uint64_t n) { return static_cast<std::int64_t>(n >> 1) ^ -static_cast<std::int64_t>(n & 1); }

class ThriftReader {
 public:
  explicit ThriftReader(ByteSpan bytes) : bytes_(bytes) {}

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

class ThriftWriter {
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

Value number_value(std::int64_t n) {
  Value value;
  value.wire = i32;
  value.number = zigzag(n);
  return value;
}

Value text_value(const std::string& text) {
  Value value;
  value.wire = binary;
  value.bytes = text;
  return value;
}

// Field numbers of the format's definition (parquet.thrift).
enum Field {
  schema = 2,
  file_rows = 3,
  row_groups = 4,
  column_orders = 7,
  repetition = 3,
  name = 4,
  children = 5,
  converted = 6,
  columns = 1,
  group_rows = 3,
  column_metadata = 3,
  column_type = 1,
  path = 3,
  statistics = 12,
  greatest = 5,
  least = 6
};
constexpr std::int64_t list_conversion = 3;

std::int64_t children_of(Value& element) {
  const Value* count = element.field(children);
  return count ? unzigzag(count->number) : 0;
}

// Elements of the schema that an element and all below it take.
std::size_t subtree(std::vector<Value>& elements, std::size_t at, int depth = 0) {
  if (at >= elements.size() || depth > 32) throw FormatError("the Parquet metadata's schema is damaged");
  std::size_t size = 1;
  for (std::int64_t left = children_of(elements[at]); left > 0; --left) size += subtree(elements, at + size, depth + 1);
  return size;
}

// One value of a column chunk's statistics, as a number.
std::optional<double> statistic(Value& metadata, int which) {
  Value* found = metadata.field(statistics);
  Value* value = found ? found->field(which) : nullptr;
  if (!value) return std::nullopt;
  const auto* raw = reinterpret_cast<const std::uint8_t*>(value->bytes.data());
  const std::int64_t type = unzigzag(metadata.need(column_type, i32).number);
  if (type == 5 && value->bytes.size() == 8) return little<double>(raw);
  if (type == 4 && value->bytes.size() == 4) return little<float>(raw);
  return std::nullopt;
}

// The box around a row group's rows; nothing where the statistics do not tell it.
std::optional<Box> box_of(Value& rows, const std::string& group, const std::vector<std::string>& members) {
  std::optional<double> edges[4];
  for (Value& column : rows.need(columns, list).items) {
    Value& metadata = column.need(column_metadata, record);
    const std::vector<Value>& names = metadata.need(path, list).items;
    for (std::size_t e = 0; e < 4 && names.size() == 2 && names[0].bytes == group; ++e)
      if (names[1].bytes == members[e]) edges[e] = statistic(metadata, e < 2 ? least : greatest);
  }
  for (const auto& edge : edges)
    if (!edge) return std::nullopt;
  return Box{*edges[0], *edges[1], *edges[2], *edges[3]};
}

}  // namespace

FlatParquet flatten_parquet(ByteSpan metadata, const std::optional<Box>& window, const std::string& box_group,
                            const std::vector<std::string>& box_members) {
  Value file = ThriftReader(metadata).read_record();
  FlatParquet out;
  std::vector<Value>& groups = file.need(row_groups, list).items;
  if (window && box_members.size() == 4) {
    const std::size_t before = groups.size();
    std::erase_if(groups, [&](Value& rows) {
      const auto box = box_of(rows, box_group, box_members);
      return box && !box->meets(*window);
    });
    out.row_groups = before - groups.size();
  }

  std::vector<Value>& elements = file.need(schema, list).items;
  std::vector<Value> kept;
  if (elements.empty()) throw FormatError("the Parquet metadata has no schema");
  kept.push_back(elements[0]);
  for (std::size_t at = 1; at < elements.size();) {
    const std::size_t size = subtree(elements, at);
    const Value* conversion = elements[at].field(converted);
    const bool simple = size == 1 || (size == 3 && conversion && unzigzag(conversion->number) == list_conversion);
    if (simple)
      kept.insert(kept.end(), elements.begin() + at, elements.begin() + at + size);
    else
      out.dropped.push_back(elements[at].need(name, binary).bytes);
    at += size;
  }
  elements = std::move(kept);
  Value& root_children = elements[0].need(children, i32);
  root_children.number = zigzag(unzigzag(root_children.number) - static_cast<std::int64_t>(out.dropped.size()));
  std::int64_t rows_left = 0;
  for (Value& rows : groups) {
    rows_left += unzigzag(rows.need(group_rows, i64).number);
    std::erase_if(rows.need(columns, list).items, [&](Value& column) {
      const std::vector<Value>& names = column.need(column_metadata, record).need(path, list).items;
      return !names.empty() && std::find(out.dropped.begin(), out.dropped.end(), names[0].bytes) != out.dropped.end();
    });
  }
  file.need(file_rows, i64).number = zigzag(rows_left);
  std::erase_if(file.fields, [](const Entry& field) { return field.id == column_orders; });
  ThriftWriter writer;
  writer.write_record(file);
  out.metadata = std::move(writer.out);
  return out;
}

std::vector<std::uint8_t> group_parquet_columns(ByteSpan metadata, const std::string& group,
                                                const std::vector<std::string>& members) {
  Value file = ThriftReader(metadata).read_record();
  std::vector<Value>& elements = file.need(schema, list).items;
  if (elements.size() <= members.size()) throw FormatError("the Parquet file has too few columns");
  const std::size_t first = elements.size() - members.size();
  for (std::size_t i = 0; i < members.size(); ++i)
    if (elements[first + i].need(name, binary).bytes != members[i])
      throw FormatError("the Parquet file's last columns are not those to be grouped");
  Value& root_children = elements[0].need(children, i32);
  root_children.number = zigzag(unzigzag(root_children.number) - static_cast<std::int64_t>(members.size()) + 1);
  Value element;
  element.wire = record;
  element.fields = {{repetition, number_value(0)},
                    {name, text_value(group)},
                    {children, number_value(static_cast<std::int64_t>(members.size()))}};
  elements.insert(elements.begin() + first, element);

  for (Value& rows : file.need(row_groups, list).items)
    for (Value& column : rows.need(columns, list).items) {
      std::vector<Value>& names = column.need(column_metadata, record).need(path, list).items;
      const bool member =
          names.size() == 1 && std::find(members.begin(), members.end(), names[0].bytes) != members.end();
      if (member) names.insert(names.begin(), text_value(group));
    }
  ThriftWriter writer;
  writer.write_record(file);
  return writer.out;
}

}  // namespace civic
