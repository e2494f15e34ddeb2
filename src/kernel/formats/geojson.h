// GeoJSON (RFC 7946): a pass with simdjson for the properties and for where the geometries stand, which are decoded on
// all threads; and encoded.
#pragma once
#include <optional>
#include <string>
#include <vector>

#include "../io/bytes.h"
#include "../shapes/store.h"
#include "columns.h"

namespace civic {

// Bytes of a file that hold the geometry of a row; none for a null geometry.
struct GeometryPlace {
  std::size_t from = 0, size = 0;
};

struct GeojsonTable {
  std::vector<Column> columns;  // "id" first where features have ids and no property of that name
  std::vector<GeometryPlace> geometries;
  std::vector<int> rows;     // for each row the number of its feature, from 1
  std::string crs_name;      // of the old "crs" member, empty where there is none
  std::size_t features = 0;  // in the file, read or not
  Notices notices;
};

// Reads a FeatureCollection, a Feature, a bare geometry, or a sequence of these: one a line, or each after the record
// separator of RFC 8142. The bytes must have FileContent's padding after them. Properties that are not among the
// columns are passed over. Features of a sequence that cannot be read are noted where `skip_damaged`, else fatal.
// Throws FormatError that names the feature and the byte.
GeojsonTable read_geojson_table(ByteSpan text, const std::optional<std::vector<std::string>>& columns,
                                bool skip_damaged);

struct GeojsonShapes {
  std::vector<StoreBuffer> stores;  // to be put together, one after the other
  std::vector<int> handles;         // 1-based, of the shapes of all stores; `missing` for a null geometry
  std::vector<int> kept;            // which of the rows asked for, from 0: whose box meets the window, and not damaged
  Notices notices;
};

// The geometries of some rows of that file, whose features' numbers are for messages.
GeojsonShapes read_geojson_shapes(ByteSpan text, std::span<const GeometryPlace> places, std::span<const int> features,
                                  const std::optional<Box>& within, int missing, bool skip_damaged);

// Both, put together.
struct GeojsonLayer {
  StoreBuffer store;
  std::vector<int> handles;
  std::vector<Column> columns;
  std::string crs_name;
  std::size_t features = 0;
  std::vector<int> rows;
  Notices notices;
};
struct GeojsonQuery {
  int missing = -1;                                 // the handle of a null geometry
  std::optional<std::vector<std::string>> columns;  // properties wanted; all where not given
  std::optional<Box> within;                        // features whose box meets it
  bool skip_damaged = false;
};
GeojsonLayer decode_geojson(ByteSpan text, const GeojsonQuery& query);

enum class GeojsonForm { collection, lines, sequence };  // one document, a feature a line, RFC 8142

struct GeojsonOptions {
  int decimals = -1;     // digits after the point of coordinates; -1 for the shortest that read back the same
  std::string crs_name;  // written as the old "crs" member where not empty
  GeojsonForm form = GeojsonForm::collection;
};

// Rings follow the right-hand rule (RFC 7946, 3.1.6); M values are left out and counted.
std::string encode_geojson(const ShapeRows& rows, const std::vector<Column>& columns, const GeojsonOptions& options,
                           Notices& notices);

}  // namespace civic
