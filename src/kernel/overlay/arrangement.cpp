#include "arrangement.h"

#include <algorithm>
#include <cmath>
#include <numeric>
#include <tuple>

#include "../base/disjoint_sets.h"
#include "../base/error.h"
#include "../base/parallel.h"
#include "../base/portable.h"
#include "../base/sort_by_key.h"
#include "../index/rtree.h"

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
        const double x = std::fabs(rows.store.x[i]), y = std::fabs(rows.store.y[i]);
        if (!std::isfinite(x) || !std::isfinite(y))
          throw FormatError("the shape in row " + std::to_string(row + 1) +
                            " has a coordinate that is not finite; leave the row out first");
        largest = std::max({largest, x, y});
      }
    }
  return largest;
}

// Whether direction d lies in the upper half of the plane, the positive x axis with it.
bool is_upper(GridPoint d) { return d.y > 0 || (d.y == 0 && d.x > 0); }

bool by_node(const Belonging& a, const Belonging& b) { return std::tie(a.cell, a.region) < std::tie(b.cell, b.region); }

GridPoint direction(GridPoint from, GridPoint to) { return {to.x - from.x, to.y - from.y}; }

}  // namespace

Grid Arrangement::grid_for(std::span<const ShapeRows> layers) { return Grid(largest_coordinate(layers)); }

Arrangement::Arrangement(std::span<const ShapeRows> layers, FillRule rule, const Grid& grid)
    : rule_(rule), grid_(grid) {
  collect(layers);
  sort_around_nodes();
  auto traced = start_beside(edges_.size(), [&] { trace_cycles(); });
  const std::vector<int> around_groups = surrounding_cycles();
  traced.get();
  auto placed = start_beside(edges_.size(), [&] { place_nodes(layers); });
  link_cycles(around_groups);
  cover_faces();
  placed.get();
}

void Arrangement::collect(std::span<const ShapeRows> layers) {
  struct Ring {
    const StoreView* store;
    IndexRange vertices;
    int source;  // of polygons 2 feature, of lines 2 feature + 1
    std::size_t first_point, first_segment;
    bool closed() const { return source % 2 == 0; }
  };
  std::vector<Ring> rings, of_points;
  std::size_t point_count = 0, segment_count = 0;
  int feature = 0;
  for (const ShapeRows& rows : layers)
    for (int row = 0; row < rows.size(); ++row, ++feature) {
      if (rows[row] < 0) continue;
      const StoreView& s = rows.store;
      for (int part = s.parts(rows[row]).begin; part < s.parts(rows[row]).end; ++part) {
        const bool closed = s.part_kind(part) == ShapeKind::polygon;
        for (int ring = s.rings(part).begin; ring < s.rings(part).end; ++ring) {
          const IndexRange v = s.vertices(ring);
          rings.push_back({&s, v, 2 * feature + (closed ? 0 : 1), point_count, segment_count});
          if (s.part_kind(part) == ShapeKind::point) of_points.push_back(rings.back());
          point_count += static_cast<std::size_t>(v.size());
          // An open ring is closed.
          if (v.size() > 1) segment_count += static_cast<std::size_t>(closed ? v.size() : v.size() - 1);
        }
      }
    }
  std::vector<GridPoint> points(point_count);
  std::vector<Segment> segments(segment_count);
  parallel_for(rings.size(), 256, [&](std::size_t begin, std::size_t end) {
    for (std::size_t k = begin; k < end; ++k) {
      const Ring& ring = rings[k];
      const int first = static_cast<int>(ring.first_point), n = ring.vertices.size();
      GridPoint* to = points.data() + ring.first_point;
      for (int i = ring.vertices.begin; i < ring.vertices.end; ++i)
        *to++ = grid_.of(ring.store->x[i], ring.store->y[i]);
      Segment* segment = segments.data() + ring.first_segment;
      for (int i = 0; i + 1 < n; ++i) *segment++ = {first + i, first + i + 1, ring.source};
      if (ring.closed() && n > 1) *segment = {first + n - 1, first, ring.source};
    }
  });
  Noded noded = node(std::move(points), std::move(segments));
  merge_edges(noded.segments, noded.points.size());
  for (const Ring& ring : of_points)
    for (int i = ring.vertices.begin; i < ring.vertices.end; ++i)
      point_features_.push_back({ring.source / 2, noded.place(grid_.of(ring.store->x[i], ring.store->y[i]))});
  points_ = std::move(noded.points);
  std::sort(point_features_.begin(), point_features_.end(), by_node);
  point_features_.erase(std::unique(point_features_.begin(), point_features_.end()), point_features_.end());
}

namespace {

// Coordinates between steps, to go back to them.
class ExactCoordinates {
 public:
  explicit ExactCoordinates(const Grid& grid) : grid_(grid) {}
  void note(double value, std::int64_t steps) {
    if (grid_.coordinate(steps) != value) known_.push_back({steps, value});
  }
  void sort() { std::sort(known_.begin(), known_.end()); }
  double of(std::int64_t steps) const {
    const auto at = std::lower_bound(known_.begin(), known_.end(), std::pair(steps, -HUGE_VAL));
    return at != known_.end() && at->first == steps ? at->second : grid_.coordinate(steps);
  }

 private:
  const Grid& grid_;
  std::vector<std::pair<std::int64_t, double>> known_;
};

}  // namespace

// Nodes have the coordinates of the vertices they come from, to the last bit.
void Arrangement::place_nodes(std::span<const ShapeRows> layers) {
  ExactCoordinates exact_x(grid_), exact_y(grid_);
  for (const ShapeRows& rows : layers)
    for (int row = 0; row < rows.size(); ++row) {
      if (rows[row] < 0) continue;
      const IndexRange vertices = rows.store.shape_vertices(rows[row]);
      for (int i = vertices.begin; i < vertices.end; ++i) {
        const GridPoint p = grid_.of(rows.store.x[i], rows.store.y[i]);
        exact_x.note(rows.store.x[i], p.x);
        exact_y.note(rows.store.y[i], p.y);
      }
    }
  exact_x.sort();
  exact_y.sort();
  x_.reserve(points_.size());
  y_.reserve(points_.size());
  for (const GridPoint p : points_) {
    x_.push_back(exact_x.of(p.x));
    y_.push_back(exact_y.of(p.y));
  }
}

// Segments of equal ends become one edge that remembers which features' borders or lines run along it, and how often.
void Arrangement::merge_edges(const std::vector<Segment>& segments, std::size_t nodes) {
  constexpr std::size_t most_edges = (std::size_t{1} << 30) - 1;  // half-edges, two an edge, are numbered by int
  if (segments.size() > most_edges)
    throw ArgumentError(
        "the borders have more than a thousand million pieces between their nodes, more than one overlay "
        "holds: give fewer shapes at a time");
  struct Side {
    int from, to, source, count;
  };
  std::vector<Side> sides;
  sides.reserve(segments.size());
  for (const Segment& s : segments)
    sides.push_back(s.from < s.to ? Side{s.from, s.to, s.source, 1} : Side{s.to, s.from, s.source, -1});
  const auto start = sort_by_key(
      sides, nodes, [](const Side& side) { return side.from; },
      [](const Side& a, const Side& b) { return std::tie(a.to, a.source) < std::tie(b.to, b.source); });

  constexpr std::size_t grain = 1 << 14;
  struct Merged {
    std::vector<Edge> edges;
    std::vector<int> crossing_end, edge_line_end;  // of each edge, among those of this stretch
    std::vector<Crossing> crossings;
    std::vector<EdgeLine> edge_lines;
  };
  std::vector<Merged> stretches((nodes + grain - 1) / grain);
  parallel_for(nodes, grain, [&](std::size_t begin, std::size_t end) {
    Merged& out = stretches[begin / grain];
    const auto last = static_cast<std::size_t>(start[end]);
    for (auto i = static_cast<std::size_t>(start[begin]); i < last;) {
      const Side& first = sides[i];
      const std::size_t before = out.crossings.size() + out.edge_lines.size();
      while (i < last && sides[i].from == first.from && sides[i].to == first.to) {
        const int source = sides[i].source;
        int sum = 0, count = 0;
        for (; i < last && sides[i].from == first.from && sides[i].to == first.to && sides[i].source == source;
             ++i, ++count)
          sum += sides[i].count;
        if (source % 2 == 1) {
          out.edge_lines.push_back({source / 2, sum});
        } else if (const int kept = rule_ == FillRule::even_odd ? count % 2 : sum; kept != 0) {
          out.crossings.push_back({source / 2, kept});
        }
      }
      if (out.crossings.size() + out.edge_lines.size() == before) continue;  // borders that cancel, such as a spike
      out.edges.push_back({first.from, first.to, -1, -1});
      out.crossing_end.push_back(static_cast<int>(out.crossings.size()));
      out.edge_line_end.push_back(static_cast<int>(out.edge_lines.size()));
    }
  });
  struct Before {
    std::size_t edges = 0, crossings = 0, edge_lines = 0;
  };
  std::vector<Before> before(stretches.size() + 1);
  for (std::size_t k = 0; k < stretches.size(); ++k)
    before[k + 1] = {before[k].edges + stretches[k].edges.size(), before[k].crossings + stretches[k].crossings.size(),
                     before[k].edge_lines + stretches[k].edge_lines.size()};
  edges_.resize(before.back().edges);
  crossings_.resize(before.back().crossings);
  edge_lines_.resize(before.back().edge_lines);
  crossing_start_.assign(edges_.size() + 1, 0);
  edge_line_start_.assign(edges_.size() + 1, 0);
  parallel_for(stretches.size(), 1, [&](std::size_t k, std::size_t) {
    const Merged& part = stretches[k];
    const Before& at = before[k];
    std::copy(part.edges.begin(), part.edges.end(), edges_.data() + at.edges);
    std::copy(part.crossings.begin(), part.crossings.end(), crossings_.data() + at.crossings);
    std::copy(part.edge_lines.begin(), part.edge_lines.end(), edge_lines_.data() + at.edge_lines);
    for (std::size_t e = 0; e < part.edges.size(); ++e) {
      crossing_start_[at.edges + e + 1] = static_cast<int>(at.crossings) + part.crossing_end[e];
      edge_line_start_[at.edges + e + 1] = static_cast<int>(at.edge_lines) + part.edge_line_end[e];
    }
  });
}

void Arrangement::sort_around_nodes() {
  around_.resize(2 * edges_.size());
  std::iota(around_.begin(), around_.end(), 0);
  around_start_ = sort_by_key(around_, points_.size(), [&](int half) { return origin(half); });
  next_.resize(around_.size());
  parallel_for(points_.size(), 4096, [&](std::size_t begin, std::size_t end) {
    for (std::size_t n = begin; n < end; ++n) {
      const auto first = around_.begin() + around_start_[n], last = around_.begin() + around_start_[n + 1];
      const GridPoint here = points_[n];
      std::sort(first, last, [&](int a, int b) {
        const GridPoint p = points_[target(a)], q = points_[target(b)];
        const bool up = is_upper(direction(here, p)), other_up = is_upper(direction(here, q));
        return up != other_up ? up : orientation(here, p, q) > 0;
      });
      for (auto half = first; half != last; ++half) next_[*half ^ 1] = *(half == first ? last - 1 : half - 1);
    }
  });
}

// The walks along the borders of faces, which lie on the left.
void Arrangement::trace_cycles() {
  cycle_.assign(around_.size(), -1);
  areas_.clear();
  for (int start = 0; start < static_cast<int>(cycle_.size()); ++start) {
    if (cycle_[start] >= 0) continue;
    const int cycle = static_cast<int>(areas_.size());
    TwiceArea area(points_[origin(start)]);
    for (int half = start; cycle_[half] < 0; half = next_[half]) {
      cycle_[half] = cycle;
      area.step(points_[origin(half)], points_[target(half)]);
    }
    areas_.push_back(area.value());
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
    for (double reach = (high_ - low_) / 1024 + 4 * slack;; reach *= 8) {
      int best = -1;
      tree_.visit({x, y - reach, x, y}, [&](int e, const Box&) {
        const Arrangement::Edge& edge = edges_[e];
        if (!(edge.from < node && node < edge.to)) return;  // nodes ascend by x, then y
        if (orientation(points_[edge.from], points_[edge.to], p) > 0 && (best < 0 || is_above(e, best))) best = e;
      });
      // Another edge may lie between the best and the point only within the reach.
      if (best >= 0 && height_at(best, x) > y - reach + slack) return best;
      if (y - reach < low_ - slack) return best;
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
      int s = orientation(points_[e0], points_[e1], points_[f0]);
      if (s == 0) s = orientation(points_[e0], points_[e1], points_[f1]);
      return s < 0;
    }
    int s = orientation(points_[f0], points_[f1], points_[e0]);
    if (s == 0) s = orientation(points_[f0], points_[f1], points_[e1]);
    return s > 0;
  }

  std::span<const GridPoint> points_;
  const std::vector<Arrangement::Edge>& edges_;
  RTree tree_;
  double low_ = HUGE_VAL, high_ = -HUGE_VAL;
  static constexpr double slack = 4 * Grid::cell_steps;  // doubles round steps
};

}  // namespace

// Each connected group of edges has one cycle around it, with the group on its right. It sets out from the group's
// leftmost node by the half-edge that has nothing on its left: these half-edges.
std::vector<int> Arrangement::surrounding_cycles() const {
  DisjointSets groups(points_.size());
  for (const Edge& e : edges_) groups.join(e.from, e.to);
  std::vector<char> seen(points_.size(), 0);
  std::vector<int> halves;
  for (int n = 0; n < nodes(); ++n) {
    const auto out = around(n);
    if (out.empty() || seen[groups.find(n)]) continue;
    seen[groups.find(n)] = 1;
    int last = out.back();
    for (const int half : out)
      if (is_upper(direction(points_[n], points_[target(half)]))) last = half;
    halves.push_back(last);
  }
  return halves;
}

// The cycle around a group is a hole in the face around it, which is found from the group's leftmost node.
void Arrangement::link_cycles(const std::vector<int>& around_groups) {
  const int outside = static_cast<int>(areas_.size());
  DisjointSets faces(areas_.size() + 1);
  for (const Belonging& p : point_features_)
    if (around(p.cell).empty() && (isolated_.empty() || isolated_.back().node != p.cell))
      isolated_.push_back({p.cell, outside});
  if (around_groups.size() == 1) faces.join(cycle_[around_groups[0]], outside);
  if (around_groups.size() > 1 || (!isolated_.empty() && !edges_.empty())) {
    const EdgeBelow below(points_, edges_);
    auto cycles_below = [&](std::size_t n, const auto& node) {
      std::vector<int> found(n);
      parallel_for(n, 64, [&](std::size_t begin, std::size_t end) {
        for (std::size_t i = begin; i < end; ++i) {
          const int edge = below(node(i));
          found[i] = edge < 0 ? outside : cycle_[2 * edge];
        }
      });
      return found;
    };
    if (around_groups.size() > 1) {
      const auto found = cycles_below(around_groups.size(), [&](std::size_t i) { return origin(around_groups[i]); });
      for (std::size_t i = 0; i < found.size(); ++i) faces.join(cycle_[around_groups[i]], found[i]);
    }
    const auto found = cycles_below(isolated_.size(), [&](std::size_t i) { return isolated_[i].node; });
    for (std::size_t i = 0; i < found.size(); ++i) isolated_[i].face = found[i];
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
  for (IsolatedNode& point : isolated_) point.face = number[faces.find(point.face)];
  areas_ = std::move(areas);
  for (std::size_t e = 0; e < edges_.size(); ++e) {
    edges_[e].left = cycle_[2 * e];
    edges_[e].right = cycle_[2 * e + 1];
  }
}

// From the outside, which nothing covers, over every edge to the face behind it.
void Arrangement::cover_faces() {
  // Out of a face over an edge: to which, and whether leftward, in the lowest bit of the edge's number. All that the
  // walk looks at lies side by side.
  struct Step {
    int to, over;
  };
  const std::size_t n = areas_.size();
  std::vector<int> start(n + 1, 0);
  std::vector<Step> steps(2 * edges_.size());
  for (const Edge& e : edges_) {
    ++start[e.left + 1];
    ++start[e.right + 1];
  }
  std::partial_sum(start.begin(), start.end(), start.begin());
  std::vector<int> next(start.begin(), start.end() - 1);
  for (std::size_t e = 0; e < edges_.size(); ++e) {
    const auto [from, to, left, right] = edges_[e];
    steps[next[right]++] = {left, static_cast<int>(2 * e + 1)};
    steps[next[left]++] = {right, static_cast<int>(2 * e)};
  }

  constexpr std::size_t ahead = 8;  // faces for whose steps the memory is asked before they are looked at
  std::vector<std::vector<Crossing>> covers(n);
  std::vector<char> seen(n, 0);
  std::vector<int> queue{0};
  seen[0] = 1;
  for (std::size_t at = 0; at < queue.size(); ++at) {
    const int face = queue[at];
    if (at + ahead < queue.size()) prefetch(steps.data() + start[queue[at + ahead]]);
    if (at % 65536 == 0) check_in(at, n);
    for (int k = start[face]; k < start[face + 1]; ++k) {
      const int to = steps[k].to;
      if (seen[to]) continue;
      const int edge = steps[k].over >> 1;
      const bool leftward = (steps[k].over & 1) == 1;
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
    for (const Crossing& c : cover)
      if (rule_ != FillRule::positive || c.count > 0) cover_.push_back(c.feature);
    cover_start_.push_back(static_cast<int>(cover_.size()));
  }
}

namespace {

void sort_once(std::vector<int>& features) {
  std::sort(features.begin(), features.end());
  features.erase(std::unique(features.begin(), features.end()), features.end());
}

}  // namespace

void Arrangement::edge_features(int edge, std::vector<int>& features) const {
  features.clear();
  for (const int face : {edges_[edge].left, edges_[edge].right})
    features.insert(features.end(), cover(face).begin(), cover(face).end());
  for (const EdgeLine& line : lines(edge)) features.push_back(line.feature);
  sort_once(features);
}

void Arrangement::node_features(int node, std::vector<int>& features) const {
  features.clear();
  for (const int half : around(node)) {
    const auto here = cover(cycle_[half]);
    features.insert(features.end(), here.begin(), here.end());
    for (const EdgeLine& line : lines(half >> 1)) features.push_back(line.feature);
  }
  auto at = std::lower_bound(point_features_.begin(), point_features_.end(), node,
                             [](const Belonging& p, int n) { return p.cell < n; });
  for (; at != point_features_.end() && at->cell == node; ++at) features.push_back(static_cast<int>(at->region));
  if (around(node).empty()) {
    const auto isolated =
        std::lower_bound(isolated_.begin(), isolated_.end(), node, [](const auto& p, int n) { return p.node < n; });
    if (isolated != isolated_.end() && isolated->node == node) {
      const auto here = cover(isolated->face);
      features.insert(features.end(), here.begin(), here.end());
    }
  }
  sort_once(features);
}

bool Arrangement::runs_along(int edge, int feature) const {
  const auto all = lines(edge);
  return std::any_of(all.begin(), all.end(), [&](const EdgeLine& line) { return line.feature == feature; });
}

bool Arrangement::is_point(int node, int feature) const {
  return std::binary_search(point_features_.begin(), point_features_.end(), Belonging{feature, node}, by_node);
}

double Arrangement::length(int e) const {
  return std::hypot(x_[edges_[e].to] - x_[edges_[e].from], y_[edges_[e].to] - y_[edges_[e].from]);
}

}  // namespace civic
