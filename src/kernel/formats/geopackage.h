// The geometry of a GeoPackage (OGC 12-128r18, clause 2.1.3): a header with CRS and envelope before well-known binary.
#pragma once
#include <optional>
#include <vector>

#include "../io/bytes.h"
#include "../shapes/store.h"

namespace civic {

struct GeopackageHeader {
  int srs_id;
  bool empty;
  std::optional<Box> envelope;
  std::size_t size;  // bytes before the well-known binary
};

// Throws FormatError with the byte of what is wrong.
GeopackageHeader read_geopackage_header(ByteSpan blob);

// Appends one shape's blob, with an envelope where the shape has vertices and is no point.
void write_geopackage_shape(const StoreView& store, int shape, int srs_id, std::vector<std::uint8_t>& out);

}  // namespace civic
