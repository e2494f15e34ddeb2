#include "distance.h"

#include <algorithm>
#include <cmath>
#include <vector>

#include "../base/progress.h"
#include "../index/rtree.h"
#include "../predicate/orientation.h"
#include "vertex_inside.h"

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

}  // namespace

NearestPlaces nearest_places(const StoreView& a, int shape_a, const StoreView& b, int shape_b) {
  const std::vector<Edge> one = edges_of(a, shape_a), other = edges_of(b, shape_b);
  if (one.empty() || other.empty()) return {nan_value, nan_value, nan_value, nan_value, nan_value};
  if (vertex_inside(a, shape_a, b, shape_b)) return {0, one[0].ax, one[0].ay, one[0].ax, one[0].ay};
  if (vertex_inside(b, shape_b, a, shape_a)) return {0, other[0].ax, other[0].ay, other[0].ax, other[0].ay};
  NearestPlaces best{HUGE_VAL, one[0].ax, one[0].ay, other[0].ax, other[0].ay};
  const Box whole = b.boxes[shape_b];
  for (const Edge& e : one) {
    const Box box = box_of(e);
    if (box.gap(whole) >= best.distance) continue;
    for (const Edge& f : other) {
      if (box.gap(box_of(f)) >= best.distance) continue;
      if (cross(e, f)) return {0, e.ax, e.ay, e.ax, e.ay};
      try_place(f, e.ax, e.ay, true, best);
      try_place(f, e.bx, e.by, true, best);
      try_place(e, f.ax, f.ay, false, best);
      try_place(e, f.bx, f.by, false, best);
    }
  }
  return best;
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

}  // namespace civic
