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

// Gauss-Legendre quadrature with eight nodes on [0, 1]: sums term(t) * weight.
template <class Term>
double quadrature(const Term& term) {
  constexpr double nodes[] = {0.1834346424956498, 0.5255324099163290, 0.7966664774136267, 0.9602898564975363};
  constexpr double weights[] = {0.3626837833783620, 0.3137066458778873, 0.2223810344533745, 0.1012285362903763};
  double sum = 0;
  for (int i = 0; i < 4; ++i) sum += weights[i] / 2 * (term((1 - nodes[i]) / 2) + term((1 + nodes[i]) / 2));
  return sum;
}

// What edges that are straight in degrees measure, latitude by latitude. Such an edge is cut where the integrands
// change too much for the quadrature.
class StraightEdges {
 public:
  explicit StraightEdges(const Ellipsoid& ellipsoid) : a_(ellipsoid.semi_major), e2_(ellipsoid.e2()) {}

  // The zones between a ring's edges and the parallel of its first vertex, which keeps the digits of small rings.
  double ring_area(const StoreView& s, IndexRange v) const {
    ExactSum swept, zone;  // `zone`: of a radian of longitude, from the first vertex's latitude to here
    for (int i = v.begin; i + 1 < v.end; ++i)
      in_pieces(s, i, 0.3, [&](double from, double rise, double turn) {
        const double whole = rise * quadrature([&](double t) { return zone_at(from + t * rise); });
        const double mean = rise * quadrature([&](double t) { return (1 - t) * zone_at(from + t * rise); });
        swept.add(turn * (zone.value() + mean));
        zone.add(whole);
      });
    return std::fabs(swept.value());
  }
  double line_length(const StoreView& s, IndexRange v) const {
    double sum = 0;
    for (int i = v.begin; i + 1 < v.end; ++i)
      in_pieces(s, i, 0.05, [&](double from, double rise, double turn) {
        sum += quadrature([&](double t) {
          const double latitude = from + t * rise, sine = std::sin(latitude), w2 = 1 - e2_ * sine * sine;
          const double normal = a_ / std::sqrt(w2);
          return std::hypot(normal * (1 - e2_) / w2 * rise, normal * std::cos(latitude) * turn);
        });
      });
    return sum;
  }

 private:
  // Of a radian of longitude and one of latitude.
  double zone_at(double latitude) const {
    const double sine = std::sin(latitude), w2 = 1 - e2_ * sine * sine;
    return a_ * a_ * (1 - e2_) * std::cos(latitude) / (w2 * w2);
  }
  // Calls piece(latitude, rise, turn), in radians.
  template <class Piece>
  static void in_pieces(const StoreView& s, int i, double most, const Piece& piece) {
    const double from = s.y[i] * degree, rise = (s.y[i + 1] - s.y[i]) * degree, turn = (s.x[i + 1] - s.x[i]) * degree;
    const int pieces = std::isfinite(rise) ? std::max(1, static_cast<int>(std::ceil(std::fabs(rise) / most))) : 1;
    for (int k = 0; k < pieces; ++k) piece(from + rise * k / pieces, rise / pieces, turn / pieces);
  }
  double a_, e2_;
};

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

double straight_area(const Ellipsoid& ellipsoid, const StoreView& store, int shape) {
  const StraightEdges edges(ellipsoid);
  return area_of_rings(store, shape, [&](IndexRange v) { return edges.ring_area(store, v); });
}

double straight_length(const Ellipsoid& ellipsoid, const StoreView& store, int shape) {
  const StraightEdges edges(ellipsoid);
  return sum_over_rings(store, shape, ShapeKind::line, [&](IndexRange v, bool) { return edges.line_length(store, v); });
}

}  // namespace civic
