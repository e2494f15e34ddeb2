#include "parquet_footer.h"

#include <algorithm>

#include "../base/error.h"
#include "thrift.h"

namespace civic {

using namespace thrift;

namespace {

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

std::vector<std::optional<Box>> parquet_boxes(ByteSpan metadata, const std::string& box_group,
                                              const std::vector<std::string>& box_members) {
  Value file = read_record(metadata);
  std::vector<std::optional<Box>> boxes;
  for (Value& rows : file.need(row_groups, list).items)
    boxes.push_back(box_members.size() == 4 ? box_of(rows, box_group, box_members) : std::nullopt);
  return boxes;
}

FlatParquet flatten_parquet(ByteSpan metadata, const std::optional<Box>& window, const std::string& box_group,
                            const std::vector<std::string>& box_members) {
  Value file = read_record(metadata);
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
  out.metadata = write_record(file);
  return out;
}

std::vector<std::uint8_t> group_parquet_columns(ByteSpan metadata, const std::string& group,
                                                const std::vector<std::string>& members) {
  Value file = read_record(metadata);
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
  return write_record(file);
}

}  // namespace civic
