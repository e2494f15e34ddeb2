// Decoders called on bytes in memory, as the tests need them.
#pragma once
#include <numeric>

#include "kernel/formats/dbase.h"
#include "kernel/formats/geojson.h"
#include "kernel/formats/shapefile.h"
#include "support.h"

namespace test {

using Bytes = std::vector<std::uint8_t>;

inline std::vector<int> up_to(std::size_t n) {
  std::vector<int> rows(n);
  std::iota(rows.begin(), rows.end(), 0);
  return rows;
}

struct Shapes {
  civic::StoreBuffer store;
  std::vector<int> handles;
  civic::Notices notices;
  std::string text(int row) const { return handles[row] < 1 ? "none" : text_of(store.view(), handles[row] - 1); }
};

inline Shapes decode(civic::ShapefileReader& reader, std::vector<int> rows) {
  reader.choose(std::move(rows));
  Shapes out;
  out.store = civic::StoreBuffer(reader.counts());
  const std::size_t parts = reader.decode(out.store.target());
  out.store.part_types.resize(parts);
  out.store.part_rings.resize(parts + 1);
  out.handles = reader.handles(-1);
  out.notices = reader.notices();
  return out;
}

inline Shapes read_shp(const Bytes& shp, const Bytes& shx = {}, bool skip_damaged = false) {
  const civic::InputFile file{civic::ByteSpan(shp)}, index{civic::ByteSpan(shx)};
  civic::ShapefileReader reader(file, shx.empty() ? nullptr : &index, skip_damaged);
  return decode(reader, up_to(reader.records()));
}

struct Table {
  std::vector<civic::DbaseReader::Field> fields;
  std::vector<int> records;
  std::vector<civic::Column> columns;
  civic::Notices notices;
};

// All fields of all records that are not deleted.
inline Table read_table(civic::ByteSpan dbf, const Bytes& memo = {}, bool skip_damaged = false) {
  const civic::InputFile file{dbf}, memos{civic::ByteSpan(memo)};
  civic::DbaseReader reader(file, memo.empty() ? nullptr : &memos, skip_damaged);
  Table out;
  out.fields = reader.fields();
  out.records = reader.live(up_to(reader.records()));
  out.columns = reader.read(up_to(out.fields.size()), out.records);
  out.notices = reader.notices();
  return out;
}

inline civic::FileContent padded(const std::string& text) {
  civic::FileContent content = civic::FileContent::allocate(text.size());
  std::copy(text.begin(), text.end(), content.data());
  return content;
}

// Every row has a handle, into the store, and a value of each column.
inline void need_whole_rows(const std::vector<int>& handles, const civic::StoreView& store, std::size_t rows,
                            const std::vector<civic::Column>& columns) {
  auto length = [](const civic::Column& column) {
    if (column.type == civic::ColumnType::text) return column.texts.size();
    const bool whole = column.type == civic::ColumnType::integer || column.type == civic::ColumnType::logical;
    return whole ? column.integers.size() : column.reals.size();
  };
  for (const civic::Column& column : columns)
    if (length(column) != rows) throw std::logic_error("column " + column.name + " is not as long as the rows");
  if (handles.size() != rows) throw std::logic_error("there are not as many shapes as rows");
  for (const int handle : handles)
    if (handle > store.size()) throw std::logic_error("a row points beyond the store");
}

inline civic::GeojsonLayer read_geojson(const std::string& text, const civic::GeojsonQuery& query = {}) {
  civic::GeojsonLayer layer = civic::decode_geojson(padded(text).bytes(), query);
  need_whole_rows(layer.handles, layer.store.view(), layer.rows.size(), layer.columns);
  return layer;
}

inline bool noted(const civic::Notices& notices, const std::string& what, std::size_t count = 1) {
  for (const civic::Notice& notice : notices.all())
    if (notice.what.find(what) != std::string::npos) return notice.count == count;
  return false;
}

}  // namespace test
