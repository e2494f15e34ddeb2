// How far apart two shapes of any types are in the plane; on the globe see globe_shape.h.
#pragma once
#include "../shapes/store.h"

namespace civic {

// The nearest places of two shapes; coordinates and distance are NaN where one of them is empty.
struct NearestPlaces {
  double distance, ax, ay, bx, by;
};

// Planar, in coordinate units; 0 where the shapes meet, inside polygons too.
NearestPlaces nearest_places(const StoreView& a, int shape_a, const StoreView& b, int shape_b);

// Whether two shapes have the same dimension and every vertex of each lies within the tolerance of the other's lines,
// borders or points, in coordinate units. Two empty shapes are.
bool nearly_equal(const StoreView& a, int shape_a, const StoreView& b, int shape_b, double tolerance);

}  // namespace civic
