#include "distortion.h"

#include <cmath>

#include "unit_ellipsoid.h"

namespace civic {

DistortionMeter::DistortionMeter(const Crs& projected)
    : projection_(make_projection(projected)), ellipsoid_(projected.datum.ellipsoid), unit_size_(projected.unit_size) {}

namespace {

constexpr double step = 1e-4;  // of differences, in radians

}  // namespace

// Four places beside one another along the parallel, then along the meridian.
DistortionMeter::Stencil DistortionMeter::stencil(double longitude, double latitude) const {
  Stencil s;
  for (int i = 0; i < 4; ++i) {
    const double by = step * (i < 2 ? i - 2 : i - 1);
    s.x[i] = longitude + by;
    s.y[i] = latitude;
    s.x[i + 4] = longitude;
    s.y[i + 4] = latitude + by;
  }
  projection_->forward(s.x, s.y, 8);
  return s;
}

// Whether the map ends between places along the parallel, so that some lie at its other side.
bool DistortionMeter::is_torn(const Stencil& s) const {
  const double far = 0.1 * ellipsoid_.semi_major / unit_size_;
  return std::hypot(s.x[1] - s.x[0], s.y[1] - s.y[0]) > far || std::hypot(s.x[2] - s.x[1], s.y[2] - s.y[1]) > far ||
         std::hypot(s.x[3] - s.x[2], s.y[3] - s.y[2]) > far;
}

Distortion DistortionMeter::at(double longitude, double latitude) const {
  Stencil s = stencil(longitude, latitude);
  for (const double inwards : {-3 * step, 3 * step})
    if (is_torn(s)) s = stencil(longitude + inwards, latitude);
  return of_stencil(s, latitude);
}

// Derivatives by differences of the fourth order.
Distortion DistortionMeter::of_stencil(const Stencil& places, double latitude) const {
  const double *x = places.x, *y = places.y;
  auto slope = [&](const double* v) { return (v[0] - 8 * v[1] + 8 * v[2] - v[3]) / (12 * step) * unit_size_; };
  const double xl = slope(x), yl = slope(y), xf = slope(x + 4), yf = slope(y + 4);

  const UnitEllipsoid e(ellipsoid_);
  const double s = std::sin(latitude);
  const double parallel = ellipsoid_.semi_major * e.prime_vertical(s) * std::cos(latitude);
  const double meridian = ellipsoid_.semi_major * e.meridional(s);
  const double k = std::hypot(xl, yl) / parallel, h = std::hypot(xf, yf) / meridian;
  const double area = std::fabs(xl * yf - xf * yl) / (parallel * meridian);
  const double sum = std::sqrt(h * h + k * k + 2 * area),
               difference = std::sqrt(std::max(0.0, h * h + k * k - 2 * area));
  Distortion out{};
  out.greatest = (sum + difference) / 2;
  out.least = (sum - difference) / 2;
  out.area = area;
  out.angle = 2 * std::asin(std::min(1.0, difference / sum)) * 180 / pi;
  out.convergence = std::atan2(xf, yf) * 180 / pi;
  return out;
}

}  // namespace civic
