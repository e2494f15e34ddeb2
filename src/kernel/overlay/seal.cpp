#include "seal.h"

#include <algorithm>
#include <set>

#include "../base/parallel.h"
#include "../base/xy.h"
#include "../index/rtree.h"

namespace civic {
namespace {

struct Ring {
  int rank;
  bool closed;
  std::vector<XY> places;  // a closed ring's first one is repeated at the end
};

XY at_share(XY a, XY b, double t) { return t == 0 ? a : t == 1 ? b : XY{a.x + t * (b.x - a.x), a.y + t * (b.y - a.y)}; }

Box box_of(XY a, XY b) {
  Box box;
  box.add(a.x, a.y);
  box.add(b.x, b.y);
  return box;
}

// All vertices and edges as they are at the beginning of a pass.
class Targets {
 public:
  Targets(const std::vector<Ring>& rings, const Yardstick& yardstick)
      : stick_(yardstick),
        vertices_(collect(rings, false)),
        edges_(collect(rings, true)),
        vertex_tree_(boxes(vertices_)),
        edge_tree_(boxes(edges_)) {}

  // Where a vertex of a rank is to be; itself where nothing of a lower rank is near.
  XY place_for(XY p, int rank, double tolerance) const {
    double least = tolerance;
    XY best = p;
    const Box around = stick_.grown(box_of(p, p), tolerance);
    vertex_tree_.visit(around, [&](int v, const Box&) {
      const Target& t = vertices_[static_cast<std::size_t>(v)];
      const double d = stick_.distance(p, t.a);
      if (t.rank < rank && (d < least || (d == least && best == p))) {
        least = d;
        best = t.a;
      }
    });
    if (best != p || least < tolerance) return best;
    edge_tree_.visit(around, [&](int e, const Box&) {
      const Target& t = edges_[static_cast<std::size_t>(e)];
      if (t.rank >= rank) return;
      const XY q = at_share(t.a, t.b, stick_.share_along(t.a, t.b, p));
      const double d = stick_.distance(p, q);
      if (d >= least) return;
      least = d;
      best = q;
    });
    return least <= tolerance * at_rest ? p : best;
  }

  // Vertices of lower ranks that the edge from a to b passes, in order along it, but for those that its ring has
  // already.
  void passed(XY a, XY b, int rank, double tolerance, std::set<XY>& in_ring, std::vector<XY>& out) const {
    struct Passed {
      double share;
      XY place;
    };
    std::vector<Passed> found;
    vertex_tree_.visit(stick_.grown(box_of(a, b), tolerance), [&](int v, const Box&) {
      const Target& t = vertices_[static_cast<std::size_t>(v)];
      if (t.rank >= rank || in_ring.count(t.a) > 0) return;
      const double share = stick_.share_along(a, b, t.a);
      if (share > 0 && share < 1 && stick_.distance(at_share(a, b, share), t.a) <= tolerance)
        found.push_back({share, t.a});
    });
    std::sort(found.begin(), found.end(), [](const Passed& p, const Passed& q) { return p.share < q.share; });
    for (const Passed& p : found)
      if (in_ring.insert(p.place).second) out.push_back(p.place);
  }

 private:
  static constexpr double at_rest = 1e-6;  // of the tolerance: not worth moving
  struct Target {
    XY a, b;
    int rank;
  };
  static std::vector<Target> collect(const std::vector<Ring>& rings, bool edges) {
    std::vector<Target> out;
    for (const Ring& ring : rings)
      for (std::size_t i = 0; i + (edges || ring.closed ? 1 : 0) < ring.places.size(); ++i)
        out.push_back({ring.places[i], ring.places[edges ? i + 1 : i], ring.rank});
    return out;
  }
  static std::vector<Box> boxes(const std::vector<Target>& targets) {
    std::vector<Box> out;
    out.reserve(targets.size());
    for (const Target& t : targets) out.push_back(box_of(t.a, t.b));
    return out;
  }
  const Yardstick& stick_;
  std::vector<Target> vertices_, edges_;
  RTree vertex_tree_, edge_tree_;
};

struct Change {
  std::size_t moved = 0;
  double farthest = 0;
  bool any = false;
};

Change follow(Ring& ring, const Targets& targets, double tolerance, const Yardstick& yardstick) {
  Change change;
  std::vector<XY> moved;
  for (const XY p : ring.places) {
    end_if_interrupted();
    const XY to = targets.place_for(p, ring.rank, tolerance);
    if (to != p) {
      ++change.moved;
      change.farthest = std::max(change.farthest, yardstick.distance(p, to));
    }
    moved.push_back(to);
  }
  std::set<XY> in_ring(moved.begin(), moved.end());
  std::vector<XY> out{moved[0]};
  for (std::size_t i = 1; i < moved.size(); ++i) {
    end_if_interrupted();
    if (moved[i] == moved[i - 1] && !(i + 1 == moved.size() && out.size() < 2)) continue;
    targets.passed(moved[i - 1], moved[i], ring.rank, tolerance, in_ring, out);
    out.push_back(moved[i]);
  }
  change.any = out != ring.places;
  ring.places.swap(out);
  return change;
}

void add_rings(const ShapeRows& rows, std::span<const int> ranks, std::vector<Ring>& rings) {
  for (int row = 0; row < rows.size(); ++row) {
    if (rows[row] < 0) continue;
    const StoreView& s = rows.store;
    for (int part = s.parts(rows[row]).begin; part < s.parts(rows[row]).end; ++part)
      for (int ring = s.rings(part).begin; ring < s.rings(part).end; ++ring) {
        Ring out{ranks[row], s.part_kind(part) == ShapeKind::polygon, {}};
        for (int i = s.vertices(ring).begin; i < s.vertices(ring).end; ++i) out.places.push_back({s.x[i], s.y[i]});
        rings.push_back(std::move(out));
      }
  }
}

// Lets rings follow, those from `begin` on: the others have none to follow.
Sealed follow_all(std::vector<Ring>& rings, std::size_t begin, double tolerance, const Yardstick& yardstick) {
  // Shapes of one rank settle once those of the ranks below have; a chain of shapes longer than this settles nearly.
  constexpr int most_passes = 12;
  Sealed out;
  for (int pass = 0; pass < most_passes; ++pass) {
    const Targets targets(rings, yardstick);
    std::vector<Change> changes(rings.size());
    parallel_for(rings.size() - begin, 64, [&](std::size_t from, std::size_t to) {
      for (std::size_t i = begin + from; i < begin + to; ++i, end_if_interrupted())
        if (!rings[i].places.empty()) changes[i] = follow(rings[i], targets, tolerance, yardstick);
    });
    bool any = false;
    for (const Change& c : changes) {
      out.moved += c.moved;
      out.farthest = std::max(out.farthest, c.farthest);
      any |= c.any;
    }
    if (!any) break;
  }
  return out;
}

// The rows with their rings in place of those they had.
void rebuild(const ShapeRows& rows, std::span<const Ring> rings, Sealed& out) {
  ShapeBuilder builder;
  std::size_t next = 0;
  for (int row = 0; row < rows.size(); ++row) {
    out.handles.push_back(rows[row] < 0 ? 0 : builder.size() + 1);
    if (rows[row] < 0) continue;
    const StoreView& s = rows.store;
    builder.begin_shape(type_code(kind_of(s.types[rows[row]]), false, false));
    for (int part = s.parts(rows[row]).begin; part < s.parts(rows[row]).end; ++part) {
      builder.begin_part(s.part_kind(part));
      for (int ring = s.rings(part).begin; ring < s.rings(part).end; ++ring) {
        builder.begin_ring();
        for (const XY p : rings[next++].places) builder.vertex(p.x, p.y);
      }
    }
    builder.end_shape();
  }
  out.store = builder.take();
}

}  // namespace

Sealed seal(const ShapeRows& rows, std::span<const int> ranks, double tolerance, const Yardstick& yardstick) {
  std::vector<Ring> rings;
  add_rings(rows, ranks, rings);
  Sealed out = follow_all(rings, 0, tolerance, yardstick);
  rebuild(rows, rings, out);
  return out;
}

Sealed seal_onto(const ShapeRows& fixed, const ShapeRows& rows, double tolerance, const Yardstick& yardstick) {
  std::vector<Ring> rings;
  add_rings(fixed, std::vector<int>(fixed.size(), 0), rings);
  const std::size_t begin = rings.size();
  add_rings(rows, std::vector<int>(rows.size(), 1), rings);
  Sealed out = follow_all(rings, begin, tolerance, yardstick);
  rebuild(rows, std::span(rings).subspan(begin), out);
  return out;
}

}  // namespace civic
