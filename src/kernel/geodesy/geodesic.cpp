#include "geodesic.h"

#include <algorithm>
#include <cmath>
#include <limits>

#include "../base/portable.h"
#include "latitudes.h"

namespace civic {
namespace {

// Names follow Karney 2013: alp azimuth, bet reduced latitude, sig arc on the auxiliary sphere, omg longitude on it,
// lam longitude on the ellipsoid; s and c before them stand for sine and cosine, 1 and 2 after them for the two ends.

constexpr double tiny = 1.5e-154;  // square root of the smallest normal number
constexpr double epsilon = std::numeric_limits<double>::epsilon();
constexpr double tol1 = 200 * epsilon;
const double tol2 = std::sqrt(epsilon);
constexpr double nan_value = std::numeric_limits<double>::quiet_NaN();

double squared(double x) { return x * x; }

void normalise(double& s, double& c) {
  const double r = 1 / std::sqrt(s * s + c * c);
  s *= r;
  c *= r;
}

// Sine and cosine of degrees, exact at the multiples of 90.
void sine_cosine_of_degrees(double angle, double& s, double& c) {
  int quarter = 0;
  const double rest = std::remquo(angle, 90.0, &quarter) * degree;
  const double rs = std::sin(rest), rc = std::cos(rest);
  switch (quarter & 3) {
    case 0:
      s = rs, c = rc;
      break;
    case 1:
      s = rc, c = -rs;
      break;
    case 2:
      s = -rs, c = -rc;
      break;
    default:
      s = -rc, c = rs;
  }
}

// b - a in [-180, 180] and what its rounding left.
double angle_difference(double a, double b, double& rest) {
  auto sum = [](double u, double v, double& error) {
    const double s = u + v, up = s - v, vpp = s - up;
    error = -((up - u) + (vpp - v));
    return s;
  };
  double e = 0;
  double d = sum(std::remainder(-a, 360.0), std::remainder(b, 360.0), e);
  d = sum(std::remainder(d, 360.0), e, rest);
  if (d == 0 || std::fabs(d) == 180) d = std::copysign(d, rest == 0 ? b - a : -rest);
  return d;
}

// Sum of c[k] sin(2 k x) for k = 1..K.
template <std::size_t N>
double sine_sum(double s, double c, const std::array<double, N>& k) {
  const double ar = 2 * (c - s) * (c + s);
  double y0 = 0, y1 = 0;
  for (std::size_t i = N - 1; i >= 1; --i) {
    const double y = ar * y0 - y1 + k[i];
    y1 = y0;
    y0 = y;
  }
  return 2 * s * c * y0;
}

// Sum of c[k] cos((2 k + 1) x) for k = 0..5.
double cosine_sum(double s, double c, const std::array<double, 6>& k) {
  const double ar = 2 * (c - s) * (c + s);
  double y0 = 0, y1 = 0;
  for (int i = 5; i >= 0; --i) {
    const double y = ar * y0 - y1 + k[i];
    y1 = y0;
    y0 = y;
  }
  return c * (y0 - y1);
}

// Karney 2013, equations 17 to 21 and 42 to 43.
double a1_less_1(double eps) {
  const double q = eps * eps;
  return (q * (1. / 4 + q * (1. / 64 + q / 256)) + eps) / (1 - eps);
}
double a2_less_1(double eps) {
  const double q = eps * eps;
  return (-q * (3. / 4 + q * (7. / 64 + q * 11. / 256)) - eps) / (1 + eps);
}

using Six = std::array<double, 7>;

Six c1(double e) {
  const double q = e * e, q2 = q * e, q4 = q * q;
  return {0,
          e * (-1. / 2 + q * (3. / 16 - q / 32)),
          q * (-1. / 16 + q * (1. / 32 - q * 9 / 2048)),
          q2 * (-1. / 48 + q * 3 / 256),
          q4 * (-5. / 512 + q * 3 / 512),
          -q4 * e * 7 / 1280,
          -q4 * q * 7 / 2048};
}
Six c1_reverted(double e) {
  const double q = e * e, q4 = q * q;
  return {0,
          e * (1. / 2 + q * (-9. / 32 + q * 205 / 1536)),
          q * (5. / 16 + q * (-37. / 96 + q * 1335 / 4096)),
          q * e * (29. / 96 - q * 75 / 128),
          q4 * (539. / 1536 - q * 2391 / 2560),
          q4 * e * 3467 / 7680,
          q4 * q * 38081 / 61440};
}
Six c2(double e) {
  const double q = e * e, q4 = q * q;
  return {0,
          e * (1. / 2 + q * (1. / 16 + q / 32)),
          q * (3. / 16 + q * (1. / 32 + q * 35 / 2048)),
          q * e * (5. / 48 + q * 5 / 256),
          q4 * (35. / 512 + q * 7 / 512),
          q4 * e * 63 / 1280,
          q4 * q * 77 / 2048};
}

double epsilon_of(double k2) { return k2 / (2 * (1 + std::sqrt(1 + k2)) + k2); }

// The positive root k of k^4 + 2 k^3 - (x^2 + y^2 - 1) k^2 - 2 y^2 k - y^2 = 0 (Karney 2013, equation 55).
double astroid(double x, double y) {
  const double p = x * x, q = y * y, r = (p + q - 1) / 6;
  if (q == 0 && r <= 0) return 0;
  const double s = p * q / 4, r2 = r * r, r3 = r * r2, discriminant = s * (s + 2 * r3);
  double u = r;
  if (discriminant >= 0) {
    double t3 = s + r3;
    t3 += t3 < 0 ? -std::sqrt(discriminant) : std::sqrt(discriminant);
    const double t = std::cbrt(t3);
    u += t + (t != 0 ? r2 / t : 0);
  } else {
    const double angle = std::atan2(std::sqrt(-discriminant), -(s + r3));
    u += 2 * r * std::cos(angle / 3);
  }
  const double v = std::sqrt(u * u + q), uv = u < 0 ? q / (v - u) : u + v, w = (uv - q) / (2 * v);
  return uv / (std::sqrt(uv + w * w) + w);
}

}  // namespace

struct Geodesic::Reduced {
  double s, c, dn;  // of the reduced latitude; dn = sqrt(1 + ep2 s^2)
};
struct Geodesic::Lengths {
  double distance, reduced, m0, scale12, scale21;  // the first two in units of the semi-minor axis
};
struct Geodesic::Hybrid {
  double lam12, salp2, calp2, sig12, ssig1, csig1, ssig2, csig2, eps, domg12, derivative;
};
// The line from point 1 to point 2, in units of the semi-minor axis.
struct Geodesic::Course {
  double salp1 = 0, calp1 = 0, salp2 = 0, calp2 = 0;
  double distance = 0, reduced = 0, scale12 = 1, scale21 = 1;
  double somg12 = 0, comg12 = 1;
  bool meridian = false;
};
struct Geodesic::Start {
  double sig12, salp1, calp1, salp2, calp2, dnm;  // sig12 < 0 where Newton's method is still to be used
};

Geodesic::Geodesic(const Ellipsoid& ellipsoid)
    : a_(ellipsoid.semi_major),
      f_(ellipsoid.flattening()),
      f1_(1 - f_),
      e2_(f_ * (2 - f_)),
      ep2_(e2_ / squared(f1_)),
      n_(f_ / (2 - f_)),
      b_(a_ * f1_) {
  const double e = std::sqrt(e2_), n = n_;
  c2_ = (squared(a_) + squared(b_) * (e == 0 ? 1 : std::atanh(e) / e)) / 2;
  etol2_ = 0.1 * tol2 / std::sqrt(std::max(0.001, f_) * std::min(1.0, 1 - f_ / 2) / 2);
  // Coefficients of eps^0..5 of A3 (Karney 2013, equation 24).
  a3_ = {1, (n - 1) / 2, (n * (3 * n - 1) - 2) / 8, (n * (-n - 3) - 1) / 16, (-2 * n - 3) / 64, -3. / 128};
  // Of C3 by l and rising power of eps (equation 25).
  c3_ = {(1 - n) / 4,
         (1 - n * n) / 8,
         (3 + n * (3 - n)) / 64,
         (5 + 2 * n) / 128,
         3. / 128,
         (2 + n * (-3 + n)) / 32,
         (3 + n * (-2 - 3 * n)) / 64,
         (3 + n) / 128,
         5. / 256,
         (5 + n * (-9 + 5 * n)) / 192,
         (9 - 10 * n) / 384,
         7. / 512,
         (7 - 14 * n) / 512,
         7. / 512,
         21. / 2560};
  // Of C4 by l and rising power of eps (equation 63, its expansion in eps and n).
  c4_ = {(30030 + n * (-12012 + n * (3432 + n * (572 + n * (208 + n * 100))))) / 45045,
         (-3003 + n * (6864 + n * (-4576 + n * (624 + n * 64)))) / 15015,
         (-858 + n * (-4576 + n * (14144 + n * -10656))) / 45045,
         (1573 + n * (-4784 + n * -224)) / 45045,
         (156 + n * 1088) / 45045,
         97. / 15015,
         (3003 + n * (-6864 + n * (4576 + n * (-624 + n * -64)))) / 135135,
         (-2574 + n * (9152 + n * (-11648 + n * 5952))) / 135135,
         (-1287 + n * (1040 + n * 5792)) / 135135,
         (468 + n * -2944) / 135135,
         1. / 9009,
         (1716 + n * (-4576 + n * (4160 + n * -1440))) / 225225,
         (-1144 + n * (4992 + n * -8448)) / 225225,
         (-936 + n * 1856) / 225225,
         8. / 10725,
         (1144 + n * (-3328 + n * 3584)) / 315315,
         (-208 + n * 1024) / 105105,
         -136. / 63063,
         (832 + n * -2560) / 405405,
         -128. / 135135,
         128. / 99099};
}

double Geodesic::whole_area() const { return 4 * pi * c2_; }

double Geodesic::a3(double eps) const {
  double value = 0;
  for (int i = 5; i >= 0; --i) value = value * eps + a3_[i];
  return value;
}

Geodesic::Coefficients Geodesic::c3(double eps) const {
  Coefficients out{};
  double power = 1;
  for (int l = 1, at = 0; l < order; ++l) {
    power *= eps;
    double value = 0;
    for (int i = order - l - 1; i >= 0; --i) value = value * eps + c3_[at + i];
    at += order - l;
    out[l] = power * value;
  }
  return out;
}

std::array<double, 6> Geodesic::c4(double eps) const {
  std::array<double, 6> out{};
  double power = 1;
  for (int l = 0, at = 0; l < order; ++l) {
    double value = 0;
    for (int i = order - l - 1; i >= 0; --i) value = value * eps + c4_[at + i];
    at += order - l;
    out[l] = power * value;
    power *= eps;
  }
  return out;
}

Geodesic::Reduced Geodesic::reduced(double latitude) const {
  Reduced p{};
  sine_cosine_of_degrees(latitude, p.s, p.c);
  p.s *= f1_;
  normalise(p.s, p.c);
  p.c = std::max(tiny, p.c);
  p.dn = std::sqrt(1 + ep2_ * squared(p.s));
  return p;
}

// Where a line begins or ends: sine and cosine of the arc from the equator on the auxiliary sphere, and sqrt(1 + e'^2
// sin^2 of the reduced latitude).
struct Geodesic::ArcEnd {
  double ssig, csig, dn;
};

Geodesic::Lengths Geodesic::lengths(double eps, double sig12, const ArcEnd& from, const ArcEnd& to) const {
  const auto [ssig1, csig1, dn1] = from;
  const auto [ssig2, csig2, dn2] = to;
  const Six k1 = c1(eps), k2 = c2(eps);
  const double a1 = a1_less_1(eps), a2 = a2_less_1(eps);
  const double b1 = sine_sum(ssig2, csig2, k1) - sine_sum(ssig1, csig1, k1);
  const double b2 = sine_sum(ssig2, csig2, k2) - sine_sum(ssig1, csig1, k2);
  const double j12 = (a1 - a2) * sig12 + ((1 + a1) * b1 - (1 + a2) * b2);
  Lengths out{};
  out.distance = (1 + a1) * (sig12 + b1);
  out.reduced = dn2 * (csig1 * ssig2) - dn1 * (ssig1 * csig2) - csig1 * csig2 * j12;
  out.m0 = a1 - a2;
  const double csig12 = csig1 * csig2 + ssig1 * ssig2;
  out.scale12 = csig12 + ((dn2 - dn1) * ssig2 - csig2 * j12) * ssig1 / dn1;
  out.scale21 = csig12 - ((dn2 - dn1) * ssig1 - csig1 * j12) * ssig2 / dn2;
  return out;
}

// A first azimuth (Karney 2013, section 4 and 5); for short lines the whole solution.
Geodesic::Start Geodesic::start(const Reduced& p1, const Reduced& p2, double lam12, double slam12,
                                double clam12) const {
  Start out{-1, 0, 0, 0, 0, 1};
  const double sbet12 = p2.s * p1.c - p2.c * p1.s, cbet12 = p2.c * p1.c + p2.s * p1.s;
  const double sbet12a = p2.s * p1.c + p2.c * p1.s;
  const bool is_short = cbet12 >= 0 && sbet12 < 0.5 && p2.c * lam12 < 0.5;
  double somg12 = slam12, comg12 = clam12;
  if (is_short) {
    double sbetm2 = squared(p1.s + p2.s);
    sbetm2 /= sbetm2 + squared(p1.c + p2.c);
    out.dnm = std::sqrt(1 + ep2_ * sbetm2);
    const double omg12 = lam12 / (f1_ * out.dnm);
    somg12 = std::sin(omg12);
    comg12 = std::cos(omg12);
  }
  out.salp1 = p2.c * somg12;
  out.calp1 = comg12 >= 0 ? sbet12 + p2.c * p1.s * squared(somg12) / (1 + comg12)
                          : sbet12a - p2.c * p1.s * squared(somg12) / (1 - comg12);
  const double ssig12 = std::hypot(out.salp1, out.calp1), csig12 = p1.s * p2.s + p1.c * p2.c * comg12;
  if (is_short && ssig12 < etol2_) {
    out.salp2 = p1.c * somg12;
    out.calp2 = sbet12 - p1.c * p2.s * (comg12 >= 0 ? squared(somg12) / (1 + comg12) : 1 - comg12);
    normalise(out.salp2, out.calp2);
    out.sig12 = std::atan2(ssig12, csig12);
  } else if (csig12 < 0 && ssig12 < 6 * n_ * pi * squared(p1.c)) {
    // Nearly antipodal: the envelope of the lines is an astroid.
    const double lam12x = std::atan2(-slam12, -clam12);
    const double scale = f_ * p1.c * a3(epsilon_of(squared(p1.s) * ep2_)) * pi;
    const double x = lam12x / scale, y = sbet12a / (scale * p1.c);
    if (y > -tol1 && x > -1 - 1000 * tol2) {
      out.salp1 = std::min(1.0, -x);
      out.calp1 = -std::sqrt(1 - squared(out.salp1));
    } else {
      const double k = astroid(x, y), omg12a = scale * (-x * k / (1 + k));
      somg12 = std::sin(omg12a);
      comg12 = -std::cos(omg12a);
      out.salp1 = p2.c * somg12;
      out.calp1 = sbet12a - p2.c * p1.s * squared(somg12) / (1 - comg12);
    }
  }
  if (out.salp1 > 0) {
    normalise(out.salp1, out.calp1);
  } else {
    out.salp1 = 1;
    out.calp1 = 0;
  }
  return out;
}

// How far the line that leaves point 1 with some azimuth misses the longitude of point 2 at its latitude, and the
// derivative of that (Karney 2013, section 4).
Geodesic::Hybrid Geodesic::hybrid(const Reduced& p1, const Reduced& p2, double salp1, double calp1, double slam12,
                                  double clam12) const {
  Hybrid h{};
  if (p1.s == 0 && calp1 == 0) calp1 = -tiny;
  const double salp0 = salp1 * p1.c, calp0 = std::sqrt(squared(calp1) + squared(salp1 * p1.s));
  h.ssig1 = p1.s;
  const double somg1 = salp0 * p1.s, comg1 = calp1 * p1.c;
  h.csig1 = comg1;
  normalise(h.ssig1, h.csig1);
  h.salp2 = p2.c != p1.c ? salp0 / p2.c : salp1;
  h.calp2 = p2.c != p1.c || std::fabs(p2.s) != -p1.s
                ? std::sqrt(squared(calp1 * p1.c) +
                            (p1.c < -p1.s ? (p2.c - p1.c) * (p1.c + p2.c) : (p1.s - p2.s) * (p1.s + p2.s))) /
                      p2.c
                : std::fabs(calp1);
  h.ssig2 = p2.s;
  const double somg2 = salp0 * p2.s, comg2 = h.calp2 * p2.c;
  h.csig2 = comg2;
  normalise(h.ssig2, h.csig2);
  h.sig12 = std::atan2(std::max(0.0, h.csig1 * h.ssig2 - h.ssig1 * h.csig2), h.csig1 * h.csig2 + h.ssig1 * h.ssig2);
  const double somg12 = std::max(0.0, comg1 * somg2 - somg1 * comg2), comg12 = comg1 * comg2 + somg1 * somg2;
  const double eta = std::atan2(somg12 * clam12 - comg12 * slam12, comg12 * clam12 + somg12 * slam12);
  h.eps = epsilon_of(squared(calp0) * ep2_);
  const Coefficients k3 = c3(h.eps);
  const double b3 = sine_sum(h.ssig2, h.csig2, k3) - sine_sum(h.ssig1, h.csig1, k3);
  h.domg12 = -f_ * a3(h.eps) * salp0 * (h.sig12 + b3);
  h.lam12 = eta + h.domg12;
  h.derivative = h.calp2 == 0 ? -2 * f1_ * p1.dn / p1.s
                              : lengths(h.eps, h.sig12, {h.ssig1, h.csig1, p1.dn}, {h.ssig2, h.csig2, p2.dn}).reduced *
                                    f1_ / (h.calp2 * p2.c);
  return h;
}

// The area between a line and the equator (Karney 2013, equations 58 to 64): the spherical excess on the auxiliary
// sphere, and a part that vanishes on a sphere.
double Geodesic::area_under(const Reduced& p1, const Reduced& p2, const Course& line) const {
  double alp12;
  if (!line.meridian && line.comg12 > -0.7071 && p2.s - p1.s < 1.75) {
    const double domg12 = 1 + line.comg12, dbet1 = 1 + p1.c, dbet2 = 1 + p2.c;
    alp12 = 2 * std::atan2(line.somg12 * (p1.s * dbet2 + p2.s * dbet1), domg12 * (p1.s * p2.s + dbet1 * dbet2));
  } else {
    double salp12 = line.salp2 * line.calp1 - line.calp2 * line.salp1;
    double calp12 = line.calp2 * line.calp1 + line.salp2 * line.salp1;
    if (salp12 == 0 && calp12 < 0) {
      salp12 = tiny * line.calp1;
      calp12 = -1;
    }
    alp12 = std::atan2(salp12, calp12);
  }
  const double salp0 = line.salp1 * p1.c, calp0 = std::hypot(line.calp1, line.salp1 * p1.s);
  if (calp0 == 0 || salp0 == 0) return c2_ * alp12;
  double ssig1 = p1.s, csig1 = line.calp1 * p1.c, ssig2 = p2.s, csig2 = line.calp2 * p2.c;
  normalise(ssig1, csig1);
  normalise(ssig2, csig2);
  const auto k4 = c4(epsilon_of(squared(calp0) * ep2_));
  return c2_ * alp12 +
         squared(a_) * calp0 * salp0 * e2_ * (cosine_sum(ssig2, csig2, k4) - cosine_sum(ssig1, csig1, k4));
}

// Along a meridian; false where that is not the shortest way.
bool Geodesic::solve_meridian(const Reduced& p1, const Reduced& p2, double slam12, double clam12, Course& line) const {
  line.salp1 = slam12;
  line.calp1 = clam12;
  line.salp2 = 0;
  line.calp2 = 1;
  line.meridian = true;
  const double csig1 = line.calp1 * p1.c, csig2 = line.calp2 * p2.c;
  const double sig12 = std::atan2(std::max(0.0, csig1 * p2.s - p1.s * csig2), csig1 * csig2 + p1.s * p2.s);
  const Lengths l = lengths(n_, sig12, {p1.s, csig1, p1.dn}, {p2.s, csig2, p2.dn});
  // A line that passes the point conjugate to its start has a negative reduced length and is not the shortest.
  if (sig12 >= 1 && l.reduced < 0) return false;
  if (sig12 >= 3 * tiny) {
    line.distance = l.distance;
    line.reduced = l.reduced;
  }
  line.scale12 = l.scale12;
  line.scale21 = l.scale21;
  return true;
}

void Geodesic::solve_equator(double lam12, Course& line) const {
  line.salp1 = line.salp2 = 1;
  const double sig12 = lam12 / f1_;
  line.distance = sig12;
  line.reduced = line.somg12 = std::sin(sig12);
  line.scale12 = line.scale21 = line.comg12 = std::cos(sig12);
}

void Geodesic::solve_short(const Start& first, double lam12, Course& line) const {
  line.salp1 = first.salp1;
  line.calp1 = first.calp1;
  line.salp2 = first.salp2;
  line.calp2 = first.calp2;
  line.distance = first.sig12 * first.dnm;
  line.reduced = squared(first.dnm) * std::sin(first.sig12 / first.dnm);
  line.scale12 = line.scale21 = std::cos(first.sig12 / first.dnm);
  const double omg12 = lam12 / (f1_ * first.dnm);
  line.somg12 = std::sin(omg12);
  line.comg12 = std::cos(omg12);
}

// By Newton's method for the first azimuth, kept between bounds that always bracket it.
void Geodesic::solve_by_newton(const Reduced& p1, const Reduced& p2, const Start& first, double slam12, double clam12,
                               Course& line) const {
  constexpr int newton_rounds = 20, all_rounds = 83;
  double salp1 = first.salp1, calp1 = first.calp1;
  double low_s = tiny, low_c = 1, high_s = tiny, high_c = -1;
  Hybrid h{};
  bool near_end = false, ends = false;
  for (int round = 0; round < all_rounds; ++round) {
    h = hybrid(p1, p2, salp1, calp1, slam12, clam12);
    if (ends || !(std::fabs(h.lam12) >= (near_end ? 8 : 1) * epsilon) || round == all_rounds - 1) break;
    if (h.lam12 > 0 && calp1 / salp1 > high_c / high_s) {
      high_s = salp1;
      high_c = calp1;
    } else if (h.lam12 < 0 && calp1 / salp1 < low_c / low_s) {
      low_s = salp1;
      low_c = calp1;
    }
    const double step = h.derivative > 0 ? -h.lam12 / h.derivative : pi;
    const SineCosine next = turned({salp1, calp1}, step);
    if (round < newton_rounds && std::fabs(step) < pi && next.sine > 0) {
      salp1 = next.sine;
      calp1 = next.cosine;
      near_end = std::fabs(h.lam12) <= 16 * epsilon;
    } else {
      const double old_s = salp1, old_c = calp1;
      salp1 = (low_s + high_s) / 2;
      calp1 = (low_c + high_c) / 2;
      near_end = false;
      ends = std::fabs(old_s - salp1) + std::fabs(old_c - calp1) < epsilon;
    }
    normalise(salp1, calp1);
  }
  const Lengths l = lengths(h.eps, h.sig12, {h.ssig1, h.csig1, p1.dn}, {h.ssig2, h.csig2, p2.dn});
  line = {salp1, calp1, h.salp2, h.calp2, l.distance, l.reduced, l.scale12, l.scale21, 0, 1, false};
  const SineCosine omg12 = turned({slam12, clam12}, -h.domg12);
  line.somg12 = omg12.sine;
  line.comg12 = omg12.cosine;
}

GeodesicArc Geodesic::solve(GeoPoint from, GeoPoint to, bool with_area) const {
  if (!(std::fabs(from.latitude) <= 90) || !(std::fabs(to.latitude) <= 90) || !std::isfinite(from.longitude) ||
      !std::isfinite(to.longitude))
    return {nan_value, nan_value, nan_value, nan_value, nan_value, nan_value};

  // Brought to the case lat1 <= 0, |lat2| <= |lat1|, lon12 >= 0.
  double rest = 0;
  double lon12 = angle_difference(from.longitude, to.longitude, rest);
  const double lonsign = std::signbit(lon12) ? -1 : 1;
  lon12 *= lonsign;
  rest *= lonsign;
  double slam12, clam12;
  if (lon12 > 90) {
    sine_cosine_of_degrees((180 - lon12) - rest, slam12, clam12);
    clam12 = -clam12;
  } else {
    sine_cosine_of_degrees(lon12 + rest, slam12, clam12);
  }
  double lat1 = from.latitude, lat2 = to.latitude;
  const double swapped = std::fabs(lat1) < std::fabs(lat2) ? -1 : 1;
  if (swapped < 0) std::swap(lat1, lat2);
  const double latsign = std::signbit(lat1) ? 1 : -1;
  const Reduced p1 = reduced(lat1 * latsign);
  Reduced p2 = reduced(lat2 * latsign);
  // Equal latitudes must have equal sines and cosines to the last bit.
  if (p1.c < -p1.s) {
    if (p2.c == p1.c) p2.s = std::copysign(p1.s, p2.s);
  } else if (std::fabs(p2.s) == -p1.s) {
    p2.c = p1.c;
  }

  Course line;
  const double lam12 = lon12 * degree;
  const bool meridian = std::fabs(lat1) == 90 || slam12 == 0;
  if (!meridian || !solve_meridian(p1, p2, slam12, clam12, line)) {
    line = {};
    if (p1.s == 0 && lon12 <= 180 * (1 - f_)) {
      solve_equator(lam12, line);
    } else {
      const Start first = start(p1, p2, lam12, slam12, clam12);
      if (first.sig12 >= 0)
        solve_short(first, lam12, line);
      else
        solve_by_newton(p1, p2, first, slam12, clam12, line);
    }
  }

  GeodesicArc out{};
  out.distance = line.distance * b_ + 0.0;
  out.reduced_length = line.reduced * b_ + 0.0;
  if (with_area) out.area = lonsign * latsign * area_under(p1, p2, line);
  if (swapped < 0) {
    std::swap(line.salp1, line.salp2);
    std::swap(line.calp1, line.calp2);
    std::swap(line.scale12, line.scale21);
  }
  out.scale = line.scale12;
  out.azimuth1 = std::atan2(lonsign * line.salp1, swapped * latsign * line.calp1) / degree;
  out.azimuth2 = std::atan2(lonsign * line.salp2, swapped * latsign * line.calp2) / degree;
  return out;
}

GeodesicEnd Geodesic::direct(GeoPoint from, double azimuth, double distance) const {
  if (!(std::fabs(from.latitude) <= 90) || !std::isfinite(from.longitude) || !std::isfinite(azimuth) ||
      !std::isfinite(distance))
    return {nan_value, nan_value, nan_value, nan_value, nan_value};
  const Reduced p1 = reduced(from.latitude);
  double salp1, calp1;
  sine_cosine_of_degrees(azimuth, salp1, calp1);
  const double salp0 = salp1 * p1.c, calp0 = std::hypot(calp1, salp1 * p1.s);
  double ssig1 = p1.s, csig1 = p1.s != 0 || calp1 != 0 ? p1.c * calp1 : 1;
  const double somg1 = salp0 * p1.s, comg1 = csig1;
  normalise(ssig1, csig1);
  const double eps = epsilon_of(squared(calp0) * ep2_);
  const Six k1 = c1(eps);
  const double b11 = sine_sum(ssig1, csig1, k1), sb = std::sin(b11), cb = std::cos(b11);
  const double stau1 = ssig1 * cb + csig1 * sb, ctau1 = csig1 * cb - ssig1 * sb;
  const double tau12 = distance / (b_ * (1 + a1_less_1(eps))), st = std::sin(tau12), ct = std::cos(tau12);
  const double b12 = -sine_sum(stau1 * ct + ctau1 * st, ctau1 * ct - stau1 * st, c1_reverted(eps));
  const double sig12 = tau12 - (b12 - b11), ss = std::sin(sig12), cs = std::cos(sig12);
  const double ssig2 = ssig1 * cs + csig1 * ss, csig2 = csig1 * cs - ssig1 * ss;
  const double sbet2 = calp0 * ssig2;
  double cbet2 = std::hypot(salp0, calp0 * csig2);
  if (cbet2 == 0) cbet2 = tiny;
  const double somg2 = salp0 * ssig2, comg2 = csig2;
  const double omg12 = std::atan2(somg2 * comg1 - comg2 * somg1, comg2 * comg1 + somg2 * somg1);
  const Coefficients k3 = c3(eps);
  const double lam12 = omg12 - f_ * salp0 * a3(eps) * (sig12 + sine_sum(ssig2, csig2, k3) - sine_sum(ssig1, csig1, k3));
  const double dn2 = std::sqrt(1 + ep2_ * squared(sbet2));
  const Lengths l = lengths(eps, sig12, {ssig1, csig1, p1.dn}, {ssig2, csig2, dn2});
  GeodesicEnd out{};
  out.longitude = std::remainder(std::remainder(from.longitude, 360.0) + lam12 / degree, 360.0);
  out.latitude = std::atan2(sbet2, f1_ * cbet2) / degree;
  out.azimuth = std::atan2(salp0, calp0 * csig2) / degree;
  out.reduced_length = l.reduced * b_;
  out.scale = l.scale12;
  return out;
}

}  // namespace civic
