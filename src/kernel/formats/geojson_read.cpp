#include <algorithm>
#include <unordered_map>

#include "../base/progress.h"
#include "geojson.h"
#include "geojson_json.h"
#include "property_column.h"

namespace civic {
namespace {

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

class TableReader {
 public:
  TableReader(ByteSpan file, const std::optional<std::vector<std::string>>& columns, bool skip_damaged)
      : file_(file), text_(file), all_columns_(!columns), skip_damaged_(skip_damaged) {
    if (columns)
      for (const std::string& name : *columns) columns_[column_named(name)].wanted = true;
  }

  GeojsonTable read() {
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
      throw unreadable(problem.error(), features_, started_ ? byte_of(document_, file_) : "");
    } catch (const NotGeojson& problem) {
      throw FormatError("it is JSON but not GeoJSON: " + problem.what + of_feature(features_));
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
        if (!skip_damaged_) throw;
        drop_row();
        table_.notices.add("features cannot be read and were left out", problem.what());
      }
      if (features_ % 65536 == 0) check_in(end - file_.begin(), file_.size());
    }
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
    if (type == "Feature") {
      read_feature(root);
      return expect_end();
    }
    start_row();
    place_ = place_of(root);
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
    if (object["properties"]["name"].get_string().get(name) == simdjson::SUCCESS) table_.crs_name = name;
  }

  void read_feature(json::object& feature) {
    start_row();
    bool has_geometry = false;
    for (auto member : feature) {
      const std::string_view key = member.unescaped_key();
      if (key == "geometry" && !has_geometry) {
        has_geometry = true;
        read_geometry(member.value());
      } else if (key == "properties") {
        read_properties(member.value());
      } else if (key == "id") {
        read_id(member.value());
      } else if (key == "type") {
        if (std::string_view(member.value()) != "Feature") throw NotGeojson{"a member of \"features\" is no Feature"};
      }
    }
    if (!has_geometry)
      table_.notices.add("features have no member \"geometry\"", "feature " + std::to_string(features_));
    end_row();
  }

  void start_row() {
    before_ = rows_;
    place_ = {};
  }

  void end_row() {
    table_.rows.push_back(static_cast<int>(features_));
    table_.geometries.push_back(place_);
    ++rows_;
  }

  // Takes back what was read of the present feature, also where it seemed complete.
  void drop_row() {
    rows_ = before_;
    table_.rows.resize(rows_);
    table_.geometries.resize(rows_);
    for (PropertyColumn& column : columns_) column.drop(rows_);
    if (ids_) ids_->drop(rows_);
  }

  GeometryPlace place_of(json::object& object) const {
    const std::string_view text = object.raw_json();
    return {static_cast<std::size_t>(text.data() - reinterpret_cast<const char*>(file_.data())), text.size()};
  }

  void read_geometry(json::value value) {
    if (value.is_null()) return;
    json::object object = value.get_object();
    place_ = place_of(object);
  }

  void read_id(json::value value) {
    if (!ids_) ids_.emplace("id");
    const bool wanted = all_columns_ || index_.count("id");
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
    if (fresh) columns_.emplace_back(name).wanted = all_columns_;
    return at->second;
  }

  void read_value(PropertyColumn& column, json::value value) {
    if (column.holds(rows_)) {
      column.drop(rows_);
      table_.notices.add("features name a property twice, whose last value was taken", column.name());
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

  GeojsonTable finish() {
    table_.features = features_;
    const bool ids = uses_ids(), ids_wanted = all_columns_ || index_.count("id");
    if (ids && ids_wanted) table_.columns.push_back(ids_->finish(rows_, table_.notices));
    for (PropertyColumn& column : columns_)
      if (column.wanted && !(ids && column.name() == "id"))
        table_.columns.push_back(column.finish(rows_, table_.notices));
    return std::move(table_);
  }

  ByteSpan file_, text_;  // the whole, and the document being read
  const bool all_columns_, skip_damaged_;
  json::parser parser_;
  json::document document_;
  bool started_ = false;      // the document has a place to tell
  std::size_t features_ = 0;  // the feature being read, from 1
  std::size_t rows_ = 0;      // rows that are complete
  std::size_t before_ = 0;    // those before the present feature
  GeometryPlace place_;       // the present feature's
  std::vector<PropertyColumn> columns_;
  std::unordered_map<std::string, std::size_t> index_;
  std::optional<PropertyColumn> ids_;
  GeojsonTable table_;
};

}  // namespace

GeojsonTable read_geojson_table(ByteSpan text, const std::optional<std::vector<std::string>>& columns,
                                bool skip_damaged) {
  return TableReader(without_mark(text), columns, skip_damaged).read();
}

}  // namespace civic
