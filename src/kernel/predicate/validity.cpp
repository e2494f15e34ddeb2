#include "validity.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <map>
#include <vector>

#include "../base/disjoint_sets.h"
#include "../base/progress.h"
#include "../base/xy.h"
#include "../index/rtree.h"
#include "orientation.h"

namespace civic {

const char* problem_name(Problem problem) {
  static constexpr std::array names{"",
                                    "bad coordinate",
                                    "open ring",
                                    "too few points",
                                    "crossing",
                                    "self-touch",
                                    "repeated ring",
                                    "hole outside",
                                    "hole in hole",
                                    "part in part",
                                    "split interior"};
  return names[static_cast<std::size_t>(problem)];
}

namespace {

int orientation(XY a, XY b, XY c) { return civic::orientation(a.x, a.y, b.x, b.y, c.x, c.y); }

// A ring of a polygon, without repeated places; the last is followed by the first.
struct Ring {
  int part;
  bool shell;
  std::vector<XY> places;
};

struct Edge {
  int ring;
  XY a, b;
  Box box() const {
    Box out;
    out.add(a.x, a.y);
    out.add(b.x, b.y);
    return out;
  }
  bool holds(XY p) const { return box().holds(p.x, p.y) && orientation(a, b, p) == 0; }
};

Finding at(Problem problem, XY p) { return {problem, p.x, p.y}; }

XY crossing_of(const Edge& e, const Edge& f) {
  const double ux = e.b.x - e.a.x, uy = e.b.y - e.a.y, vx = f.b.x - f.a.x, vy = f.b.y - f.a.y;
  const double t = ((f.a.x - e.a.x) * vy - (f.a.y - e.a.y) * vx) / (ux * vy - uy * vx);
  return {e.a.x + t * ux, e.a.y + t * uy};
}

// Two ways out of a place.
struct Passage {
  int ring;
  XY in, out;
};

// Whether, turning counter-clockwise around `middle`, r comes between p and q. None point the same way.
bool comes_between(XY middle, XY p, XY r, XY q) {
  const int pq = orientation(middle, p, q), pr = orientation(middle, p, r), rq = orientation(middle, r, q);
  if (pq > 0) return pr > 0 && rq > 0;
  if (pq < 0) return pr > 0 || rq > 0;
  return pr > 0;  // p and q are opposite
}

class PolygonCheck {
 public:
  explicit PolygonCheck(std::vector<Ring> rings) : rings_(std::move(rings)), edges_(collect_edges()), tree_(boxes()) {}

  Finding run() {
    if (const Finding found = meetings(); found.problem != Problem::none) return found;
    if (const Finding found = passages(); found.problem != Problem::none) return found;
    if (const Finding found = nesting(); found.problem != Problem::none) return found;
    return connection();
  }

 private:
  std::vector<Edge> collect_edges() const {
    std::vector<Edge> out;
    for (std::size_t r = 0; r < rings_.size(); ++r) {
      const auto& p = rings_[r].places;
      for (std::size_t i = 0; i < p.size(); ++i) out.push_back({static_cast<int>(r), p[i], p[(i + 1) % p.size()]});
    }
    return out;
  }
  std::vector<Box> boxes() const {
    std::vector<Box> out;
    for (const Edge& e : edges_) out.push_back(e.box());
    return out;
  }

  // Pairs of edges: crossings and overlaps are errors, other places where they meet are kept for a closer look.
  Finding meetings() {
    Finding found;
    std::size_t met = 0;
    for (std::size_t i = 0; i < edges_.size() && found.problem == Problem::none; ++i) {
      tree_.visit(edges_[i].box(), [&](int j, const Box&) {
        if (++met % 65536 == 0) end_if_interrupted();
        if (static_cast<std::size_t>(j) <= i || found.problem != Problem::none) return;
        found = meet(edges_[i], edges_[static_cast<std::size_t>(j)]);
      });
    }
    return found;
  }
  Finding meet(const Edge& e, const Edge& f) {
    if (e.ring == f.ring && (follows(e, f) || follows(f, e))) return {};
    const int fa = orientation(e.a, e.b, f.a), fb = orientation(e.a, e.b, f.b), ea = orientation(f.a, f.b, e.a),
              eb = orientation(f.a, f.b, e.b);
    if (fa * fb < 0 && ea * eb < 0) return at(Problem::crossing, crossing_of(e, f));
    std::vector<XY> shared;
    for (const XY p : {f.a, f.b})
      if (e.holds(p)) shared.push_back(p);
    for (const XY p : {e.a, e.b})
      if (f.holds(p)) shared.push_back(p);
    std::sort(shared.begin(), shared.end());
    shared.erase(std::unique(shared.begin(), shared.end()), shared.end());
    if (shared.size() > 1)
      return at(e.ring != f.ring && same_ring(e.ring, f.ring) ? Problem::repeated_ring : Problem::crossing, shared[0]);
    const bool neighbours = e.ring == f.ring && (e.b == f.a || f.b == e.a);
    if (shared.size() == 1 &&
        !(neighbours && (shared[0] == e.a || shared[0] == e.b) && (shared[0] == f.a || shared[0] == f.b)))
      touches_[shared[0]];
    return {};
  }
  // Whether one edge goes on where the other ends, and not along it, so that they share that vertex only.
  static bool follows(const Edge& e, const Edge& f) { return e.b == f.a && orientation(e.a, e.b, f.b) != 0; }
  bool same_ring(int r, int s) const {
    std::vector<XY> p = rings_[r].places, q = rings_[s].places;
    std::sort(p.begin(), p.end());
    std::sort(q.begin(), q.end());
    return p == q;
  }

  // At each place where rings meet other than along their course: do they cross there, or does one meet itself?
  Finding passages() {
    Finding self_touch;
    for (auto& [place, rings] : touches_) {
      const std::vector<Passage> all = passages_at(place);
      for (std::size_t i = 0; i < all.size(); ++i) {
        for (std::size_t j = i + 1; j < all.size(); ++j) {
          if (comes_between(place, all[i].in, all[j].in, all[i].out) !=
              comes_between(place, all[i].in, all[j].out, all[i].out))
            return at(Problem::crossing, place);
          if (all[i].ring == all[j].ring && self_touch.problem == Problem::none)
            self_touch = at(Problem::self_touch, place);
        }
        rings.push_back(all[i].ring);
      }
    }
    return self_touch;
  }
  std::vector<Passage> passages_at(XY p) const {
    std::vector<Passage> out;
    std::map<int, std::pair<std::vector<XY>, std::vector<XY>>> ways;  // by ring: in, out, in the order of edges
    Box box;
    box.add(p.x, p.y);
    std::vector<int> found;
    tree_.visit(box, [&](int e, const Box&) { found.push_back(e); });
    std::sort(found.begin(), found.end());
    for (const int e : found) {
      const Edge& edge = edges_[static_cast<std::size_t>(e)];
      if (edge.a == p) {
        ways[edge.ring].second.push_back(edge.b);
      } else if (edge.b == p) {
        ways[edge.ring].first.push_back(edge.a);
      } else if (edge.holds(p)) {
        out.push_back({edge.ring, edge.a, edge.b});
      }
    }
    for (auto& [ring, in_out] : ways) {
      auto& [in, away] = in_out;
      // A ring that begins at the place leaves before it has come.
      if (rings_[static_cast<std::size_t>(ring)].places[0] == p) std::rotate(in.begin(), in.end() - 1, in.end());
      for (std::size_t i = 0; i < in.size(); ++i) out.push_back({ring, in[i], away[i]});
    }
    return out;
  }

  // Where a ring that crosses no other lies relative to it: +1 inside, -1 outside.
  int lies_in(int inner, int outer) const {
    for (const XY p : rings_[static_cast<std::size_t>(inner)].places)
      if (const int where = locate(p, outer); where != 0) return where;
    // All its places are on the other: a chord, which the other's course at its end tells.
    const auto& places = rings_[static_cast<std::size_t>(inner)].places;
    for (const Passage& pass : passages_at(places[0])) {
      if (pass.ring != outer) continue;
      const bool left = comes_between(places[0], pass.out, places[1], pass.in);
      return left == (signed_area(outer) > 0) ? 1 : -1;
    }
    return -1;
  }
  int locate(XY p, int ring) const {
    const auto& q = rings_[static_cast<std::size_t>(ring)].places;
    bool inside = false;
    for (std::size_t i = 0; i < q.size(); ++i) {
      const Edge e{ring, q[i], q[(i + 1) % q.size()]};
      if (e.holds(p)) return 0;
      if ((e.a.y > p.y) != (e.b.y > p.y) && (orientation(e.a, e.b, p) > 0) == (e.b.y > e.a.y)) inside = !inside;
    }
    return inside ? 1 : -1;
  }
  double signed_area(int ring) const {
    const auto& q = rings_[static_cast<std::size_t>(ring)].places;
    double sum = 0;
    for (std::size_t i = 1; i + 1 < q.size(); ++i)
      sum += (q[i].x - q[0].x) * (q[i + 1].y - q[0].y) - (q[i + 1].x - q[0].x) * (q[i].y - q[0].y);
    return sum;
  }
  Box box_of(int ring) const {
    Box box;
    for (const XY p : rings_[static_cast<std::size_t>(ring)].places) box.add(p.x, p.y);
    return box;
  }

  Finding nesting() const {
    const int n = static_cast<int>(rings_.size());
    std::vector<Box> boxes(n);
    for (int r = 0; r < n; ++r) boxes[r] = box_of(r);
    const RTree tree{std::span<const Box>(boxes)};
    std::vector<int> shell_of(n, -1);
    for (int r = 0, shell = -1; r < n; ++r) shell_of[r] = rings_[r].shell ? shell = r : shell;
    Finding hole_in_hole, part_in_part;
    for (int r = 0; r < n; ++r) {
      const XY place = rings_[r].places[0];
      if (!rings_[r].shell && lies_in(r, shell_of[r]) < 0) return at(Problem::hole_outside, place);
      int part_around = 0;  // shells less holes of one other part that the ring lies in
      std::map<int, int> within;
      tree.visit(boxes[r], [&](int s, const Box& box) {
        if (s == r || !box.holds(boxes[r])) return;
        const bool same_part = rings_[s].part == rings_[r].part;
        if (same_part && (rings_[r].shell || rings_[s].shell)) return;
        end_if_interrupted();
        if (lies_in(r, s) < 0) return;
        if (same_part) {
          hole_in_hole = at(Problem::hole_in_hole, place);
        } else if (rings_[r].shell) {
          within[rings_[s].part] += rings_[s].shell ? 1 : -1;
        }
      });
      for (const auto& [part, count] : within) part_around += count > 0;
      if (part_around > 0) part_in_part = at(Problem::part_in_part, place);
    }
    return hole_in_hole.problem != Problem::none ? hole_in_hole : part_in_part;
  }

  // Rings of a polygon that touch form a graph of rings and places; a cycle in it encloses a piece of the inside.
  Finding connection() const {
    DisjointSets group(rings_.size());
    for (const auto& [place, rings] : touches_) {
      std::map<int, int> first;  // ring of each part at the place
      for (const int ring : rings) {
        const auto [it, fresh] = first.try_emplace(rings_[static_cast<std::size_t>(ring)].part, ring);
        if (!fresh && !group.join(ring, it->second)) return at(Problem::split_interior, place);
      }
    }
    return {};
  }

  std::vector<Ring> rings_;
  std::vector<Edge> edges_;
  RTree tree_;
  std::map<XY, std::vector<int>> touches_;  // with the rings that pass
};

// Rings of the polygon parts, and what is wrong with a ring or line by itself.
Finding check_rings(const StoreView& s, int shape, std::vector<Ring>& rings) {
  const IndexRange all = s.shape_vertices(shape);
  for (int i = all.begin; i < all.end; ++i)
    if (!std::isfinite(s.x[i]) || !std::isfinite(s.y[i])) return {Problem::bad_coordinate, s.x[i], s.y[i]};
  Finding too_few;
  for (int part = s.parts(shape).begin; part < s.parts(shape).end; ++part) {
    const ShapeKind kind = s.part_kind(part);
    if (kind == ShapeKind::point) continue;
    for (int ring = s.rings(part).begin; ring < s.rings(part).end; ++ring) {
      const IndexRange v = s.vertices(ring);
      if (v.size() == 0) continue;
      Ring out{part, ring == s.rings(part).begin, {}};
      for (int i = v.begin; i < v.end; ++i)
        if (const XY p{s.x[i], s.y[i]}; out.places.empty() || out.places.back() != p) out.places.push_back(p);
      const XY first = out.places.front();
      if (kind == ShapeKind::polygon) {
        const bool closed = v.size() > 1 && first.x == s.x[v.end - 1] && first.y == s.y[v.end - 1];
        if (!closed && v.size() > 2) return at(Problem::open_ring, XY{s.x[v.end - 1], s.y[v.end - 1]});
        if (out.places.size() > 1 && out.places.back() == first) out.places.pop_back();
      }
      if (out.places.size() < (kind == ShapeKind::polygon ? 3 : 2) && too_few.problem == Problem::none)
        too_few = at(Problem::too_few_points, first);
      if (kind == ShapeKind::polygon) rings.push_back(std::move(out));
    }
  }
  return too_few;
}

}  // namespace

Finding check_shape(const StoreView& store, int shape) {
  std::vector<Ring> rings;
  if (const Finding found = check_rings(store, shape, rings); found.problem != Problem::none) return found;
  if (rings.empty()) return {};
  return PolygonCheck(std::move(rings)).run();
}

}  // namespace civic
