#include "simplify.h"

#include <algorithm>
#include <cmath>
#include <cstdint>
#include <queue>
#include <unordered_set>

#include "../base/progress.h"
#include "../index/rtree.h"
#include "yardstick.h"

namespace civic {
namespace {

class Thinning {
 public:
  Thinning(const Arrangement& a, bool on_globe)
      : a_(a), on_globe_(on_globe), gone_(a.nodes(), 0), links_(a.nodes()), left_(a.nodes()), tree_(boxes()) {
    for (int n = 0; n < a_.nodes(); ++n)
      if (can_go(n)) links_[n] = {other_end(a_.around(n)[0], n), other_end(a_.around(n)[1], n)};
    for (int e = 0; e < a_.edges(); ++e) note_fixed(a_.edge(e).from, a_.edge(e).to);
  }

  std::vector<char> run(double area) {
    std::vector<Candidate> small;
    for (int n = 0; n < a_.nodes(); ++n)
      if (const double size = links_[n].is_set() ? triangle(n) : area; size < area) small.push_back({size, n, 0});
    std::priority_queue<Candidate, std::vector<Candidate>, std::greater<>> queue({}, std::move(small));
    std::vector<int> version(gone_.size(), 0);
    double least = 0;  // no vertex goes for less than one that made way for it
    for (; !queue.empty(); end_if_interrupted()) {
      const Candidate c = queue.top();
      queue.pop();
      if (gone_[c.node] || c.version != version[c.node] || !is_free(c.node)) continue;
      least = std::max(least, c.area);
      take_out(c.node);
      for (const int n : {links_[c.node].a, links_[c.node].b})
        if (links_[n].is_set()) {
          ++version[n];
          if (const double size = triangle(n); size < area) queue.push({std::max(least, size), n, version[n]});
        }
    }
    return gone_;
  }

 private:
  struct Candidate {
    double area;
    int node, version;
    friend bool operator>(const Candidate& a, const Candidate& b) {
      return a.area != b.area ? a.area > b.area : a.node > b.node;
    }
  };
  struct Link {
    int a = -1, b = -1;
    bool is_set() const { return a >= 0; }
  };

  static std::uint64_t key(int a, int b) {
    return (static_cast<std::uint64_t>(std::min(a, b)) << 32) | static_cast<std::uint32_t>(std::max(a, b));
  }
  int other_end(int half, int node) const {
    const auto& e = a_.edge(half >> 1);
    return e.from == node ? e.to : e.from;
  }
  // Two edges of one course, and no point on it.
  bool can_go(int n) const {
    const auto around = a_.around(n);
    if (around.size() != 2 || (on_globe_ && is_at_end_of_map(n))) return false;
    const auto p = a_.lines(around[0] >> 1), q = a_.lines(around[1] >> 1);
    if (!std::equal(p.begin(), p.end(), q.begin(), q.end(),
                    [](const auto& s, const auto& t) { return s.feature == t.feature; }))
      return false;
    const auto at = std::lower_bound(a_.points().begin(), a_.points().end(), n,
                                     [](const Belonging& b, int node) { return b.cell < node; });
    return at == a_.points().end() || at->cell != n;
  }
  // Where shapes are cut that go on at the other end, or meet at a pole.
  bool is_at_end_of_map(int n) const { return std::fabs(a_.x(n)) >= 180 - 1e-9 || std::fabs(a_.y(n)) >= 90 - 1e-9; }
  double triangle(int n) const {
    const int p = links_[n].a, q = links_[n].b;
    const double area =
        std::fabs((a_.x(p) - a_.x(n)) * (a_.y(q) - a_.y(n)) - (a_.x(q) - a_.x(n)) * (a_.y(p) - a_.y(n))) / 2;
    const XY unit = Yardstick(on_globe_).units_at(a_.y(n));
    return area * unit.x * unit.y;
  }
  // Whether the edge past a vertex may take its place: no other vertex lies in or on the triangle, and no edge there.
  bool is_free(int n) const {
    const int p = links_[n].a, q = links_[n].b;
    if (p == q || are_joined(p, q)) return false;
    const GridPoint a = a_.point(p), b = a_.point(q), c = a_.point(n);
    Box box;
    for (const int node : {p, q, n}) box.add(a_.x(node), a_.y(node));
    bool free = true;
    tree_.visit(box, [&](int other, const Box&) {
      if (!free || gone_[other] || other == p || other == q || other == n) return;
      const GridPoint o = a_.point(other);
      const int s = orientation(a, b, o), t = orientation(b, c, o), u = orientation(c, a, o);
      if ((s >= 0 && t >= 0 && u >= 0) || (s <= 0 && t <= 0 && u <= 0)) free = false;
    });
    return free;
  }
  void take_out(int n) {
    const auto [p, q] = links_[n];
    gone_[n] = 1;
    // Triangles grow as vertices go, so that the index would find ever more of those that are gone.
    if (--left_ < indexed_ / 2) index();
    relink(p, n, q);
    relink(q, n, p);
    note_fixed(p, q);
  }
  bool are_joined(int p, int q) const {
    if (links_[p].is_set()) return links_[p].a == q || links_[p].b == q;
    if (links_[q].is_set()) return links_[q].a == p || links_[q].b == p;
    return fixed_.count(key(p, q)) > 0;
  }
  void note_fixed(int p, int q) {
    if (!links_[p].is_set() && !links_[q].is_set()) fixed_.insert(key(p, q));
  }
  void relink(int node, int from, int to) {
    Link& link = links_[node];
    if (!link.is_set()) return;
    (link.a == from ? link.a : link.b) = to;
  }
  void index() {
    tree_ = RTree(std::span<const Box>(boxes()));
    indexed_ = left_;
  }
  std::vector<Box> boxes() const {
    std::vector<Box> out(a_.nodes());
    for (int n = 0; n < a_.nodes(); ++n)
      if (!gone_[n]) out[n].add(a_.x(n), a_.y(n));
    return out;
  }

  const Arrangement& a_;
  const bool on_globe_;
  std::vector<char> gone_;
  std::vector<Link> links_;                  // neighbours along the course, of the nodes that may go
  std::unordered_set<std::uint64_t> fixed_;  // edges between two nodes that stay
  int left_, indexed_ = left_;               // nodes that are still there, and were when the tree was built
  RTree tree_;                               // of the nodes
};

}  // namespace

Pieces simplify(const ShapeRows& rows, double area, bool alone, bool on_globe) {
  auto thinned = [area, on_globe](const ShapeRows& some) {
    const Arrangement a({&some, 1}, FillRule::even_odd);
    return pieces_by_row(a, cells_by_region(a, [](int feature) { return feature; }), Thinning(a, on_globe).run(area));
  };
  if (!alone) return thinned(rows);
  return row_by_row(rows, [&](const ShapeRows& one, int) { return thinned(one).store; });
}

}  // namespace civic
