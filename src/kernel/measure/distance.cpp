#include "distance.h"

#include <algorithm>
#include <cmath>
#include <vector>

#include "../base/progress.h"
#include "../index/rtree.h"
#include "../predicate/locate.h"
#include "../predicate/orientation.h"
#include "local_plane.h"

namespace civic {
namespace {

struct Edge {
  double ax, ay, bx, by;
};

// The edges of all parts; a point is an edge to itself.
std::vector<Edge> edges_of(const StoreView& s, int shape) {
  std::vector<Edge> out;
  const IndexRange rings = s.shape_rings(shape);
  for (int ring = rings.begin; ring < rings.end; ++ring) {
    const IndexRange v = s.vertices(ring);
    if (v.size() == 1) out.push_back({s.x[v.begin], s.y[v.begin], s.x[v.begin], s.y[v.begin]});
    for (int i = v.begin; i + 1 < v.end; ++i) out.push_back({s.x[i], s.y[i], s.x[i + 1], s.y[i + 1]});
  }
  return out;
}

// The nearest places and the edges they are on.
struct Nearest {
  NearestPlaces places;
  std::size_t edge_a = 0, edge_b = 0;
};

// The place of an edge next to a point; whether it is nearer than the best so far.
bool try_place(const Edge& e, double px, double py, bool point_is_first, NearestPlaces& best) {
  const double dx = e.bx - e.ax, dy = e.by - e.ay, length = dx * dx + dy * dy;
  const double t = length == 0 ? 0 : std::clamp(((px - e.ax) * dx + (py - e.ay) * dy) / length, 0.0, 1.0);
  const double x = t == 1 ? e.bx : e.ax + t * dx, y = t == 1 ? e.by : e.ay + t * dy;
  const double distance = std::hypot(px - x, py - y);
  if (!(distance < best.distance)) return false;
  best = point_is_first ? NearestPlaces{distance, px, py, x, y} : NearestPlaces{distance, x, y, px, py};
  return true;
}

bool cross(const Edge& a, const Edge& b) {
  return orientation(a.ax, a.ay, a.bx, a.by, b.ax, b.ay) * orientation(a.ax, a.ay, a.bx, a.by, b.bx, b.by) < 0 &&
         orientation(b.ax, b.ay, b.bx, b.by, a.ax, a.ay) * orientation(b.ax, b.ay, b.bx, b.by, a.bx, a.by) < 0;
}

Box box_of(const Edge& e) {
  Box box;
  box.add(e.ax, e.ay);
  box.add(e.bx, e.by);
  return box;
}

// A vertex of one shape inside a polygon of the other, where that is so.
bool inside_of(const StoreView& inner, int inner_shape, const StoreView& outer, int outer_shape) {
  const IndexRange rings = inner.shape_rings(inner_shape);
  for (int ring = rings.begin; ring < rings.end; ++ring) {
    const int v = inner.vertices(ring).begin;
    if (inner.vertices(ring).size() > 0 &&
        locate_in_shape(outer, outer_shape, inner.x[v], inner.y[v]) != Location::outside)
      return true;
  }
  return false;
}

Nearest nearest(const StoreView& a, int shape_a, const StoreView& b, int shape_b) {
  const std::vector<Edge> one = edges_of(a, shape_a), other = edges_of(b, shape_b);
  if (one.empty() || other.empty()) return {{nan_value, nan_value, nan_value, nan_value, nan_value}};
  if (inside_of(a, shape_a, b, shape_b)) return {{0, one[0].ax, one[0].ay, one[0].ax, one[0].ay}};
  if (inside_of(b, shape_b, a, shape_a)) return {{0, other[0].ax, other[0].ay, other[0].ax, other[0].ay}};
  Nearest best{{HUGE_VAL, one[0].ax, one[0].ay, other[0].ax, other[0].ay}};
  NearestPlaces& places = best.places;
  const Box whole = b.boxes[shape_b];
  for (std::size_t i = 0; i < one.size(); ++i) {
    const Edge& e = one[i];
    const Box box = box_of(e);
    if (box.gap(whole) >= places.distance) continue;
    for (std::size_t j = 0; j < other.size(); ++j) {
      const Edge& f = other[j];
      if (box.gap(box_of(f)) >= places.distance) continue;
      if (cross(e, f)) return {{0, e.ax, e.ay, e.ax, e.ay}, i, j};
      bool nearer = try_place(f, e.ax, e.ay, true, places);
      nearer |= try_place(f, e.bx, e.by, true, places);
      nearer |= try_place(e, f.ax, f.ay, false, places);
      nearer |= try_place(e, f.bx, f.by, false, places);
      if (!nearer) continue;
      best.edge_a = i;
      best.edge_b = j;
    }
  }
  return best;
}

}  // namespace

NearestPlaces nearest_places(const StoreView& a, int shape_a, const StoreView& b, int shape_b) {
  return nearest(a, shape_a, b, shape_b).places;
}

namespace {

int dimension(const StoreView& s, int shape) {
  int most = -1;
  for (int part = s.parts(shape).begin; part < s.parts(shape).end; ++part)
    most = std::max(most, dimension_of(s.part_kind(part)));
  return most;
}

bool all_vertices_near(const std::vector<Edge>& edges, const std::vector<Edge>& others, double tolerance) {
  std::vector<Box> boxes;
  boxes.reserve(others.size());
  for (const Edge& e : others) boxes.push_back(box_of(e));
  const RTree tree{std::span<const Box>(boxes)};
  auto near = [&](double x, double y) {
    NearestPlaces best{std::nextafter(tolerance, HUGE_VAL), x, y, x, y};
    bool found = false;
    tree.visit(Box{x, y, x, y}.grown(tolerance), [&](int e, const Box&) {
      found = found || try_place(others[static_cast<std::size_t>(e)], x, y, true, best);
    });
    return found;
  };
  std::size_t seen = 0;
  return std::all_of(edges.begin(), edges.end(), [&](const Edge& e) {
    if (++seen % 256 == 0) end_if_interrupted();
    return near(e.ax, e.ay) && near(e.bx, e.by);
  });
}

}  // namespace

bool nearly_equal(const StoreView& a, int shape_a, const StoreView& b, int shape_b, double tolerance) {
  if (dimension(a, shape_a) != dimension(b, shape_b)) return false;
  const std::vector<Edge> one = edges_of(a, shape_a), other = edges_of(b, shape_b);
  return all_vertices_near(one, other, tolerance) && all_vertices_near(other, one, tolerance);
}

namespace {

// One edge as a line of its own.
StoreBuffer line_of(const Edge& e) {
  ShapeBuilder builder;
  builder.begin_shape(type_code(ShapeKind::line, false, false));
  builder.begin_part(ShapeKind::line);
  builder.begin_ring();
  builder.vertex(e.ax, e.ay, nan_value, nan_value);
  builder.vertex(e.bx, e.by, nan_value, nan_value);
  builder.end_shape();
  return builder.take();
}

GeoPoint middle_of(const Geodesic& geodesic, GeoPoint a, GeoPoint b) {
  const GeodesicArc line = geodesic.inverse(a, b);
  const GeodesicEnd middle = geodesic.direct(a, line.azimuth1, line.distance / 2);
  return {middle.longitude, middle.latitude};
}

}  // namespace

double ellipsoidal_distance(const Ellipsoid& ellipsoid, const Geodesic& geodesic, const StoreView& a, int shape_a,
                            const StoreView& b, int shape_b) {
  const IndexRange va = a.shape_vertices(shape_a), vb = b.shape_vertices(shape_b);
  if (va.size() == 0 || vb.size() == 0) return nan_value;
  GeoPoint from{a.x[va.begin], a.y[va.begin]}, to{b.x[vb.begin], b.y[vb.begin]};
  if (va.size() == 1 && vb.size() == 1) return geodesic.distance(from, to);

  // On the projection a piece bows by some L^2 / 8 R^2 of the distance. Two rounds find the middle and the pieces; the
  // others look at the two nearest pieces alone, cut a hundredfold finer each time.
  constexpr double first_length = 20000, finest_length = 2;
  double longest = first_length * ellipsoid.semi_major / 6378137;
  const double finest = finest_length * ellipsoid.semi_major / 6378137;
  StoreBuffer one = edges_in_pieces(geodesic, a, shape_a, longest),
              other = edges_in_pieces(geodesic, b, shape_b, longest);
  for (int round = 0; longest > finest; ++round) {
    const LocalPlane plane(ellipsoid, middle_of(geodesic, from, to));
    const StoreBuffer p = plane.of_degrees(one), q = plane.of_degrees(other);
    const Nearest found = nearest(p.view(), 0, q.view(), 0);
    if (found.places.distance == 0) return 0;
    from = plane.to_degrees(found.places.ax, found.places.ay);
    to = plane.to_degrees(found.places.bx, found.places.by);
    if (std::isnan(from.longitude) || std::isnan(to.longitude)) return nan_value;
    if (round == 0) continue;
    longest /= 100;
    one = edges_in_pieces(geodesic, line_of(edges_of(one.view(), 0)[found.edge_a]).view(), 0, longest);
    other = edges_in_pieces(geodesic, line_of(edges_of(other.view(), 0)[found.edge_b]).view(), 0, longest);
  }
  return geodesic.distance(from, to);
}

}  // namespace civic
