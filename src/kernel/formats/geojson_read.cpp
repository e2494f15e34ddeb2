#include <simdjson.h>

#include <algorithm>
#include <unordered_map>

#include "../base/error.h"
#include "../base/parallel.h"
#include "geojson.h"
#include "property_column.h"

namespace civic {
namespace {

namespace json = simdjson::ondemand;

// Valid JSON whose content is not GeoJSON.
struct NotGeojson {
  std::string what;
};

// Whether a file is one document a line: its first line is a whole document, and text follows it.
bool is_one_a_line(ByteSpan text) {
  int depth = 0;
  bool quoted = false, begun = false;
  for (std::size_t i = 0; i < text.size(); ++i) {
    const std::uint8_t c = text[i];
    if (c == '\n' && begun)
      return depth == 0 && std::any_of(text.begin() + i, text.end(), [](std::uint8_t d) { return d > ' '; });
    if (c == '"') quoted = !quoted;
    if (quoted && c == '\\') ++i;
    if (quoted || (c != '{' && c != '}')) continue;
    depth += c == '{' ? 1 : -1;
    begun = true;
  }
  return false;
}

constexpr std::uint8_t record_separator = 0x1e;  // RFC 8142

class GeojsonReader {
 public:
  GeojsonReader(ByteSpan file, const GeojsonQuery& query) : file_(file), text_(file), query_(query) {
    if (query.columns)
      for (const std::string& name : *query.columns) columns_[column_named(name)].wanted = true;
  }

  GeojsonLayer read() {
    const auto first = std::find_if(file_.begin(), file_.end(), [](std::uint8_t c) { return c > ' '; });
    const auto separator = std::find(file_.begin(), first, record_separator);
    if (separator != first)
      read_sequence(record_separator);
    else if (is_one_a_line(file_))
      read_sequence('\n');
    else
      read_text(file_);
    return finish();
  }

  // Names of the properties in order of appearance, ids first.
  std::vector<std::string> names() {
    read();
    std::vector<std::string> names;
    if (uses_ids()) names.emplace_back("id");
    for (const PropertyColumn& column : columns_)
      if (column.seen) names.push_back(column.name());
    return names;
  }

 private:
  void read_text(ByteSpan text) {
    text_ = text;
    started_ = false;
    try {
      const auto* start = reinterpret_cast<const char*>(text_.data());
      document_ = parser_.iterate(start, text_.size(), text_.size() + FileContent::padding);
      started_ = true;
      read_document();
    } catch (const simdjson::simdjson_error& problem) {
      rethrow(problem.error());
    } catch (const NotGeojson& problem) {
      throw FormatError("it is JSON but not GeoJSON: " + problem.what + place());
    }
  }

  void read_sequence(std::uint8_t separator) {
    for (auto at = file_.begin(); at != file_.end();) {
      const auto end = std::find(at, file_.end(), separator);
      const ByteSpan text(at, end);
      at = end == file_.end() ? end : end + 1;
      if (std::all_of(text.begin(), text.end(), [](std::uint8_t c) { return c <= ' '; })) continue;
      ++features_;
      start_row();
      try {
        read_text(text);
      } catch (const FormatError& problem) {
        if (!query_.skip_damaged) throw;
        drop_row();
        layer_.notices.add("features cannot be read and were left out", problem.what());
      }
      if (features_ % 65536 == 0) check_in(end - file_.begin(), file_.size());
    }
  }

  std::string place() {
    std::string text;
    if (features_ > 0) text += " (feature " + std::to_string(features_) + ")";
    return text;
  }

  [[noreturn]] void rethrow(simdjson::error_code code) {
    using enum simdjson::error_code;
    if (code == INCORRECT_TYPE || code == NO_SUCH_FIELD)
      throw FormatError(std::string("it is JSON but not GeoJSON: ") +
                        (code == INCORRECT_TYPE ? "a value is of the wrong type" : "a member is missing") + place() +
                        at_byte());
    if (code == EMPTY) throw FormatError("it is empty, not JSON");
    throw FormatError("it is not JSON: " + std::string(simdjson::error_message(code)) + place() + at_byte());
  }

  std::string at_byte() {
    const char* here = nullptr;
    if (!started_ || document_.current_location().get(here) != simdjson::SUCCESS) return "";
    const auto offset = here - reinterpret_cast<const char*>(file_.data());
    if (offset < 0 || static_cast<std::size_t>(offset) > file_.size()) return "";
    return " near byte " + std::to_string(offset);
  }

  static std::string type_of(json::object& object) {
    const std::string_view type = object["type"].get_string();
    return std::string(type);
  }

  void read_document() {
    json::object root = document_.get_object();
    const std::string type = type_of(root);
    root.reset();
    if (type == "FeatureCollection") {
      read_collection(root);
      return expect_end();
    }
    if (features_ == 0) features_ = 1;
    if (!wanted()) return;
    if (type == "Feature") {
      read_feature(root);
      return expect_end();
    }
    start_row();
    read_geometry_of_type(root, type);
    end_row();
  }

  void expect_end() {
    const char* rest = nullptr;
    if (document_.current_location().get(rest) == simdjson::SUCCESS) throw NotGeojson{"text follows its end"};
  }

  void read_collection(json::object& root) {
    bool found = false;
    for (auto member : root) {
      const std::string_view key = member.unescaped_key();
      if (key == "features") {
        found = true;
        for (auto feature : json::array(member.value())) {
          ++features_;
          if (!wanted()) continue;
          json::object object = feature.get_object();
          read_feature(object);
          if (features_ % 65536 == 0) check_in(features_, 0);
        }
      } else if (key == "crs") {
        read_crs(member.value());
      }
    }
    if (!found) throw NotGeojson{"the FeatureCollection has no member \"features\""};
  }

  void read_crs(json::value value) {
    json::object object;
    if (value.get_object().get(object)) return;
    std::string_view name;
    if (object["properties"]["name"].get_string().get(name) == simdjson::SUCCESS) layer_.crs_name = name;
  }

  void read_feature(json::object& feature) {
    start_row();
    bool has_geometry = false;
    for (auto member : feature) {
      const std::string_view key = member.unescaped_key();
      if (key == "geometry" && !has_geometry) {
        has_geometry = true;
        if (query_.shapes) read_geometry(member.value());
      } else if (key == "properties") {
        read_properties(member.value());
      } else if (key == "id") {
        read_id(member.value());
      } else if (key == "type") {
        if (std::string_view(member.value()) != "Feature") throw NotGeojson{"a member of \"features\" is no Feature"};
      }
    }
    if (query_.shapes && !has_geometry) add_missing("features have no member \"geometry\"");
    end_row();
  }

  bool wanted() const {
    return !query_.features || (features_ <= query_.features->size() && (*query_.features)[features_ - 1]);
  }

  void start_row() {
    mark_ = builder_.mark();
    before_ = rows_;
  }

  void end_row() {
    const bool outside =
        query_.within && (layer_.handles.back() == query_.missing || !builder_.last_box().meets(*query_.within));
    if (outside) return drop_row();
    layer_.rows.push_back(static_cast<int>(features_));
    ++rows_;
  }

  // Takes back what was read of the present feature, also where it seemed complete.
  void drop_row() {
    builder_.rewind(mark_);
    rows_ = before_;
    layer_.rows.resize(rows_);
    layer_.handles.resize(std::min(layer_.handles.size(), rows_));
    for (PropertyColumn& column : columns_) column.drop(rows_);
    if (ids_) ids_->drop(rows_);
  }

  void add_missing(const char* why) {
    if (why) layer_.notices.add(why, "feature " + std::to_string(features_));
    layer_.handles.push_back(query_.missing);
  }

  void read_id(json::value value) {
    if (!ids_) ids_.emplace("id");
    const bool wanted = !query_.columns || index_.count("id");
    if (wanted) read_value(*ids_, value);
  }

  // Features' ids become a column where no property of that name stands in the way.
  bool uses_ids() const {
    const auto property = index_.find("id");
    return ids_ && (property == index_.end() || !columns_[property->second].seen);
  }

  void read_properties(json::value value) {
    if (value.is_null()) return;
    std::size_t next = 0;
    for (auto member : value.get_object()) {
      const std::string_view name = member.unescaped_key();
      // Features mostly list their properties in the same order.
      std::size_t at = next < columns_.size() && columns_[next].name() == name ? next : column_named(name);
      next = at + 1;
      columns_[at].seen = true;
      if (columns_[at].wanted) read_value(columns_[at], member.value());
    }
  }

  std::size_t column_named(std::string_view name) {
    const auto [at, fresh] = index_.try_emplace(std::string(name), columns_.size());
    if (fresh) columns_.emplace_back(name).wanted = !query_.columns;
    return at->second;
  }

  void read_value(PropertyColumn& column, json::value value) {
    if (column.holds(rows_)) {
      column.drop(rows_);
      layer_.notices.add("features name a property twice, whose last value was taken", column.name());
    }
    switch (value.type()) {
      case json::json_type::null:
        if (!value.is_null()) throw NotGeojson{"a value is malformed"};
        break;
      case json::json_type::boolean:
        column.set_logical(rows_, value.get_bool());
        break;
      case json::json_type::string:
        column.set_text(rows_, value.get_string());
        break;
      case json::json_type::number:
        read_number(column, value);
        break;
      default:
        column.set_text(rows_, std::string_view(simdjson::to_json_string(value)));
    }
  }

  void read_number(PropertyColumn& column, json::value& value) {
    json::number number;
    const std::string_view digits = value.raw_json_token();
    if (value.get_number().get(number)) {
      // Whole numbers beyond 64 bits are numbers to JSON; text keeps every digit.
      const std::string_view token = digits.substr(0, digits.find_last_of("0123456789") + 1);
      if (token.empty() || token.find_first_not_of("-0123456789") != token.npos)
        throw NotGeojson{"a number is malformed"};
      double ignored;
      if (value.get_double().get(ignored)) throw NotGeojson{"a number is malformed"};
      return column.set_long(rows_, token);
    }
    if (number.is_int64()) return column.set_integer(rows_, number.get_int64());
    if (number.is_uint64()) return column.set_long(rows_, std::to_string(number.get_uint64()));
    column.set_real(rows_, number.get_double());
  }

  void read_geometry(json::value value) {
    if (value.is_null()) return add_missing(nullptr);
    json::object object = value.get_object();
    const std::string type = type_of(object);
    read_geometry_of_type(object, type);
  }

  void read_geometry_of_type(json::object& object, const std::string& type) {
    const ShapeKind kind = kind_named(type);
    builder_.begin_shape(type_code(kind, false, false));
    read_body(object, kind, 0);
    builder_.end_shape();
    layer_.handles.push_back(builder_.size());
  }

  static ShapeKind kind_named(const std::string& type) {
    static const char* const names[] = {"Point",           "LineString",   "Polygon",           "MultiPoint",
                                        "MultiLineString", "MultiPolygon", "GeometryCollection"};
    for (int i = 0; i < kind_limit; ++i)
      if (type == names[i]) return static_cast<ShapeKind>(i + 1);
    throw NotGeojson{"\"" + type + "\" is no type of geometry"};
  }

  void read_body(json::object& object, ShapeKind kind, int depth) {
    if (depth > 32) throw NotGeojson{"collections are nested more than 32 deep"};
    if (kind == ShapeKind::collection) {
      for (auto member : object["geometries"].get_array()) {
        json::object inner = member.get_object();
        const std::string type = type_of(inner);
        read_body(inner, kind_named(type), depth + 1);
      }
      return;
    }
    json::array coordinates = object["coordinates"].get_array();
    switch (kind) {
      case ShapeKind::point:
        return read_point(coordinates, true);
      case ShapeKind::line:
        return read_line(coordinates);
      case ShapeKind::polygon:
        return read_polygon(coordinates);
      default:
        for (auto member : coordinates) {
          json::array inner = member.get_array();
          if (kind == ShapeKind::multipoint) read_point(inner, false);
          if (kind == ShapeKind::multiline) read_line(inner);
          if (kind == ShapeKind::multipolygon) read_polygon(inner);
        }
    }
  }

  void read_point(json::array& position, bool may_be_empty) {
    double values[3];
    const int n = read_numbers(position, values);
    if (n == 0 && may_be_empty) return;
    builder_.begin_part(ShapeKind::point);
    builder_.begin_ring();
    add_vertex(values, n);
  }

  void read_line(json::array& positions) {
    bool begun = false;
    for (auto position : positions) {
      if (!begun) {
        builder_.begin_part(ShapeKind::line);
        builder_.begin_ring();
        begun = true;
      }
      read_position(position.get_array());
    }
  }

  void read_polygon(json::array& rings) {
    bool begun = false;
    for (auto ring : rings) {
      if (!begun) builder_.begin_part(ShapeKind::polygon);
      begun = true;
      builder_.begin_ring();
      for (auto position : ring.get_array()) read_position(position.get_array());
      if (builder_.close_ring())
        layer_.notices.add("polygons had rings that were not closed", "feature " + std::to_string(features_));
    }
  }

  void read_position(json::array position) {
    double values[3];
    add_vertex(values, read_numbers(position, values));
  }

  int read_numbers(json::array& position, double* values) {
    int n = 0;
    for (auto value : position) {
      const double number = value.get_double();
      if (n < 3) values[n] = number;
      ++n;
    }
    if (n > 3)
      layer_.notices.add("positions have more than three numbers; the rest was left out",
                         "feature " + std::to_string(features_));
    return std::min(n, 3);
  }

  void add_vertex(const double* values, int n) {
    if (n < 2) throw NotGeojson{"a position has fewer than two numbers"};
    if (n == 3) {
      builder_.promote_z();
      builder_.vertex(values[0], values[1], values[2]);
    } else {
      builder_.vertex(values[0], values[1]);
    }
  }

  GeojsonLayer finish() {
    layer_.store = builder_.take();
    const StoreTarget target = layer_.store.target();
    parallel_for(layer_.store.types.size(), 1024, [&](std::size_t begin, std::size_t end) {
      orient_rings(target, {static_cast<int>(begin), static_cast<int>(end)});
    });
    layer_.features = features_;
    const bool ids = uses_ids(), ids_wanted = !query_.columns || index_.count("id");
    if (ids && ids_wanted) layer_.columns.push_back(ids_->finish(rows_, layer_.notices));
    for (PropertyColumn& column : columns_)
      if (column.wanted && !(ids && column.name() == "id"))
        layer_.columns.push_back(column.finish(rows_, layer_.notices));
    return std::move(layer_);
  }

  ByteSpan file_, text_;  // the whole, and the document being read
  const GeojsonQuery query_;
  json::parser parser_;
  json::document document_;
  bool started_ = false;      // the document has a place to tell
  std::size_t features_ = 0;  // the feature being read, from 1
  std::size_t rows_ = 0;      // rows that are complete
  std::size_t before_ = 0;    // those before the present feature
  ShapeBuilder builder_;
  ShapeBuilder::Mark mark_;
  std::vector<PropertyColumn> columns_;
  std::unordered_map<std::string, std::size_t> index_;
  std::optional<PropertyColumn> ids_;
  GeojsonLayer layer_;
};

ByteSpan without_mark(ByteSpan text) {
  if (text.size() >= 3 && text[0] == 0xef && text[1] == 0xbb && text[2] == 0xbf) text = text.subspan(3);
  const auto first = std::find_if(text.begin(), text.end(), [](std::uint8_t c) { return c > ' '; });
  if (first == text.end()) throw FormatError("it is empty, not JSON");
  if (*first != '{' && *first != '[') throw FormatError("it is not JSON: it starts with neither '{' nor '['");
  return text;
}

}  // namespace

GeojsonLayer decode_geojson(ByteSpan text, const GeojsonQuery& query) {
  return GeojsonReader(without_mark(text), query).read();
}

std::vector<std::string> geojson_columns(ByteSpan text, bool skip_damaged) {
  GeojsonQuery query;
  query.skip_damaged = skip_damaged;
  query.shapes = false;
  query.columns.emplace();
  return GeojsonReader(without_mark(text), query).names();
}

}  // namespace civic
