// A plane around a place on the ellipsoid, true in distance and direction from there, for planar work on longitude and
// latitude.
#pragma once
#include <memory>

#include "../crs/projection.h"
#include "../shapes/store.h"
#include "globe_shape.h"

namespace civic {

// The azimuthal equidistant projection, or another that needs no more than its middle, in the ellipsoid's unit.
class LocalPlane {
 public:
  LocalPlane(const Ellipsoid& ellipsoid, GeoPoint middle, const char* method = "Azimuthal Equidistant");
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

// The centre of mass of the parts of the highest dimension on the ellipsoid: of polygons, the place that is the planar
// centroid on the equal-area projection around itself; of lines and points, the mean of their places, by length. NaN
// where the shape is empty, or reaches around the globe.
GeoPoint globe_centroid(const Globe& globe, const Ellipsoid& ellipsoid, const StoreView& store, int shape);

}  // namespace civic
