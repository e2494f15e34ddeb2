#include "projection.h"

#include <cmath>

#include "../error.h"
#include "../shapes/store.h"
#include "methods.h"

namespace civic {
namespace {

// Longitude and latitude themselves, in the CRS's angular unit.
class Geographic : public Projection {
 public:
  explicit Geographic(const Crs& crs) : radians_(crs.unit_size * M_PI / 180) {}
  void forward(double* x, double* y, std::size_t n) const override { scale(x, y, n, 1 / radians_); }
  void inverse(double* x, double* y, std::size_t n) const override {
    scale(x, y, n, radians_);
    for (std::size_t i = 0; i < n; ++i)
      if (std::fabs(y[i]) > M_PI / 2 * (1 + 1e-12)) x[i] = y[i] = nan_value;
  }

 private:
  static void scale(double* x, double* y, std::size_t n, double by) {
    for (std::size_t i = 0; i < n; ++i) {
      x[i] *= by;
      y[i] *= by;
    }
  }
  double radians_;
};

// Runs a method's formulae, which know neither units nor false coordinates nor directions, over a batch.
template <class Method>
class Projected : public Projection {
 public:
  Projected(const Crs& crs, Method method, double direction_x, double direction_y)
      : method_(method),
        central_meridian_(method.central_meridian),
        scale_x_(direction_x * crs.datum.ellipsoid.semi_major / crs.unit_size),
        scale_y_(direction_y * crs.datum.ellipsoid.semi_major / crs.unit_size),
        false_x_(crs.parameter("false_easting", 0)),
        false_y_(crs.parameter("false_northing", 0)) {}

  void forward(double* x, double* y, std::size_t n) const override {
    for (std::size_t i = 0; i < n; ++i) {
      Plane p{nan_value, nan_value};
      if (std::fabs(y[i]) <= M_PI / 2 * (1 + 1e-12)) p = method_.forward(wrapped(x[i] - central_meridian_), y[i]);
      x[i] = false_x_ + scale_x_ * p.x;
      y[i] = false_y_ + scale_y_ * p.y;
      if (!std::isfinite(x[i]) || !std::isfinite(y[i])) x[i] = y[i] = nan_value;
    }
  }

  void inverse(double* x, double* y, std::size_t n) const override {
    for (std::size_t i = 0; i < n; ++i) {
      const Sphere s = method_.inverse((x[i] - false_x_) / scale_x_, (y[i] - false_y_) / scale_y_);
      x[i] = wrapped(s.longitude + central_meridian_);
      y[i] = s.latitude;
      if (!std::isfinite(x[i]) || !std::isfinite(y[i])) x[i] = y[i] = nan_value;
    }
  }

 private:
  Method method_;
  double central_meridian_, scale_x_, scale_y_, false_x_, false_y_;
};

template <class Method>
std::unique_ptr<Projection> projected(const Crs& crs, double direction_x = 1, double direction_y = 1) {
  return std::make_unique<Projected<Method>>(crs, Method(crs), direction_x, direction_y);
}

}  // namespace

std::unique_ptr<Projection> make_projection(const Crs& crs) {
  if (crs.kind == CrsKind::geographic) return std::make_unique<Geographic>(crs);
  if (crs.kind != CrsKind::projected)
    throw CrsError("coordinates on the " + std::string(kind_name(crs.kind)) + " CRS " + crs.name +
                   " cannot be reprojected");
  const std::string& method = crs.method;
  if (method == "Transverse Mercator") return projected<TransverseMercator>(crs);
  if (method == "Transverse Mercator (South Orientated)") return projected<TransverseMercator>(crs, -1, -1);
  if (method == "Lambert Conic Conformal (1SP)") return projected<LambertConformalConic>(crs);
  if (method == "Lambert Conic Conformal (2SP)") return projected<LambertConformalConic>(crs);
  if (method == "Lambert Conic Conformal (2SP Belgium)") return projected<LambertConformalConic>(crs);
  if (method == "Lambert Conic Conformal (2SP Michigan)") return projected<LambertConformalConic>(crs);
  if (method == "Lambert Conic Conformal (West Orientated)") return projected<LambertConformalConic>(crs, -1, 1);
  if (method == "Mercator (variant A)" || method == "Mercator (variant B)") return projected<Mercator>(crs);
  if (method == "Popular Visualisation Pseudo Mercator") return projected<WebMercator>(crs);
  throw CrsError("the projection method \"" + method + "\" of " + (crs.code.empty() ? crs.name : crs.code) +
                 " is not available");
}

}  // namespace civic
