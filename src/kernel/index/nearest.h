// The nearest rows of a layer to each row of another, found best first through an R-tree (Hjaltason and Samet 1999).
#pragma once
#include <vector>

#include "../crs/crs.h"
#include "../shapes/store.h"

namespace civic {

struct NearRow {
  int x, y;  // 0-based rows
  double distance;
};

// For each row of x the `count` nearest rows of y no farther than `within`, and all as far as the last of these; by x,
// then by distance, then by y. Rows that are missing or empty have no neighbours and are none. Distances are planar in
// coordinate units, 0 where shapes meet.
std::vector<NearRow> nearest_rows(const ShapeRows& x, const ShapeRows& y, int count, double within);

// On longitude and latitude in degrees, along the ellipsoid in its unit.
std::vector<NearRow> nearest_rows_on_ellipsoid(const ShapeRows& x, const ShapeRows& y, const Ellipsoid& ellipsoid,
                                               int count, double within);

}  // namespace civic
