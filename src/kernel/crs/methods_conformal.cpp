#include "methods_conformal.h"

#include "../base/error.h"

namespace civic {
namespace {

constexpr double krueger_reach = 1.2;                 // largest |eta'|
constexpr double mercator_reach = 89.99999 * degree;  // largest latitude

// Coefficients of the Krueger series (Karney 2011, equations 35 and 36).
std::array<double, 6> krueger_alpha(double n) {
  return {n * (1. / 2 + n * (-2. / 3 + n * (5. / 16 + n * (41. / 180 + n * (-127. / 288 + n * 7891. / 37800))))),
          n * n * (13. / 48 + n * (-3. / 5 + n * (557. / 1440 + n * (281. / 630 - n * 1983433. / 1935360)))),
          n * n * n * (61. / 240 + n * (-103. / 140 + n * (15061. / 26880 + n * 167603. / 181440))),
          n * n * n * n * (49561. / 161280 + n * (-179. / 168 + n * 6601661. / 7257600)),
          std::pow(n, 5) * (34729. / 80640 - n * 3418889. / 1995840),
          std::pow(n, 6) * 212378941. / 319334400};
}

std::array<double, 6> krueger_beta(double n) {
  return {n * (1. / 2 + n * (-2. / 3 + n * (37. / 96 + n * (-1. / 360 + n * (-81. / 512 + n * 96199. / 604800))))),
          n * n * (1. / 48 + n * (1. / 15 + n * (-437. / 1440 + n * (46. / 105 - n * 1118711. / 3870720)))),
          n * n * n * (17. / 480 + n * (-37. / 840 + n * (-209. / 4480 + n * 5569. / 90720))),
          n * n * n * n * (4397. / 161280 + n * (-11. / 504 - n * 830251. / 7257600)),
          std::pow(n, 5) * (4583. / 161280 - n * 108847. / 3991680),
          std::pow(n, 6) * 20648693. / 638668800};
}

// asinh(s), where c = cosh of it is at hand.
double area_sine(double s, double c) {
  const double magnitude = std::fabs(s);
  return std::copysign(std::log1p(magnitude + s * s / (1 + c)), s);
}

// The Gauss sphere, on which the conformal latitude at one parallel is exact to the third order: exponent of the
// isometric latitude there.
double gauss_exponent(const UnitEllipsoid& e, double latitude) {
  return std::sqrt(1 + e.e2 / (1 - e.e2) * std::pow(std::cos(latitude), 4));
}

}  // namespace

TransverseMercator::TransverseMercator(const Crs& crs)
    : Method(crs), alpha_(krueger_alpha(ellipsoid.n)), beta_(krueger_beta(ellipsoid.n)) {
  scale_ = scale_parameter(crs) * ellipsoid.quadrant;
  origin_ = forward(0, latitude_parameter(crs, "latitude_of_origin")).y;
}

XY TransverseMercator::forward(double longitude, double latitude) const {
  const SineCosine chi = ellipsoid.conformal.of(sine_cosine(latitude)), lambda = sine_cosine(longitude);
  const double x = chi.cosine * lambda.cosine, r = 1 / std::sqrt(chi.sine * chi.sine + x * x);
  // Sine and cosine of xi, sinh and cosh of eta.
  const double sx = chi.sine * r, cx = x * r, se = chi.cosine * lambda.sine * r, ce = std::sqrt(1 + se * se);
  const double xi = std::atan2(chi.sine, x), eta = area_sine(se, ce);
  if (!(std::fabs(eta) <= krueger_reach) || lambda.cosine < 0) return no_xy;
  const auto add = alpha_({2 * sx * cx, (cx - sx) * (cx + sx)}, 2 * se * ce, 1 + 2 * se * se);
  return {scale_ * (eta + add.imaginary), scale_ * (xi + add.real) - origin_};
}

LonLat TransverseMercator::inverse(double x, double y) const {
  const double xi = (y + origin_) / scale_, eta = x / scale_;
  if (!(std::fabs(eta) <= krueger_reach + 0.01) || std::fabs(xi) > half_turn) return no_lonlat;
  const SineCosine sc = sine_cosine(xi);
  const double sh = std::sinh(eta), ch = std::sqrt(1 + sh * sh);
  const auto less =
      beta_({2 * sc.sine * sc.cosine, (sc.cosine - sc.sine) * (sc.cosine + sc.sine)}, 2 * sh * ch, 1 + 2 * sh * sh);
  const SineCosine xi0 = turned(sc, -less.real);
  const double s = std::sinh(eta - less.imaginary), c = xi0.cosine, h2 = s * s + c * c;
  // At a pole every longitude serves, and the central meridian is the one to name.
  if (h2 < 1e-30) return {0, std::copysign(quarter_turn, xi0.sine)};
  const double r = 1 / std::sqrt(xi0.sine * xi0.sine + h2);  // 1 / cosh of eta
  return {std::atan2(s, c), ellipsoid.conformal.geodetic({xi0.sine * r, std::sqrt(h2) * r})};
}

ZonedTransverseMercator::ZonedTransverseMercator(const Crs& crs)
    : TransverseMercator(crs), width_(angle_parameter(crs, "zone_width")) {
  central_meridian = angle_parameter(crs, "initial_longitude");
  if (!(width_ > 0)) throw CrsError("the zone width of " + crs.name + " is not above 0");
  const double unit = crs.unit_size / crs.datum.ellipsoid.semi_major;
  zone_step_ = 1e6 * unit;
  false_easting_ = crs.parameter("false_easting", 0) * unit;
}

XY ZonedTransverseMercator::forward(double longitude, double latitude) const {
  if (longitude < 0) longitude += 2 * half_turn;
  const double zone = std::floor(longitude / width_) + 1;
  const XY p = TransverseMercator::forward(longitude - central_meridian_of(zone), latitude);
  return {p.x + zone * zone_step_, p.y};
}

LonLat ZonedTransverseMercator::inverse(double x, double y) const {
  const double zone = std::floor((x + false_easting_) / zone_step_);
  if (!(zone >= 1) || zone > 2 * half_turn / width_ + 1) return no_lonlat;
  const LonLat s = TransverseMercator::inverse(x - zone * zone_step_, y);
  return {s.longitude + central_meridian_of(zone), s.latitude};
}

LambertConformalConic::LambertConformalConic(const Crs& crs) : Method(crs) {
  const bool two_parallels = crs.method.find("2SP") != std::string::npos;
  const double origin = latitude_parameter(crs, "latitude_of_origin");
  const double first = two_parallels ? latitude_parameter(crs, "standard_parallel_1") : origin;
  const double second = two_parallels ? latitude_parameter(crs, "standard_parallel_2") : origin;
  if (std::fabs(first + second) < 1e-10 || is_pole(first) || is_pole(second))
    throw CrsError("the standard parallels of " + crs.name + " make no cone");
  const double m1 = ellipsoid.parallel_radius(first), m2 = ellipsoid.parallel_radius(second);
  const double psi1 = ellipsoid.isometric(first), psi2 = ellipsoid.isometric(second);
  cone_ = std::fabs(first - second) < 1e-10 ? std::sin(first) : (std::log(m1) - std::log(m2)) / (psi2 - psi1);
  factor_ = m1 * std::exp(cone_ * psi1) / cone_ * scale_parameter(crs) * crs.parameter("ellipsoid_scaling_factor", 1);
  origin_radius_ = is_pole(origin) ? 0 : radius_at(ellipsoid.isometric(origin));
  if (crs.method == "Lambert Conic Conformal (2SP Belgium)") turn_ = 29.2985 / 3600 * degree;
}

XY LambertConformalConic::forward(double longitude, double latitude) const {
  const bool pole = is_pole(latitude);
  if (pole && latitude * cone_ < 0) return no_xy;
  const double radius = pole ? 0 : radius_at(ellipsoid.isometric(latitude));
  const double theta = cone_ * longitude - turn_;
  return {radius * std::sin(theta), origin_radius_ - radius * std::cos(theta)};
}

LonLat LambertConformalConic::inverse(double x, double y) const {
  const double sign = cone_ < 0 ? -1 : 1, dy = origin_radius_ - y;
  const double radius = sign * std::hypot(x, dy);
  if (radius == 0) return {0, std::copysign(quarter_turn, cone_)};
  const double longitude = (std::atan2(sign * x, sign * dy) + turn_) / cone_;
  if (std::fabs(longitude) > half_turn * (1 + 1e-9)) return no_lonlat;  // in the gap of the unrolled cone
  return {longitude, ellipsoid.latitude_of_isometric(-std::log(radius / factor_) / cone_)};
}

LambertNearConformal::LambertNearConformal(const Crs& crs) : Method(crs), scale_(scale_parameter(crs)) {
  const double n = ellipsoid.n, n2 = n * n, n3 = n2 * n, n4 = n2 * n2, n5 = n4 * n;
  arc_[0] = 1 - n + 5 * (n2 - n3) / 4 + 81 * (n4 - n5) / 64;
  arc_[1] = 3 * (n - n2 + 7 * (n3 - n4) / 8 + 55 * n5 / 64) / 2;
  arc_[2] = 15 * (n2 - n3 + 3 * (n4 - n5) / 4) / 16;
  arc_[3] = 35 * (n3 - n4 + 11 * n5 / 16) / 48;
  arc_[4] = 315 * (n4 - n5) / 512;
  const double latitude = latitude_parameter(crs, "latitude_of_origin");
  sine_ = std::sin(latitude);
  if (std::fabs(sine_) < 1e-10) throw CrsError("the latitude of origin of " + crs.name + " makes no cone");
  const double normal = ellipsoid.prime_vertical(sine_);
  cubic_ = 1 / (6 * ellipsoid.meridional(sine_) * normal);
  radius_ = scale_ * normal / std::tan(latitude);
  origin_arc_ = arc(latitude);
}

double LambertNearConformal::arc(double latitude) const {
  return arc_[0] * latitude - arc_[1] * std::sin(2 * latitude) + arc_[2] * std::sin(4 * latitude) -
         arc_[3] * std::sin(6 * latitude) + arc_[4] * std::sin(8 * latitude);
}

XY LambertNearConformal::forward(double longitude, double latitude) const {
  const double m = arc(latitude) - origin_arc_, reach = scale_ * (m + cubic_ * m * m * m);
  const double radius = radius_ - reach, theta = longitude * sine_;
  return {radius * std::sin(theta), reach + radius * std::sin(theta) * std::tan(theta / 2)};
}

LonLat LambertNearConformal::inverse(double x, double y) const {
  const double sign = radius_ < 0 ? -1 : 1, radius = sign * std::hypot(x, radius_ - y);
  const double theta = std::atan2(sign * x, sign * (radius_ - y)), reach = (radius_ - radius) / scale_;
  double m = reach;
  for (int round = 0; round < 20; ++round) {
    const double step = (reach - m - cubic_ * m * m * m) / (1 + 3 * cubic_ * m * m);
    m += step;
    if (std::fabs(step) < 1e-16) break;
  }
  double latitude = (m + origin_arc_) / arc_[0];
  for (int round = 0; round < 20; ++round) {
    const double step = (m + origin_arc_ - arc(latitude)) / ellipsoid.meridional(std::sin(latitude));
    latitude += step;
    if (std::fabs(step) < 1e-16) break;
  }
  return {theta / sine_, latitude};
}

Mercator::Mercator(const Crs& crs) : Method(crs) {
  scale_ = crs.method == "Mercator (variant B)"
               ? ellipsoid.parallel_radius(latitude_parameter(crs, "standard_parallel_1"))
               : scale_parameter(crs);
  origin_ = scale_ * ellipsoid.isometric(latitude_parameter(crs, "latitude_of_origin"));
}

XY Mercator::forward(double longitude, double latitude) const {
  if (std::fabs(latitude) > mercator_reach) return no_xy;
  return {scale_ * longitude, scale_ * ellipsoid.isometric(latitude) - origin_};
}

LonLat Mercator::inverse(double x, double y) const {
  return {x / scale_, ellipsoid.latitude_of_isometric((y + origin_) / scale_)};
}

XY WebMercator::forward(double longitude, double latitude) const {
  if (std::fabs(latitude) > mercator_reach) return no_xy;
  return {longitude, std::asinh(std::tan(latitude))};
}

LonLat WebMercator::inverse(double x, double y) const { return {x, std::atan(std::sinh(y))}; }

PolarStereographic::PolarStereographic(const Crs& crs) : Method(crs) {
  const bool on_pole = crs.method == "Polar Stereographic (variant A)";
  const double latitude = latitude_parameter(crs, on_pole ? "latitude_of_origin" : "standard_parallel_1");
  pole_ = std::copysign(1, latitude);
  if (on_pole || is_pole(latitude)) {
    const double e = ellipsoid.e;
    factor_ = 2 * scale_parameter(crs) / std::sqrt(std::pow(1 + e, 1 + e) * std::pow(1 - e, 1 - e));
  } else {
    factor_ = ellipsoid.parallel_radius(latitude) * std::exp(pole_ * ellipsoid.isometric(latitude));
    if (crs.method == "Polar Stereographic (variant C)") origin_radius_ = ellipsoid.parallel_radius(latitude);
  }
}

XY PolarStereographic::forward(double longitude, double latitude) const {
  const SineCosine chi = ellipsoid.conformal.of(sine_cosine(pole_ * latitude));
  // Tangent of half the conformal colatitude.
  const double t = chi.sine >= 0 ? chi.cosine / (1 + chi.sine) : (1 - chi.sine) / chi.cosine;
  if (!(t < 1e8)) return no_xy;  // the other pole
  const double radius = factor_ * t;
  return {radius * std::sin(longitude), pole_ * (origin_radius_ - radius * std::cos(longitude))};
}

LonLat PolarStereographic::inverse(double x, double y) const {
  const double dy = origin_radius_ - pole_ * y, t = std::hypot(x, dy) / factor_;
  const double longitude = t == 0 ? 0 : std::atan2(x, dy);
  return {longitude, pole_ * ellipsoid.conformal.geodetic({(1 - t) * (1 + t) / (1 + t * t), 2 * t / (1 + t * t)})};
}

ObliqueStereographic::ObliqueStereographic(const Crs& crs) : Method(crs) {
  const double latitude = latitude_parameter(crs, "latitude_of_origin"), s = std::sin(latitude);
  if (is_pole(latitude)) throw CrsError("the origin of " + crs.name + " is a pole; its method is polar stereographic");
  n_ = gauss_exponent(ellipsoid, latitude);
  const double w1 = std::exp(2 * n_ * ellipsoid.isometric(latitude)), sin_chi = (w1 - 1) / (w1 + 1);
  const double c = (n_ + s) * (1 - sin_chi) / ((n_ - s) * (1 + sin_chi));
  shift_ = std::log(c) / 2;
  const double psi = n_ * ellipsoid.isometric(latitude) + shift_;
  centre_ = {std::tanh(psi), 1 / std::cosh(psi)};
  diameter_ = 2 * scale_parameter(crs) * std::sqrt(ellipsoid.meridional(s) * ellipsoid.prime_vertical(s));
}

XY ObliqueStereographic::forward(double longitude, double latitude) const {
  const double psi = n_ * ellipsoid.isometric(latitude) + shift_;
  const LocalDirection d = seen_from(centre_, {std::tanh(psi), 1 / std::cosh(psi)}, n_ * longitude);
  if (!(d.up > -1 + 1e-12)) return no_xy;
  return {diameter_ * d.east / (1 + d.up), diameter_ * d.north / (1 + d.up)};
}

namespace {

// Direction of a stereographic point, by the diameter of the sphere.
LocalDirection stereographic_direction(double x, double y, double diameter) {
  const double u = x / diameter, v = y / diameter, q = u * u + v * v;
  return {2 * u / (1 + q), 2 * v / (1 + q), (1 - q) / (1 + q)};
}

}  // namespace

LonLat ObliqueStereographic::inverse(double x, double y) const {
  const SphericalPoint p = point_seen(centre_, stereographic_direction(x, y, diameter_));
  const double psi = std::asinh(p.latitude.sine / p.latitude.cosine);
  return {p.longitude / n_, ellipsoid.latitude_of_isometric((psi - shift_) / n_)};
}

Stereographic::Stereographic(const Crs& crs) : Method(crs) {
  const SineCosine origin = sine_cosine(latitude_parameter(crs, "latitude_of_origin"));
  centre_ = ellipsoid.conformal.of(origin);
  diameter_ = 2 * scale_parameter(crs) * origin.cosine * ellipsoid.prime_vertical(origin.sine) / centre_.cosine;
}

XY Stereographic::forward(double longitude, double latitude) const {
  const LocalDirection d = seen_from(centre_, ellipsoid.conformal.of(sine_cosine(latitude)), longitude);
  if (!(d.up > -1 + 1e-12)) return no_xy;
  return {diameter_ * d.east / (1 + d.up), diameter_ * d.north / (1 + d.up)};
}

LonLat Stereographic::inverse(double x, double y) const {
  const SphericalPoint p = point_seen(centre_, stereographic_direction(x, y, diameter_));
  return {p.longitude, ellipsoid.conformal.geodetic(p.latitude)};
}

ObliqueMercator::ObliqueMercator(const Crs& crs) : Method(crs) {
  const double latitude = latitude_parameter(crs, "latitude_of_origin"), s = std::sin(latitude);
  const double e2 = ellipsoid.e2;
  b_ = gauss_exponent(ellipsoid, latitude);
  a_ = b_ * scale_parameter(crs) * std::sqrt(1 - e2) / (1 - e2 * s * s);
  const double d = std::max(1.0, b_ * std::sqrt(1 - e2) / (std::cos(latitude) * std::sqrt(1 - e2 * s * s)));
  if (is_pole(latitude)) throw CrsError("the centre of " + crs.name + " is a pole");
  const double f = d + std::copysign(std::sqrt(d * d - 1), latitude);
  h_ = f * std::exp(-b_ * ellipsoid.isometric(latitude));
  if (crs.method == "Hotine Oblique Mercator (two points)")
    centre_by_points(crs, d);
  else
    centre_by_azimuth(crs, latitude, d);
  central_meridian = 0;
}

void ObliqueMercator::centre_by_azimuth(const Crs& crs, double latitude, double d) {
  const double azimuth = angle_parameter(crs, "azimuth");
  const double f = d + std::copysign(std::sqrt(d * d - 1), latitude), g = (f - 1 / f) / 2;
  sin_gamma_ = std::sin(azimuth) / d;
  cos_gamma_ = std::sqrt(1 - sin_gamma_ * sin_gamma_);
  lambda_ = central_meridian - std::asin(std::clamp(g * sin_gamma_ / cos_gamma_, -1.0, 1.0)) / b_;
  const double grid = crs.parameter("rectified_grid_angle", crs.parameter("azimuth", 0)) * degree;
  sin_grid_ = std::sin(grid);
  cos_grid_ = std::cos(grid);
  if (crs.method == "Hotine Oblique Mercator (variant B)") {
    const bool across = std::fabs(std::cos(azimuth)) < 1e-10;
    centre_ = across ? a_ * (central_meridian - lambda_)
                     : a_ / b_ * std::copysign(std::atan2(std::sqrt(d * d - 1), std::cos(azimuth)), latitude);
  }
}

void ObliqueMercator::centre_by_points(const Crs& crs, double d) {
  const double lat1 = latitude_parameter(crs, "latitude_of_point_1"),
               lat2 = latitude_parameter(crs, "latitude_of_point_2");
  const double lon1 = angle_parameter(crs, "longitude_of_point_1"), lon2 = angle_parameter(crs, "longitude_of_point_2");
  if (std::fabs(lat1 - lat2) < 1e-10 || std::fabs(lat1) < 1e-10)
    throw CrsError("the two points of " + crs.name + " must differ in latitude, the first not on the equator");
  const double t1 = std::exp(-b_ * ellipsoid.isometric(lat1)), t2 = std::exp(-b_ * ellipsoid.isometric(lat2));
  const double f = h_ / t1, g = (f - 1 / f) / 2;
  const double j = (h_ * h_ - t2 * t1) / (h_ * h_ + t2 * t1), p = (t2 - t1) / (t2 + t1);
  lambda_ = (lon1 + lon2) / 2 - std::atan(j * std::tan(b_ * wrapped(lon1 - lon2) / 2) / p) / b_;
  const double gamma = std::atan(std::sin(b_ * wrapped(lon1 - lambda_)) / g);
  sin_gamma_ = std::sin(gamma);
  cos_gamma_ = std::cos(gamma);
  sin_grid_ = std::clamp(d * sin_gamma_, -1.0, 1.0);
  cos_grid_ = std::sqrt(1 - sin_grid_ * sin_grid_);
}

XY ObliqueMercator::forward(double longitude, double latitude) const {
  if (is_pole(latitude)) return no_xy;
  const double q = h_ * std::exp(b_ * ellipsoid.isometric(latitude));
  const double s = (q - 1 / q) / 2, t = (q + 1 / q) / 2, turn = b_ * wrapped(longitude - lambda_), v = std::sin(turn);
  const double u = (-v * cos_gamma_ + s * sin_gamma_) / t;
  const double across = -a_ * std::atanh(u) / b_;
  const double along = a_ * std::atan2(s * cos_gamma_ + v * sin_gamma_, std::cos(turn)) / b_ - centre_;
  return {across * cos_grid_ + along * sin_grid_, along * cos_grid_ - across * sin_grid_};
}

LonLat ObliqueMercator::inverse(double x, double y) const {
  const double across = x * cos_grid_ - y * sin_grid_, along = y * cos_grid_ + x * sin_grid_ + centre_;
  if (std::fabs(along * b_ / a_) > half_turn * (1 + 1e-9)) return no_lonlat;
  const double q = std::exp(-b_ * across / a_), s = (q - 1 / q) / 2, t = (q + 1 / q) / 2;
  const double v = std::sin(b_ * along / a_), u = (v * cos_gamma_ + s * sin_gamma_) / t;
  if (!(std::fabs(u) < 1)) return no_lonlat;
  const double turn = std::atan2(s * cos_gamma_ - v * sin_gamma_, std::cos(b_ * along / a_));
  return {lambda_ - turn / b_, ellipsoid.latitude_of_isometric((std::atanh(u) - std::log(h_)) / b_)};
}

Krovak::Krovak(const Crs& crs)
    : Method(crs),
      semi_major_(crs.datum.ellipsoid.semi_major),
      sign_(crs.method.find("North Orientated") == std::string::npos ? 1 : -1),
      modified_(crs.method.find("Modified") != std::string::npos) {
  const double latitude = latitude_parameter(crs, "latitude_of_origin"), s = std::sin(latitude), e2 = ellipsoid.e2;
  const double parallel = latitude_parameter(crs, "pseudo_standard_parallel_1");
  if (!(std::fabs(std::sin(parallel)) > 1e-10) || is_pole(parallel))
    throw CrsError("the pseudo standard parallel of " + crs.name + " makes no cone");
  b_ = gauss_exponent(ellipsoid, latitude);
  const double gamma = std::asin(s / b_);
  shift_ = std::asinh(std::tan(gamma)) - b_ * ellipsoid.isometric(latitude);
  axis_ = sine_cosine(angle_parameter(crs, "azimuth"));
  n_ = std::sin(parallel);
  radius_ = scale_parameter(crs) * std::sqrt(1 - e2) / (1 - e2 * s * s) / std::tan(parallel) *
            std::exp(n_ * std::asinh(std::tan(parallel)));
}

namespace {

// Constants of EPSG method 1042 (Guidance Note 373-7-2, section 3.4.3), for metres.
constexpr double krovak_c[] = {0,
                               2.946529277e-02,
                               2.515965696e-02,
                               1.193845912e-07,
                               -4.668270147e-07,
                               9.233980362e-12,
                               1.523735715e-12,
                               1.696780024e-18,
                               4.408314235e-18,
                               -8.331083518e-24,
                               -3.689471323e-24};

}  // namespace

// What the modification takes from the southing (y) and the westing (x).
XY Krovak::modification(double southing, double westing) const {
  if (!modified_) return {0, 0};
  const double x = southing * semi_major_ - 1089000, y = westing * semi_major_ - 654000, x2 = x * x, y2 = y * y;
  const auto& c = krovak_c;
  const double quartic = x2 * x2 + y2 * y2 - 6 * x2 * y2, mixed = 4 * x * y * (x2 - y2);
  const double dx = c[1] + c[3] * x - c[4] * y - 2 * c[6] * x * y + c[5] * (x2 - y2) + c[7] * x * (x2 - 3 * y2) -
                    c[8] * y * (3 * x2 - y2) + c[9] * mixed + c[10] * quartic;
  const double dy = c[2] + c[3] * y + c[4] * x + 2 * c[5] * x * y + c[6] * (x2 - y2) + c[8] * x * (x2 - 3 * y2) +
                    c[7] * y * (3 * x2 - y2) - c[10] * mixed + c[9] * quartic;
  return {dy / semi_major_, dx / semi_major_};
}

XY Krovak::forward(double longitude, double latitude) const {
  if (is_pole(latitude)) return no_xy;
  const double psi = b_ * ellipsoid.isometric(latitude) + shift_;
  // Seen from the axis of the cone, the colatitude of which is that of axis_.
  const LocalDirection d = seen_from({axis_.cosine, axis_.sine}, {std::tanh(psi), 1 / std::cosh(psi)}, -b_ * longitude);
  // The cone's latitude T has the sine d.up; its longitude is counted from the side away from the pole.
  const double cosine = std::hypot(d.east, d.north);
  if (cosine < 1e-15) return no_xy;
  const double theta = n_ * std::atan2(d.east, -d.north);
  const double radius = radius_ * std::pow(cosine / (1 + d.up), n_);
  const double southing = radius * std::cos(theta), westing = radius * std::sin(theta);
  const XY less = modification(southing, westing);
  return {sign_ * (westing - less.x), sign_ * (southing - less.y)};
}

LonLat Krovak::inverse(double x, double y) const {
  const double westing0 = sign_ * x, southing0 = sign_ * y;
  double westing = westing0, southing = southing0;
  for (int round = 0; modified_ && round < 4; ++round) {
    const XY less = modification(southing, westing);
    westing = westing0 + less.x;
    southing = southing0 + less.y;
  }
  const double radius = std::hypot(westing, southing), theta = std::atan2(westing, southing);
  if (radius == 0) return no_lonlat;
  const double t = std::pow(radius / radius_, 1 / n_), turn = theta / n_;  // t: tangent of half the colatitude
  if (std::fabs(turn) > half_turn) return no_lonlat;
  const double up = (1 - t) * (1 + t) / (1 + t * t), cosine = 2 * t / (1 + t * t);
  const SphericalPoint p =
      point_seen({axis_.cosine, axis_.sine}, {cosine * std::sin(turn), -cosine * std::cos(turn), up});
  const double psi = std::asinh(p.latitude.sine / p.latitude.cosine);
  return {-p.longitude / b_, ellipsoid.latitude_of_isometric((psi - shift_) / b_)};
}

LabordeObliqueMercator::LabordeObliqueMercator(const Crs& crs) : Method(crs) {
  const double latitude = latitude_parameter(crs, "latitude_of_origin"), s = std::sin(latitude), e2 = ellipsoid.e2;
  const double azimuth = angle_parameter(crs, "azimuth");
  b_ = gauss_exponent(ellipsoid, latitude);
  const double on_sphere = std::asin(s / b_);
  centre_ = sine_cosine(on_sphere);
  radius_ = scale_parameter(crs) * std::sqrt(1 - e2) / (1 - e2 * s * s);
  c_ = std::asinh(std::tan(on_sphere)) - b_ * ellipsoid.isometric(latitude);
  g_ = std::complex<double>(1 - std::cos(2 * azimuth), std::sin(2 * azimuth)) / 12.;
}

XY LabordeObliqueMercator::forward(double longitude, double latitude) const {
  const double q = c_ + b_ * ellipsoid.isometric(latitude);
  const LocalDirection d = seen_from(centre_, {std::tanh(q), 1 / std::cosh(q)}, b_ * longitude);
  const double cosine = std::hypot(d.up, d.north);
  if (cosine < 1e-12) return no_xy;
  // North of the centre along its meridian, and the isometric latitude across it.
  const std::complex<double> h(std::atan2(d.north, d.up), std::asinh(d.east / cosine));
  const std::complex<double> p = radius_ * (h + g_ * h * h * h);
  return {p.imag(), p.real()};
}

LonLat LabordeObliqueMercator::inverse(double x, double y) const {
  const std::complex<double> target(y / radius_, x / radius_);
  std::complex<double> h = target;
  for (int round = 0; round < 40; ++round) {
    const std::complex<double> step = (target - h - g_ * h * h * h) / (1. + 3. * g_ * h * h);
    h += step;
    if (std::abs(step) < 1e-16) break;
  }
  if (!(std::abs(h + g_ * h * h * h - target) < 1e-12)) return no_lonlat;
  const double cosine = 1 / std::cosh(h.imag());
  const SphericalPoint p =
      point_seen(centre_, {std::tanh(h.imag()), cosine * std::sin(h.real()), cosine * std::cos(h.real())});
  const double psi = std::asinh(p.latitude.sine / p.latitude.cosine);
  return {p.longitude / b_, ellipsoid.latitude_of_isometric((psi - c_) / b_)};
}

namespace {

// Isometric latitude by the latitude, in units of 100,000 arc-seconds, and the complex plane by the isometric latitude.
constexpr double map_grid_a[] = {0.6399175073, -0.1358797613, 0.063294409, -0.02526853, 0.0117879,
                                 -0.0055161,   0.0026906,     -0.001333,   0.00067,     -0.00034};
const std::complex<double> map_grid_b[] = {{0.7557853228, 0},           {0.249204646, 0.003371507},
                                           {-0.001541739, 0.041058560}, {-0.10162907, 0.01727609},
                                           {-0.26623489, -0.36249218},  {-0.6870983, -1.1651967}};
constexpr double map_grid_unit = 3600e-5 / degree;

// Value and derivative of the sum of c[k] x^(k + 1).
template <class Number, class Coefficient, std::size_t N>
std::pair<Number, Number> power_sum(const Coefficient (&c)[N], Number x) {
  Number value = 0, slope = 0;
  for (std::size_t k = N; k-- > 0;) {
    slope = slope * x + c[k] * static_cast<double>(k + 1);
    value = (value + c[k]) * x;
  }
  return {value, slope};
}

template <class Number, class Coefficient, std::size_t N>
Number power_sum_inverse(const Coefficient (&c)[N], Number target) {
  Number x = target / c[0];
  for (int round = 0; round < 40; ++round) {
    const auto [value, slope] = power_sum(c, x);
    const Number step = (target - value) / slope;
    x += step;
    if (std::abs(step) < 1e-15) break;
  }
  return x;
}

}  // namespace

NewZealandMapGrid::NewZealandMapGrid(const Crs& crs)
    : Method(crs), origin_(latitude_parameter(crs, "latitude_of_origin")) {}

XY NewZealandMapGrid::forward(double longitude, double latitude) const {
  const double psi = power_sum(map_grid_a, (latitude - origin_) * map_grid_unit).first;
  if (std::fabs(longitude) > 0.5 || std::fabs(psi) > 0.5) return no_xy;  // beyond the reach of the series
  const std::complex<double> z = power_sum(map_grid_b, std::complex<double>(psi, longitude)).first;
  return {z.imag(), z.real()};
}

LonLat NewZealandMapGrid::inverse(double x, double y) const {
  if (!(std::hypot(x, y) < 0.4)) return no_lonlat;
  const std::complex<double> zeta = power_sum_inverse(map_grid_b, std::complex<double>(y, x));
  return {zeta.imag(), origin_ + power_sum_inverse(map_grid_a, zeta.real()) / map_grid_unit};
}

}  // namespace civic
