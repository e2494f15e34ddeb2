#include "ellipsoidal.h"

#include <algorithm>
#include <cmath>

#include "../base/twofold.h"
#include "../shapes/seams.h"
#include "rings.h"

namespace civic {
namespace {

double line_length(const Geodesic& geodesic, const StoreView& s, IndexRange v) {
  double sum = 0;
  for (int i = v.begin; i + 1 < v.end; ++i) sum += geodesic.distance({s.x[i], s.y[i]}, {s.x[i + 1], s.y[i + 1]});
  return sum;
}

double length_of_border(const Geodesic& geodesic, const GlobeEdge& edge) {
  GeoPoint from{edge.from_longitude, edge.from_latitude};
  double sum = 0;
  for (int k = 1; edge.is_full_turn() && k < GlobeEdge::pieces_of_turn; ++k) {
    const auto [longitude, latitude] = edge.vertex_of_turn(k);
    sum += geodesic.distance(from, {longitude, latitude});
    from = {longitude, latitude};
  }
  return sum + geodesic.distance(from, {edge.to_longitude, edge.to_latitude});
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

constexpr double small_extent = 0.002;  // degrees of latitude, some 220 m

// Whether a ring is so small that the rounding of the large areas between its edges and the equator would count.
bool is_small(const StoreView& s, IndexRange v) {
  for (int i = v.begin; i < v.end; ++i)
    if (std::fabs(s.y[i] - s.y[v.begin]) > small_extent ||
        std::fabs(std::remainder(s.x[i] - s.x[v.begin], 360.0)) * std::cos(s.y[i] * degree) > small_extent)
      return false;
  return true;
}

// On the azimuthal equidistant plane around the first vertex, true to the ground within the square of the ring's size
// against the Earth's, here some 1e-10.
double small_ring_area(const Geodesic& geodesic, const StoreView& s, IndexRange v) {
  const GeoPoint centre{s.x[v.begin], s.y[v.begin]};
  double twice = 0, last_x = 0, last_y = 0;
  for (int i = v.begin + 1; i < v.end; ++i) {
    const GeodesicArc line = geodesic.inverse(centre, {s.x[i], s.y[i]});
    const double x = line.distance * std::sin(line.azimuth1 * degree);
    const double y = line.distance * std::cos(line.azimuth1 * degree);
    twice += last_x * y - x * last_y;
    last_x = x;
    last_y = y;
  }
  return std::fabs(twice) / 2;
}

// Area of a ring whose longitudes run on without a jump: what its edges enclose, be it more than half the Earth. Edges
// longer than half a turn, which close a map of the world, run along their parallels.
double plain_ring_area(const Geodesic& geodesic, const StoreView& s, IndexRange v) {
  ExactSum swept;
  for (int i = v.begin; i + 1 < v.end; ++i) {
    const GeoPoint to{s.x[i + 1], s.y[i + 1]};
    const double step = to.longitude - s.x[i], rise = to.latitude - s.y[i];
    constexpr int pieces = 360;
    GeoPoint from{s.x[i], s.y[i]};
    for (int k = 1; std::fabs(step) > 180 && k < pieces; ++k) {
      const GeoPoint next{s.x[i] + step * k / pieces, s.y[i] + rise * k / pieces};
      swept.add(geodesic.inverse(from, next).area);
      from = next;
    }
    swept.add(geodesic.inverse(from, to).area);
  }
  return std::min(std::fabs(swept.value()), geodesic.whole_area());
}

bool runs_on(const StoreView& s, IndexRange v) {
  for (int i = v.begin; i + 1 < v.end; ++i)
    if (const double step = std::fabs(s.x[i + 1] - s.x[i]); step > 180 && std::fabs(step - 360) > 1e-9) return false;
  return s.x[v.begin] == s.x[v.end - 1];
}

double ring_area(const Geodesic& geodesic, const StoreView& s, IndexRange v) {
  if (v.size() < 4) return 0;
  if (is_small(s, v)) return small_ring_area(geodesic, s, v);
  if (runs_on(s, v)) return plain_ring_area(geodesic, s, v);
  ExactSum swept;
  int crossings = 0;
  for (int i = v.begin; i + 1 < v.end; ++i) {
    swept.add(geodesic.inverse({s.x[i], s.y[i]}, {s.x[i + 1], s.y[i + 1]}).area);
    crossings += zero_crossing(s.x[i], s.x[i + 1]);
  }
  const double half = geodesic.whole_area() / 2;
  if (crossings % 2 != 0) swept.add(swept.value() < 0 ? half : -half);
  const double area = std::fabs(swept.value());
  return std::min(area, geodesic.whole_area() - area);
}

}  // namespace

double ellipsoidal_area(const Geodesic& geodesic, const StoreView& store, int shape) {
  return area_of_rings(store, shape, [&](IndexRange v) { return ring_area(geodesic, store, v); });
}

double ellipsoidal_length(const Geodesic& geodesic, const StoreView& store, int shape) {
  return sum_over_rings(store, shape, ShapeKind::line,
                        [&](IndexRange v, bool) { return line_length(geodesic, store, v); });
}

double ellipsoidal_perimeter(const Geodesic& geodesic, const StoreView& store, int shape) {
  if (!has_seams(store, shape))
    return sum_over_rings(store, shape, ShapeKind::polygon,
                          [&](IndexRange v, bool) { return line_length(geodesic, store, v); });
  double sum = 0;
  each_border(store, shape, [&](const GlobeEdge& edge, int) { sum += length_of_border(geodesic, edge); });
  return sum;
}

}  // namespace civic
