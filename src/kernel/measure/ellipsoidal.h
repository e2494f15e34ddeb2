// Measures of shapes on longitude and latitude, whose edges are shortest lines on the ellipsoid (Karney 2013, section
// 6). Coordinates are degrees; lengths and areas come in the unit of the ellipsoid's semi-major axis.
#pragma once
#include "../geodesy/geodesic.h"
#include "../shapes/store.h"

namespace civic {

// Area of the polygon parts: shells less holes, whatever the rings' direction. A ring encloses what it does on a map of
// longitude and latitude; one that jumps at the antimeridian its smaller side, or that of the pole it runs around.
double ellipsoidal_area(const Geodesic& geodesic, const StoreView& store, int shape);

// Length of the line parts.
double ellipsoidal_length(const Geodesic& geodesic, const StoreView& store, int shape);

// Length of the borders of the polygon parts: all rings, but for edges that are none on the globe, see seams.h.
double ellipsoidal_perimeter(const Geodesic& geodesic, const StoreView& store, int shape);

// The same for edges that are straight in degrees, as overlays cut them: the pieces of a shape add up to it.
double straight_area(const Ellipsoid& ellipsoid, const StoreView& store, int shape);
double straight_length(const Ellipsoid& ellipsoid, const StoreView& store, int shape);

}  // namespace civic
