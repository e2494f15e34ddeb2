#include "methods_other.h"

#include "../base/error.h"

namespace civic {
namespace {

Geodesic unit_geodesic(const Crs& crs) {
  Ellipsoid unit = crs.datum.ellipsoid;
  unit.semi_major = 1;
  return Geodesic(unit);
}

}  // namespace

CassiniSoldner::CassiniSoldner(const Crs& crs)
    : Method(crs),
      origin_(ellipsoid.meridian_arc(latitude_parameter(crs, "latitude_of_origin"))),
      hyperbolic_(crs.method == "Hyperbolic Cassini-Soldner") {}

XY CassiniSoldner::forward(double longitude, double latitude) const {
  const SineCosine f = sine_cosine(latitude);
  const double a = longitude * f.cosine, tangent = f.sine / f.cosine, t = tangent * tangent;
  // The series serve some degrees from the central meridian; beyond them they fold over.
  if (!(std::fabs(a) < 0.3) || is_pole(latitude)) return no_xy;
  const double c = ellipsoid.e2 * f.cosine * f.cosine / (1 - ellipsoid.e2), a2 = a * a;
  const double normal = ellipsoid.prime_vertical(f.sine);
  const double x = normal * a * (1 - t * a2 * (1. / 6 + (8 - t + 8 * c) * a2 / 120));
  const double y =
      ellipsoid.meridian_arc(latitude) - origin_ + normal * tangent * a2 * (0.5 + (5 - t + 6 * c) * a2 / 24);
  return {x, hyperbolic_ ? y - y * y * y / (6 * ellipsoid.meridional(f.sine) * normal) : y};
}

LonLat CassiniSoldner::inverse(double x, double y) const {
  const double latitude = ellipsoid.latitude_of_arc(origin_ + y);
  if (!(std::fabs(latitude) < quarter_turn)) return no_lonlat;
  const LonLat guess{std::clamp(x / std::cos(latitude), -1.0, 1.0), latitude};
  return inverted([this](double l, double f) { return forward(l, f); }, x, y, guess);
}

ColombiaUrban::ColombiaUrban(const Crs& crs)
    : Method(crs),
      origin_(latitude_parameter(crs, "latitude_of_origin")),
      height_(crs.parameter("projection_plane_origin_height", 0) * crs.unit_size / crs.datum.ellipsoid.semi_major) {
  const double sine = std::sin(origin_), normal = ellipsoid.prime_vertical(sine);
  if (std::fabs(origin_) > 1.5) throw CrsError("the origin of " + crs.name + " is near a pole");
  if (!(std::fabs(height_) < 0.01)) throw CrsError("the height of " + crs.name + " is out of range");
  raised_ = 1 + height_ / normal;
  radius_ = ellipsoid.meridional(sine);
  bend_ = std::tan(origin_) / (2 * normal);
}

XY ColombiaUrban::forward(double longitude, double latitude) const {
  if (std::fabs(latitude - origin_) > 0.2 || std::fabs(longitude) > 0.2)
    return no_xy;  // beyond the reach of the series
  const double east = longitude * ellipsoid.parallel_radius(latitude);
  const double raised = 1 + height_ / ellipsoid.meridional(std::sin((latitude + origin_) / 2));
  return {raised_ * east, raised * (radius_ * (latitude - origin_) + bend_ * east * east)};
}

LonLat ColombiaUrban::inverse(double x, double y) const {
  const double latitude = origin_ + y / radius_;
  if (!(std::fabs(latitude - origin_) < 0.2)) return no_lonlat;
  return inverted([this](double l, double f) { return forward(l, f); }, x, y, {x / std::cos(latitude), latitude});
}

EquidistantCylindrical::EquidistantCylindrical(const Crs& crs)
    : Method(crs),
      scale_(ellipsoid.parallel_radius(latitude_parameter(crs, "standard_parallel_1"))),
      origin_(ellipsoid.meridian_arc(latitude_parameter(crs, "latitude_of_origin"))) {
  if (!(scale_ > 1e-10)) throw CrsError("the standard parallel of " + crs.name + " is a pole");
}

XY EquidistantCylindrical::forward(double longitude, double latitude) const {
  return {scale_ * longitude, ellipsoid.meridian_arc(latitude) - origin_};
}

LonLat EquidistantCylindrical::inverse(double x, double y) const {
  const double latitude = ellipsoid.latitude_of_arc(y + origin_);
  return std::fabs(latitude) > quarter_turn * (1 + 1e-12) ? no_lonlat : LonLat{x / scale_, latitude};
}

AmericanPolyconic::AmericanPolyconic(const Crs& crs)
    : Method(crs), origin_(ellipsoid.meridian_arc(latitude_parameter(crs, "latitude_of_origin"))) {}

XY AmericanPolyconic::forward(double longitude, double latitude) const {
  const SineCosine f = sine_cosine(latitude);
  const double normal = ellipsoid.prime_vertical(f.sine), turn = longitude * f.sine, half = std::sin(turn / 2);
  const double arc = ellipsoid.meridian_arc(latitude) - origin_;
  // (1 - cos turn) / sin(latitude) and sin turn / sin(latitude), which have limits on the equator.
  const bool equator = std::fabs(f.sine) < 1e-12;
  const double x = equator ? longitude : std::sin(turn) / f.sine, y = equator ? 0 : 2 * half * half / f.sine;
  return {normal * f.cosine * x, arc + normal * f.cosine * y};
}

LonLat AmericanPolyconic::inverse(double x, double y) const {
  // Snyder 1987, equations 18-18 to 18-21, then refined.
  const double a = y + origin_, b = x * x + a * a;
  double latitude = ellipsoid.latitude_of_arc(std::clamp(a, -1.5, 1.5));
  for (int round = 0; round < 12 && std::fabs(latitude) > 1e-6; ++round) {
    const SineCosine f = sine_cosine(latitude);
    const double w = std::sqrt(1 - ellipsoid.e2 * f.sine * f.sine), c = w * f.sine / f.cosine;
    const double m = ellipsoid.meridian_arc(latitude), slope = ellipsoid.meridional(f.sine), s2 = 2 * f.sine * f.cosine;
    const double step =
        (a * (c * m + 1) - m - (m * m + b) * c / 2) /
        (ellipsoid.e2 * s2 * (m * m + b - 2 * a * m) / (4 * c) + (a - m) * (c * slope - 2 / s2) - slope);
    if (!std::isfinite(step)) break;
    latitude = std::clamp(latitude - step, -1.57, 1.57);
    if (std::fabs(step) < 1e-12) break;
  }
  const double s = std::sin(latitude), c = std::cos(latitude) * ellipsoid.prime_vertical(s);
  const double longitude = std::fabs(s) < 1e-9 ? x / c : std::asin(std::clamp(x * s / c, -1.0, 1.0)) / s;
  return inverted([this](double l, double f) { return forward(l, f); }, x, y, {longitude, latitude});
}

EquidistantConic::EquidistantConic(const Crs& crs) : Method(crs) {
  const double first = latitude_parameter(crs, "standard_parallel_1");
  const double second = latitude_parameter(crs, "standard_parallel_2");
  if (std::fabs(first + second) < 1e-10) throw CrsError("the standard parallels of " + crs.name + " make no cone");
  const double m1 = ellipsoid.parallel_radius(first), arc1 = ellipsoid.meridian_arc(first);
  cone_ = std::fabs(first - second) < 1e-10
              ? std::sin(first)
              : (m1 - ellipsoid.parallel_radius(second)) / (ellipsoid.meridian_arc(second) - arc1);
  g_ = m1 / cone_ + arc1;
  origin_radius_ = g_ - ellipsoid.meridian_arc(latitude_parameter(crs, "latitude_of_origin"));
}

XY EquidistantConic::forward(double longitude, double latitude) const {
  const double radius = g_ - ellipsoid.meridian_arc(latitude), theta = cone_ * longitude;
  return {radius * std::sin(theta), origin_radius_ - radius * std::cos(theta)};
}

LonLat EquidistantConic::inverse(double x, double y) const {
  const double sign = cone_ < 0 ? -1 : 1, dy = origin_radius_ - y, radius = sign * std::hypot(x, dy);
  const double latitude = ellipsoid.latitude_of_arc(g_ - radius);
  const double longitude = std::atan2(sign * x, sign * dy) / cone_;
  if (std::fabs(latitude) > quarter_turn * (1 + 1e-12) || std::fabs(longitude) > half_turn * (1 + 1e-9))
    return no_lonlat;
  return {longitude, latitude};
}

AzimuthalEquidistant::AzimuthalEquidistant(const Crs& crs)
    : Method(crs), geodesic_(unit_geodesic(crs)), origin_(latitude_parameter(crs, "latitude_of_origin") / degree) {}

XY AzimuthalEquidistant::forward(double longitude, double latitude) const {
  const double lat = std::clamp(latitude / degree, -90.0, 90.0);
  const GeodesicArc line = geodesic_.inverse({0, origin_}, {longitude / degree, lat});
  return {line.distance * std::sin(line.azimuth1 * degree), line.distance * std::cos(line.azimuth1 * degree)};
}

LonLat AzimuthalEquidistant::inverse(double x, double y) const {
  const double distance = std::hypot(x, y);
  if (distance > half_turn) return no_lonlat;
  const GeodesicEnd end = geodesic_.direct({0, origin_}, std::atan2(x, y) / degree, distance);
  return {end.longitude * degree, end.latitude * degree};
}

XY Gnomonic::forward(double longitude, double latitude) const {
  const double lat = std::clamp(latitude / degree, -90.0, 90.0);
  const GeodesicArc line = geodesic_.inverse({0, origin_}, {longitude / degree, lat});
  if (!(line.scale > 1e-6)) return no_xy;  // beyond the horizon
  const double radius = line.reduced_length / line.scale;
  return {radius * std::sin(line.azimuth1 * degree), radius * std::cos(line.azimuth1 * degree)};
}

LonLat Gnomonic::inverse(double x, double y) const {
  const double radius = std::hypot(x, y), azimuth = std::atan2(x, y) / degree;
  double distance = std::atan(radius);
  GeodesicEnd end{};
  for (int round = 0; round < 20; ++round) {
    end = geodesic_.direct({0, origin_}, azimuth, distance);
    // d(m / M) / ds = 1 / M^2; for far points the reciprocal behaves better.
    const double m = end.reduced_length, scale = end.scale;
    const double step = radius < 1 ? (m / scale - radius) * scale * scale : (1 / radius - scale / m) * m * m;
    distance -= step;
    if (!(std::fabs(step) > 1e-15)) break;
  }
  end = geodesic_.direct({0, origin_}, azimuth, distance);
  return {end.longitude * degree, end.latitude * degree};
}

ModifiedAzimuthalEquidistant::ModifiedAzimuthalEquidistant(const Crs& crs)
    : Method(crs),
      origin_(latitude_parameter(crs, "latitude_of_origin")),
      normal_(ellipsoid.prime_vertical(std::sin(origin_))),
      g_(ellipsoid.e * std::sin(origin_) / std::sqrt(1 - ellipsoid.e2)),
      centre_(sine_cosine(origin_)) {}

XY ModifiedAzimuthalEquidistant::forward(double longitude, double latitude) const {
  const SineCosine f = sine_cosine(latitude);
  const double e2 = ellipsoid.e2;
  // psi: the latitude seen along the normal at the centre.
  const SineCosine psi = sine_cosine(
      std::atan2((1 - e2) * f.sine + e2 * normal_ * centre_.sine / ellipsoid.prime_vertical(f.sine), f.cosine));
  const LocalDirection d = seen_from(centre_, psi, longitude);
  const double azimuth = std::atan2(d.east, d.north), s = std::atan2(std::hypot(d.east, d.north), d.up);
  if (s > 0.5) return no_xy;  // beyond the reach of the series
  const double h = ellipsoid.e * centre_.cosine * std::cos(azimuth) / std::sqrt(1 - e2), h2 = h * h, g2 = g_ * g_;
  const double s2 = s * s, s3 = s2 * s;
  const double c = normal_ * s *
                   (1 - s2 * h2 * (1 - h2) / 6 + s3 / 8 * g_ * h * (1 - 2 * h2) +
                    s3 * s / 120 * (h2 * (4 - 7 * h2) - 3 * g2 * (1 - 7 * h2)) - s3 * s2 / 48 * g_ * h);
  return {c * std::sin(azimuth), c * std::cos(azimuth)};
}

LonLat ModifiedAzimuthalEquidistant::inverse(double x, double y) const {
  if (std::hypot(x, y) > 0.5) return no_lonlat;
  const SphericalPoint p = point_seen(centre_, {x, y, std::sqrt(std::max(0.0, 1 - x * x - y * y))});
  return inverted([this](double l, double f) { return forward(l, f); }, x, y,
                  {p.longitude, std::atan2(p.latitude.sine, p.latitude.cosine)});
}

GuamProjection::GuamProjection(const Crs& crs)
    : Method(crs), origin_(ellipsoid.meridian_arc(latitude_parameter(crs, "latitude_of_origin"))) {}

XY GuamProjection::forward(double longitude, double latitude) const {
  if (is_pole(latitude) || std::fabs(longitude) > 1) return no_xy;
  const SineCosine f = sine_cosine(latitude);
  const double normal = ellipsoid.prime_vertical(f.sine), x = longitude * f.cosine * normal;
  return {x, ellipsoid.meridian_arc(latitude) - origin_ + x * x * f.sine / f.cosine / (2 * normal)};
}

LonLat GuamProjection::inverse(double x, double y) const {
  const double latitude = ellipsoid.latitude_of_arc(origin_ + y);
  if (!(std::fabs(latitude) < quarter_turn)) return no_lonlat;
  return inverted([this](double l, double f) { return forward(l, f); }, x, y,
                  {std::clamp(x / std::cos(latitude), -1.0, 1.0), latitude});
}

Orthographic::Orthographic(const Crs& crs)
    : Method(crs),
      centre_(sine_cosine(latitude_parameter(crs, "latitude_of_origin"))),
      normal_(ellipsoid.prime_vertical(centre_.sine)) {}

XY Orthographic::forward(double longitude, double latitude) const {
  const SineCosine f = sine_cosine(latitude);
  const LocalDirection d = seen_from(centre_, f, longitude);
  if (d.up < -1e-12) return no_xy;  // on the far side
  const double normal = ellipsoid.prime_vertical(f.sine);
  return {normal * d.east,
          normal * d.north + ellipsoid.e2 * (normal_ * centre_.sine - normal * f.sine) * centre_.cosine};
}

LonLat Orthographic::inverse(double x, double y) const {
  // The nearer point where the line of sight meets X^2 + Z^2 + Y^2 / (1 - e^2) = 1, X outward in the plane of the
  // central meridian, Y along the axis, Z east.
  const double s = centre_.sine, c = centre_.cosine, k = 1 / (1 - ellipsoid.e2);
  const double px = normal_ * c - y * s, py = normal_ * (1 - ellipsoid.e2) * s + y * c;
  const double qa = c * c + k * s * s, qb = px * c + k * py * s, qc = px * px + x * x + k * py * py - 1;
  const double discriminant = qb * qb - qa * qc;
  if (discriminant < 0) return no_lonlat;
  const double t = (-qb + std::sqrt(discriminant)) / qa;
  const double outward = px + t * c, axis = py + t * s, flat = std::hypot(outward, x);
  return {flat < 1e-15 ? 0 : std::atan2(x, outward), std::atan2(axis * k, flat)};
}

namespace {

// Lengths of parallels and their distances from the equator, every five degrees.
constexpr int robinson_rows = 19;
using RobinsonColumn = std::array<double, robinson_rows>;
constexpr RobinsonColumn robinson_lengths{1,      0.9986, 0.9954, 0.99,   0.9822, 0.973,  0.96,
                                          0.9427, 0.9216, 0.8962, 0.8679, 0.835,  0.7986, 0.7597,
                                          0.7186, 0.6732, 0.6213, 0.5722, 0.5322};
constexpr RobinsonColumn robinson_distances{0,      0.062,  0.124,  0.186,  0.248,  0.31,   0.372,
                                            0.434,  0.4958, 0.5571, 0.6176, 0.6769, 0.7346, 0.7903,
                                            0.8435, 0.8936, 0.9394, 0.9761, 1};
constexpr double robinson_step = 5 * degree;

// A cubic spline through a column whose reflection at the equator is even or odd, natural at the pole.
class RobinsonSpline {
 public:
  RobinsonSpline(const RobinsonColumn& values, bool even) : values_(values), bends_{} {
    // Second differences b: b[i-1] + 4 b[i] + b[i+1] = 6 (v[i-1] - 2 v[i] + v[i+1]).
    RobinsonColumn diagonal{}, right{};
    constexpr int last = robinson_rows - 1;
    diagonal[0] = even ? 4 : 1;
    double above = even ? 2 : 0;
    right[0] = even ? 12 * (values[1] - values[0]) : 0;
    for (int i = 1; i < last; ++i) {
      const double ratio = 1 / diagonal[i - 1];
      diagonal[i] = 4 - ratio * above;
      right[i] = 6 * (values[i - 1] - 2 * values[i] + values[i + 1]) - ratio * right[i - 1];
      above = 1;
    }
    for (int i = last - 1; i >= 0; --i)
      bends_[i] = (right[i] - (i == 0 ? (even ? 2 : 0) : 1) * bends_[i + 1]) / diagonal[i];
  }
  double operator()(double at) const {
    const int i = std::min(static_cast<int>(at), robinson_rows - 2);
    const double u = at - i, w = 1 - u;
    return w * values_[i] + u * values_[i + 1] + ((w * w * w - w) * bends_[i] + (u * u * u - u) * bends_[i + 1]) / 6;
  }
  double slope(double at) const {
    const int i = std::min(static_cast<int>(at), robinson_rows - 2);
    const double u = at - i, w = 1 - u;
    return values_[i + 1] - values_[i] + ((1 - 3 * w * w) * bends_[i] + (3 * u * u - 1) * bends_[i + 1]) / 6;
  }

 private:
  RobinsonColumn values_, bends_;
};

const RobinsonSpline robinson_length(robinson_lengths, true), robinson_distance(robinson_distances, false);

}  // namespace

XY Robinson::forward(double longitude, double latitude) const {
  const double at = std::fabs(latitude) / robinson_step;
  return {0.8487 * longitude * robinson_length(at), std::copysign(1.3523 * robinson_distance(at), latitude)};
}

LonLat Robinson::inverse(double x, double y) const {
  const double distance = std::fabs(y) / 1.3523;
  if (!(distance <= 1 + 1e-12)) return no_lonlat;
  double at = std::min(distance * (robinson_rows - 1), robinson_rows - 1.0);
  for (int round = 0; round < 30; ++round) {
    const double step = (distance - robinson_distance(at)) / robinson_distance.slope(at);
    at = std::clamp(at + step, 0.0, robinson_rows - 1.0);
    if (std::fabs(step) < 1e-15) break;
  }
  const double longitude = x / (0.8487 * robinson_length(at));
  if (std::fabs(longitude) > half_turn * (1 + 1e-9)) return no_lonlat;
  return {longitude, std::copysign(at * robinson_step, y)};
}

WinkelTripel::WinkelTripel(const Crs& crs)
    : Method(crs),
      cosine_(crs.has_parameter("standard_parallel_1") ? std::cos(latitude_parameter(crs, "standard_parallel_1"))
                                                       : 2 / half_turn) {}

XY WinkelTripel::forward(double longitude, double latitude) const {
  const double c = std::cos(latitude), along = c * std::cos(longitude / 2);
  const double flat = std::hypot(c * std::sin(longitude / 2), std::sin(latitude)), angle = std::atan2(flat, along);
  const double stretch = flat < 1e-12 ? 1 : angle / flat;  // of Aitoff's projection
  return {(longitude * cosine_ + 2 * c * std::sin(longitude / 2) * stretch) / 2,
          (latitude + std::sin(latitude) * stretch) / 2};
}

LonLat WinkelTripel::inverse(double x, double y) const {
  const double latitude = std::clamp(y, -1.5, 1.5);
  const LonLat guess{std::clamp(x / (cosine_ / 2 + 0.5 * std::cos(latitude) + 0.1), -3.1, 3.1), latitude};
  const LonLat s = inverted([this](double l, double f) { return forward(l, f); }, x, y, guess);
  return std::fabs(s.longitude) > half_turn * (1 + 1e-9) ? no_lonlat : s;
}

XY MillerCylindrical::forward(double longitude, double latitude) const {
  return {longitude, 1.25 * std::asinh(std::tan(0.8 * latitude))};
}

LonLat MillerCylindrical::inverse(double x, double y) const {
  const double latitude = 1.25 * std::atan(std::sinh(0.8 * y));
  return std::fabs(latitude) > quarter_turn * (1 + 1e-12) ? no_lonlat : LonLat{x, latitude};
}

}  // namespace civic
