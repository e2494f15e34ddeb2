#include "noder.h"

#include <algorithm>
#include <atomic>
#include <memory>
#include <mutex>
#include <numeric>
#include <tuple>

#include "../base/error.h"
#include "../base/parallel.h"
#include "../base/sort_by_key.h"
#include "../base/twofold.h"
#include "../index/rtree.h"

namespace civic {
namespace {

Box box_of(GridPoint a, GridPoint b) {
  Box box;
  box.add(static_cast<double>(a.x), static_cast<double>(a.y));
  box.add(static_cast<double>(b.x), static_cast<double>(b.y));
  return box;
}

Twofold cross(GridPoint u, GridPoint v) {
  return twofold_of(static_cast<Wide>(u.x) * v.y - static_cast<Wide>(u.y) * v.x);
}

// How many whole steps that share of a length comes to.
std::int64_t steps_of(Twofold share, std::int64_t length) {
  const Twofold steps = share * twofold_of(length);
  const std::int64_t whole = std::llround(steps.high);
  return whole + std::llround((steps - twofold_of(whole)).high);
}

// The cell of the crossing of two segments that cross in their insides, on segments along an axis as far as they say.
// The quotient's rounding may take the cell beside now and then; both segments are drawn through it all the same.
GridPoint crossing_of(GridPoint a, GridPoint b, GridPoint c, GridPoint d) {
  const GridPoint u{b.x - a.x, b.y - a.y}, v{d.x - c.x, d.y - c.y};
  const Twofold t = cross({c.x - a.x, c.y - a.y}, v) / cross(u, v);
  const GridPoint cell = Grid::cell_of(GridPoint{a.x + steps_of(t, u.x), a.y + steps_of(t, u.y)});
  return {u.x == 0 ? a.x : v.x == 0 ? c.x : cell.x, u.y == 0 ? a.y : v.y == 0 ? c.y : cell.y};
}

constexpr std::int64_t half_cell = Grid::cell_steps / 2;
// Boxes are of doubles, which round steps.
constexpr double box_slack = 4 * Grid::cell_steps;

// Whether p lies between the ends of the segment, seen along it.
bool lies_between(GridPoint s, GridPoint e, GridPoint p) {
  const Wide dx = e.x - s.x, dy = e.y - s.y, along = dx * (p.x - s.x) + dy * (p.y - s.y);
  return along > 0 && along < dx * dx + dy * dy;
}

// Whether a segment whose box meets the cell around p passes it, its lower and left edges with it. A point beside an
// end, in whose cell it is, is not passed: the segment would have to turn back.
bool runs_through_cell(GridPoint s, GridPoint e, GridPoint p) {
  const std::int64_t left = p.x - half_cell, right = p.x + half_cell, bottom = p.y - half_cell, top = p.y + half_cell;
  const int corners[] = {orientation(s, e, {left, bottom}), orientation(s, e, {right, bottom}),
                         orientation(s, e, {left, top}), orientation(s, e, {right, top})};
  const auto [low, high] = std::minmax_element(std::begin(corners), std::end(corners));
  // A line that touches the cell from outside belongs to it at the lower left corner alone.
  return ((*low < 0 && *high > 0) || corners[0] == 0) && lies_between(s, e, p);
}

// The same of any segment.
inline bool passes_cell(GridPoint s, GridPoint e, GridPoint p) {
  if (std::max(s.x, e.x) < p.x - half_cell || std::min(s.x, e.x) >= p.x + half_cell ||
      std::max(s.y, e.y) < p.y - half_cell || std::min(s.y, e.y) >= p.y + half_cell)
    return false;  // as most do
  return runs_through_cell(s, e, p);
}

// A place that a segment is to pass through.
struct Stop {
  int edge;
  GridPoint at;
};

constexpr std::size_t chunk = 1 << 15;  // of loops whose steps are short

// Items of which like ones lie side by side, in runs that are numbered from 0; begins(i) says whether one begins.
template <class Begins>
class EqualRuns {
 public:
  EqualRuns(std::size_t items, const Begins& begins)
      : items_(items), begins_(begins), before_((items + chunk - 1) / chunk + 1) {
    parallel_for(items, chunk, [&](std::size_t begin, std::size_t end) {
      for (std::size_t i = begin; i < end; ++i) before_[begin / chunk + 1] += begins_(i);
    });
    std::partial_sum(before_.begin(), before_.end(), before_.begin());
  }
  std::size_t count() const { return static_cast<std::size_t>(before_.back()); }
  // Calls visit(item, its run, whether it is the first there) on several threads.
  template <class Visit>
  void visit(const Visit& visit) const {
    parallel_for(items_, chunk, [&](std::size_t begin, std::size_t end) {
      int run = before_[begin / chunk] - 1;
      for (std::size_t i = begin; i < end; ++i) {
        const bool first = begins_(i);
        run += first;
        visit(i, run, first);
      }
    });
  }

 private:
  const std::size_t items_;
  const Begins& begins_;
  std::vector<int> before_;  // of each stretch of items
};

class Noder {
 public:
  Noder(std::vector<GridPoint> points, std::vector<Segment> segments)
      : points_(std::move(points)), segments_(std::move(segments)), edge_of_(segments_.size(), -1) {
    settle_points();
  }

  // Seeks meetings of the segments that are new since the last round, with each other and with all others; false where
  // there are none. The ends of new segments are the new points, so that with the last round no segment crosses another
  // or passes the cell of a point.
  bool round() {
    gather_edges();
    const bool first = !base_;
    if (first) take_as_base();
    std::vector<int> others;  // edges that are not in the base tree
    std::vector<Box> boxes;
    for (int i = base_edges_; i < static_cast<int>(edges_.size()); ++i)
      if (!edge(i).cut) {
        others.push_back(i);
        boxes.push_back(box_of(edge(i)));
      }
    const RTree tree{std::span<const Box>(boxes)};
    std::vector<int> fresh;
    if (first) fresh = base_->rows();
    for (const int o : tree.rows())
      if (const int i = others[static_cast<std::size_t>(o)]; is_fresh(i)) fresh.push_back(i);
    Stops stops = meetings(fresh, tree, others);
    seek_isolated_points(stops.passed);
    if (stops.passed.empty() && stops.crossings.empty()) return false;
    stand_in_vertices(stops.crossings);
    seek_passed_crossings(tree, others, stops);
    draw(std::move(stops));
    return true;
  }

  // Every point in the middle of its cell.
  void take_cells() {
    for (GridPoint& p : points_) p = Grid::cell_of(p);
    edges_.clear();
    std::fill(edge_of_.begin(), edge_of_.end(), -1);
    base_.reset();
    isolated_points_sought_ = false;
    settle_points();
  }

  Noded take() { return {std::move(points_), std::move(segments_)}; }

 private:
  // Segments of equal ends, whatever their direction and source. Once it is cut, other edges take its place.
  struct Edge {
    int low, high;
    bool cut;
  };
  struct Stops {
    std::vector<Stop> passed, crossings;
  };
  GridPoint point(int i) const { return points_[static_cast<std::size_t>(i)]; }
  const Edge& edge(int i) const { return edges_[static_cast<std::size_t>(i)]; }
  bool is_fresh(int i) const { return i >= first_fresh_; }

  // Points in ascending order without repeats, and segments on them without those of no length.
  void settle_points() {
    struct Placed {
      GridPoint at;
      int from;
    };
    std::vector<Placed> order(points_.size());
    double left = HUGE_VAL, right = -HUGE_VAL;
    std::mutex widening;
    parallel_for(order.size(), chunk, [&](std::size_t begin, std::size_t end) {
      double least = HUGE_VAL, most = -HUGE_VAL;
      for (std::size_t i = begin; i < end; ++i) {
        order[i] = {points_[i], static_cast<int>(i)};
        least = std::min(least, static_cast<double>(points_[i].x));
        most = std::max(most, static_cast<double>(points_[i].x));
      }
      const std::lock_guard guard(widening);
      left = std::min(left, least);
      right = std::max(right, most);
    });
    // By upright stripes, about as many as there are points.
    const std::size_t stripes = order.size() + 1;
    const double to_stripe = static_cast<double>(order.size()) / (right - left + 1);
    sort_by_key(
        order, stripes,
        [&](const Placed& p) {
          const double stripe = (static_cast<double>(p.at.x) - left) * to_stripe;
          return std::min(static_cast<std::size_t>(stripe), stripes - 1);
        },
        [](const Placed& a, const Placed& b) { return a.at < b.at; });
    const auto begins = [&](std::size_t i) { return i == 0 || order[i].at != order[i - 1].at; };
    const EqualRuns places(order.size(), begins);
    std::vector<int> place(points_.size());
    points_.resize(places.count());
    places.visit([&](std::size_t i, int run, bool first) {
      if (first) points_[static_cast<std::size_t>(run)] = order[i].at;
      place[static_cast<std::size_t>(order[i].from)] = run;
    });
    renumber(place);
  }
  void renumber(const std::vector<int>& place) {
    std::atomic<bool> whole{true};  // whether all segments keep a length
    parallel_for(segments_.size(), chunk, [&](std::size_t begin, std::size_t end) {
      for (std::size_t k = begin; k < end; ++k) {
        Segment& s = segments_[k];
        s.from = place[static_cast<std::size_t>(s.from)];
        s.to = place[static_cast<std::size_t>(s.to)];
        if (s.from == s.to) whole = false;
      }
    });
    if (!whole) drop_points();
    parallel_for(edges_.size(), chunk, [&](std::size_t begin, std::size_t end) {
      for (std::size_t i = begin; i < end; ++i) {
        edges_[i].low = place[static_cast<std::size_t>(edges_[i].low)];
        edges_[i].high = place[static_cast<std::size_t>(edges_[i].high)];
      }
    });
  }
  // Leaves out the segments without a length.
  void drop_points() {
    std::size_t n = 0;
    for (std::size_t k = 0; k < segments_.size(); ++k) {
      if (segments_[k].from == segments_[k].to) continue;
      edge_of_[n] = edge_of_[k];
      segments_[n++] = segments_[k];
    }
    segments_.resize(n);
    edge_of_.resize(n);
  }

  // Segments that have no edge get one of equal ends. One may be there already: it does no harm that there are two.
  void gather_edges() {
    struct Keyed {
      int low, high, segment;
    };
    auto order = parallel_collect<Keyed>(segments_.size(), chunk, [&](std::size_t begin, std::size_t end, auto& out) {
      for (std::size_t k = begin; k < end; ++k) {
        if (edge_of_[k] >= 0) continue;
        const auto [low, high] = std::minmax(segments_[k].from, segments_[k].to);
        out.push_back({low, high, static_cast<int>(k)});
      }
    });
    sort_by_key(
        order, points_.size(), [](const Keyed& k) { return k.low; },
        [](const Keyed& a, const Keyed& b) { return a.high < b.high; });
    const auto begins = [&](std::size_t i) {
      return i == 0 || order[i].low != order[i - 1].low || order[i].high != order[i - 1].high;
    };
    const EqualRuns fresh(order.size(), begins);
    first_fresh_ = static_cast<int>(edges_.size());
    edges_.resize(edges_.size() + fresh.count());
    fresh.visit([&](std::size_t i, int run, bool first) {
      const int edge = first_fresh_ + run;
      if (first) edges_[static_cast<std::size_t>(edge)] = {order[i].low, order[i].high, false};
      edge_of_[static_cast<std::size_t>(order[i].segment)] = edge;
    });
  }
  // The edges of the first round are indexed once; those cut since then are left out when they are found.
  void take_as_base() {
    std::vector<Box> boxes(edges_.size());
    parallel_for(edges_.size(), 1 << 14, [&](std::size_t begin, std::size_t end) {
      for (std::size_t i = begin; i < end; ++i) boxes[i] = box_of(edges_[i]);
    });
    base_ = std::make_unique<RTree>(std::span<const Box>(boxes));
    base_edges_ = static_cast<int>(edges_.size());
  }
  Box box_of(const Edge& e) const { return civic::box_of(point(e.low), point(e.high)); }

  // Edges near some that lie side by side, which are sought together.
  struct Candidate {
    Box box;
    int edge;
  };
  void gather_candidates(std::span<const int> some, const RTree& tree, const std::vector<int>& others,
                         std::vector<Candidate>& out) const {
    Box around;
    for (const int i : some) around.add(box_of(edge(i)));
    around = around.grown(box_slack);
    out.clear();
    base_->visit(around, [&](int b, const Box& box) {
      if (!edge(b).cut) out.push_back({box, b});
    });
    tree.visit(around, [&](int o, const Box& box) { out.push_back({box, others[static_cast<std::size_t>(o)]}); });
  }

  Stops meetings(const std::vector<int>& fresh, const RTree& tree, const std::vector<int>& others) const {
    constexpr std::size_t grain = 1024, group = 8;
    std::vector<Stops> parts((fresh.size() + grain - 1) / grain);
    std::atomic<std::size_t> total{0};
    parallel_for(fresh.size(), grain, [&](std::size_t begin, std::size_t end) {
      Stops& out = parts[begin / grain];
      std::size_t known = 0, bound = many;  // stops that are left of those thinned, and to thin again at
      std::vector<Candidate> candidates;
      std::vector<int> near;
      for (std::size_t k = begin; k < end; k += group, end_if_interrupted()) {
        const auto some = std::span(fresh).subspan(k, std::min(group, end - k));
        gather_candidates(some, tree, others, candidates);
        for (const int i : some) {
          const Box around = box_of(edge(i)).grown(box_slack);
          near.resize(candidates.size());
          std::size_t n = 0;
          for (const Candidate& c : candidates) {  // without branches, which would be guessed wrong often
            near[n] = c.edge;
            n += static_cast<std::size_t>(c.box.meets(around)) &
                 static_cast<std::size_t>(c.edge > i || !is_fresh(c.edge));
          }
          for (const int j : std::span(near).first(n)) meet(i, j, out);
          if (out.crossings.size() > bound) {
            const std::size_t before = known;
            known = thin(out.crossings);
            bound = std::max(many, 2 * known);
            if ((total += known - before) > most_stops) throw ArgumentError(too_many_crossings);
          }
        }
      }
    });
    Stops all;
    for (const Stops& part : parts) {
      all.passed.insert(all.passed.end(), part.passed.begin(), part.passed.end());
      all.crossings.insert(all.crossings.end(), part.crossings.begin(), part.crossings.end());
    }
    return all;
  }

  static constexpr std::size_t many = 1 << 20, most_stops = 200000000;
  static constexpr const char* too_many_crossings =
      "the shapes cross one another in more than 100 million places, too many to hold; work on parts of them";

  // Of many edges that cross in one cell every pair says the same: a pair goes where each of its stops is told by
  // another pair too. Gives how many stops are left.
  static std::size_t thin(std::vector<Stop>& crossings) {
    std::vector<std::size_t> order(crossings.size());
    std::iota(order.begin(), order.end(), std::size_t{0});
    auto key = [&](std::size_t k) { return std::tie(crossings[k].edge, crossings[k].at.x, crossings[k].at.y); };
    std::sort(order.begin(), order.end(),
              [&](std::size_t k, std::size_t l) { return key(k) != key(l) ? key(k) < key(l) : k < l; });
    std::vector<char> needed(crossings.size() / 2, 0);
    for (std::size_t i = 0; i < order.size(); ++i)
      if (i == 0 || key(order[i]) != key(order[i - 1])) needed[order[i] / 2] = 1;
    std::size_t left = 0;
    for (std::size_t pair = 0; pair < needed.size(); ++pair) {
      if (needed[pair] == 0) continue;
      crossings[left++] = crossings[2 * pair];
      crossings[left++] = crossings[2 * pair + 1];
    }
    crossings.resize(left);
    return left;
  }

  // What two edges whose boxes nearly meet are to each other: the cell where they cross, for both; and ends of one
  // whose cells the other passes.
  void meet(int i, int j, Stops& out) const {
    const Edge &e = edge(i), &f = edge(j);
    const GridPoint a = point(e.low), b = point(e.high), c = point(f.low), d = point(f.high);
    for (const GridPoint p : {c, d})
      if (p != a && p != b && passes_cell(a, b, p)) out.passed.push_back({i, p});
    for (const GridPoint p : {a, b})
      if (p != c && p != d && passes_cell(c, d, p)) out.passed.push_back({j, p});
    if (a == c || a == d || b == c || b == d) return;
    if (orientation(a, b, c) * orientation(a, b, d) >= 0 || orientation(c, d, a) * orientation(c, d, b) >= 0) return;
    GridPoint at = crossing_of(a, b, c, d);
    // A cell beyond an end would make a segment turn back: the end takes its place.
    if (!lies_between(a, b, at)) at = nearer(at, a, b);
    if (!lies_between(c, d, at)) at = nearer(at, c, d);
    out.crossings.push_back({i, at});
    out.crossings.push_back({j, at});
  }
  static GridPoint nearer(GridPoint p, GridPoint a, GridPoint b) {
    auto gap = [&](GridPoint q) { return std::hypot(static_cast<double>(q.x - p.x), static_cast<double>(q.y - p.y)); };
    return gap(a) <= gap(b) ? a : b;
  }

  // The first vertex in the cell of a crossing stands for it, where both edges can run through it.
  void stand_in_vertices(std::vector<Stop>& crossings) const {
    if (crossings.empty()) return;
    std::vector<GridPoint> cells;
    for (const Stop& stop : crossings) cells.push_back(Grid::cell_of(stop.at));
    parallel_sort(cells);
    cells.erase(std::unique(cells.begin(), cells.end()), cells.end());
    std::vector<int> vertex(cells.size(), -1);
    auto place = [&](GridPoint cell) { return std::lower_bound(cells.begin(), cells.end(), cell) - cells.begin(); };
    struct Inside {
      std::size_t cell;
      int vertex;
    };
    const auto inside = parallel_collect<Inside>(points_.size(), chunk, [&](auto begin, auto end, auto& out) {
      for (std::size_t v = begin; v < end; ++v) {
        const GridPoint cell = Grid::cell_of(points_[v]);
        const auto at = static_cast<std::size_t>(place(cell));
        if (at < cells.size() && cells[at] == cell) out.push_back({at, static_cast<int>(v)});
      }
    });
    for (const Inside& one : inside)
      if (vertex[one.cell] < 0) vertex[one.cell] = one.vertex;
    auto can_pass = [&](const Stop& stop, GridPoint p) {
      const Edge& e = edge(stop.edge);
      const GridPoint a = point(e.low), b = point(e.high);
      return p == a || p == b || lies_between(a, b, p);
    };
    for (std::size_t k = 0; k < crossings.size(); k += 2) {
      const int v = vertex[static_cast<std::size_t>(place(Grid::cell_of(crossings[k].at)))];
      if (v >= 0 && can_pass(crossings[k], point(v)) && can_pass(crossings[k + 1], point(v)))
        crossings[k].at = crossings[k + 1].at = point(v);
    }
  }

  // Edges that pass the cells of crossings of others are drawn through them at once: left to the next round, near
  // parallel edges would cross again and again a cell farther on.
  void seek_passed_crossings(const RTree& tree, const std::vector<int>& others, Stops& stops) const {
    std::vector<GridPoint> places;
    for (std::size_t k = 0; k < stops.crossings.size(); k += 2) places.push_back(stops.crossings[k].at);
    parallel_sort(places);
    places.erase(std::unique(places.begin(), places.end()), places.end());
    const auto passed = parallel_collect<Stop>(places.size(), 1024, [&](std::size_t begin, std::size_t end, auto& out) {
      for (std::size_t k = begin; k < end; ++k) {
        const GridPoint p = places[k];
        auto found = [&](int i) {
          const Edge& e = edge(i);
          if (e.cut) return;
          const GridPoint a = point(e.low), b = point(e.high);
          if (p != a && p != b && passes_cell(a, b, p)) out.push_back({i, p});
        };
        const Box around = civic::box_of(p, p).grown(box_slack);
        base_->visit(around, [&](int b, const Box&) { found(b); });
        tree.visit(around, [&](int o, const Box&) { found(others[static_cast<std::size_t>(o)]); });
      }
    });
    stops.passed.insert(stops.passed.end(), passed.begin(), passed.end());
  }

  // Points that are the end of no segment, in the first round.
  void seek_isolated_points(std::vector<Stop>& stops) {
    if (isolated_points_sought_) return;
    isolated_points_sought_ = true;
    std::vector<char> is_end(points_.size(), 0);
    for (const Segment& s : segments_)
      is_end[static_cast<std::size_t>(s.from)] = is_end[static_cast<std::size_t>(s.to)] = 1;
    for (std::size_t i = 0; i < points_.size(); ++i) {
      if (is_end[i] != 0) continue;
      const GridPoint p = points_[i];
      base_->visit(civic::box_of(p, p).grown(box_slack), [&](int j, const Box&) {
        const Edge& e = edge(j);
        if (passes_cell(point(e.low), point(e.high), p)) stops.push_back({j, p});
      });
    }
  }

  // How far along its edge a stop lies, to put stops in order.
  Wide along(const Stop& stop) const {
    const Edge& e = edge(stop.edge);
    const GridPoint a = point(e.low), b = point(e.high);
    return static_cast<Wide>(b.x - a.x) * (stop.at.x - a.x) + static_cast<Wide>(b.y - a.y) * (stop.at.y - a.y);
  }

  // All segments through their stops.
  void draw(Stops found) {
    std::vector<Stop> stops = std::move(found.passed);
    stops.insert(stops.end(), found.crossings.begin(), found.crossings.end());
    parallel_sort(stops, [&](const Stop& p, const Stop& q) {
      if (p.edge != q.edge) return p.edge < q.edge;
      const Wide dp = along(p), dq = along(q);
      return dp != dq ? dp < dq : p.at < q.at;
    });
    std::vector<int> chain_start(edges_.size() + 1, 0), chain;
    const std::size_t before = points_.size();
    for (std::size_t i = 0, s = 0; i < edges_.size(); ++i) {
      for (; s < stops.size() && stops[s].edge == static_cast<int>(i); ++s) {
        const GridPoint at = stops[s].at;
        if (at == point(edges_[i].low) || at == point(edges_[i].high)) continue;
        if (static_cast<int>(chain.size()) > chain_start[i] && point(chain.back()) == at) continue;
        points_.push_back(at);
        chain.push_back(static_cast<int>(points_.size()) - 1);
      }
      chain_start[i + 1] = static_cast<int>(chain.size());
    }
    cut_segments(chain, chain_start);
    merge_points(before);
  }

  void cut_segments(const std::vector<int>& chain, const std::vector<int>& chain_start) {
    const auto pieces_of = [&](std::size_t k) {
      const auto i = static_cast<std::size_t>(edge_of_[k]);
      return chain_start[i + 1] - chain_start[i] + 1;
    };
    std::vector<std::size_t> before((segments_.size() + chunk - 1) / chunk + 1, 0);
    parallel_for(segments_.size(), chunk, [&](std::size_t begin, std::size_t end) {
      for (std::size_t k = begin; k < end; ++k) before[begin / chunk + 1] += static_cast<std::size_t>(pieces_of(k));
    });
    std::partial_sum(before.begin(), before.end(), before.begin());
    std::vector<Segment> out(before.back());
    std::vector<int> edge_of(before.back(), -1);
    parallel_for(segments_.size(), chunk, [&](std::size_t begin, std::size_t end) {
      std::size_t at = before[begin / chunk];
      for (std::size_t k = begin; k < end; ++k) {
        const Segment& s = segments_[k];
        const auto i = static_cast<std::size_t>(edge_of_[k]);
        const bool same_way = edges_[i].low == s.from;
        const int count = chain_start[i + 1] - chain_start[i];
        if (count == 0) edge_of[at] = edge_of_[k];
        int last = s.from;
        for (int c = 0; c < count; ++c) {
          const int next = chain[static_cast<std::size_t>(chain_start[i] + (same_way ? c : count - 1 - c))];
          out[at++] = {last, next, s.source};
          last = next;
        }
        out[at++] = {last, s.to, s.source};
      }
    });
    for (std::size_t i = 0; i < edges_.size(); ++i) edges_[i].cut |= chain_start[i + 1] > chain_start[i];
    segments_.swap(out);
    edge_of_.swap(edge_of);
  }

  // Puts the points from `before` on, which may repeat, in their places among the ascending ones.
  void merge_points(std::size_t before) {
    std::vector<int> added(points_.size() - before);
    std::iota(added.begin(), added.end(), static_cast<int>(before));
    parallel_sort(added, [&](int i, int j) { return point(i) < point(j); });
    std::vector<int> place(points_.size());
    std::vector<GridPoint> merged;
    merged.reserve(points_.size());
    std::size_t next = 0;
    for (std::size_t i = 0; i <= before; ++i) {
      for (; next < added.size() && (i == before || point(added[next]) < points_[i]); ++next) {
        const GridPoint p = point(added[next]);
        if (merged.empty() || merged.back() != p) merged.push_back(p);
        place[static_cast<std::size_t>(added[next])] = static_cast<int>(merged.size()) - 1;
      }
      if (i == before) break;
      merged.push_back(points_[i]);
      place[i] = static_cast<int>(merged.size()) - 1;
    }
    points_.swap(merged);
    renumber(place);
  }

  std::vector<GridPoint> points_;
  std::vector<Segment> segments_;
  std::vector<int> edge_of_;  // of each segment, -1 before it has one
  std::vector<Edge> edges_;
  int first_fresh_ = 0;          // of the edges that are not looked at yet
  std::unique_ptr<RTree> base_;  // of the edges of the first round, the first of all
  int base_edges_ = 0;
  bool isolated_points_sought_ = false;
};

}  // namespace

int Noded::place(GridPoint point) const {
  auto at = std::lower_bound(points.begin(), points.end(), point);
  if (at == points.end() || *at != point) at = std::lower_bound(points.begin(), points.end(), Grid::cell_of(point));
  return static_cast<int>(at - points.begin());
}

Noded node(std::vector<GridPoint> points, std::vector<Segment> segments) {
  // The proof that rounds come to an end holds for points that all stand in the middle of their cells.
  constexpr int rounds_before_cells = 8;
  Noder noder(std::move(points), std::move(segments));
  for (int rounds = 1; noder.round(); ++rounds)
    if (rounds == rounds_before_cells) noder.take_cells();
  return noder.take();
}

}  // namespace civic
