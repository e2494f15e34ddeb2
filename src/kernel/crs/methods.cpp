#include "methods.h"

#include <complex>

#include "../error.h"
#include "../shapes/store.h"

namespace civic {
namespace {

constexpr double degree = M_PI / 180;

double angle(const Crs& crs, const char* name) { return crs.parameter(name, 0) * degree; }

double latitude_parameter(const Crs& crs, const char* name) {
  const double latitude = angle(crs, name);
  if (!(std::fabs(latitude) <= M_PI / 2))
    throw CrsError("the parameter " + std::string(name) + " of " + crs.name + " is not a latitude");
  return latitude;
}

double scale_parameter(const Crs& crs) {
  const double scale = crs.parameter("scale_factor", 1);
  if (!(scale > 0) || !std::isfinite(scale)) throw CrsError("the scale factor of " + crs.name + " is not above 0");
  return scale;
}

// Radius of the parallel on a unit ellipsoid.
double parallel_radius(const Eccentricity& ecc, double latitude) {
  const double s = std::sin(latitude);
  return std::cos(latitude) / std::sqrt(1 - ecc.e2 * s * s);
}

// Coefficients of the Krueger series (Karney 2011, equations 35 and 36), indexed from 1.
std::array<double, 7> krueger_alpha(double n) {
  return {0,
          n * (1. / 2 + n * (-2. / 3 + n * (5. / 16 + n * (41. / 180 + n * (-127. / 288 + n * 7891. / 37800))))),
          n * n * (13. / 48 + n * (-3. / 5 + n * (557. / 1440 + n * (281. / 630 - n * 1983433. / 1935360)))),
          n * n * n * (61. / 240 + n * (-103. / 140 + n * (15061. / 26880 + n * 167603. / 181440))),
          n * n * n * n * (49561. / 161280 + n * (-179. / 168 + n * 6601661. / 7257600)),
          std::pow(n, 5) * (34729. / 80640 - n * 3418889. / 1995840),
          std::pow(n, 6) * 212378941. / 319334400};
}

std::array<double, 7> krueger_beta(double n) {
  return {0,
          n * (1. / 2 + n * (-2. / 3 + n * (37. / 96 + n * (-1. / 360 + n * (-81. / 512 + n * 96199. / 604800))))),
          n * n * (1. / 48 + n * (1. / 15 + n * (-437. / 1440 + n * (46. / 105 - n * 1118711. / 3870720)))),
          n * n * n * (17. / 480 + n * (-37. / 840 + n * (-209. / 4480 + n * 5569. / 90720))),
          n * n * n * n * (4397. / 161280 + n * (-11. / 504 - n * 830251. / 7257600)),
          std::pow(n, 5) * (4583. / 161280 - n * 108847. / 3991680),
          std::pow(n, 6) * 20648693. / 638668800};
}

// Sum of c[j] sin(2 j (a + i b)) for j = 1..6 by Clenshaw's rule, from the sines and cosines of the doubled angle.
inline Plane clenshaw(const std::array<double, 7>& c, double sin2a, double cos2a, double sinh2b, double cosh2b) {
  const double kr = 2 * cos2a * cosh2b, ki = -2 * sin2a * sinh2b;  // 2 cos(2 (a + i b))
  double r1 = 0, i1 = 0, r2 = 0, i2 = 0;
  for (int j = 6; j >= 1; --j) {
    const double r0 = kr * r1 - ki * i1 - r2 + c[j], i0 = kr * i1 + ki * r1 - i2;
    r2 = r1;
    i2 = i1;
    r1 = r0;
    i1 = i0;
  }
  const double sr = sin2a * cosh2b, si = cos2a * sinh2b;  // sin(2 (a + i b))
  return {sr * r1 - si * i1, sr * i1 + si * r1};
}

constexpr double krueger_reach = 1.2;  // largest |eta'|

}  // namespace

TransverseMercator::TransverseMercator(const Crs& crs)
    : central_meridian(angle(crs, "central_meridian")), ecc_(crs.datum.ellipsoid.e2()) {
  const double f = crs.datum.ellipsoid.flattening(), n = f / (2 - f), n2 = n * n;
  scale_ = scale_parameter(crs) / (1 + n) * (1 + n2 * (1. / 4 + n2 * (1. / 64 + n2 / 256)));
  alpha_ = krueger_alpha(n);
  beta_ = krueger_beta(n);
  origin_ = forward(0, latitude_parameter(crs, "latitude_of_origin")).y;
}

Plane TransverseMercator::forward(double longitude, double latitude) const {
  const double tau = conformal_tangent(ecc_, std::tan(latitude));
  const double cl = std::cos(longitude), sl = std::sin(longitude), h = std::hypot(tau, cl);
  const double xi = std::atan2(tau, cl), eta = std::asinh(sl / h);
  if (!(std::fabs(eta) <= krueger_reach) || cl < 0) return {nan_value, nan_value};
  // sin and cos of xi are tau / h and cl / h; sinh of eta is sl / h: no further calls are needed to double them.
  const double sx = tau / h, cx = cl / h, se = sl / h, ce = std::sqrt(1 + se * se);
  const Plane add = clenshaw(alpha_, 2 * sx * cx, (cx - sx) * (cx + sx), 2 * se * ce, 1 + 2 * se * se);
  return {scale_ * (eta + add.y), scale_ * (xi + add.x) - origin_};
}

Sphere TransverseMercator::inverse(double x, double y) const {
  const double xi = (y + origin_) / scale_, eta = x / scale_;
  if (!(std::fabs(eta) <= krueger_reach + 0.01) || std::fabs(xi) > M_PI) return {nan_value, nan_value};
  const Plane less = clenshaw(beta_, std::sin(2 * xi), std::cos(2 * xi), std::sinh(2 * eta), std::cosh(2 * eta));
  const double xi0 = xi - less.x, eta0 = eta - less.y;
  const double s = std::sinh(eta0), c = std::cos(xi0), r = std::hypot(s, c);
  // At a pole every longitude serves, and the central meridian is the one to name.
  if (r < 1e-15) return {0, std::copysign(M_PI / 2, xi0)};
  return {std::atan2(s, c), std::atan(geodetic_tangent(ecc_, std::sin(xi0) / r))};
}

LambertConformalConic::LambertConformalConic(const Crs& crs)
    : central_meridian(angle(crs, "central_meridian")), ecc_(crs.datum.ellipsoid.e2()) {
  const bool two_parallels = crs.method.find("2SP") != std::string::npos;
  const double origin = latitude_parameter(crs, "latitude_of_origin");
  const double first = two_parallels ? latitude_parameter(crs, "standard_parallel_1") : origin;
  const double second = two_parallels ? latitude_parameter(crs, "standard_parallel_2") : origin;
  if (std::fabs(first + second) < 1e-10 || std::fabs(first) >= M_PI / 2 || std::fabs(second) >= M_PI / 2)
    throw CrsError("the standard parallels of " + crs.name + " make no cone");
  const double m1 = parallel_radius(ecc_, first), m2 = parallel_radius(ecc_, second);
  const double psi1 = isometric_latitude(ecc_, first), psi2 = isometric_latitude(ecc_, second);
  cone_ = std::fabs(first - second) < 1e-10 ? std::sin(first) : (std::log(m1) - std::log(m2)) / (psi2 - psi1);
  factor_ = m1 * std::exp(cone_ * psi1) / cone_ * scale_parameter(crs) * crs.parameter("ellipsoid_scaling_factor", 1);
  origin_radius_ = std::fabs(origin) < M_PI / 2 ? radius_at(isometric_latitude(ecc_, origin)) : 0;
  if (crs.method == "Lambert Conic Conformal (2SP Belgium)") turn_ = 29.2985 / 3600 * degree;
}

double LambertConformalConic::radius_at(double psi) const { return factor_ * std::exp(-cone_ * psi); }

Plane LambertConformalConic::forward(double longitude, double latitude) const {
  const bool pole = std::fabs(latitude) >= M_PI / 2 * (1 - 1e-15);
  if (pole && latitude * cone_ < 0) return {nan_value, nan_value};
  const double radius = pole ? 0 : radius_at(isometric_latitude(ecc_, latitude));
  const double theta = cone_ * longitude - turn_;
  return {radius * std::sin(theta), origin_radius_ - radius * std::cos(theta)};
}

Sphere LambertConformalConic::inverse(double x, double y) const {
  const double sign = cone_ < 0 ? -1 : 1, dy = origin_radius_ - y;
  const double radius = sign * std::hypot(x, dy);
  if (radius == 0) return {0, std::copysign(M_PI / 2, cone_)};
  const double longitude = (std::atan2(sign * x, sign * dy) + turn_) / cone_;
  if (std::fabs(longitude) > M_PI * (1 + 1e-9)) return {nan_value, nan_value};  // in the gap of the unrolled cone
  return {longitude, latitude_from_isometric(ecc_, -std::log(radius / factor_) / cone_)};
}

Mercator::Mercator(const Crs& crs) : central_meridian(angle(crs, "central_meridian")), ecc_(crs.datum.ellipsoid.e2()) {
  scale_ = crs.method == "Mercator (variant B)" ? parallel_radius(ecc_, latitude_parameter(crs, "standard_parallel_1"))
                                                : scale_parameter(crs);
  origin_ = scale_ * isometric_latitude(ecc_, latitude_parameter(crs, "latitude_of_origin"));
}

Plane Mercator::forward(double longitude, double latitude) const {
  if (std::fabs(latitude) > 89.99999 * degree) return {nan_value, nan_value};
  return {scale_ * longitude, scale_ * isometric_latitude(ecc_, latitude) - origin_};
}

Sphere Mercator::inverse(double x, double y) const {
  return {x / scale_, latitude_from_isometric(ecc_, (y + origin_) / scale_)};
}

WebMercator::WebMercator(const Crs& crs) : central_meridian(angle(crs, "central_meridian")) {}

Plane WebMercator::forward(double longitude, double latitude) const {
  if (std::fabs(latitude) > 89.99999 * degree) return {nan_value, nan_value};
  return {longitude, std::asinh(std::tan(latitude))};
}

Sphere WebMercator::inverse(double x, double y) const { return {x, std::atan(std::sinh(y))}; }

}  // namespace civic
