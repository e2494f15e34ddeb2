// The conformal latitude, on which all conformal projections stand (Karney 2011, "Transverse Mercator with an
// accuracy of a few nanometers", section 2: equations 7 to 21).
#pragma once
#include <cmath>

namespace civic {

// Eccentricity and what follows from it.
struct Eccentricity {
  double e2, e;
  explicit Eccentricity(double e2) : e2(e2), e(std::sqrt(e2)) {}

  double sigma(double sin_latitude) const { return std::sinh(e * std::atanh(e * sin_latitude)); }
};

// Tangent of the conformal latitude from the tangent of the geodetic latitude.
inline double conformal_tangent(const Eccentricity& ecc, double tau) {
  const double secant = std::hypot(1.0, tau);
  const double sigma = ecc.sigma(tau / secant);
  return tau * std::hypot(1.0, sigma) - sigma * secant;
}

// The reverse, by Newton's method (Karney 2011, equations 19 to 21).
inline double geodetic_tangent(const Eccentricity& ecc, double conformal) {
  double tau = conformal / (1 - ecc.e2);
  for (int round = 0; round < 6; ++round) {
    const double reached = conformal_tangent(ecc, tau);
    const double step = (conformal - reached) / std::hypot(1.0, reached) * (1 + (1 - ecc.e2) * tau * tau) /
                        ((1 - ecc.e2) * std::hypot(1.0, tau));
    tau += step;
    if (std::fabs(step) < 1e-15 * std::max(1.0, std::fabs(tau))) break;
  }
  return tau;
}

// Isometric latitude, the northing of Mercator on a unit ellipsoid.
inline double isometric_latitude(const Eccentricity& ecc, double latitude) {
  return std::asinh(conformal_tangent(ecc, std::tan(latitude)));
}

inline double latitude_from_isometric(const Eccentricity& ecc, double psi) {
  return std::atan(geodetic_tangent(ecc, std::sinh(psi)));
}

// An angle brought to (-pi, pi].
inline double wrapped(double angle) {
  if (angle > -M_PI && angle <= M_PI) return angle;
  angle = std::remainder(angle, 2 * M_PI);
  return angle <= -M_PI ? M_PI : angle;
}

}  // namespace civic
