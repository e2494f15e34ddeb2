#include "noder.h"

#include <algorithm>
#include <numeric>

#include "../index/rtree.h"
#include "../parallel.h"

namespace civic {
namespace {

Box box_of(GridPoint a, GridPoint b) {
  Box box;
  box.add(static_cast<double>(a.x), static_cast<double>(a.y));
  box.add(static_cast<double>(b.x), static_cast<double>(b.y));
  return box;
}

// A place that a segment is to pass through.
struct Stop {
  int segment;
  GridPoint at;
};

// Points in ascending order without repeats, and segments on them without those of no length.
Noded settled(const std::vector<GridPoint>& points, const std::vector<Segment>& segments) {
  std::vector<int> order(points.size());
  std::iota(order.begin(), order.end(), 0);
  std::sort(order.begin(), order.end(), [&](int a, int b) { return points[a] < points[b]; });
  Noded out;
  std::vector<int> place(points.size());
  for (const int i : order) {
    if (out.points.empty() || out.points.back() != points[i]) out.points.push_back(points[i]);
    place[i] = static_cast<int>(out.points.size()) - 1;
  }
  out.segments.reserve(segments.size());
  for (const Segment& s : segments)
    if (place[s.from] != place[s.to]) out.segments.push_back({place[s.from], place[s.to], s.source});
  return out;
}

// Segments of equal ends, whatever their direction and source, stand for one another when meetings are sought.
std::vector<int> distinct_segments(const std::vector<Segment>& segments) {
  std::vector<int> order(segments.size());
  std::iota(order.begin(), order.end(), 0);
  auto key = [&](int i) {
    const auto [low, high] = std::minmax(segments[i].from, segments[i].to);
    return std::pair(low, high);
  };
  std::sort(order.begin(), order.end(), [&](int a, int b) { return key(a) < key(b); });
  order.erase(std::unique(order.begin(), order.end(), [&](int a, int b) { return key(a) == key(b); }), order.end());
  return order;
}

long double cross(GridPoint u, GridPoint v) {
  return static_cast<long double>(static_cast<__int128>(u.x) * v.y - static_cast<__int128>(u.y) * v.x);
}

// The cell of the crossing of two segments that cross in their insides, on segments along an axis as far as they say.
// The quotient's rounding may take the cell beside now and then; both segments are drawn through it all the same.
GridPoint crossing_of(GridPoint a, GridPoint b, GridPoint c, GridPoint d) {
  const GridPoint u{b.x - a.x, b.y - a.y}, v{d.x - c.x, d.y - c.y};
  const long double t = cross({c.x - a.x, c.y - a.y}, v) / cross(u, v);
  const GridPoint cell = Grid::cell_of(GridPoint{a.x + std::llround(t * static_cast<long double>(u.x)),
                                                 a.y + std::llround(t * static_cast<long double>(u.y))});
  return {u.x == 0 ? a.x : v.x == 0 ? c.x : cell.x, u.y == 0 ? a.y : v.y == 0 ? c.y : cell.y};
}

constexpr std::int64_t half_cell = Grid::cell_steps / 2;
// Boxes are of doubles, which round steps.
constexpr double box_slack = 4 * Grid::cell_steps;

// Whether the segment from s to e passes the cell around p, its lower and left edges with it.
bool passes_cell(GridPoint s, GridPoint e, GridPoint p) {
  const std::int64_t left = p.x - half_cell, right = p.x + half_cell, bottom = p.y - half_cell, top = p.y + half_cell;
  if (std::max(s.x, e.x) < left || std::min(s.x, e.x) >= right || std::max(s.y, e.y) < bottom ||
      std::min(s.y, e.y) >= top)
    return false;
  const int corners[] = {side(s, e, {left, bottom}), side(s, e, {right, bottom}), side(s, e, {left, top}),
                         side(s, e, {right, top})};
  const auto [low, high] = std::minmax_element(std::begin(corners), std::end(corners));
  // A line that touches the cell from outside belongs to it at the lower left corner alone.
  return (*low < 0 && *high > 0) || corners[0] == 0;
}

class Round {
 public:
  explicit Round(const Noded& in)
      : points_(in.points), segments_(in.segments), distinct_(distinct_segments(in.segments)), tree_(boxes()) {}

  // The cells where segments cross, for both of them; a vertex in the cell stands for it.
  std::vector<Stop> crossings(const RTree& vertices) const {
    return parallel_collect<Stop>(distinct_.size(), 1024, [&](std::size_t begin, std::size_t end, auto& out) {
      for (std::size_t i = begin; i < end; ++i) {
        const auto [a, b] = ends(i);
        tree_.visit(box_of(a, b), [&](int j, const Box&) {
          if (static_cast<std::size_t>(j) <= i) return;
          const auto [c, d] = ends(static_cast<std::size_t>(j));
          if (side(a, b, c) * side(a, b, d) >= 0 || side(c, d, a) * side(c, d, b) >= 0) return;
          const GridPoint at = vertex_at(vertices, crossing_of(a, b, c, d));
          out.push_back({static_cast<int>(i), at});
          out.push_back({j, at});
        });
      }
    });
  }

  // The points whose cells segments pass, other than their own ends.
  std::vector<Stop> passings(const std::vector<GridPoint>& points, const RTree& tree) const {
    return parallel_collect<Stop>(distinct_.size(), 1024, [&](std::size_t begin, std::size_t end, auto& out) {
      for (std::size_t i = begin; i < end; ++i) {
        const auto [a, b] = ends(i);
        tree.visit(box_of(a, b).grown(box_slack), [&](int p, const Box&) {
          const GridPoint at = points[static_cast<std::size_t>(p)];
          if (at != a && at != b && passes_cell(a, b, at)) out.push_back({static_cast<int>(i), at});
        });
      }
    });
  }

  // All segments drawn through their stops.
  Noded drawn(std::vector<Stop> stops) const {
    std::sort(stops.begin(), stops.end(), [&](const Stop& p, const Stop& q) {
      if (p.segment != q.segment) return p.segment < q.segment;
      const double dp = along(p), dq = along(q);
      return dp != dq ? dp < dq : p.at < q.at;
    });
    std::vector<GridPoint> points = points_;
    std::vector<int> chain_start(distinct_.size() + 1, 0), chain;
    for (std::size_t i = 0, s = 0; i < distinct_.size(); ++i) {
      for (; s < stops.size() && stops[s].segment == static_cast<int>(i); ++s) {
        const auto [a, b] = ends(i);
        if (stops[s].at == a || stops[s].at == b) continue;
        if (static_cast<int>(chain.size()) > chain_start[i] &&
            points[static_cast<std::size_t>(chain.back())] == stops[s].at)
          continue;
        points.push_back(stops[s].at);
        chain.push_back(static_cast<int>(points.size()) - 1);
      }
      chain_start[i + 1] = static_cast<int>(chain.size());
    }
    return settled(points, pieces(chain, chain_start));
  }

 private:
  struct Ends {
    GridPoint a, b;
  };
  GridPoint vertex_at(const RTree& vertices, GridPoint at) const {
    GridPoint first = at;
    vertices.visit(box_of(at, at).grown(box_slack), [&](int v, const Box&) {
      const GridPoint p = points_[static_cast<std::size_t>(v)];
      if (Grid::cell_of(p) == Grid::cell_of(at) && (first == at || p < first)) first = p;
    });
    return first;
  }
  Ends ends(std::size_t i) const {
    const Segment& s = segments_[static_cast<std::size_t>(distinct_[i])];
    return {points_[static_cast<std::size_t>(s.from)], points_[static_cast<std::size_t>(s.to)]};
  }
  std::vector<Box> boxes() const {
    std::vector<Box> out(distinct_.size());
    for (std::size_t i = 0; i < out.size(); ++i) {
      const auto [a, b] = ends(i);
      out[i] = box_of(a, b);
    }
    return out;
  }
  // How far along its segment a stop lies, to put stops in order.
  double along(const Stop& stop) const {
    const auto [a, b] = ends(static_cast<std::size_t>(stop.segment));
    return static_cast<double>(b.x - a.x) * static_cast<double>(stop.at.x - a.x) +
           static_cast<double>(b.y - a.y) * static_cast<double>(stop.at.y - a.y);
  }
  // Every segment, those of equal ends alike, cut at the chain of its distinct one.
  std::vector<Segment> pieces(const std::vector<int>& chain, const std::vector<int>& chain_start) const {
    std::vector<Segment> out;
    out.reserve(segments_.size() + chain.size());
    const std::vector<int> representative = representatives();
    for (std::size_t k = 0; k < segments_.size(); ++k) {
      const Segment& s = segments_[k];
      const auto i = static_cast<std::size_t>(representative[k]);
      const bool same_way = segments_[static_cast<std::size_t>(distinct_[i])].from == s.from;
      int last = s.from;
      const int count = chain_start[i + 1] - chain_start[i];
      for (int c = 0; c < count; ++c) {
        const int next = chain[static_cast<std::size_t>(chain_start[i] + (same_way ? c : count - 1 - c))];
        out.push_back({last, next, s.source});
        last = next;
      }
      out.push_back({last, s.to, s.source});
    }
    return out;
  }
  std::vector<int> representatives() const {
    auto key = [&](const Segment& s) {
      const auto [low, high] = std::minmax(s.from, s.to);
      return std::pair(low, high);
    };
    std::vector<int> out(segments_.size());
    parallel_for(segments_.size(), 4096, [&](std::size_t begin, std::size_t end) {
      for (std::size_t k = begin; k < end; ++k) {
        const auto wanted = key(segments_[k]);
        const auto at = std::lower_bound(distinct_.begin(), distinct_.end(), wanted, [&](int d, const auto& value) {
          return key(segments_[static_cast<std::size_t>(d)]) < value;
        });
        out[k] = static_cast<int>(at - distinct_.begin());
      }
    });
    return out;
  }

  const std::vector<GridPoint>& points_;
  const std::vector<Segment>& segments_;
  std::vector<int> distinct_;
  RTree tree_;
};

RTree tree_of(const std::vector<GridPoint>& points) {
  std::vector<Box> boxes(points.size());
  for (std::size_t i = 0; i < points.size(); ++i) boxes[i] = box_of(points[i], points[i]);
  return RTree{std::span<const Box>(boxes)};
}

std::vector<GridPoint> with_stops(const std::vector<GridPoint>& points, const std::vector<Stop>& stops) {
  std::vector<GridPoint> all = points;
  for (const Stop& stop : stops) all.push_back(stop.at);
  std::sort(all.begin(), all.end());
  all.erase(std::unique(all.begin(), all.end()), all.end());
  return all;
}

}  // namespace

int Noded::place(GridPoint point) const {
  auto at = std::lower_bound(points.begin(), points.end(), point);
  if (at == points.end() || *at != point) at = std::lower_bound(points.begin(), points.end(), Grid::cell_of(point));
  return static_cast<int>(at - points.begin());
}

Noded node(const std::vector<GridPoint>& points, const std::vector<Segment>& segments) {
  // The proof that rounds come to an end holds for points that all stand in the middle of their cells.
  constexpr int rounds_before_cells = 16;
  Noded noded = settled(points, segments);
  // Each round leaves segments on the grid; the last one finds nothing to do, which is the proof that none cross.
  for (int rounds = 1;; ++rounds) {
    const Round round(noded);
    const RTree vertices = tree_of(noded.points);
    std::vector<Stop> stops = round.crossings(vertices);
    const std::vector<GridPoint> all = with_stops(noded.points, stops);
    const std::vector<Stop> passings =
        stops.empty() ? round.passings(all, vertices) : round.passings(all, tree_of(all));
    stops.insert(stops.end(), passings.begin(), passings.end());
    if (stops.empty()) return noded;
    noded = round.drawn(std::move(stops));
    if (rounds == rounds_before_cells) {
      for (GridPoint& p : noded.points) p = Grid::cell_of(p);
      noded = settled(noded.points, noded.segments);
    }
  }
}

}  // namespace civic
