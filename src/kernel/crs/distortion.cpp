#include "distortion.h"

#include <cmath>

#include "unit_ellipsoid.h"

namespace civic {

DistortionMeter::DistortionMeter(const Crs& projected)
    : projection_(make_projection(projected)), ellipsoid_(projected.datum.ellipsoid), unit_size_(projected.unit_size) {}

Distortion DistortionMeter::at(double longitude, double latitude) const {
  // Derivatives by differences of the fourth order.
  constexpr double step = 1e-4;
  double x[8], y[8];
  for (int i = 0; i < 4; ++i) {
    const double by = step * (i < 2 ? i - 2 : i - 1);
    x[i] = longitude + by;
    y[i] = latitude;
    x[i + 4] = longitude;
    y[i + 4] = latitude + by;
  }
  projection_->forward(x, y, 8);
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
