// An ellipsoid whose semi-major axis is 1, with the radii, arcs and latitudes that projections are made of (Snyder
// 1987, "Map projections: a working manual", section 3). Angles in radians.
#pragma once
#include <algorithm>
#include <cmath>

#include "../geodesy/latitudes.h"
#include "crs.h"

namespace civic {

struct UnitEllipsoid {
  double f, e2, e, n;
  AuxiliaryLatitude conformal, authalic, rectifying;
  double quadrant;  // mean radius of the meridian: its arc is `quadrant` times the rectifying latitude
  double polar_q;   // authalic q of the pole
  double authalic_radius;

  explicit UnitEllipsoid(const Ellipsoid& from) : UnitEllipsoid(from.flattening()) {}
  explicit UnitEllipsoid(double flattening)
      : f(flattening),
        e2(f * (2 - f)),
        e(std::sqrt(e2)),
        n(f / (2 - f)),
        conformal(AuxiliaryLatitude::conformal(n)),
        authalic(AuxiliaryLatitude::authalic(n)),
        rectifying(AuxiliaryLatitude::rectifying(n)) {
    const double n2 = n * n;
    quadrant = (1 + n2 * (1. / 4 + n2 * (1. / 64 + n2 / 256))) / (1 + n);
    polar_q = authalic_q(1);
    authalic_radius = std::sqrt(polar_q / 2);
  }

  // Radius of curvature in the prime vertical.
  double prime_vertical(double sine) const { return 1 / std::sqrt(1 - e2 * sine * sine); }
  // Radius of curvature in the meridian.
  double meridional(double sine) const {
    const double w = 1 - e2 * sine * sine;
    return (1 - e2) / (w * std::sqrt(w));
  }
  double parallel_radius(double latitude) const {
    const double s = std::sin(latitude);
    return std::cos(latitude) * prime_vertical(s);
  }

  double meridian_arc(double latitude) const { return quadrant * rectifying.of(latitude); }
  double latitude_of_arc(double arc) const { return rectifying.geodetic(arc / quadrant); }

  // Snyder's q (equation 3-12), twice the area between the equator and a parallel for each radian of longitude.
  double authalic_q(double sine) const {
    const double straight = sine / (1 - e2 * sine * sine);
    return (1 - e2) * (straight + (e == 0 ? sine : std::atanh(e * sine) / e));
  }

  // The isometric latitude, the northing of Mercator.
  double isometric(double latitude) const {
    const SineCosine chi = conformal.of(sine_cosine(latitude));
    return std::asinh(chi.sine / chi.cosine);
  }
  double latitude_of_isometric(double psi) const {
    // The conformal latitude is the Gudermannian of psi: its sine is tanh(psi), its cosine 1 / cosh(psi).
    return conformal.geodetic({std::tanh(psi), 1 / std::cosh(psi)});
  }
};

// An angle brought to (-pi, pi].
inline double wrapped(double angle) {
  if (angle > -pi && angle <= pi) return angle;
  angle = std::remainder(angle, 2 * pi);
  return angle <= -pi ? pi : angle;
}

}  // namespace civic
