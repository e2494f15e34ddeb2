#include "methods_equal_area.h"

#include "../base/error.h"

namespace civic {

AlbersEqualArea::AlbersEqualArea(const Crs& crs) : Method(crs) {
  const double first = latitude_parameter(crs, "standard_parallel_1");
  const double second = latitude_parameter(crs, "standard_parallel_2");
  if (std::fabs(first + second) < 1e-10) throw CrsError("the standard parallels of " + crs.name + " make no cone");
  const double m1 = ellipsoid.parallel_radius(first), m2 = ellipsoid.parallel_radius(second);
  const double q1 = ellipsoid.authalic_q(std::sin(first)), q2 = ellipsoid.authalic_q(std::sin(second));
  cone_ = std::fabs(first - second) < 1e-10 ? std::sin(first) : (m1 * m1 - m2 * m2) / (q2 - q1);
  c_ = m1 * m1 + cone_ * q1;
  const double origin = ellipsoid.authalic_q(std::sin(latitude_parameter(crs, "latitude_of_origin")));
  origin_radius_ = std::sqrt(std::max(0.0, c_ - cone_ * origin)) / cone_;
}

XY AlbersEqualArea::forward(double longitude, double latitude) const {
  const double square = c_ - cone_ * ellipsoid.authalic_q(std::sin(latitude));
  if (square < -1e-14) return no_xy;
  const double radius = std::sqrt(std::max(0.0, square)) / cone_, theta = cone_ * longitude;
  return {radius * std::sin(theta), origin_radius_ - radius * std::cos(theta)};
}

LonLat AlbersEqualArea::inverse(double x, double y) const {
  const double sign = cone_ < 0 ? -1 : 1, dy = origin_radius_ - y, radius = std::hypot(x, dy);
  const double q = (c_ - radius * radius * cone_ * cone_) / cone_, sine = q / ellipsoid.polar_q;
  const double longitude = std::atan2(sign * x, sign * dy) / cone_;
  if (std::fabs(sine) > 1 + 1e-12 || std::fabs(longitude) > half_turn * (1 + 1e-9)) return no_lonlat;
  return {longitude, ellipsoid.authalic.geodetic(std::asin(std::clamp(sine, -1.0, 1.0)))};
}

LambertAzimuthalEqualArea::LambertAzimuthalEqualArea(const Crs& crs) : Method(crs) {
  const double latitude = latitude_parameter(crs, "latitude_of_origin");
  centre_ = ellipsoid.authalic.of(sine_cosine(latitude));
  if (is_pole(latitude))
    centre_ = {std::copysign(1, latitude), 0};
  else
    stretch_ = ellipsoid.parallel_radius(latitude) / (ellipsoid.authalic_radius * centre_.cosine);
}

XY LambertAzimuthalEqualArea::forward(double longitude, double latitude) const {
  const LocalDirection d = seen_from(centre_, ellipsoid.authalic.of(sine_cosine(latitude)), longitude);
  const double flat = std::hypot(d.east, d.north);
  if (flat == 0) return d.up > 0 ? XY{0, 0} : no_xy;
  // The chord, 2 sin(c / 2), by the sine of c, which keeps digits near the centre.
  const double chord = d.up > -0.9 ? flat * std::sqrt(2 / (1 + d.up)) : std::sqrt(2 * (1 - d.up));
  if (d.up < -1 + 1e-12) return no_xy;
  const double r = ellipsoid.authalic_radius * chord / flat;
  return {r * stretch_ * d.east, r / stretch_ * d.north};
}

LonLat LambertAzimuthalEqualArea::inverse(double x, double y) const {
  const double u = x / (stretch_ * ellipsoid.authalic_radius), v = y * stretch_ / ellipsoid.authalic_radius;
  const double chord = std::hypot(u, v);
  if (chord > 2 * (1 + 1e-12)) return no_lonlat;
  const double half = std::min(1.0, chord / 2), along = std::sqrt(1 - half * half);
  const SphericalPoint p = point_seen(centre_, {u * along, v * along, 1 - 2 * half * half});
  return {p.longitude, ellipsoid.authalic.geodetic(p.latitude)};
}

LambertCylindricalEqualArea::LambertCylindricalEqualArea(const Crs& crs) : Method(crs) {
  const double parallel = latitude_parameter(crs, "standard_parallel_1");
  if (is_pole(parallel)) throw CrsError("the standard parallel of " + crs.name + " is a pole");
  scale_ = ellipsoid.parallel_radius(parallel);
}

XY LambertCylindricalEqualArea::forward(double longitude, double latitude) const {
  return {scale_ * longitude, ellipsoid.authalic_q(std::sin(latitude)) / (2 * scale_)};
}

LonLat LambertCylindricalEqualArea::inverse(double x, double y) const {
  const double sine = 2 * y * scale_ / ellipsoid.polar_q;
  if (std::fabs(sine) > 1 + 1e-12) return no_lonlat;
  return {x / scale_, ellipsoid.authalic.geodetic(std::asin(std::clamp(sine, -1.0, 1.0)))};
}

Bonne::Bonne(const Crs& crs) : Method(crs) {
  const double latitude = latitude_parameter(crs, "latitude_of_origin");
  if (std::fabs(latitude) < 1e-10)
    throw CrsError("the origin of " + crs.name + " is the equator; its method is sinusoidal");
  apex_ = ellipsoid.parallel_radius(latitude) / std::sin(latitude);
  arc_ = ellipsoid.meridian_arc(latitude);
}

XY Bonne::forward(double longitude, double latitude) const {
  const double radius = apex_ + arc_ - ellipsoid.meridian_arc(latitude);
  if (std::fabs(radius) < 1e-15) return {0, apex_};
  const double theta = longitude * ellipsoid.parallel_radius(latitude) / radius;
  return {radius * std::sin(theta), apex_ - radius * std::cos(theta)};
}

LonLat Bonne::inverse(double x, double y) const {
  const double sign = apex_ < 0 ? -1 : 1, dy = apex_ - y, radius = sign * std::hypot(x, dy);
  const double latitude = ellipsoid.latitude_of_arc(apex_ + arc_ - radius);
  if (std::fabs(latitude) > quarter_turn * (1 + 1e-12)) return no_lonlat;
  if (is_pole(latitude)) return {0, latitude};
  const double longitude = radius * std::atan2(sign * x, sign * dy) / ellipsoid.parallel_radius(latitude);
  return std::fabs(longitude) > half_turn * (1 + 1e-9) ? no_lonlat : LonLat{longitude, latitude};
}

XY Sinusoidal::forward(double longitude, double latitude) const {
  return {longitude * ellipsoid.parallel_radius(latitude), ellipsoid.meridian_arc(latitude)};
}

LonLat Sinusoidal::inverse(double x, double y) const {
  const double latitude = ellipsoid.latitude_of_arc(y);
  if (std::fabs(latitude) > quarter_turn * (1 + 1e-12)) return no_lonlat;
  if (is_pole(latitude)) return std::fabs(x) < 1e-12 ? LonLat{0, latitude} : no_lonlat;
  const double longitude = x / ellipsoid.parallel_radius(latitude);
  return std::fabs(longitude) > half_turn * (1 + 1e-9) ? no_lonlat : LonLat{longitude, latitude};
}

XY Mollweide::forward(double longitude, double latitude) const {
  // 2 t + sin 2 t = pi sin(latitude), solved from the pole's side, where the derivative vanishes, by a bracket.
  const double target = half_turn * std::sin(latitude);
  double low = -quarter_turn, high = quarter_turn, t = latitude * 0.8;
  for (int round = 0; round < 100; ++round) {
    const double miss = 2 * t + std::sin(2 * t) - target;
    (miss > 0 ? high : low) = t;
    const double next = t - miss / (2 + 2 * std::cos(2 * t));
    const double kept = next > low && next < high ? next : (low + high) / 2;
    if (std::fabs(kept - t) < 1e-16) break;
    t = kept;
  }
  if (is_pole(latitude)) t = latitude;
  return {2 * std::sqrt(2.) / half_turn * longitude * std::cos(t), std::sqrt(2.) * std::sin(t)};
}

LonLat Mollweide::inverse(double x, double y) const {
  const double sine = y / std::sqrt(2.);
  if (std::fabs(sine) > 1) return no_lonlat;
  const double t = std::asin(sine), c = std::cos(t);
  const double longitude = c < 1e-12 ? 0 : half_turn * x / (2 * std::sqrt(2.) * c);
  if (std::fabs(longitude) > half_turn * (1 + 1e-9)) return no_lonlat;
  return {longitude, std::asin(std::clamp((2 * t + std::sin(2 * t)) / half_turn, -1.0, 1.0))};
}

namespace {

constexpr double earth_a[] = {1.340264, -0.081106, 0.000893, 0.003796};
double earth_y(double t) {
  const double t2 = t * t, t6 = t2 * t2 * t2;
  return t * (earth_a[0] + earth_a[1] * t2 + t6 * (earth_a[2] + earth_a[3] * t2));
}
double earth_slope(double t) {
  const double t2 = t * t, t6 = t2 * t2 * t2;
  return earth_a[0] + 3 * earth_a[1] * t2 + t6 * (7 * earth_a[2] + 9 * earth_a[3] * t2);
}

}  // namespace

XY EqualEarth::forward(double longitude, double latitude) const {
  const double t = std::asin(std::sqrt(3.) / 2 * ellipsoid.authalic.of(sine_cosine(latitude)).sine);
  const double r = ellipsoid.authalic_radius;
  return {r * 2 * longitude * std::cos(t) / (std::sqrt(3.) * earth_slope(t)), r * earth_y(t)};
}

LonLat EqualEarth::inverse(double x, double y) const {
  const double r = ellipsoid.authalic_radius;
  double t = y / r / earth_a[0];
  for (int round = 0; round < 30; ++round) {
    const double step = (y / r - earth_y(t)) / earth_slope(t);
    t += step;
    if (std::fabs(step) < 1e-16) break;
  }
  const double sine = 2 * std::sin(t) / std::sqrt(3.);
  if (!(std::fabs(sine) <= 1 + 1e-12)) return no_lonlat;
  const double longitude = x / r * std::sqrt(3.) * earth_slope(t) / (2 * std::cos(t));
  if (std::fabs(longitude) > half_turn * (1 + 1e-9)) return no_lonlat;
  return {longitude, ellipsoid.authalic.geodetic(std::asin(std::clamp(sine, -1.0, 1.0)))};
}

}  // namespace civic
