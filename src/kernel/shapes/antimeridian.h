// Shapes on longitude and latitude cut at the antimeridian (RFC 7946, section 3.1.9), so that no edge runs around the
// world: parts east and west of it lie at either end of the longitudes from -180 to 180.
#pragma once
#include <vector>

#include "store.h"

namespace civic {

// Whether a shape has a longitude beyond 180 degrees, or an edge that is shorter across the antimeridian.
bool crosses_antimeridian(const StoreView& store, int shape);

struct AntimeridianCut {
  StoreBuffer store;
  std::vector<int> handles;  // 1-based; `missing` as in the rows
  std::size_t cut = 0;
  std::size_t around_pole = 0;  // shapes with a ring around a pole, which now run along the antimeridian to the pole
};

// Rows whose shapes do not cross keep them as they are. Z and M are interpolated where edges are cut.
AntimeridianCut cut_at_antimeridian(const ShapeRows& rows, int missing);

}  // namespace civic
