#include "inner_point.h"

#include <algorithm>
#include <cmath>
#include <numeric>
#include <optional>
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
  const std::vector<Edge>& edges() const { return edges_; }
  Coordinate middle_of_longest_edge() const {
    auto length = [](const Edge& e) { return std::hypot(e.bx - e.ax, e.by - e.ay); };
    auto shorter = [&](const Edge& a, const Edge& b) { return length(a) < length(b); };
    const auto longest = std::max_element(edges_.begin(), edges_.end(), shorter);
    return {std::midpoint(longest->ax, longest->bx), std::midpoint(longest->ay, longest->by)};
  }

 private:
  std::vector<Edge> edges_;
  Box box_;
};

struct Square {
  double x, y, half, depth;
  double most() const { return depth + half * std::numbers::sqrt2; }  // that a place in it may have
  friend bool operator<(const Square& a, const Square& b) { return a.most() < b.most(); }
};

// Where the horizontal line at y lies inside, the middle of its longest piece; nothing where it crosses no area.
std::optional<Coordinate> middle_across(const std::vector<Edge>& edges, double y) {
  std::vector<double> crossings;
  for (const Edge& e : edges)
    if ((e.ay > y) != (e.by > y)) crossings.push_back(e.ax + (y - e.ay) / (e.by - e.ay) * (e.bx - e.ax));
  std::sort(crossings.begin(), crossings.end());
  std::optional<Coordinate> best;
  double widest = 0;
  for (std::size_t i = 0; i + 1 < crossings.size(); i += 2) {
    if (!(crossings[i + 1] - crossings[i] > widest)) continue;
    widest = crossings[i + 1] - crossings[i];
    best = Coordinate{std::midpoint(crossings[i], crossings[i + 1]), y};
  }
  return best;
}

// A place inside: on a line midway between two vertices that follow each other in height, the widest such gaps first.
std::optional<Coordinate> some_place_inside(const Depth& depth) {
  std::vector<double> heights;
  for (const Edge& e : depth.edges())
    if (std::isfinite(e.ay)) heights.push_back(e.ay);
  std::sort(heights.begin(), heights.end());
  std::vector<std::pair<double, double>> gaps;  // how wide, and from where
  for (std::size_t i = 0; i + 1 < heights.size(); ++i)
    if (heights[i + 1] > heights[i]) gaps.emplace_back(heights[i + 1] - heights[i], heights[i]);
  std::sort(gaps.rbegin(), gaps.rend());
  constexpr std::size_t most = 200;
  for (std::size_t i = 0; i < std::min(gaps.size(), most); ++i) {
    const auto place = middle_across(depth.edges(), gaps[i].second + gaps[i].first / 2);
    if (place && depth(place->x, place->y) > 0) return place;
  }
  return std::nullopt;
}

// The deepest place of a polygon, to a hundredth of its width; the middle of the longest edge where it has no inside.
Coordinate deepest(const Depth& depth, Coordinate centre) {
  const auto inside = some_place_inside(depth);
  if (!inside) return depth.middle_of_longest_edge();
  constexpr int most_across = 64, most_squares = 4000;
  const Box& box = depth.box();
  const double wide = box.xmax - box.xmin, high = box.ymax - box.ymin;
  const double size = std::max(std::min(wide, high), std::max(wide, high) / most_across);
  if (!std::isfinite(size) || !(size > 0)) return *inside;
  const double precision = std::min(wide, high) / 100;
  auto square = [&](double x, double y, double half) { return Square{x, y, half, depth(x, y)}; };
  std::priority_queue<Square> squares;
  const int across = std::max(1, static_cast<int>(std::ceil(wide / size))),
            up = std::max(1, static_cast<int>(std::ceil(high / size)));
  for (int i = 0; i < across; ++i)
    for (int j = 0; j < up; ++j)
      squares.push(square(box.xmin + (i + 0.5) * size, box.ymin + (j + 0.5) * size, size / 2));
  Square best = square(inside->x, inside->y, 0);
  if (const Square middle = square(centre.x, centre.y, 0); middle.depth > best.depth) best = middle;
  for (int seen = 0; !squares.empty() && seen < most_squares; ++seen) {
    const Square s = squares.top();
    squares.pop();
    if (s.depth > best.depth) best = s;
    if (s.most() - best.depth <= precision) break;
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
  const Depth depth(s, part);
  if (depth.edges().empty()) return {s.x[v.begin], s.y[v.begin]};
  return deepest(depth, planar_centroid(s, shape));
}

}  // namespace civic
