#include "ellipsoidal.h"

#include <algorithm>
#include <cmath>

#include "rings.h"

namespace civic {
namespace {

double line_length(const Geodesic& geodesic, const StoreView& s, IndexRange v) {
  double sum = 0;
  for (int i = v.begin; i + 1 < v.end; ++i) sum += geodesic.distance({s.x[i], s.y[i]}, {s.x[i + 1], s.y[i + 1]});
  return sum;
}

// 1 for an edge that passes longitude 0 eastward, -1 westward, 0 where it does not.
int zero_crossing(double from, double to) {
  from = std::remainder(from, 360.0);
  to = std::remainder(to, 360.0);
  double step = std::remainder(to - from, 360.0);
  if (step == -180) step = 180;
  if (from < 0 && to >= 0 && step > 0) return 1;
  return from >= 0 && to < 0 && step < 0 ? -1 : 0;
}

// Rings far from the equator are summed from their pole, where small ones would else drown in the rounding of the
// large areas down to the equator.
bool is_polar(const StoreView& s, IndexRange v) {
  constexpr double polar_latitude = 45;
  const double sign = std::copysign(1, s.y[v.begin]);
  for (int i = v.begin; i < v.end; ++i)
    if (!(s.y[i] * sign > polar_latitude)) return false;
  return true;
}

double ring_area(const Geodesic& geodesic, const StoreView& s, IndexRange v) {
  if (v.size() < 4) return 0;
  const bool polar = is_polar(s, v);
  long double sum = 0;
  int crossings = 0;
  for (int i = v.begin; i + 1 < v.end; ++i) {
    const GeodesicArc edge = geodesic.inverse({s.x[i], s.y[i]}, {s.x[i + 1], s.y[i + 1]});
    sum += polar ? edge.polar_area : edge.area;
    crossings += zero_crossing(s.x[i], s.x[i + 1]);
  }
  if (polar) return std::fabs(static_cast<double>(sum));
  const long double half = geodesic.whole_area() / 2;
  if (crossings % 2 != 0) sum += sum < 0 ? half : -half;
  const double area = std::fabs(static_cast<double>(sum));
  return std::min(area, geodesic.whole_area() - area);
}

}  // namespace

double ellipsoidal_area(const Geodesic& geodesic, const StoreView& store, int shape) {
  return sum_over_rings(store, shape, ShapeKind::polygon, [&](IndexRange v, bool shell) {
    const double area = ring_area(geodesic, store, v);
    return shell ? area : -area;
  });
}

double ellipsoidal_length(const Geodesic& geodesic, const StoreView& store, int shape) {
  return sum_over_rings(store, shape, ShapeKind::line,
                        [&](IndexRange v, bool) { return line_length(geodesic, store, v); });
}

double ellipsoidal_perimeter(const Geodesic& geodesic, const StoreView& store, int shape) {
  return sum_over_rings(store, shape, ShapeKind::polygon,
                        [&](IndexRange v, bool) { return line_length(geodesic, store, v); });
}

}  // namespace civic
