#include "inner_point.h"

#include <algorithm>
#include <cmath>
#include <queue>

namespace civic {
namespace {

struct Edge {
  double ax, ay, bx, by;
};

// Distance to the border of a polygon, negative outside.
class Depth {
 public:
  Depth(const StoreView& s, int part) {
    for (int ring = s.rings(part).begin; ring < s.rings(part).end; ++ring)
      for (int i = s.vertices(ring).begin; i + 1 < s.vertices(ring).end; ++i) {
        edges_.push_back({s.x[i], s.y[i], s.x[i + 1], s.y[i + 1]});
        box_.add(s.x[i], s.y[i]);
      }
  }
  double operator()(double x, double y) const {
    double least = HUGE_VAL;
    bool inside = false;
    for (const Edge& e : edges_) {
      if ((e.ay > y) != (e.by > y) && x < e.ax + (y - e.ay) / (e.by - e.ay) * (e.bx - e.ax)) inside = !inside;
      const double dx = e.bx - e.ax, dy = e.by - e.ay, length = dx * dx + dy * dy;
      const double t = length == 0 ? 0 : std::clamp(((x - e.ax) * dx + (y - e.ay) * dy) / length, 0.0, 1.0);
      const double px = e.ax + t * dx - x, py = e.ay + t * dy - y;
      least = std::min(least, px * px + py * py);
    }
    return inside ? std::sqrt(least) : -std::sqrt(least);
  }
  const Box& box() const { return box_; }

 private:
  std::vector<Edge> edges_;
  Box box_;
};

struct Square {
  double x, y, half, depth;
  double most() const { return depth + half * std::numbers::sqrt2; }  // that a place in it may have
  friend bool operator<(const Square& a, const Square& b) { return a.most() < b.most(); }
};

Coordinate deepest(const Depth& depth, Coordinate centre) {
  const Box& box = depth.box();
  const double size = std::min(box.xmax - box.xmin, box.ymax - box.ymin);
  if (!(size > 0)) return centre;
  const double precision = size / 100;
  auto square = [&](double x, double y, double half) { return Square{x, y, half, depth(x, y)}; };
  std::priority_queue<Square> squares;
  for (double x = box.xmin; x < box.xmax; x += size)
    for (double y = box.ymin; y < box.ymax; y += size) squares.push(square(x + size / 2, y + size / 2, size / 2));
  Square best = square(centre.x, centre.y, 0);
  while (!squares.empty()) {
    const Square s = squares.top();
    squares.pop();
    if (s.depth > best.depth) best = s;
    // A thin shape is searched until a place inside is found.
    if (s.most() - best.depth <= (best.depth > 0 ? precision : 0)) break;
    if (s.half < size * 0x1p-40) break;
    const double half = s.half / 2;
    for (const double dx : {-half, half})
      for (const double dy : {-half, half}) squares.push(square(s.x + dx, s.y + dy, half));
  }
  return {best.x, best.y};
}

Coordinate middle_of_line(const StoreView& s, IndexRange v, double length) {
  double rest = length / 2;
  for (int i = v.begin; i + 1 < v.end; ++i) {
    const double step = std::hypot(s.x[i + 1] - s.x[i], s.y[i + 1] - s.y[i]);
    if (step > 0 && rest <= step)
      return {s.x[i] + rest / step * (s.x[i + 1] - s.x[i]), s.y[i] + rest / step * (s.y[i + 1] - s.y[i])};
    rest -= step;
  }
  return {s.x[v.begin], s.y[v.begin]};
}

double length_of(const StoreView& s, IndexRange v) {
  double sum = 0;
  for (int i = v.begin; i + 1 < v.end; ++i) sum += std::hypot(s.x[i + 1] - s.x[i], s.y[i + 1] - s.y[i]);
  return sum;
}

// Of the parts of the highest dimension the largest: by box, by length.
int largest_part(const StoreView& s, int shape) {
  int best = -1;
  std::pair<int, double> most{-1, -1};
  for (int part = s.parts(shape).begin; part < s.parts(shape).end; ++part) {
    const IndexRange rings = s.rings(part);
    if (rings.size() == 0 || s.vertices(rings.begin).size() == 0) continue;
    const IndexRange v = s.vertices(rings.begin);
    Box box;
    for (int i = v.begin; i < v.end; ++i) box.add(s.x[i], s.y[i]);
    const int dimension = dimension_of(s.part_kind(part));
    const std::pair<int, double> size{dimension, dimension == 2   ? (box.xmax - box.xmin) * (box.ymax - box.ymin)
                                                 : dimension == 1 ? length_of(s, v)
                                                                  : 0};
    if (size > most) {
      most = size;
      best = part;
    }
  }
  return best;
}

}  // namespace

Coordinate inner_point(const StoreView& s, int shape) {
  const int part = largest_part(s, shape);
  if (part < 0) return {nan_value, nan_value};
  const IndexRange v = s.vertices(s.rings(part).begin);
  if (s.part_kind(part) == ShapeKind::point) return {s.x[v.begin], s.y[v.begin]};
  if (s.part_kind(part) == ShapeKind::line) return middle_of_line(s, v, length_of(s, v));
  return deepest(Depth(s, part), planar_centroid(s, shape));
}

}  // namespace civic
