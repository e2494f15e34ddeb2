// GeoJSON (RFC 7946): decoded in one pass with simdjson, and encoded.
#pragma once
#include <optional>
#include <string>
#include <vector>

#include "../io/bytes.h"
#include "../shapes/store.h"
#include "columns.h"

namespace civic {

struct GeojsonLayer {
  StoreBuffer store;
  std::vector<int> handles;  // 1-based; `missing` for a null geometry
  std::vector<Column> columns;
  std::string crs_name;      // of the old "crs" member, empty where there is none
  std::size_t features = 0;  // in the file, kept or not
  std::vector<int> rows;     // for each row the number of its feature, from 1
  Notices notices;
};

// What to read of a file; the rest is passed over without being decoded.
struct GeojsonQuery {
  int missing = -1;                                 // the handle of a null geometry
  bool shapes = true;                               // false: properties alone
  std::optional<std::vector<std::string>> columns;  // properties wanted; all where not given
  std::optional<std::vector<char>> features;        // for each feature whether it is wanted
  std::optional<Box> within;                        // features whose box meets it
  bool skip_damaged = false;                        // features of a sequence that cannot be read are noted, not fatal
};

// Reads a FeatureCollection, a Feature, a bare geometry, or a sequence of these: one a line, or each after the record
// separator of RFC 8142. The bytes must have FileContent's padding after them.
// Throws FormatError that names the feature and the byte.
GeojsonLayer decode_geojson(ByteSpan text, const GeojsonQuery& query);

// Names of the properties, in order of first appearance; "id" first where features have ids.
std::vector<std::string> geojson_columns(ByteSpan text, bool skip_damaged);

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
