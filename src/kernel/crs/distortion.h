// How a projection changes lengths, areas and angles at a place (Tissot's indicatrix; Snyder 1987, section 4).
#pragma once
#include <memory>

#include "projection.h"

namespace civic {

struct Distortion {
  double least, greatest;  // of the scale, in any direction: 1.0004 draws a metre as 1.0004 m
  double area;             // scale of areas
  double angle;            // greatest change of an angle, degrees
  double convergence;      // of the meridian, degrees clockwise from grid north
};

// At a place in radians, longitude from the CRS's own prime meridian; NaN outside the domain. Where the map ends at the
// meridian of the place, it is that of its left side.
class DistortionMeter {
 public:
  explicit DistortionMeter(const Crs& projected);
  Distortion at(double longitude, double latitude) const;

 private:
  struct Stencil {
    double x[8], y[8];
  };
  Stencil stencil(double longitude, double latitude) const;
  bool is_torn(const Stencil& places) const;
  Distortion of_stencil(const Stencil& places, double latitude) const;

  std::unique_ptr<Projection> projection_;
  Ellipsoid ellipsoid_;
  double unit_size_;
};

}  // namespace civic
