#include <span>

#include "../base/parallel.h"
#include "geojson.h"
#include "geojson_json.h"

namespace civic {
namespace {

// The geometries of some rows that stand one after the other.
class GeometryReader {
 public:
  explicit GeometryReader(ByteSpan file) : file_(file) {}

  // Throws FormatError, before which the store is as it was.
  void read(const GeometryPlace& place, int feature) {
    feature_ = feature;
    const ShapeBuilder::Mark before = builder_.mark();
    bool started = false;
    try {
      const char* start = reinterpret_cast<const char*>(file_.data()) + place.from;
      document_ = parser_.iterate(start, place.size, place.size + FileContent::padding);
      started = true;
      json::object object = document_.get_object();
      const ShapeKind kind = kind_named(type_of(object));
      builder_.begin_shape(type_code(kind, false, false));
      read_body(object, kind, 0);
      builder_.end_shape();
    } catch (const simdjson::simdjson_error& problem) {
      builder_.rewind(before);
      throw unreadable(problem.error(), static_cast<std::size_t>(feature), started ? byte_of(document_, file_) : "");
    } catch (const NotGeojson& problem) {
      builder_.rewind(before);
      throw FormatError("it is JSON but not GeoJSON: " + problem.what + of_feature(static_cast<std::size_t>(feature)));
    }
    last_ = before;
  }

  void drop_last() { builder_.rewind(last_); }
  const Box& last_box() const { return builder_.last_box(); }
  int size() const { return builder_.size(); }

  StoreBuffer take() {
    StoreBuffer store = builder_.take();
    orient_rings(store.target(), {0, static_cast<int>(store.types.size())});
    return store;
  }
  Notices& notices() { return notices_; }

 private:
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
        notices_.add("polygons had rings that were not closed", "feature " + std::to_string(feature_));
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
      notices_.add("positions have more than three numbers; the rest was left out",
                   "feature " + std::to_string(feature_));
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

  const ByteSpan file_;
  json::parser parser_;
  json::document document_;
  int feature_ = 0;
  ShapeBuilder builder_;
  ShapeBuilder::Mark last_;
  Notices notices_;
};

// What came of a chunk of rows, with handles in its own store.
struct Chunk {
  StoreBuffer store;
  std::vector<int> handles, kept;
  Notices notices;
};

Column rows_of(Column column, const std::vector<int>& rows) {
  const auto pick = [&](auto& values) {
    if (values.empty()) return;
    auto picked = values;
    picked.clear();
    for (const int row : rows) picked.push_back(values[static_cast<std::size_t>(row)]);
    values = std::move(picked);
  };
  pick(column.integers);
  pick(column.reals);
  TextColumn texts;
  for (const int row : rows) {
    if (column.type != ColumnType::text) break;
    const auto i = static_cast<std::size_t>(row);
    if (column.texts.missing(i))
      texts.push_missing();
    else
      texts.push(column.texts[i]);
  }
  column.texts = std::move(texts);
  return column;
}

}  // namespace

GeojsonShapes read_geojson_shapes(ByteSpan text, std::span<const GeometryPlace> places, std::span<const int> features,
                                  const std::optional<Box>& within, int missing, bool skip_damaged) {
  const ByteSpan file = without_mark(text);
  constexpr std::size_t rows = 1024;
  std::vector<Chunk> chunks((places.size() + rows - 1) / rows);
  parallel_for(places.size(), rows, [&](std::size_t begin, std::size_t end) {
    GeometryReader reader(file);
    Chunk& chunk = chunks[begin / rows];
    for (std::size_t row = begin; row < end; ++row) {
      if (places[row].size == 0) {
        if (within) continue;
        chunk.handles.push_back(missing);
      } else {
        try {
          reader.read(places[row], features[row]);
        } catch (const FormatError& problem) {
          if (!skip_damaged) throw;
          chunk.notices.add("features cannot be read and were left out", problem.what());
          continue;
        }
        if (within && !reader.last_box().meets(*within)) {
          reader.drop_last();
          continue;
        }
        chunk.handles.push_back(reader.size());
      }
      chunk.kept.push_back(static_cast<int>(row));
    }
    chunk.notices.add(reader.notices());
    chunk.store = reader.take();
  });

  GeojsonShapes out;
  int shapes = 0;
  for (Chunk& chunk : chunks) {
    for (const int handle : chunk.handles) out.handles.push_back(handle == missing ? missing : handle + shapes);
    out.kept.insert(out.kept.end(), chunk.kept.begin(), chunk.kept.end());
    out.notices.add(chunk.notices);
    shapes += static_cast<int>(chunk.store.types.size());
    out.stores.push_back(std::move(chunk.store));
  }
  return out;
}

GeojsonLayer decode_geojson(ByteSpan text, const GeojsonQuery& query) {
  GeojsonTable table = read_geojson_table(text, query.columns, query.skip_damaged);
  GeojsonShapes shapes =
      read_geojson_shapes(text, table.geometries, table.rows, query.within, query.missing, query.skip_damaged);
  GeojsonLayer out;
  std::vector<StoreView> views;
  for (const StoreBuffer& store : shapes.stores) views.push_back(store.view());
  out.store = StoreBuffer(count_all(views));
  concatenate(views, out.store.target());
  out.handles = std::move(shapes.handles);
  for (Column& column : table.columns) out.columns.push_back(rows_of(std::move(column), shapes.kept));
  for (const int row : shapes.kept) out.rows.push_back(table.rows[static_cast<std::size_t>(row)]);
  out.crs_name = std::move(table.crs_name);
  out.features = table.features;
  out.notices = std::move(table.notices);
  out.notices.add(shapes.notices);
  return out;
}

}  // namespace civic
