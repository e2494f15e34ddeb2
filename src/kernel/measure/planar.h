// Planar measures in coordinate units. Missing and empty shapes: NaN for centroids, 0 for sums.
#pragma once
#include "../shapes/store.h"

namespace civic {

// Area of the polygon parts: shells less holes, whatever the rings' direction; other parts count 0.
double planar_area(const StoreView& store, int shape);

// Length of the line parts.
double planar_length(const StoreView& store, int shape);

// Length of all rings of the polygon parts.
double planar_perimeter(const StoreView& store, int shape);

struct Coordinate {
  double x, y;
};

// Centre of mass of the parts of the highest dimension (OGC 06-103r4, 6.1.10).
Coordinate planar_centroid(const StoreView& store, int shape);

}  // namespace civic
