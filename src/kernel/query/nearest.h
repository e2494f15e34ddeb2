// The nearest rows of a layer to each row of another, found best first through an R-tree (Hjaltason and Samet 1999).
#pragma once
#include <vector>

#include "../crs/crs.h"
#include "../shapes/store.h"
#include "relate.h"

namespace civic {

struct NearRow {
  int x, y;  // 0-based rows
  double distance;
};

struct NearWanted {
  int count;      // of nearest rows
  int ties;       // and up to so many more that are as far as the last of these, the first of y
  double within;  // no farther than this
};

struct NearRows {
  std::vector<NearRow> pairs;  // by x, then by distance, then by y
  std::size_t cut = 0;         // rows of x with more ties than wanted
};

// For each row of x the nearest rows of y. Rows that are missing or empty have no neighbours and are none. Distances
// are planar in coordinate units, 0 where shapes meet.
NearRows nearest_rows(const ShapeRows& x, const ShapeRows& y, const NearWanted& wanted);

// On longitude and latitude in degrees, along the ellipsoid in its unit.
NearRows nearest_rows_on_globe(const ShapeRows& x, const ShapeRows& y, const Ellipsoid& ellipsoid,
                               const NearWanted& wanted);

// The pairs within a distance there, by x, then by y.
std::vector<RowPair> pairs_within_on_globe(const ShapeRows& x, const ShapeRows& y, const Ellipsoid& ellipsoid,
                                           double distance);

}  // namespace civic
