// From cells to valid shapes.
#include <algorithm>
#include <map>
#include <unordered_map>

#include "../base/parallel.h"
#include "../base/sort_by_key.h"
#include "arrangement.h"

namespace civic {

// The shapes of regions, one after the other. Rings are border half-edges with the region on their left, walked so that
// each ring bounds one connected piece of the inside, and cut where a ring meets itself. Lines run on through nodes
// where two edges meet.
class RegionTracer {
 public:
  RegionTracer(const Arrangement& arrangement, std::span<const char> left_out)
      : a_(arrangement),
        left_out_(left_out),
        on_border_(arrangement.cycle_.size(), 0),
        piece_(arrangement.faces(), -1),
        in_line_(arrangement.edges_.size(), 0) {}

  // One region: `borders` are the half-edges between its faces and others, `inner` the edges within.
  struct Region {
    std::span<const Belonging> faces, borders, inner, edges, nodes;
  };
  void trace(const Region& region, ShapeBuilder& builder) {
    for (const Belonging& b : region.faces) piece_[b.cell] = b.cell;
    for (const Belonging& b : region.inner) join(a_.edges_[b.cell].left, a_.edges_[b.cell].right);
    for (const Belonging& b : region.borders) on_border_[b.cell] = 1;
    std::map<int, std::vector<Ring>> pieces;  // by connected piece of the inside
    for (const Belonging& b : region.borders)
      if (on_border_[b.cell] == 1) walk(b.cell, pieces);
    for (const Belonging& b : region.borders) on_border_[b.cell] = 0;

    std::vector<int> edges;
    for (const Belonging& b : region.edges)
      if (piece_[a_.edges_[b.cell].left] < 0 && piece_[a_.edges_[b.cell].right] < 0) edges.push_back(b.cell);
    for (const int e : edges) in_line_[e] = 1;
    std::vector<int> nodes;
    for (const Belonging& b : region.nodes)
      if (stands_alone(b.cell)) nodes.push_back(b.cell);
    const std::vector<std::vector<int>> lines = run_lines(edges);
    for (const int e : edges) in_line_[e] = 0;
    for (const Belonging& b : region.faces) piece_[b.cell] = -1;
    write(pieces, lines, nodes, builder);
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
    int out = a_.next_[half];
    while (on_border_[out] == 0) out = a_.next_[out ^ 1];
    return out;
  }

  void walk(int start, std::map<int, std::vector<Ring>>& pieces) {
    const int piece = find(a_.cycle_[start]);
    std::vector<int> path;
    std::unordered_map<int, std::size_t> places;  // of nodes on the path that a walk may come by again
    int half = start;
    do {
      on_border_[half] = 2;
      const int node = a_.origin(half);
      const bool branches = a_.around(node).size() > 2;
      if (const auto seen = branches ? places.find(node) : places.end(); seen != places.end()) {
        // Back at a node: what lies between is a ring of its own.
        const std::size_t from = seen->second;
        add_ring({path.begin() + static_cast<std::ptrdiff_t>(from), path.end()}, pieces[piece]);
        for (std::size_t i = from + 1; i < path.size(); ++i) places.erase(path[i]);
        path.resize(from);
      }
      if (branches) places[node] = path.size();
      path.push_back(node);
      half = next(half);
    } while (half != start);
    add_ring(std::move(path), pieces[piece]);
  }

  void add_ring(std::vector<int> nodes, std::vector<Ring>& rings) {
    if (nodes.size() < 3) return;
    TwiceArea area(a_.points_[nodes[0]]);
    for (std::size_t i = 1; i + 1 < nodes.size(); ++i) area.step(a_.points_[nodes[i]], a_.points_[nodes[i + 1]]);
    rings.push_back({std::move(nodes), area.value()});
  }

  bool stands_alone(int node) const {
    for (const int half : a_.around(node))
      if (in_line_[half >> 1] != 0 || piece_[a_.cycle_[half]] >= 0) return false;
    return true;
  }

  // Edges of in_line_ at a node: how many there are, and the last.
  struct Meeting {
    int count = 0, half = -1;
  };
  Meeting others(int node, int without) const {
    Meeting out;
    for (const int half : a_.around(node))
      if (in_line_[half >> 1] != 0 && half >> 1 != without) out = {out.count + 1, half};
    return out;
  }

  // Chains of nodes from end or fork to end or fork, then closed ones, in the direction most of their edges have.
  std::vector<std::vector<int>> run_lines(const std::vector<int>& edges) {
    std::vector<std::vector<int>> lines;
    for (const bool closed : {false, true})
      for (const int e : edges)
        for (const int start : {2 * e, 2 * e + 1}) {
          if (in_line_[e] != 1) continue;
          if (!closed && others(a_.origin(start), e).count == 1) continue;
          lines.push_back(run_line(start));
        }
    return lines;
  }
  std::vector<int> run_line(int start) {
    std::vector<int> nodes{a_.origin(start)};
    int along = 0;
    for (int half = start;;) {
      in_line_[half >> 1] = 2;  // taken, and still a line to the nodes at it
      nodes.push_back(a_.target(half));
      const auto lines = a_.lines(half >> 1);
      const int count = lines.empty() ? 0 : lines.front().count;
      along += half & 1 ? -count : count;
      const Meeting next = others(a_.target(half), half >> 1);
      if (next.count != 1 || in_line_[next.half >> 1] != 1) break;
      half = next.half;
    }
    if (along < 0) std::reverse(nodes.begin(), nodes.end());
    return nodes;
  }

  void write(const std::map<int, std::vector<Ring>>& pieces, const std::vector<std::vector<int>>& lines,
             const std::vector<int>& nodes, ShapeBuilder& builder) const {
    builder.begin_shape(type_code(kind_of_parts(pieces.size(), lines.size(), nodes.size()), false, false));
    for (const auto& [piece, rings] : pieces) {
      builder.begin_part(ShapeKind::polygon);
      for (const bool shell : {true, false})
        for (const Ring& ring : rings)
          if ((ring.area > 0) == shell) write_ring(ring, builder);
    }
    for (const auto& line : lines) {
      builder.begin_part(ShapeKind::line);
      builder.begin_ring();
      for (const int node : line) write_node(node, builder);
    }
    for (const int node : nodes) {
      builder.begin_part(ShapeKind::point);
      builder.begin_ring();
      builder.vertex(a_.x(node), a_.y(node));
    }
    builder.end_shape();
  }
  static ShapeKind kind_of_parts(std::size_t polygons, std::size_t lines, std::size_t points) {
    if ((polygons > 0) + (lines > 0) + (points > 0) > 1) return ShapeKind::collection;
    const ShapeKind kind = polygons > 0 ? ShapeKind::polygon : lines > 0 ? ShapeKind::line : ShapeKind::point;
    return polygons + lines + points > 1 ? multi_kind(kind) : kind;
  }
  void write_ring(const Ring& ring, ShapeBuilder& builder) const {
    builder.begin_ring();
    for (const int node : ring.nodes) write_node(node, builder);
    builder.close_ring();
  }
  void write_node(int node, ShapeBuilder& builder) const {
    if (left_out_.empty() || !left_out_[node]) builder.vertex(a_.x(node), a_.y(node));
  }

  const Arrangement& a_;
  std::span<const char> left_out_;
  std::vector<char> on_border_;
  std::vector<int> piece_;
  std::vector<char> in_line_;
};

namespace {

std::size_t region_of(const Belonging& b) { return static_cast<std::size_t>(b.region); }
std::size_t cell_of(const Belonging& b) { return static_cast<std::size_t>(b.cell); }
bool by_region_then_cell(const Belonging& a, const Belonging& b) { return a < b; }

// Cells by a number, each once; where each number begins among them.
template <class KeyOf>
std::vector<int> sort_once(std::vector<Belonging>& cells, std::size_t keys, const KeyOf& key_of) {
  std::vector<int> start = sort_by_key(cells, keys, key_of, by_region_then_cell);
  if (std::adjacent_find(cells.begin(), cells.end()) == cells.end()) return start;
  cells.erase(std::unique(cells.begin(), cells.end()), cells.end());
  return sort_by_key(cells, keys, key_of);
}

// The keys of all regions, ascending, in whose place the cells get their numbers.
std::vector<std::int64_t> number_regions(RegionCells& cells) {
  std::vector<std::int64_t> keys;
  for (const auto* all : {&cells.faces, &cells.edges, &cells.nodes})
    for (const Belonging& b : *all)
      if (keys.empty() || keys.back() != b.region) keys.push_back(b.region);
  parallel_sort(keys);
  keys.erase(std::unique(keys.begin(), keys.end()), keys.end());
  for (auto* all : {&cells.faces, &cells.edges, &cells.nodes})
    parallel_for(all->size(), 1 << 14, [&](std::size_t begin, std::size_t end) {
      for (Belonging& b : std::span(*all).subspan(begin, end - begin))
        b.region = std::lower_bound(keys.begin(), keys.end(), b.region) - keys.begin();
    });
  return keys;
}

// Cells of regions side by side, and where each region begins among them.
struct ByRegion {
  std::vector<Belonging> cells;
  std::vector<int> start;
  std::span<const Belonging> of(std::size_t region) const {
    return {cells.data() + start[region], cells.data() + start[region + 1]};
  }
};

// Half-edges with a region on the left alone, and edges with it on both sides, from the regions of faces, by face.
struct Sides {
  std::vector<Belonging> borders, inner;
};
Sides sides_of_edges(const Arrangement& a, const std::vector<Belonging>& faces, const std::vector<int>& start) {
  constexpr std::size_t grain = 1 << 14;
  std::vector<Sides> stretches((static_cast<std::size_t>(a.edges()) + grain - 1) / grain);
  parallel_for(static_cast<std::size_t>(a.edges()), grain, [&](std::size_t begin, std::size_t end) {
    Sides& out = stretches[begin / grain];
    for (int e = static_cast<int>(begin); e < static_cast<int>(end); ++e) {
      int l = start[a.edge(e).left], r = start[a.edge(e).right];
      const int l_end = start[a.edge(e).left + 1], r_end = start[a.edge(e).right + 1];
      while (l < l_end || r < r_end) {
        if (r == r_end || (l < l_end && faces[l].region < faces[r].region)) {
          out.borders.push_back({faces[l++].region, 2 * e});
        } else if (l == l_end || faces[r].region < faces[l].region) {
          out.borders.push_back({faces[r++].region, 2 * e + 1});
        } else {
          out.inner.push_back({faces[l].region, e});
          ++l;
          ++r;
        }
      }
    }
  });
  Sides all;
  for (const Sides& part : stretches) {
    all.borders.insert(all.borders.end(), part.borders.begin(), part.borders.end());
    all.inner.insert(all.inner.end(), part.inner.begin(), part.inner.end());
  }
  return all;
}

StoreBuffer concatenated(const std::vector<StoreBuffer>& stores) {
  std::vector<StoreView> views;
  for (const StoreBuffer& store : stores) views.push_back(store.view());
  StoreBuffer all(count_all(views));
  concatenate(views, all.target());
  return all;
}

}  // namespace

StoreBuffer Arrangement::shapes(RegionCells cells, std::vector<std::int64_t>& keys,
                                std::span<const char> left_out) const {
  keys = number_regions(cells);
  const std::vector<int> by_face = sort_once(cells.faces, static_cast<std::size_t>(faces()), cell_of);
  Sides sides = sides_of_edges(*this, cells.faces, by_face);
  const auto by_region = [&](std::vector<Belonging>& all) {
    std::vector<int> start = sort_once(all, keys.size(), region_of);
    return ByRegion{std::move(all), std::move(start)};
  };
  const ByRegion in = by_region(cells.faces), borders = by_region(sides.borders), inner = by_region(sides.inner),
                 edges = by_region(cells.edges), nodes = by_region(cells.nodes);

  // Some runs of regions side by side, each with marks of its own on all cells.
  constexpr std::size_t few_edges = 1 << 12;  // below which one thread is as fast
  const std::size_t run_count = edges_.size() < few_edges ? 1 : 4 * context().threads;
  const std::size_t grain = std::max<std::size_t>(1, keys.size() / run_count);
  std::vector<StoreBuffer> runs((keys.size() + grain - 1) / grain);
  parallel_for(keys.size(), grain, [&](std::size_t begin, std::size_t end) {
    RegionTracer tracer(*this, left_out);
    ShapeBuilder builder;
    for (std::size_t k = begin; k < end; ++k, end_if_interrupted())
      tracer.trace({in.of(k), borders.of(k), inner.of(k), edges.of(k), nodes.of(k)}, builder);
    runs[begin / grain] = builder.take();
  });
  if (runs.size() == 1) return std::move(runs[0]);
  return concatenated(runs);
}

}  // namespace civic
