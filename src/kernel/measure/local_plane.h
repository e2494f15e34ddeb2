// A plane around a place on the ellipsoid, true in distance and direction from there, for planar work on longitude and
// latitude.
#pragma once
#include <memory>

#include "../crs/projection.h"
#include "../shapes/store.h"
#include "globe_shape.h"

namespace civic {

// The azimuthal equidistant projection, in the ellipsoid's unit.
class LocalPlane {
 public:
  LocalPlane(const Ellipsoid& ellipsoid, GeoPoint middle);
  // The first shape of a store, from and to degrees. Coordinates outside the domain become NaN.
  StoreBuffer of_degrees(StoreBuffer shape) const;
  StoreBuffer to_degrees(StoreBuffer shape) const;
  GeoPoint to_degrees(double x, double y) const;

 private:
  std::unique_ptr<Projection> projection_;
};

// The middle of a shape's vertices on the globe, across the antimeridian too.
GeoPoint middle_of_shape(const StoreView& store, int shape);

// A shape in degrees whose edges, straight there, are cut into pieces of some length at most that lie as near to
// geodesics as asked.
StoreBuffer edges_in_pieces(const Globe& globe, const StoreView& store, int shape, double longest, double tolerance);

}  // namespace civic
