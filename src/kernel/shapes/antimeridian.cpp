#include "antimeridian.h"

#include <algorithm>
#include <cmath>

namespace civic {
namespace {

constexpr double half_turn = 180, full_turn = 360;
constexpr double hair = 1e-6;                 // by which longitudes miss 180 where they mean it: a tenth of a metre
constexpr double farthest = full_turn * 100;  // no longitude lies beyond it, however often a writer went around

struct Vertex {
  double x, y, z, m;
};
using Chain = std::vector<Vertex>;

struct Piece {  // of a shape: a point, a line, or a polygon's shell and holes
  ShapeKind kind;
  std::vector<Chain> rings;
};

Vertex vertex_of(const StoreView& store, int v) {
  return {store.x[v], store.y[v], store.z.empty() ? nan_value : store.z[v], store.m.empty() ? nan_value : store.m[v]};
}

Chain chain_of(const StoreView& store, IndexRange vertices) {
  Chain chain;
  for (int i = vertices.begin; i < vertices.end; ++i) chain.push_back(vertex_of(store, i));
  return chain;
}

Vertex crossing(const Vertex& a, const Vertex& b, double x) {
  const double t = (x - a.x) / (b.x - a.x);
  auto between = [t](double p, double q) { return t == 1 ? q : p + t * (q - p); };
  return {x, between(a.y, b.y), between(a.z, b.z), between(a.m, b.m)};
}

// Makes each longitude the one next to that before it. Returns by how much the last lies from where it was.
double unwind(Chain& chain) {
  double turn = 0;
  for (std::size_t i = 1; i < chain.size(); ++i) {
    const double step = chain[i].x + turn - chain[i - 1].x;
    if (step > half_turn) turn -= full_turn;
    if (step < -half_turn) turn += full_turn;
    chain[i].x += turn;
  }
  return turn;
}

void shift(Chain& chain, double by) {
  for (Vertex& v : chain) v.x += by;
}

// The way, eastward or westward, that a ring or line goes on from one of its vertices, forwards or backwards; 0 where
// that is along a meridian, or where a line ends.
double heading(const StoreView& s, IndexRange v, int from, int step) {
  const bool closed = s.x[v.begin] == s.x[v.end - 1] && s.y[v.begin] == s.y[v.end - 1];
  for (int i = from, seen = 0; seen < v.size(); ++seen) {
    int next = i + step;
    if (closed && next == v.end) next = v.begin + 1;
    if (closed && next < v.begin) next = v.end - 2;
    if (next < v.begin || next >= v.end) return 0;
    if (s.x[next] != s.x[i]) return (s.x[next] - s.x[i]) * step;
    if (s.y[next] != s.y[i]) return 0;
    i = next;
  }
  return 0;
}

// Whether a ring or line is written with longitudes that jump at the antimeridian. Edges from -180 to 180 tell where
// they go on as they came; others close a map of the world or of a pole, as all do that are longer.
bool jumps(const StoreView& s, IndexRange v) {
  for (int i = v.begin + 1; i < v.end; ++i) {
    const double step = s.x[i] - s.x[i - 1];
    if (std::fabs(step) <= half_turn || std::fabs(step) > full_turn + hair) continue;
    if (std::fabs(step) < full_turn - hair) return true;
    if (heading(s, v, i - 1, -1) * step < 0 && heading(s, v, i, 1) * step < 0) return true;
  }
  return false;
}

// One side of a meridian.
struct Side {
  double x;
  bool left;
  bool holds(const Vertex& v) const { return left ? v.x < x : v.x > x; }
};

std::vector<Chain> clip_line(const Chain& line, Side side) {
  std::vector<Chain> out;
  Chain run;
  auto end_run = [&] {
    if (run.size() > 1) out.push_back(run);
    run.clear();
  };
  for (std::size_t i = 0; i < line.size(); ++i) {
    const bool inside = side.holds(line[i]);
    if (i > 0 && inside != side.holds(line[i - 1])) run.push_back(crossing(line[i - 1], line[i], side.x));
    if (inside)
      run.push_back(line[i]);
    else
      end_run();
  }
  end_run();
  return out;
}

// The stretches of a closed ring on one side, each from the meridian back to it; the whole ring where it lies there.
std::vector<Chain> stretches_of(const Chain& ring, Side side, bool& whole) {
  const std::size_t n = ring.size() - 1;
  std::size_t start = 0;
  while (start < n && side.holds(ring[start])) ++start;
  whole = start == n;
  std::vector<Chain> out;
  if (whole) return {ring};
  for (std::size_t i = start; i < start + n; ++i) {
    const Vertex &a = ring[i % n], &b = ring[(i + 1) % n];
    if (!side.holds(a) && side.holds(b)) out.push_back({crossing(a, b, side.x)});
    if (side.holds(b)) out.back().push_back(b);
    if (side.holds(a) && !side.holds(b)) out.back().push_back(crossing(a, b, side.x));
  }
  return out;
}

bool ring_holds(const Chain& ring, const Vertex& p) {
  bool inside = false;
  for (std::size_t i = 0; i + 1 < ring.size(); ++i) {
    const Vertex &a = ring[i], &b = ring[i + 1];
    if ((a.y > p.y) != (b.y > p.y) && p.x < a.x + (p.y - a.y) / (b.y - a.y) * (b.x - a.x)) inside = !inside;
  }
  return inside;
}

// Joins stretches that end on one meridian: along it, the polygon's inside lies between the first and second end from
// the south, the third and fourth, and so on.
std::vector<Chain> join_stretches(std::vector<Chain>& chains) {
  struct End {
    double y;
    std::size_t chain;
    bool last;
  };
  std::vector<End> ends;
  for (std::size_t c = 0; c < chains.size(); ++c) {
    ends.push_back({chains[c].front().y, c, false});
    ends.push_back({chains[c].back().y, c, true});
  }
  std::sort(ends.begin(), ends.end(), [](const End& a, const End& b) { return a.y < b.y; });
  std::vector<std::size_t> next(chains.size());
  for (std::size_t i = 0; i + 1 < ends.size(); i += 2) {
    if (ends[i].last == ends[i + 1].last && i + 2 < ends.size()) std::swap(ends[i + 1], ends[i + 2]);
    const End &a = ends[i], &b = ends[i + 1];
    (a.last ? next[a.chain] : next[b.chain]) = a.last ? b.chain : a.chain;
  }
  std::vector<Chain> rings;
  std::vector<char> used(chains.size());
  for (std::size_t c = 0; c < chains.size(); ++c) {
    Chain ring;
    for (std::size_t at = c; !used[at]; at = next[at]) {
      used[at] = true;
      ring.insert(ring.end(), chains[at].begin(), chains[at].end());
    }
    if (ring.size() < 3) continue;
    ring.push_back(ring.front());
    rings.push_back(std::move(ring));
  }
  return rings;
}

std::vector<Piece> clip_polygon(const Piece& polygon, Side side) {
  std::vector<Chain> shells, holes, chains;
  for (std::size_t r = 0; r < polygon.rings.size(); ++r) {
    bool whole = false;
    for (Chain& chain : stretches_of(polygon.rings[r], side, whole))
      (whole ? (r == 0 ? shells : holes) : chains).push_back(std::move(chain));
  }
  for (Chain& ring : join_stretches(chains)) shells.push_back(std::move(ring));
  std::vector<Piece> out;
  for (Chain& shell : shells) out.push_back({ShapeKind::polygon, {std::move(shell)}});
  for (Chain& hole : holes)
    for (Piece& piece : out)
      if (out.size() == 1 || ring_holds(piece.rings[0], hole[0])) {
        piece.rings.push_back(std::move(hole));
        break;
      }
  return out;
}

std::vector<Piece> clip(const Piece& piece, Side side) {
  if (piece.kind == ShapeKind::polygon) return clip_polygon(piece, side);
  std::vector<Piece> out;
  for (Chain& line : clip_line(piece.rings[0], side)) out.push_back({piece.kind, {std::move(line)}});
  return out;
}

struct Span {
  double low = HUGE_VAL, high = -HUGE_VAL;
  double width() const { return high - low; }
  bool on_globe() const { return low >= -farthest && high <= farthest; }
};

Span span_of(const Piece& piece) {
  Span out;
  for (const Vertex& v : piece.rings[0]) {
    out.low = std::min(out.low, v.x);
    out.high = std::max(out.high, v.x);
  }
  return out;
}

// Edges longer than half a turn in stretches that are shorter: left whole they would be taken for jumps the next time.
Chain with_short_edges(const Chain& chain) {
  Chain out;
  for (std::size_t i = 0; i < chain.size(); ++i) {
    const double step = i == 0 ? 0 : chain[i].x - chain[i - 1].x;
    const int stretches = std::fabs(step) > half_turn ? static_cast<int>(std::ceil(std::fabs(step) / half_turn)) : 1;
    for (int k = 1; k < stretches; ++k)
      out.push_back(crossing(chain[i - 1], chain[i], chain[i - 1].x + step * k / stretches));
    out.push_back(chain[i]);
  }
  return out;
}

// The pieces of a part in each turn of the world that it reaches, moved into the first.
std::vector<Piece> cut(Piece piece, Span span) {
  const auto [low, high] = span;
  if (span.width() > full_turn)
    for (Chain& chain : piece.rings) chain = with_short_edges(chain);
  std::vector<Piece> out;
  const double first = std::floor((low + half_turn) / full_turn), last = std::ceil((high + half_turn) / full_turn) - 1;
  for (double turn = first; turn <= std::max(first, last); ++turn) {
    std::vector<Piece> here{piece};
    for (const Side side : {Side{turn * full_turn - half_turn, false}, Side{turn * full_turn + half_turn, true}}) {
      if (side.left ? high <= side.x : low >= side.x) continue;
      std::vector<Piece> clipped;
      for (const Piece& one : here)
        for (Piece& kept : clip(one, side)) clipped.push_back(std::move(kept));
      here = std::move(clipped);
    }
    for (Piece& one : here) {
      for (Chain& ring : one.rings) shift(ring, -turn * full_turn);
      out.push_back(std::move(one));
    }
  }
  return out;
}

// What lies on no globe stays where it is.
std::vector<Piece> cut_all(const std::vector<Piece>& whole) {
  std::vector<Piece> out;
  for (const Piece& piece : whole) {
    const Span span = span_of(piece);
    if (piece.kind == ShapeKind::point || !span.on_globe()) {
      out.push_back(piece);
      if (span.on_globe()) shift(out.back().rings[0], -full_turn * std::round(span.low / full_turn));
    } else {
      for (Piece& one : cut(piece, span)) out.push_back(std::move(one));
    }
  }
  return out;
}

// Whether a polygon covers longitudes twice, so that its pieces may overlap.
bool wraps(const Piece& piece) { return piece.kind == ShapeKind::polygon && span_of(piece).width() > full_turn; }

// A ring that runs around a pole, unwound and a full turn long, as a chain from longitude -180 to 180.
Chain eastward(Chain chain, double turn) {
  if (turn < 0) std::reverse(chain.begin(), chain.end());
  chain.pop_back();  // the start, a turn further
  const double meridian = full_turn * std::floor((chain[0].x + half_turn) / full_turn) + half_turn;
  const auto after = std::find_if(chain.begin() + 1, chain.end(), [&](const Vertex& v) { return v.x >= meridian; });
  // From the meridian on: those after it, a turn back, and then those before it.
  std::for_each(after, chain.end(), [](Vertex& v) { v.x -= full_turn; });
  std::rotate(chain.begin(), after, chain.end());
  Vertex next = chain.front();
  next.x += full_turn;
  Vertex end = crossing(chain.back(), next, meridian), start = end;
  start.x -= full_turn;
  chain.insert(chain.begin(), start);
  chain.push_back(end);
  shift(chain, half_turn - meridian);
  return chain;
}

// A ring around a pole: along the antimeridian to the pole of its hemisphere, or to another ring around that pole.
Chain opened_at_pole(const Chain& around, double turn, const Chain* other, double other_turn) {
  Chain ring = eastward(around, turn);
  Chain back;
  if (other != nullptr) {
    back = eastward(*other, other_turn);
  } else {
    double latitudes = 0;
    for (const Vertex& v : ring) latitudes += v.y;
    for (Vertex pole : {ring.front(), ring.back()}) {
      pole.y = std::copysign(90, latitudes);
      back.push_back(pole);
    }
  }
  ring.insert(ring.end(), back.rbegin(), back.rend());
  ring.push_back(ring.front());
  const auto same = [](const Vertex& a, const Vertex& b) { return a.x == b.x && a.y == b.y; };
  ring.erase(std::unique(ring.begin(), ring.end(), same), ring.end());
  return ring;
}

// A ring with what is asked of it again and again.
struct Ring {
  Chain chain;
  Box box;
  double area;
};

Ring ring_of(Chain chain) {
  Ring out{std::move(chain), {}, 0};
  const Chain& c = out.chain;
  for (const Vertex& v : c) out.box.add(v.x, v.y);
  for (std::size_t i = 0; i + 1 < c.size(); ++i) out.area += c[i].x * c[i + 1].y - c[i + 1].x * c[i].y;
  out.area = std::fabs(out.area);
  return out;
}

// By how much a ring is to be shifted to lie within another; NaN where it does not. Of three vertices two tell, as one
// may lie on the border.
double shift_into(const Ring& outer, const Ring& inner) {
  const double middle = (outer.box.xmin + outer.box.xmax - inner.box.xmin - inner.box.xmax) / 2;
  const double by = full_turn * std::round(middle / full_turn);
  const Box there{inner.box.xmin + by, inner.box.ymin, inner.box.xmax + by, inner.box.ymax};
  if (outer.area <= inner.area || !outer.box.holds(there)) return nan_value;
  int held = 0;
  for (std::size_t k = 0; k < 3; ++k) {
    Vertex v = inner.chain[k * (inner.chain.size() - 1) / 3];
    v.x += by;
    held += ring_holds(outer.chain, v);
  }
  return held >= 2 ? by : nan_value;
}

// Polygons of rings, none of which crosses another: those within an even number of others are shells. Which way a ring
// was taken to run, before it was unwound, tells nothing.
void add_polygons(std::vector<Ring>& rings, std::vector<Piece>& out) {
  std::sort(rings.begin(), rings.end(), [](const Ring& a, const Ring& b) { return a.area > b.area; });
  std::vector<std::size_t> piece(rings.size());  // that each ring went to
  std::vector<char> shell(rings.size());
  for (std::size_t i = 0; i < rings.size(); ++i) {
    std::size_t depth = 0, owner = 0;
    double by = 0;
    for (std::size_t j = 0; j < i; ++j) {
      const double there = shift_into(rings[j], rings[i]);
      if (std::isnan(there)) continue;
      ++depth;
      owner = j;  // the smallest comes last
      by = there;
    }
    shell[i] = depth % 2 == 0;
    if (shell[i] || !shell[owner]) {
      piece[i] = out.size();
      out.push_back({ShapeKind::polygon, {rings[i].chain}});
    } else {
      piece[i] = piece[owner];
      out[piece[i]].rings.push_back(rings[i].chain);
      shift(out[piece[i]].rings.back(), by);
    }
  }
}

// The parts of a shape with each longitude next to the one before.
std::vector<Piece> unwound_pieces(const StoreView& store, int shape, bool& around_pole) {
  std::vector<Piece> out;
  std::vector<Ring> rings;
  for (int part = store.parts(shape).begin; part < store.parts(shape).end; ++part) {
    std::vector<std::pair<Chain, double>> around;
    for (int r = store.rings(part).begin; r < store.rings(part).end; ++r) {
      Chain chain = chain_of(store, store.vertices(r));
      if (chain.empty()) continue;
      const double turn = jumps(store, store.vertices(r)) ? unwind(chain) : 0;
      if (store.part_kind(part) != ShapeKind::polygon || chain.size() < 3)
        out.push_back({store.part_kind(part), {std::move(chain)}});
      else if (turn != 0)
        around.emplace_back(std::move(chain), turn);
      else
        rings.push_back(ring_of(std::move(chain)));
    }
    around_pole |= !around.empty();
    for (std::size_t k = 0; k < around.size(); k += 2) {
      const bool pair = k + 1 < around.size();
      rings.push_back(ring_of(opened_at_pole(around[k].first, around[k].second, pair ? &around[k + 1].first : nullptr,
                                             pair ? around[k + 1].second : 0)));
    }
  }
  add_polygons(rings, out);
  return out;
}

std::vector<Piece> pieces_of(const StoreView& store, int shape) {
  std::vector<Piece> out;
  for (int part = store.parts(shape).begin; part < store.parts(shape).end; ++part) {
    Piece piece{store.part_kind(part), {}};
    for (int r = store.rings(part).begin; r < store.rings(part).end; ++r)
      piece.rings.push_back(chain_of(store, store.vertices(r)));
    if (!piece.rings.empty() && !piece.rings[0].empty()) out.push_back(std::move(piece));
  }
  return out;
}

void write_shape(int type, const std::vector<Piece>& pieces, ShapeBuilder& builder) {
  ShapeKind kind = kind_of(type);
  if (pieces.size() > 1) kind = multi_kind(kind);
  builder.begin_shape(type_code(kind, has_z(type), has_m(type)));
  for (const Piece& piece : pieces) {
    builder.begin_part(piece.kind);
    for (const Chain& ring : piece.rings) {
      builder.begin_ring();
      for (const Vertex& v : ring) builder.vertex(v.x, v.y, v.z, v.m);
    }
  }
  builder.end_shape();
}

// What was built, with shells counter-clockwise: rings that were unwound may have turned.
StoreBuffer oriented(ShapeBuilder& builder) {
  StoreBuffer store = builder.take();
  orient_rings(store.target(), {0, static_cast<int>(store.types.size())});
  return store;
}

// Moves parts by whole turns to where all of them take up the least longitude: behind the widest gap between them.
// Says whether any moved.
bool put_side_by_side(std::vector<Piece>& pieces) {
  struct PieceSpan {
    Span span;
    std::size_t piece;
  };
  std::vector<PieceSpan> places;
  Span now;
  for (std::size_t i = 0; i < pieces.size(); ++i) {
    Span span = span_of(pieces[i]);
    now = {std::min(now.low, span.low), std::max(now.high, span.high)};
    const double turn = full_turn * std::floor((span.low + half_turn) / full_turn);
    places.push_back({{span.low - turn, span.high - turn}, i});
  }
  std::sort(places.begin(), places.end(),
            [](const PieceSpan& a, const PieceSpan& b) { return a.span.low < b.span.low; });
  double reach = places[0].span.high, widest = -1;
  std::size_t first = 0;
  for (std::size_t i = 1; i < places.size(); ++i) {
    if (places[i].span.low - reach > widest) {
      widest = places[i].span.low - reach;
      first = i;
    }
    reach = std::max(reach, places[i].span.high);
  }
  if (places[0].span.low + full_turn - reach >= widest) first = 0;
  Span joined;
  for (std::size_t i = 0; i < places.size(); ++i) {
    if (i < first) places[i].span = {places[i].span.low + full_turn, places[i].span.high + full_turn};
    joined = {std::min(joined.low, places[i].span.low), std::max(joined.high, places[i].span.high)};
  }
  if (joined.width() >= now.width() - 1e-9 && now.low >= -full_turn && now.high <= full_turn) return false;
  const double back = full_turn * std::ceil(((joined.low + joined.high) / 2 - half_turn) / full_turn);
  bool moved = false;
  for (const PieceSpan& place : places) {
    const double by = place.span.low - back - span_of(pieces[place.piece]).low;
    if (by == 0) continue;
    moved = true;
    for (Chain& ring : pieces[place.piece].rings) shift(ring, by);
  }
  return moved;
}

// Shells counter-clockwise and holes clockwise, however they were written: what is cut goes by the sides of rings.
void orient(std::vector<Piece>& pieces) {
  for (Piece& piece : pieces) {
    if (piece.kind != ShapeKind::polygon) continue;
    for (Chain& ring : piece.rings) {
      double twice = 0;
      for (std::size_t i = 1; i < ring.size(); ++i)
        twice += (ring[i - 1].x - ring[0].x) * (ring[i].y - ring[0].y) -
                 (ring[i].x - ring[0].x) * (ring[i - 1].y - ring[0].y);
      if ((twice < 0) == (&ring == &piece.rings[0])) std::reverse(ring.begin(), ring.end());
    }
  }
}

}  // namespace

bool crosses_antimeridian(const StoreView& store, int shape) {
  const IndexRange all = store.shape_vertices(shape);
  if (std::any_of(store.x.begin() + all.begin, store.x.begin() + all.end,
                  [](double x) { return std::fabs(x) > half_turn; }))
    return true;
  const IndexRange rings = store.shape_rings(shape);
  for (int r = rings.begin; r < rings.end; ++r)
    if (jumps(store, store.vertices(r))) return true;
  return false;
}

bool has_long_edge(const StoreView& store, int shape) {
  if (store.boxes[shape].xmax - store.boxes[shape].xmin <= half_turn) return false;
  const IndexRange rings = store.shape_rings(shape);
  for (int r = rings.begin; r < rings.end; ++r)
    if (jumps(store, store.vertices(r))) return true;
  return false;
}

InOnePiece in_one_piece(const ShapeRows& rows, bool only_edges, int missing) {
  InOnePiece out;
  ShapeBuilder builder;
  for (int row = 0; row < rows.size(); ++row) {
    const int shape = rows[row];
    if (shape < 0) {
      out.handles.push_back(missing);
      continue;
    }
    const bool wide = rows.box(row).xmax - rows.box(row).xmin > half_turn;
    const bool long_edge = wide && has_long_edge(rows.store, shape);
    bool around_pole = false;
    std::vector<Piece> pieces =
        long_edge ? unwound_pieces(rows.store, shape, around_pole) : pieces_of(rows.store, shape);
    bool joined = long_edge;
    if (long_edge || (wide && !only_edges)) joined |= !pieces.empty() && put_side_by_side(pieces);
    if (joined) out.joined.push_back(row);
    if (around_pole) ++out.around_pole;
    write_shape(rows.store.types[shape], pieces, builder);
    out.handles.push_back(builder.size());
  }
  out.store = oriented(builder);
  return out;
}

AntimeridianCut cut_at_antimeridian(const ShapeRows& rows, int missing) {
  AntimeridianCut out;
  ShapeBuilder builder;
  for (int row = 0; row < rows.size(); ++row) {
    const int shape = rows[row];
    if (shape < 0) {
      out.handles.push_back(missing);
      continue;
    }
    if (crosses_antimeridian(rows.store, shape)) {
      bool around_pole = false;
      std::vector<Piece> unwound = unwound_pieces(rows.store, shape, around_pole);
      orient(unwound);
      const std::vector<Piece> pieces = cut_all(unwound);
      if (around_pole)
        ++out.around_pole;
      else if (pieces.size() != unwound.size())  // else it was moved by turns alone
        ++out.cut;
      if (std::any_of(unwound.begin(), unwound.end(), wraps)) out.wrapped.push_back(row);
      write_shape(rows.store.types[shape], pieces, builder);
    } else {
      write_shape(rows.store.types[shape], pieces_of(rows.store, shape), builder);
    }
    out.handles.push_back(builder.size());
  }
  out.store = oriented(builder);
  return out;
}

}  // namespace civic
