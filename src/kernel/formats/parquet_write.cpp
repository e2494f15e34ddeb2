#include <algorithm>
#include <cmath>

#include "../base/error.h"
#include "../shapes/wkb.h"
#include "parquet_fields.h"
#include "parquet_file.h"
#include "thrift.h"

namespace civic {
namespace {

namespace pq = parquet;
using thrift::Value;

constexpr std::size_t page_bytes = 1 << 20;

// How a column is kept: its physical type, and what its values mean.
struct Kept {
  int physical, converted = -1, logical = 0;
};

Kept kept(ColumnType type) {
  switch (type) {
    case ColumnType::logical:
      return {pq::boolean};
    case ColumnType::integer:
      return {pq::int32};
    case ColumnType::real:
      return {pq::float64};
    case ColumnType::date:
      return {pq::int32, pq::date, 6};
    case ColumnType::datetime:
      return {pq::int64, pq::timestamp_micros, 8};
    case ColumnType::text:
      return {pq::bytes, pq::utf8, 1};
    default:
      return {pq::bytes};
  }
}

Value flag(bool on) {
  Value value;
  value.wire = on ? thrift::yes : thrift::no;
  return value;
}

Value element_of(const std::string& name, ColumnType type) {
  using thrift::number_value;
  const Kept how = kept(type);
  std::vector<thrift::Entry> fields{{pq::element::type, number_value(how.physical)},
                                    {pq::element::repetition, number_value(pq::optional)},
                                    {pq::element::name, thrift::text_value(name)}};
  if (how.converted >= 0) fields.push_back({pq::element::converted, number_value(how.converted)});
  if (how.logical > 0) {
    Value meaning = thrift::record_value({});
    if (type == ColumnType::datetime)  // on UTC, in microseconds
      meaning.fields = {{1, flag(true)}, {2, thrift::record_value({{2, thrift::record_value({})}})}};
    fields.push_back({pq::element::logical, thrift::record_value({{how.logical, meaning}})});
  }
  return thrift::record_value(std::move(fields));
}

// Whether each value is there, as runs of one bit.
std::vector<std::uint8_t> levels_of(const std::vector<char>& present) {
  std::vector<std::uint8_t> out;
  const auto varint = [&](std::size_t n) {
    for (; n > 127; n >>= 7) out.push_back(static_cast<std::uint8_t>((n & 127) | 128));
    out.push_back(static_cast<std::uint8_t>(n));
  };
  if (std::find(present.begin(), present.end(), 0) == present.end()) {
    varint(present.size() << 1);
    out.push_back(1);
    return out;
  }
  const std::size_t eights = (present.size() + 7) / 8;
  varint(eights << 1 | 1);
  const std::size_t first = out.size();
  out.resize(first + eights);
  for (std::size_t i = 0; i < present.size(); ++i)
    if (present[i]) out[first + i / 8] = static_cast<std::uint8_t>(out[first + i / 8] | 1 << i % 8);
  return out;
}

Value statistics_of(ColumnType type, std::size_t missing, const std::optional<std::pair<double, double>>& range) {
  std::vector<thrift::Entry> fields{
      {pq::statistics::missing, thrift::number_value(static_cast<std::int64_t>(missing), thrift::i64)}};
  const auto bytes_of = [&](double value) {
    std::vector<std::uint8_t> raw;
    if (type == ColumnType::real)
      put_little(raw, value);
    else
      put_little(raw, static_cast<std::int32_t>(value));
    return thrift::text_value({raw.begin(), raw.end()});
  };
  if (range) {
    fields.push_back({pq::statistics::greatest, bytes_of(range->second)});
    fields.push_back({pq::statistics::least, bytes_of(range->first)});
  }
  return thrift::record_value(std::move(fields));
}

bool is_there(const Column& column, std::size_t row) {
  if (column.type == ColumnType::text) return !column.texts.missing(row);
  if (column.type == ColumnType::logical || column.type == ColumnType::integer)
    return column.integers[row] != missing_integer;
  return !std::isnan(column.reals[row]);
}

// Times beyond what 64 bits of microseconds hold are at its ends.
std::int64_t microseconds(double seconds) {
  return static_cast<std::int64_t>(std::clamp(std::round(seconds * 1e6), -9.2e18, 9.2e18));
}

std::int32_t days(double date) {
  return static_cast<std::int32_t>(std::clamp(std::floor(date), -2147483647.0, 2147483647.0));
}

void put_value(std::vector<std::uint8_t>& out, const Column& column, std::size_t row) {
  switch (column.type) {
    case ColumnType::integer:
      return put_little(out, static_cast<std::int32_t>(column.integers[row]));
    case ColumnType::real:
      return put_little(out, column.reals[row]);
    case ColumnType::date:
      return put_little(out, days(column.reals[row]));
    case ColumnType::datetime:
      return put_little(out, microseconds(column.reals[row]));
    default: {
      const std::string_view text = column.texts[row];
      put_little(out, static_cast<std::uint32_t>(text.size()));
      out.insert(out.end(), text.begin(), text.end());
    }
  }
}

}  // namespace

ParquetWriter::ParquetWriter(const std::string& path, const std::vector<Column>& columns, const std::string& shape_name)
    : file_(path) {
  for (const Column& column : columns)
    columns_.push_back({column.name, column.type == ColumnType::empty ? ColumnType::text : column.type});
  if (!shape_name.empty()) columns_.push_back({shape_name, ColumnType::empty});
  write({'P', 'A', 'R', '1'});
}

void ParquetWriter::write(const std::vector<std::uint8_t>& bytes) {
  file_.write(bytes.data(), bytes.size());
  at_ += bytes.size();
}

void ParquetWriter::add(const std::vector<Column>& columns, const ShapeRows* shapes, std::size_t rows) {
  if (columns.size() + (shapes ? 1 : 0) != columns_.size())
    throw ArgumentError("the rows have other columns than the file");
  Group group;
  group.rows = rows;
  for (std::size_t i = 0; i < columns.size(); ++i) {
    if (columns[i].name != columns_[i].first ||
        (columns[i].type != columns_[i].second && columns[i].type != ColumnType::empty))
      throw ArgumentError("the rows have another column \"" + columns_[i].first + "\" than the file");
    group.chunks.push_back(add_column(columns[i], rows));
  }
  if (shapes) group.chunks.push_back(add_shapes(*shapes));
  groups_.push_back(std::move(group));
  rows_ += rows;
}

ParquetWriter::Chunk ParquetWriter::add_column(const Column& column, std::size_t rows) {
  Chunk chunk;
  chunk.at = at_;
  const bool ranged =
      column.type == ColumnType::integer || column.type == ColumnType::real || column.type == ColumnType::date;
  std::vector<std::uint8_t> values;
  std::vector<char> present;
  std::size_t bits = 0;
  for (std::size_t row = 0; row < rows; ++row) {
    const bool there = column.type != ColumnType::empty && is_there(column, row);
    present.push_back(there);
    if (there && column.type == ColumnType::logical) {
      if (bits % 8 == 0) values.push_back(0);
      if (column.integers[row]) values.back() = static_cast<std::uint8_t>(values.back() | 1 << bits % 8);
      ++bits;
    } else if (there) {
      put_value(values, column, row);
    }
    if (there && ranged) {
      const double value = column.type == ColumnType::integer ? column.integers[row]
                           : column.type == ColumnType::date  ? days(column.reals[row])
                                                              : column.reals[row];
      if (!chunk.range) chunk.range.emplace(value, value);
      chunk.range->first = std::min(chunk.range->first, value);
      chunk.range->second = std::max(chunk.range->second, value);
    }
    if (values.size() >= page_bytes || present.size() >= page_bytes) {
      add_page(chunk, values, present);
      values.clear();
      present.clear();
      bits = 0;
    }
  }
  if (!present.empty() || rows == 0) add_page(chunk, values, present);
  return chunk;
}

ParquetWriter::Chunk ParquetWriter::add_shapes(const ShapeRows& shapes) {
  Chunk chunk;
  chunk.at = at_;
  std::vector<std::uint8_t> values;
  std::vector<char> present;
  for (int row = 0; row < shapes.size(); ++row) {
    present.push_back(shapes[row] >= 0);
    if (shapes[row] >= 0) {
      const std::size_t before = values.size();
      put_little(values, std::uint32_t{0});
      write_wkb(shapes.store, shapes[row], values);
      const auto size = static_cast<std::uint32_t>(values.size() - before - 4);
      for (unsigned i = 0; i < 4; ++i) values[before + i] = static_cast<std::uint8_t>(size >> 8 * i);
    }
    if (values.size() >= page_bytes) {
      add_page(chunk, values, present);
      values.clear();
      present.clear();
    }
  }
  if (!present.empty() || shapes.size() == 0) add_page(chunk, values, present);
  return chunk;
}

void ParquetWriter::add_page(Chunk& chunk, const std::vector<std::uint8_t>& values, const std::vector<char>& present) {
  using thrift::number_value;
  const std::vector<std::uint8_t> levels = levels_of(present);
  const std::size_t size = 4 + levels.size() + values.size();
  if (size > 0x7fffffff) throw ArgumentError("a shape or text is too long for a page of a Parquet file");
  const auto bytes = static_cast<std::int64_t>(size);
  const Value about = thrift::record_value({{pq::data::values, number_value(static_cast<std::int64_t>(present.size()))},
                                            {pq::data::encoding, number_value(pq::plain)},
                                            {pq::data::definition, number_value(pq::rle)},
                                            {pq::data::repetition, number_value(pq::rle)}});
  std::vector<std::uint8_t> page =
      thrift::write_record(thrift::record_value({{pq::page::type, number_value(pq::data_page)},
                                                 {pq::page::unpacked_size, number_value(bytes)},
                                                 {pq::page::packed_size, number_value(bytes)},
                                                 {pq::page::data, about}}));
  put_little(page, static_cast<std::uint32_t>(levels.size()));
  page.insert(page.end(), levels.begin(), levels.end());
  write(page);
  write(values);
  chunk.size = at_ - chunk.at;
  chunk.values += present.size();
  chunk.missing += static_cast<std::size_t>(std::count(present.begin(), present.end(), 0));
}

void ParquetWriter::finish(const std::vector<std::pair<std::string, std::string>>& texts) {
  using thrift::i64;
  using thrift::number_value;
  const auto count = [](std::size_t n) { return number_value(static_cast<std::int64_t>(n), i64); };
  std::vector<Value> elements{
      thrift::record_value({{pq::element::name, thrift::text_value("schema")},
                            {pq::element::children, number_value(static_cast<std::int64_t>(columns_.size()))}})};
  for (const auto& [name, type] : columns_) elements.push_back(element_of(name, type));
  std::vector<Value> groups;
  for (const Group& rows : groups_) {
    std::vector<Value> chunks;
    std::size_t bytes = 0;
    for (std::size_t i = 0; i < columns_.size(); ++i) {
      const Chunk& chunk = rows.chunks[i];
      bytes += chunk.size;
      const Value about = thrift::record_value(
          {{pq::column::type, number_value(kept(columns_[i].second).physical)},
           {pq::column::encodings, thrift::list_value(thrift::i32, {number_value(pq::plain), number_value(pq::rle)})},
           {pq::column::path, thrift::list_value(thrift::binary, {thrift::text_value(columns_[i].first)})},
           {pq::column::codec, number_value(pq::unpacked)},
           {pq::column::values, count(chunk.values)},
           {pq::column::unpacked_size, count(chunk.size)},
           {pq::column::packed_size, count(chunk.size)},
           {pq::column::data_page, count(chunk.at)},
           {pq::column::statistics, statistics_of(columns_[i].second, chunk.missing, chunk.range)}});
      chunks.push_back(thrift::record_value({{pq::chunk::offset, count(chunk.at)}, {pq::chunk::metadata, about}}));
    }
    groups.push_back(thrift::record_value({{pq::group::columns, thrift::list_value(thrift::record, std::move(chunks))},
                                           {pq::group::bytes, count(bytes)},
                                           {pq::group::rows, count(rows.rows)}}));
  }
  std::vector<Value> pairs;
  for (const auto& [key, value] : texts)
    pairs.push_back(thrift::record_value({{1, thrift::text_value(key)}, {2, thrift::text_value(value)}}));
  const std::vector<std::uint8_t> metadata = thrift::write_record(
      thrift::record_value({{pq::file::version, number_value(1)},
                            {pq::file::schema, thrift::list_value(thrift::record, std::move(elements))},
                            {pq::file::rows, count(rows_)},
                            {pq::file::row_groups, thrift::list_value(thrift::record, std::move(groups))},
                            {pq::file::texts, thrift::list_value(thrift::record, std::move(pairs))},
                            {pq::file::created_by, thrift::text_value("civicatlas")}}));
  write(metadata);
  std::vector<std::uint8_t> end;
  put_little(end, static_cast<std::uint32_t>(metadata.size()));
  end.insert(end.end(), {'P', 'A', 'R', '1'});
  write(end);
  file_.publish_unflushed();
}

}  // namespace civic
