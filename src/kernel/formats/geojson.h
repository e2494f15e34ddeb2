// GeoJSON (RFC 7946): decoded in one pass with simdjson, and encoded.
#pragma once
#include <string>
#include <vector>

#include "../shapes/store.h"
#include "bytes.h"
#include "columns.h"

namespace civic {

struct GeojsonLayer {
  StoreBuffer store;
  std::vector<int> handles;  // 1-based; `missing` for a null geometry
  std::vector<Column> columns;
  std::string crs_name;  // of the old "crs" member, empty where there is none
  Notices notices;
};

// Reads a FeatureCollection, a Feature or a bare geometry. The bytes must have FileContent's padding after them.
// Throws FormatError that names the feature and the byte.
GeojsonLayer decode_geojson(ByteSpan text, int missing);

struct GeojsonOptions {
  int decimals = -1;     // digits after the point of coordinates; -1 for the shortest that read back the same
  std::string crs_name;  // written as the old "crs" member where not empty
};

// Rings follow the right-hand rule (RFC 7946, 3.1.6); M values are left out and counted.
std::string encode_geojson(const ShapeRows& rows, const std::vector<Column>& columns, const GeojsonOptions& options,
                           Notices& notices);

}  // namespace civic
