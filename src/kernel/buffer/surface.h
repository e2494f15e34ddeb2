// What distances are measured on around the places of a plane: the plane itself, or the ellipsoid under longitude and
// latitude in degrees.
#pragma once
#include "../base/xy.h"
#include "../measure/globe_shape.h"

namespace civic {

// The plane that touches a surface at a place, x to the east and y to the north, and the places below it: to the second
// order in the distance.
struct Tangent {
  XY at;
  double east = 1, north = 1;  // units of the surface for one of the coordinates
  double turn_east = 0, turn_north = 0;

  XY towards(XY place) const { return {(place.x - at.x) * east, (place.y - at.y) * north}; }
  XY place(XY v) const {
    return {at.x + v.x / east * (1 + v.y * turn_east), at.y + v.y / north - v.x * (v.x * turn_north)};
  }
};

class Surface {
 public:
  Surface() = default;
  explicit Surface(const Globe& globe) : globe_(&globe) {}

  // On the ellipsoid, with a geodesic's course by the Christoffel symbols of longitude and latitude.
  Tangent tangent(XY at) const;
  double units_of_coordinates(double distance) const;

  // Whether second order will do for what lies within a distance of a box in degrees, to 5e-5 of the distance, away
  // from the antimeridian and the poles.
  bool holds(const Box& box, double distance) const;
  // The longest edge whose places at a distance may be taken for straight, to 5e-5 of the distance, up to a latitude.
  double longest_edge(double latitude) const;

 private:
  const Globe* globe_ = nullptr;
};

}  // namespace civic
