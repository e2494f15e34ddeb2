// From faces to valid polygons.
#include <algorithm>
#include <cmath>
#include <map>
#include <numeric>
#include <tuple>
#include <unordered_map>

#include "../parallel.h"
#include "arrangement.h"

namespace civic {

// The rings of one region: its border half-edges, with the region on their left, walked so that each ring bounds one
// connected piece of the inside, and cut where a ring meets itself.
class RegionTracer {
 public:
  explicit RegionTracer(const Arrangement& arrangement)
      : a_(arrangement), on_border_(arrangement.cycle_.size(), 0), piece_(arrangement.faces(), -1) {}

  // Appends the shape of the faces; `borders` are the half-edges between them and others, `inner` the edges within.
  void trace(std::span<const int> faces, std::span<const int> borders, std::span<const int> inner,
             ShapeBuilder& builder) {
    for (const int face : faces) piece_[face] = face;
    for (const int edge : inner) join(a_.edges_[edge].left, a_.edges_[edge].right);
    for (const int half : borders) on_border_[half] = 1;
    std::map<int, std::vector<Ring>> pieces;  // by connected piece of the inside
    for (const int half : borders)
      if (on_border_[half] == 1) walk(half, pieces);
    for (const int half : borders) on_border_[half] = 0;
    for (const int face : faces) piece_[face] = -1;
    write(pieces, builder);
  }

 private:
  struct Ring {
    std::vector<int> nodes;
    double area;
  };

  int find(int face) {
    while (piece_[face] != face) face = piece_[face] = piece_[piece_[face]];
    return face;
  }
  void join(int a, int b) { piece_[find(a)] = find(b); }

  // The border half-edge next on the walk: the first clockwise from the way back, past edges within the region.
  int next(int half) const {
    const int node = a_.target(half), first = a_.around_start_[node], last = a_.around_start_[node + 1];
    int at = a_.place_[half ^ 1];
    do at = at == first ? last - 1 : at - 1;
    while (on_border_[a_.around_[at]] == 0);
    return a_.around_[at];
  }

  void walk(int start, std::map<int, std::vector<Ring>>& pieces) {
    const int piece = find(a_.cycle_[start]);
    std::vector<int> path;
    std::unordered_map<int, std::size_t> places;  // of nodes on the path
    int half = start;
    do {
      on_border_[half] = 2;
      const int node = a_.origin(half);
      if (const auto seen = places.find(node); seen != places.end()) {
        // Back at a node: what lies between is a ring of its own.
        const std::size_t from = seen->second;
        add_ring({path.begin() + static_cast<std::ptrdiff_t>(from), path.end()}, pieces[piece]);
        for (std::size_t i = from + 1; i < path.size(); ++i) places.erase(path[i]);
        path.resize(from);
      }
      places[node] = path.size();
      path.push_back(node);
      half = next(half);
    } while (half != start);
    add_ring(std::move(path), pieces[piece]);
  }

  void add_ring(std::vector<int> nodes, std::vector<Ring>& rings) {
    if (nodes.size() < 3) return;
    long double area = 0;
    const GridPoint base = a_.points_[nodes[0]];
    for (std::size_t i = 1; i + 1 < nodes.size(); ++i) {
      const GridPoint p = a_.points_[nodes[i]], q = a_.points_[nodes[i + 1]];
      area += static_cast<long double>(p.x - base.x) * (q.y - base.y) -
              static_cast<long double>(q.x - base.x) * (p.y - base.y);
    }
    rings.push_back({std::move(nodes), static_cast<double>(area)});
  }

  void write(const std::map<int, std::vector<Ring>>& pieces, ShapeBuilder& builder) const {
    builder.begin_shape(type_code(pieces.size() > 1 ? multi_kind(ShapeKind::polygon) : ShapeKind::polygon, false, false));
    for (const auto& [piece, rings] : pieces) {
      builder.begin_part(ShapeKind::polygon);
      for (const bool shell : {true, false})
        for (const Ring& ring : rings)
          if ((ring.area > 0) == shell) write_ring(ring, builder);
    }
    builder.end_shape();
  }
  void write_ring(const Ring& ring, ShapeBuilder& builder) const {
    builder.begin_ring();
    for (const int node : ring.nodes) builder.vertex(a_.x(node), a_.y(node));
    builder.vertex(a_.x(ring.nodes[0]), a_.y(ring.nodes[0]));
  }

  const Arrangement& a_;
  std::vector<char> on_border_;
  std::vector<int> piece_;
};

namespace {

struct Keyed {
  std::int64_t region;
  int what;
  friend auto operator<=>(const Keyed&, const Keyed&) = default;
};

}  // namespace

StoreBuffer Arrangement::regions(std::vector<Belonging> belongings, std::vector<std::int64_t>& keys) const {
  std::sort(belongings.begin(), belongings.end(), [](const Belonging& a, const Belonging& b) {
    return std::tie(a.face, a.region) < std::tie(b.face, b.region);
  });
  std::vector<int> start(static_cast<std::size_t>(faces()) + 1, 0);
  for (const Belonging& b : belongings) ++start[b.face + 1];
  std::partial_sum(start.begin(), start.end(), start.begin());

  std::vector<Keyed> in, borders, inner;
  for (const Belonging& b : belongings) in.push_back({b.region, b.face});
  for (int e = 0; e < static_cast<int>(edges_.size()); ++e) {
    int l = start[edges_[e].left], r = start[edges_[e].right];
    const int l_end = start[edges_[e].left + 1], r_end = start[edges_[e].right + 1];
    while (l < l_end || r < r_end) {
      if (r == r_end || (l < l_end && belongings[l].region < belongings[r].region)) {
        borders.push_back({belongings[l++].region, 2 * e});
      } else if (l == l_end || belongings[r].region < belongings[l].region) {
        borders.push_back({belongings[r++].region, 2 * e + 1});
      } else {
        inner.push_back({belongings[l].region, e});
        ++l;
        ++r;
      }
    }
  }
  for (auto* all : {&in, &borders, &inner}) std::sort(all->begin(), all->end());

  RegionTracer tracer(*this);
  ShapeBuilder builder;
  auto group = [](const std::vector<Keyed>& all, std::size_t& at, std::int64_t region) {
    std::vector<int> out;
    for (; at < all.size() && all[at].region == region; ++at) out.push_back(all[at].what);
    return out;
  };
  keys.clear();
  for (std::size_t f = 0, b = 0, i = 0; f < in.size();) {
    const std::int64_t region = in[f].region;
    const std::vector<int> here = group(in, f, region), border = group(borders, b, region), within = group(inner, i, region);
    keys.push_back(region);
    tracer.trace(here, border, within, builder);
    if (keys.size() % 4096 == 0) check_in(f, in.size());
  }
  return builder.take();
}

}  // namespace civic
