#include <cmath>

#include "../base/parallel.h"
#include "../shapes/wkt.h"
#include "kml.h"

namespace civic {
namespace {

void write_escaped(std::string_view text, std::string& out) {
  for (const char c : text) {
    const auto byte = static_cast<unsigned char>(c);
    if (c == '<')
      out += "&lt;";
    else if (c == '>')
      out += "&gt;";
    else if (c == '&')
      out += "&amp;";
    else if (c == '"')
      out += "&quot;";
    else if (byte >= 0x20 || c == '\n' || c == '\t' || c == '\r')
      out += c;  // XML 1.0 has no other control characters
  }
}

const char* schema_type(const Column& column) {
  switch (column.type) {
    case ColumnType::logical:
      return "bool";
    case ColumnType::integer:
      return "int";
    case ColumnType::real:
      return "double";
    default:
      return "string";
  }
}

// Appends the value in text; false where it is missing.
bool write_value(const Column& column, std::size_t row, std::string& out) {
  switch (column.type) {
    case ColumnType::logical:
    case ColumnType::integer:
      if (column.integers[row] == missing_integer) return false;
      if (column.type == ColumnType::integer)
        out += std::to_string(column.integers[row]);
      else
        out += column.integers[row] ? "1" : "0";
      return true;
    case ColumnType::text:
      if (column.texts.missing(row)) return false;
      write_escaped(column.texts[row], out);
      return true;
    case ColumnType::empty:
      return false;
    default:
      if (!std::isfinite(column.reals[row])) return false;
      write_number(column.reals[row], -1, out);
      return true;
  }
}

class PlacemarkWriter {
 public:
  PlacemarkWriter(const ShapeRows& rows, const std::vector<Column>& columns, int decimals)
      : rows_(rows), store_(rows.store), columns_(columns), decimals_(decimals) {}

  void write(int row, std::string& out) const {
    out += "<Placemark>";
    for (const Column& column : columns_)
      if (column.name == "name") write_tagged("<name>", column, row, "</name>", out);
    std::string data;
    for (const Column& column : columns_) {
      std::string open = "<SimpleData name=\"";
      write_escaped(column.name, open);
      write_tagged(open + "\">", column, row, "</SimpleData>", data);
    }
    if (!data.empty())
      out += "<ExtendedData><SchemaData schemaUrl=\"#fields\">" + data + "</SchemaData></ExtendedData>";
    if (rows_[row] >= 0) write_geometry(rows_[row], out);
    out += "</Placemark>\n";
  }

 private:
  static void write_tagged(const std::string& open, const Column& column, int row, const char* close,
                           std::string& out) {
    const std::size_t before = out.size();
    out += open;
    if (write_value(column, row, out))
      out += close;
    else
      out.resize(before);
  }

  void write_geometry(int shape, std::string& out) const {
    const ShapeKind kind = kind_of(store_.types[shape]);
    const IndexRange parts = store_.parts(shape);
    const bool several = static_cast<int>(kind) > 3, z = has_z(store_.types[shape]);
    if (several) out += "<MultiGeometry>";
    for (int part = parts.begin; part < parts.end; ++part) write_part(part, z, out);
    if (several) out += "</MultiGeometry>";
    const std::string name = several ? "" : element(kind);
    if (!several && parts.size() == 0) out += "<" + name + "></" + name + ">";
  }

  static const char* element(ShapeKind kind) {
    static const char* const names[] = {"", "Point", "LineString", "Polygon"};
    return names[static_cast<int>(kind)];
  }

  void write_part(int part, bool z, std::string& out) const {
    const ShapeKind kind = store_.part_kind(part);
    const IndexRange rings = store_.rings(part);
    const std::string name = element(kind);
    out += "<" + name + ">";
    if (z) out += "<altitudeMode>absolute</altitudeMode>";
    for (int ring = rings.begin; ring < rings.end; ++ring) {
      const char* border = ring == rings.begin ? "outerBoundaryIs>" : "innerBoundaryIs>";
      if (kind == ShapeKind::polygon) (out += "<") += border, out += "<LinearRing>";
      write_coordinates(store_.vertices(ring), z, out);
      if (kind == ShapeKind::polygon) (out += "</LinearRing></") += border;
    }
    out += "</" + name + ">";
  }

  void write_coordinates(IndexRange v, bool z, std::string& out) const {
    out += "<coordinates>";
    for (int i = v.begin; i < v.end; ++i) {
      if (i > v.begin) out += ' ';
      write_number(store_.x[i], decimals_, out);
      out += ',';
      write_number(store_.y[i], decimals_, out);
      if (!z || std::isnan(store_.z[i])) continue;
      out += ',';
      write_number(store_.z[i], decimals_, out);
    }
    out += "</coordinates>";
  }

  const ShapeRows& rows_;
  const StoreView& store_;
  const std::vector<Column>& columns_;
  const int decimals_;
};

}  // namespace

std::string encode_kml(const ShapeRows& rows, const std::vector<Column>& columns, const std::string& layer,
                       int decimals, Notices& notices) {
  for (int row = 0; row < rows.size(); ++row)
    if (rows[row] >= 0 && has_m(rows.store.types[rows[row]]))
      notices.add("shapes lost their M values, which KML cannot hold", "row " + std::to_string(row + 1));
  std::string out =
      "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<kml xmlns=\"http://www.opengis.net/kml/2.2\">\n<Document>\n<name>";
  write_escaped(layer, out);
  out += "</name>\n<Schema name=\"fields\" id=\"fields\">\n";
  for (const Column& column : columns) {
    out += std::string("<SimpleField type=\"") + schema_type(column) + "\" name=\"";
    write_escaped(column.name, out);
    out += "\"></SimpleField>\n";
  }
  out += "</Schema>\n";
  const PlacemarkWriter writer(rows, columns, decimals);
  constexpr std::size_t grain = 512;
  std::vector<std::string> pieces((rows.size() + grain - 1) / grain);
  parallel_for(rows.size(), grain, [&](std::size_t begin, std::size_t end) {
    for (std::size_t row = begin; row < end; ++row) writer.write(static_cast<int>(row), pieces[begin / grain]);
  });
  for (std::string& piece : pieces) {
    out += piece;
    std::string().swap(piece);
  }
  return out + "</Document>\n</kml>\n";
}

}  // namespace civic
