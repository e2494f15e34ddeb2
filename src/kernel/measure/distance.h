// How far apart two shapes of any types are.
#pragma once
#include "../crs/crs.h"
#include "../geodesy/geodesic.h"
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

// On longitude and latitude in degrees, along the ellipsoid: between points the geodesic; between other shapes the
// places are found on the azimuthal equidistant projection around the middle between them, made anew until they stay.
double ellipsoidal_distance(const Ellipsoid& ellipsoid, const Geodesic& geodesic, const StoreView& a, int shape_a,
                            const StoreView& b, int shape_b);

}  // namespace civic
