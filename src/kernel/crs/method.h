// What the projection methods have in common. Their formulae hold on an ellipsoid whose semi-major axis is 1, without
// false coordinates; longitudes are radians from the central meridian. Coordinates outside a method's domain give NaN.
#pragma once
#include <limits>
#include <string>

#include "../base/xy.h"
#include "unit_ellipsoid.h"

namespace civic {

struct LonLat {
  double longitude, latitude;
};

constexpr XY no_xy{std::numeric_limits<double>::quiet_NaN(), std::numeric_limits<double>::quiet_NaN()};
constexpr LonLat no_lonlat{std::numeric_limits<double>::quiet_NaN(), std::numeric_limits<double>::quiet_NaN()};

constexpr double half_turn = pi, quarter_turn = pi / 2;

inline bool is_pole(double latitude) { return std::fabs(latitude) >= quarter_turn * (1 - 1e-15); }

// The base of the methods: the ellipsoid and the central meridian.
struct Method {
  UnitEllipsoid ellipsoid;
  double central_meridian;
  explicit Method(const Crs& crs);
};

// Parameters of a CRS in radians or as they are; throw CrsError where they are out of range.
double angle_parameter(const Crs& crs, const std::string& name);
double latitude_parameter(const Crs& crs, const std::string& name);
double scale_parameter(const Crs& crs);

// A direction from the centre of a unit sphere seen from the point at some latitude on its central meridian.
struct LocalDirection {
  double east, north, up;
};
LocalDirection seen_from(SineCosine centre, SineCosine latitude, double longitude);
struct SphericalPoint {
  double longitude;
  SineCosine latitude;
};
SphericalPoint point_seen(SineCosine centre, LocalDirection direction);

// The point that a method projects to (x, y), by Newton's method from a guess; for methods whose published inverse is
// not exact or that have none.
template <class Forward>
LonLat inverted(const Forward& forward, double x, double y, LonLat at) {
  constexpr double step = 1e-6, fine = 1e-15;
  double best = std::numeric_limits<double>::infinity();
  for (int round = 0; round < 30; ++round) {
    const XY here = forward(at.longitude, at.latitude);
    const double dx = x - here.x, dy = y - here.y, miss = std::hypot(dx, dy);
    if (!std::isfinite(miss)) return no_lonlat;
    if (miss < fine * 10 || (miss < 1e-12 && miss >= best)) return at;
    best = std::min(best, miss);
    // One-sided at the edge of the sphere.
    const double lat_step = at.latitude + step > quarter_turn ? -step : step;
    const XY beside = forward(at.longitude + step, at.latitude), above = forward(at.longitude, at.latitude + lat_step);
    const double xl = (beside.x - here.x) / step, yl = (beside.y - here.y) / step;
    const double xf = (above.x - here.x) / lat_step, yf = (above.y - here.y) / lat_step;
    const double determinant = xl * yf - xf * yl;
    if (!(std::fabs(determinant) > 1e-14)) return best < 1e-10 ? at : no_lonlat;
    double move_longitude = (dx * yf - dy * xf) / determinant, move_latitude = (dy * xl - dx * yl) / determinant;
    const double far = std::max(std::fabs(move_longitude), std::fabs(move_latitude)) / 0.5;
    if (far > 1) {
      move_longitude /= far;
      move_latitude /= far;
    }
    at.longitude += move_longitude;
    at.latitude = std::clamp(at.latitude + move_latitude, -quarter_turn, quarter_turn);
  }
  return best < 1e-12 ? at : no_lonlat;
}

}  // namespace civic
