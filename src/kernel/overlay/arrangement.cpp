#include "arrangement.h"

#include <algorithm>
#include <cmath>
#include <numeric>
#include <tuple>

#include "../error.h"
#include "../index/rtree.h"
#include "../parallel.h"

namespace civic {
namespace {

double largest_coordinate(std::span<const ShapeRows> layers) {
  double largest = 0;
  int feature = 0;
  for (const ShapeRows& rows : layers)
    for (int row = 0; row < rows.size(); ++row, ++feature) {
      if (rows[row] < 0) continue;
      const IndexRange v = rows.store.shape_vertices(rows[row]);
      for (int i = v.begin; i < v.end; ++i) {
        const double here = std::max(std::fabs(rows.store.x[i]), std::fabs(rows.store.y[i]));
        if (!std::isfinite(here))
          throw FormatError("the shape in row " + std::to_string(row + 1) + " has a coordinate that is not finite");
        largest = std::max(largest, here);
      }
    }
  return largest;
}

// Whether direction d lies in the upper half of the plane, the positive x axis with it.
bool is_upper(GridPoint d) { return d.y > 0 || (d.y == 0 && d.x > 0); }

GridPoint direction(GridPoint from, GridPoint to) { return {to.x - from.x, to.y - from.y}; }

}  // namespace

Arrangement::Arrangement(std::span<const ShapeRows> layers, FillRule rule)
    : rule_(rule), grid_(largest_coordinate(layers)) {
  Noded noded = collect(layers);
  points_ = std::move(noded.points);
  merge_edges(noded.segments);
  sort_around_nodes();
  trace_cycles();
  link_cycles();
  cover_faces();
}

Noded Arrangement::collect(std::span<const ShapeRows> layers) {
  std::vector<GridPoint> points;
  std::vector<Segment> segments;
  int feature = 0;
  for (const ShapeRows& rows : layers)
    for (int row = 0; row < rows.size(); ++row, ++feature) {
      if (rows[row] < 0) continue;
      const StoreView& s = rows.store;
      const IndexRange parts = s.parts(rows[row]);
      for (int part = parts.begin; part < parts.end; ++part) {
        if (s.part_kind(part) != ShapeKind::polygon) continue;
        for (int ring = s.rings(part).begin; ring < s.rings(part).end; ++ring) {
          const IndexRange v = s.vertices(ring);
          const int first = static_cast<int>(points.size());
          for (int i = v.begin; i < v.end; ++i) points.push_back(grid_.of(s.x[i], s.y[i]));
          for (int i = 0; i + 1 < v.size(); ++i) segments.push_back({first + i, first + i + 1, feature});
          // An open ring is closed.
          if (v.size() > 1) segments.push_back({first + v.size() - 1, first, feature});
        }
      }
    }
  return node(points, segments);
}

// Segments of equal ends become one edge that remembers which features' borders run along it, and how often.
void Arrangement::merge_edges(const std::vector<Segment>& segments) {
  struct Side {
    int from, to, feature, count;
  };
  std::vector<Side> sides;
  sides.reserve(segments.size());
  for (const Segment& s : segments)
    sides.push_back(s.from < s.to ? Side{s.from, s.to, s.source, 1} : Side{s.to, s.from, s.source, -1});
  std::sort(sides.begin(), sides.end(), [](const Side& a, const Side& b) {
    return std::tie(a.from, a.to, a.feature) < std::tie(b.from, b.to, b.feature);
  });
  crossing_start_ = {0};
  for (std::size_t i = 0; i < sides.size();) {
    const Side& first = sides[i];
    const std::size_t before = crossings_.size();
    while (i < sides.size() && sides[i].from == first.from && sides[i].to == first.to) {
      const int feature = sides[i].feature;
      int signed_count = 0, count = 0;
      for (; i < sides.size() && sides[i].from == first.from && sides[i].to == first.to && sides[i].feature == feature;
           ++i) {
        signed_count += sides[i].count;
        ++count;
      }
      const int kept = rule_ == FillRule::even_odd ? count % 2 : signed_count;
      if (kept != 0) crossings_.push_back({feature, kept});
    }
    if (crossings_.size() == before) continue;  // borders that cancel, such as a spike
    edges_.push_back({first.from, first.to, -1, -1});
    crossing_start_.push_back(static_cast<int>(crossings_.size()));
  }
}

void Arrangement::sort_around_nodes() {
  around_start_.assign(points_.size() + 1, 0);
  for (const Edge& e : edges_) {
    ++around_start_[e.from + 1];
    ++around_start_[e.to + 1];
  }
  std::partial_sum(around_start_.begin(), around_start_.end(), around_start_.begin());
  around_.resize(2 * edges_.size());
  place_.resize(around_.size());
  std::vector<int> next(around_start_.begin(), around_start_.end() - 1);
  for (int half = 0; half < static_cast<int>(around_.size()); ++half) around_[next[origin(half)]++] = half;
  parallel_for(points_.size(), 4096, [&](std::size_t begin, std::size_t end) {
    for (std::size_t n = begin; n < end; ++n) {
      const auto first = around_.begin() + around_start_[n], last = around_.begin() + around_start_[n + 1];
      const GridPoint here = points_[n];
      std::sort(first, last, [&](int a, int b) {
        const GridPoint p = points_[target(a)], q = points_[target(b)];
        const bool up = is_upper(direction(here, p)), other_up = is_upper(direction(here, q));
        return up != other_up ? up : side(here, p, q) > 0;
      });
      for (auto half = first; half != last; ++half) place_[*half] = static_cast<int>(half - around_.begin());
    }
  });
}

// The walk along the border of a face that lies on the left: at each node the next half-edge clockwise from the way back.
void Arrangement::trace_cycles() {
  cycle_.assign(around_.size(), -1);
  areas_.clear();
  for (int start = 0; start < static_cast<int>(cycle_.size()); ++start) {
    if (cycle_[start] >= 0) continue;
    const int cycle = static_cast<int>(areas_.size());
    const GridPoint base = points_[origin(start)];
    long double area = 0;
    for (int half = start; cycle_[half] < 0;) {
      cycle_[half] = cycle;
      const GridPoint p = direction(base, points_[origin(half)]), q = direction(base, points_[target(half)]);
      area += static_cast<long double>(p.x) * q.y - static_cast<long double>(q.x) * p.y;
      const int node = target(half), at = place_[half ^ 1];
      half = around_[at == around_start_[node] ? around_start_[node + 1] - 1 : at - 1];
    }
    areas_.push_back(static_cast<double>(area));
  }
}

namespace {

// Finds the edge next below a point, among edges none of which crosses another. Points are taken as if the plane leaned
// a little, so that of two on one vertical line the lower one comes first, and no edge is vertical.
class EdgeBelow {
 public:
  EdgeBelow(std::span<const GridPoint> points, const std::vector<Arrangement::Edge>& edges)
      : points_(points), edges_(edges), tree_(boxes()) {
    for (const GridPoint p : points_) {
      low_ = std::min(low_, static_cast<double>(p.y));
      high_ = std::max(high_, static_cast<double>(p.y));
    }
  }

  // -1 where there is none.
  int operator()(int node) const {
    const GridPoint p = points_[node];
    const double x = static_cast<double>(p.x), y = static_cast<double>(p.y);
    for (double reach = (high_ - low_) / 1024 + 2;; reach *= 8) {
      int best = -1;
      tree_.visit({x, y - reach, x, y}, [&](int e, const Box&) {
        const Arrangement::Edge& edge = edges_[e];
        if (!(edge.from < node && node < edge.to)) return;  // nodes ascend by x, then y
        if (side(points_[edge.from], points_[edge.to], p) > 0 && (best < 0 || is_above(e, best))) best = e;
      });
      // Another edge may lie between the best and the point only within the reach.
      if (best >= 0 && height_at(best, x) > y - reach + 1) return best;
      if (y - reach < low_ - 1) return best;
    }
  }

 private:
  std::vector<Box> boxes() const {
    std::vector<Box> out(edges_.size());
    for (std::size_t e = 0; e < out.size(); ++e)
      for (const int node : {edges_[e].from, edges_[e].to})
        out[e].add(static_cast<double>(points_[node].x), static_cast<double>(points_[node].y));
    return out;
  }
  double height_at(int e, double x) const {
    const GridPoint a = points_[edges_[e].from], b = points_[edges_[e].to];
    if (a.x == b.x) return static_cast<double>(b.y);
    const double t = (x - static_cast<double>(a.x)) / static_cast<double>(b.x - a.x);
    return static_cast<double>(a.y) + t * static_cast<double>(b.y - a.y);
  }
  // Of two edges over one place.
  bool is_above(int e, int f) const {
    const int e0 = edges_[e].from, e1 = edges_[e].to, f0 = edges_[f].from, f1 = edges_[f].to;
    // The one that starts later starts above or below the other.
    if (e0 < f0) {
      int s = side(points_[e0], points_[e1], points_[f0]);
      if (s == 0) s = side(points_[e0], points_[e1], points_[f1]);
      return s < 0;
    }
    int s = side(points_[f0], points_[f1], points_[e0]);
    if (s == 0) s = side(points_[f0], points_[f1], points_[e1]);
    return s > 0;
  }

  std::span<const GridPoint> points_;
  const std::vector<Arrangement::Edge>& edges_;
  RTree tree_;
  double low_ = HUGE_VAL, high_ = -HUGE_VAL;
};

// Sets of things joined pairwise.
class DisjointSets {
 public:
  explicit DisjointSets(std::size_t n) : parent_(n) { std::iota(parent_.begin(), parent_.end(), 0); }
  int find(int i) {
    while (parent_[i] != i) i = parent_[i] = parent_[parent_[i]];
    return i;
  }
  void join(int a, int b) { parent_[find(a)] = find(b); }

 private:
  std::vector<int> parent_;
};

}  // namespace

// A connected group of edges has one cycle around it, with the group on its right: a hole in the face around, which is
// found from the leftmost node of the group.
void Arrangement::link_cycles() {
  const int outside = static_cast<int>(areas_.size());
  DisjointSets faces(areas_.size() + 1);
  std::vector<int> leftmost(areas_.size(), -1);
  for (int half = 0; half < static_cast<int>(cycle_.size()); ++half) {
    int& node = leftmost[cycle_[half]];
    if (node < 0 || origin(half) < node) node = origin(half);
  }
  std::vector<int> around;  // cycles with the group on their right
  for (int cycle = 0; cycle < outside; ++cycle)
    if (areas_[cycle] < 0) around.push_back(cycle);
  if (around.size() == 1) {
    faces.join(around[0], outside);
  } else if (!around.empty()) {
    const EdgeBelow below(points_, edges_);
    std::vector<int> found(around.size());
    parallel_for(around.size(), 64, [&](std::size_t begin, std::size_t end) {
      for (std::size_t i = begin; i < end; ++i) found[i] = below(leftmost[around[i]]);
    });
    for (std::size_t i = 0; i < around.size(); ++i)
      faces.join(around[i], found[i] < 0 ? outside : cycle_[2 * found[i]]);
  }

  // Faces numbered on, the outside first.
  std::vector<int> number(areas_.size() + 1, -1);
  int count = 0;
  number[faces.find(outside)] = count++;
  std::vector<double> areas{HUGE_VAL};
  for (int cycle = 0; cycle < outside; ++cycle) {
    int& face = number[faces.find(cycle)];
    if (face < 0) {
      face = count++;
      areas.push_back(0);
    }
    areas[face] += areas_[cycle];
  }
  for (int& cycle : cycle_) cycle = number[faces.find(cycle)];
  areas_ = std::move(areas);
  for (std::size_t e = 0; e < edges_.size(); ++e) {
    edges_[e].left = cycle_[2 * e];
    edges_[e].right = cycle_[2 * e + 1];
  }
}

// From the outside, which nothing covers, over every edge to the face behind it.
void Arrangement::cover_faces() {
  const std::size_t n = areas_.size();
  std::vector<int> start(n + 1, 0), steps(2 * edges_.size());
  for (const Edge& e : edges_) {
    ++start[e.left + 1];
    ++start[e.right + 1];
  }
  std::partial_sum(start.begin(), start.end(), start.begin());
  std::vector<int> next(start.begin(), start.end() - 1);
  for (std::size_t e = 0; e < edges_.size(); ++e) {
    steps[next[edges_[e].right]++] = static_cast<int>(2 * e);     // to the left
    steps[next[edges_[e].left]++] = static_cast<int>(2 * e + 1);  // to the right
  }

  std::vector<std::vector<Crossing>> covers(n);
  std::vector<char> seen(n, 0);
  std::vector<int> queue{0};
  seen[0] = 1;
  for (std::size_t at = 0; at < queue.size(); ++at) {
    const int face = queue[at];
    if (at % 65536 == 0) check_in(at, n);
    for (int k = start[face]; k < start[face + 1]; ++k) {
      const int edge = steps[k] >> 1;
      const bool leftward = (steps[k] & 1) == 0;
      const int to = leftward ? edges_[edge].left : edges_[edge].right;
      if (seen[to]) continue;
      seen[to] = 1;
      queue.push_back(to);
      // Both lists ascend by feature.
      std::vector<Crossing>& cover = covers[to];
      const std::vector<Crossing>& from = covers[face];
      std::size_t i = 0;
      int c = crossing_start_[edge];
      while (i < from.size() || c < crossing_start_[edge + 1]) {
        const bool has_crossing = c < crossing_start_[edge + 1];
        if (!has_crossing || (i < from.size() && from[i].feature < crossings_[c].feature)) {
          cover.push_back(from[i++]);
          continue;
        }
        Crossing sum = crossings_[c++];
        if (!leftward) sum.count = -sum.count;
        if (i < from.size() && from[i].feature == sum.feature) sum.count += from[i++].count;
        if (rule_ == FillRule::even_odd) sum.count &= 1;
        if (sum.count != 0) cover.push_back(sum);
      }
    }
  }
  cover_start_ = {0};
  for (const auto& cover : covers) {
    for (const Crossing& c : cover) cover_.push_back(c.feature);
    cover_start_.push_back(static_cast<int>(cover_.size()));
  }
}

}  // namespace civic
