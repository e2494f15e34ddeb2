#include "locate.h"

#include <algorithm>
#include <cmath>

#include "orientation.h"

namespace civic {
namespace {

// Counts crossings of a ray to the right of a point, edge by edge.
class RayCounter {
 public:
  RayCounter(double x, double y) : x_(x), y_(y) {}

  // Returns false where the point lies on the edge.
  bool add(double ax, double ay, double bx, double by) {
    if ((ay > y_) != (by > y_)) {
      if (ax < x_ && bx < x_) return true;  // wholly to the left
      if (ax > x_ && bx > x_) {             // wholly to the right
        inside_ = !inside_;
        return true;
      }
      const int side = orientation(ax, ay, bx, by, x_, y_);
      if (side == 0) return false;
      if ((side > 0) == (by > ay)) inside_ = !inside_;
      return true;
    }
    // Both ends on one side of the ray's line; the point may still be an end or lie on a level edge.
    if (ay == y_ && by == y_) return !(x_ >= std::min(ax, bx) && x_ <= std::max(ax, bx));
    return !((ax == x_ && ay == y_) || (bx == x_ && by == y_));
  }

  Location location() const { return inside_ ? Location::inside : Location::outside; }

 private:
  double x_, y_;
  bool inside_ = false;
};

// Calls visit(first vertex) for each edge of the polygon parts of a shape until it returns false.
template <class Visit>
bool for_each_polygon_edge(const StoreView& store, int shape, const Visit& visit) {
  const IndexRange parts = store.parts(shape);
  for (int part = parts.begin; part < parts.end; ++part) {
    if (store.part_kind(part) != ShapeKind::polygon) continue;
    const IndexRange rings = store.rings(part);
    for (int ring = rings.begin; ring < rings.end; ++ring) {
      const IndexRange v = store.vertices(ring);
      for (int i = v.begin; i + 1 < v.end; ++i)
        if (!visit(i)) return false;
    }
  }
  return true;
}

}  // namespace

Location locate_in_shape(const StoreView& store, int shape, double x, double y) {
  RayCounter counter(x, y);
  const bool off_boundary = for_each_polygon_edge(
      store, shape, [&](int i) { return counter.add(store.x[i], store.y[i], store.x[i + 1], store.y[i + 1]); });
  return off_boundary ? counter.location() : Location::boundary;
}

inline int PolygonLocator::band_of(double y) const {
  const double band = (y - box_.ymin) * bands_per_unit_;
  return band > 0 ? static_cast<int>(std::min(band, bands_ - 1.0)) : 0;
}

void PolygonLocator::take(const StoreView& store, int shape) {
  box_ = store.boxes[shape];
  edges_.clear();
  for_each_polygon_edge(store, shape, [&](int i) {
    Edge edge{store.x[i], store.y[i], store.x[i + 1], store.y[i + 1], 0};
    if (edge.ay > edge.by) edge = {edge.bx, edge.by, edge.ax, edge.ay, 0};
    edge.slope = (edge.bx - edge.ax) / (edge.by - edge.ay);
    edges_.push_back({edge, 0, 0});
    return true;
  });
  // Five roundings of what the edge spans and one of the sum: less than eight half units in the last place.
  doubt_ = 0x1p-50 * (std::max(std::fabs(box_.xmin), std::fabs(box_.xmax)) + (box_.xmax - box_.xmin)) +
           std::numeric_limits<double>::min();
  const double height = box_.ymax - box_.ymin;
  double heights = 0;
  for (const Spanning& e : edges_) heights += e.edge.by - e.edge.ay;
  // As many as leave an edge in sixteen of them on average, as those of a star, say, are as high as all bands together.
  // Not a number where all edges are level, which std::min leaves aside as its second argument.
  const double most = 15 * static_cast<double>(edges_.size()) * (height / heights);
  const double bands = std::min({static_cast<double>(edges_.size()) / 2, 65536.0, most});
  bands_ = std::max(1, static_cast<int>(bands));
  bands_per_unit_ = height > 0 && std::isfinite(bands_ / height) ? bands_ / height : 0;

  // Each band is counted one place further on, so that filling it moves its start to its end.
  band_start_.assign(bands_ + 2, 0);
  for (Spanning& e : edges_) {
    e.first = band_of(e.edge.ay);
    e.last = band_of(e.edge.by);
    for (int b = e.first; b <= e.last; ++b) ++band_start_[b + 2];
  }
  for (int b = 1; b <= bands_; ++b) band_start_[b + 1] += band_start_[b];
  banded_.resize(band_start_[bands_ + 1]);
  for (const Spanning& e : edges_)
    for (int b = e.first; b <= e.last; ++b) banded_[band_start_[b + 1]++] = e.edge;
}

// Counts the edges to the right of the point without branches, which would be guessed wrong half the time. Where
// rounding could hide the point's side of an edge, or the edge is level with it, the edges are counted again exactly.
Location PolygonLocator::locate(double x, double y) const {
  if (!box_.holds(x, y)) return Location::outside;
  const int band = band_of(y);
  const std::span<const Edge> edges(banded_.data() + band_start_[band], banded_.data() + band_start_[band + 1]);
  bool inside = false, unsure = false;
  for (const Edge& e : edges) {
    const double beyond = e.ax + (y - e.ay) * e.slope - x;  // not a number for a level edge
    const bool reaches = (e.ay <= y) & (y <= e.by);
    inside ^= reaches & (y < e.by) & (beyond > 0);
    unsure |= reaches & !(std::fabs(beyond) > doubt_);
  }
  if (unsure) return locate_exactly(edges, x, y);
  return inside ? Location::inside : Location::outside;
}

Location PolygonLocator::locate_exactly(std::span<const Edge> edges, double x, double y) const {
  RayCounter counter(x, y);
  for (const Edge& e : edges)
    if (!counter.add(e.ax, e.ay, e.bx, e.by)) return Location::boundary;
  return counter.location();
}

namespace {

double squared_distance_to_segment(double x, double y, double ax, double ay, double bx, double by) {
  const double dx = bx - ax, dy = by - ay;
  const double length2 = dx * dx + dy * dy;
  double t = length2 > 0 ? ((x - ax) * dx + (y - ay) * dy) / length2 : 0;
  t = std::clamp(t, 0.0, 1.0);
  const double ex = x - (ax + t * dx), ey = y - (ay + t * dy);
  return ex * ex + ey * ey;
}

double squared_distance(const StoreView& store, int shape, double x, double y) {
  if (locate_in_shape(store, shape, x, y) != Location::outside) return 0;
  const IndexRange rings = store.shape_rings(shape);
  double least = HUGE_VAL;
  for (int ring = rings.begin; ring < rings.end; ++ring) {
    const IndexRange v = store.vertices(ring);
    for (int i = v.begin; i < v.end; ++i) {
      const int next = i + 1 < v.end ? i + 1 : i;
      least = std::min(least, squared_distance_to_segment(x, y, store.x[i], store.y[i], store.x[next], store.y[next]));
    }
  }
  return least;
}

}  // namespace

double distance_from_points(const StoreView& points, int point_shape, const StoreView& store, int shape) {
  const IndexRange v = points.shape_vertices(point_shape);
  double least = HUGE_VAL;
  for (int i = v.begin; i < v.end && least > 0; ++i)
    least = std::min(least, squared_distance(store, shape, points.x[i], points.y[i]));
  return least == HUGE_VAL ? nan_value : std::sqrt(least);
}

}  // namespace civic
