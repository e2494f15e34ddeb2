// Formulae of the projection methods on an ellipsoid whose semi-major axis is 1, without false coordinates.
// Longitudes are radians from the central meridian.
#pragma once
#include <array>

#include "conformal.h"
#include "crs.h"

namespace civic {

struct Plane {
  double x, y;
};
struct Sphere {
  double longitude, latitude;
};

// EPSG method 9807 by the Krueger series to the sixth order in n (Karney 2011, section 4): better than 5 nm within
// 3900 km of the central meridian; NaN beyond some 56 degrees from it, where the series no longer serves.
class TransverseMercator {
 public:
  explicit TransverseMercator(const Crs& crs);
  Plane forward(double longitude, double latitude) const;
  Sphere inverse(double x, double y) const;
  double central_meridian;

 private:
  double scale_, origin_ = 0;
  Eccentricity ecc_;
  std::array<double, 7> alpha_, beta_;
};

// EPSG methods 9801, 9802, 9803, 9826 and 1051 (IOGP Guidance Note 373-7-2, section 3.1.1).
class LambertConformalConic {
 public:
  explicit LambertConformalConic(const Crs& crs);
  Plane forward(double longitude, double latitude) const;
  Sphere inverse(double x, double y) const;
  double central_meridian;

 private:
  double radius_at(double psi) const;
  Eccentricity ecc_;
  double cone_, factor_, origin_radius_, turn_ = 0;
};

// EPSG methods 9804 and 9805 (Guidance Note 373-7-2, section 3.5.1).
class Mercator {
 public:
  explicit Mercator(const Crs& crs);
  Plane forward(double longitude, double latitude) const;
  Sphere inverse(double x, double y) const;
  double central_meridian;

 private:
  Eccentricity ecc_;
  double scale_, origin_;
};

// EPSG method 1024: the sphere's formulae on an ellipsoid's coordinates (Guidance Note 373-7-2, section 3.5.2).
class WebMercator {
 public:
  explicit WebMercator(const Crs& crs);
  Plane forward(double longitude, double latitude) const;
  Sphere inverse(double x, double y) const;
  double central_meridian;
};

}  // namespace civic
