#include <algorithm>
#include <cmath>
#include <cstdio>

#include "../base/parallel.h"
#include "../shapes/wkt.h"
#include "geojson.h"

namespace civic {
namespace {

void write_quoted(std::string_view text, std::string& out) {
  out += '"';
  for (const char c : text) {
    const auto byte = static_cast<unsigned char>(c);
    if (c == '"' || c == '\\') {
      out += '\\';
      out += c;
    } else if (byte < 0x20) {
      char escape[8];
      std::snprintf(escape, sizeof escape, "\\u%04x", byte);
      out += escape;
    } else {
      out += c;
    }
  }
  out += '"';
}

void write_json_number(double value, int decimals, std::string& out) {
  if (std::isfinite(value))
    write_number(value, decimals, out);
  else
    out += "null";
}

class FeatureWriter {
 public:
  FeatureWriter(const ShapeRows& rows, const std::vector<Column>& columns, const GeojsonOptions& options)
      : rows_(rows), store_(rows.store), columns_(columns), options_(options) {
    for (const Column& column : columns) {
      std::string key;
      write_quoted(column.name, key);
      keys_.push_back(key + ":");
    }
  }

  void write(int row, std::string& out) const {
    out += "{\"type\":\"Feature\",\"properties\":{";
    for (std::size_t c = 0; c < columns_.size(); ++c) {
      if (c > 0) out += ',';
      out += keys_[c];
      write_value(columns_[c], row, out);
    }
    out += "},\"geometry\":";
    if (rows_[row] < 0)
      out += "null";
    else
      write_geometry(rows_[row], out);
    out += '}';
  }

 private:
  static void write_value(const Column& column, std::size_t row, std::string& out) {
    switch (column.type) {
      case ColumnType::logical:
        out += column.integers[row] == missing_integer ? "null" : column.integers[row] ? "true" : "false";
        break;
      case ColumnType::integer:
        out += column.integers[row] == missing_integer ? "null" : std::to_string(column.integers[row]);
        break;
      case ColumnType::text:
        if (column.texts.missing(row))
          out += "null";
        else
          write_quoted(column.texts[row], out);
        break;
      case ColumnType::empty:
        out += "null";
        break;
      default:
        write_json_number(column.reals[row], -1, out);
    }
  }

  void write_geometry(int shape, std::string& out) const {
    static const char* const names[] = {"",           "Point",           "LineString",   "Polygon",
                                        "MultiPoint", "MultiLineString", "MultiPolygon", "GeometryCollection"};
    const ShapeKind kind = kind_of(store_.types[shape]);
    const bool z = has_z(store_.types[shape]);
    const IndexRange parts = store_.parts(shape);
    out += std::string("{\"type\":\"") + names[static_cast<int>(kind)] + "\",";
    if (kind == ShapeKind::collection) {
      out += "\"geometries\":[";
      for (int part = parts.begin; part < parts.end; ++part) {
        if (part > parts.begin) out += ',';
        out += std::string("{\"type\":\"") + names[static_cast<int>(store_.part_kind(part))] + "\",\"coordinates\":";
        write_part(part, z, out);
        out += '}';
      }
      out += "]}";
      return;
    }
    out += "\"coordinates\":";
    if (part_kind(kind) == kind) {
      if (parts.size() == 0)
        out += "[]";
      else
        write_part(parts.begin, z, out);
    } else {
      out += '[';
      for (int part = parts.begin; part < parts.end; ++part) {
        if (part > parts.begin) out += ',';
        write_part(part, z, out);
      }
      out += ']';
    }
    out += '}';
  }

  void write_part(int part, bool z, std::string& out) const {
    const IndexRange rings = store_.rings(part);
    const ShapeKind kind = store_.part_kind(part);
    if (kind == ShapeKind::point) return write_position(store_.vertices(rings.begin).begin, z, out);
    if (kind == ShapeKind::line) return write_positions(store_.vertices(rings.begin), false, z, out);
    out += '[';
    for (int ring = rings.begin; ring < rings.end; ++ring) {
      if (ring > rings.begin) out += ',';
      const double area = signed_area_twice(store_, store_.vertices(ring));
      write_positions(store_.vertices(ring), ring == rings.begin ? area < 0 : area > 0, z, out);
    }
    out += ']';
  }

  void write_positions(IndexRange v, bool backwards, bool z, std::string& out) const {
    out += '[';
    for (int i = 0; i < v.size(); ++i) {
      if (i > 0) out += ',';
      write_position(backwards ? v.end - 1 - i : v.begin + i, z, out);
    }
    out += ']';
  }

  void write_position(int v, bool z, std::string& out) const {
    out += '[';
    write_json_number(store_.x[v], options_.decimals, out);
    out += ',';
    write_json_number(store_.y[v], options_.decimals, out);
    if (z && !std::isnan(store_.z[v])) {
      out += ',';
      write_json_number(store_.z[v], options_.decimals, out);
    }
    out += ']';
  }

  const ShapeRows& rows_;
  const StoreView& store_;
  const std::vector<Column>& columns_;
  const GeojsonOptions& options_;
  std::vector<std::string> keys_;
};

}  // namespace

std::string encode_geojson(const ShapeRows& rows, const std::vector<Column>& columns, const GeojsonOptions& options,
                           Notices& notices) {
  for (int row = 0; row < rows.size(); ++row)
    if (rows[row] >= 0 && has_m(rows.store.types[rows[row]]))
      notices.add("shapes lost their M values, which GeoJSON cannot hold", "row " + std::to_string(row + 1));

  const FeatureWriter writer(rows, columns, options);
  constexpr std::size_t grain = 512;
  std::vector<std::string> pieces((rows.size() + grain - 1) / grain);
  parallel_for(rows.size(), grain, [&](std::size_t begin, std::size_t end) {
    std::string& piece = pieces[begin / grain];
    for (std::size_t row = begin; row < end; ++row) {
      if (options.form == GeojsonForm::sequence) piece += '\x1e';
      if (options.form == GeojsonForm::collection && row > 0) piece += ",\n";
      writer.write(static_cast<int>(row), piece);
      if (options.form != GeojsonForm::collection) piece += '\n';
    }
  });
  std::string out;
  if (options.form == GeojsonForm::collection) {
    out = "{\"type\":\"FeatureCollection\",\n";
    if (!options.crs_name.empty()) {
      out += "\"crs\":{\"type\":\"name\",\"properties\":{\"name\":";
      write_quoted(options.crs_name, out);
      out += "}},\n";
    }
    out += "\"features\":[\n";
  }
  for (std::string& piece : pieces) {
    out += piece;
    std::string().swap(piece);
  }
  if (options.form == GeojsonForm::collection) out += "\n]}\n";
  return out;
}

}  // namespace civic
