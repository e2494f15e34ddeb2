#include "antimeridian.h"

#include <algorithm>
#include <cmath>

namespace civic {
namespace {

constexpr double half_turn = 180, full_turn = 360;

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

// The pieces of a part in each turn of the world that it reaches, moved into the first.
std::vector<Piece> cut(const Piece& piece) {
  double low = HUGE_VAL, high = -HUGE_VAL;
  for (const Vertex& v : piece.rings[0]) {
    low = std::min(low, v.x);
    high = std::max(high, v.x);
  }
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

std::vector<Piece> cut_all(const std::vector<Piece>& whole) {
  std::vector<Piece> out;
  for (const Piece& piece : whole) {
    if (piece.kind == ShapeKind::point) {
      out.push_back(piece);
      shift(out.back().rings[0], -full_turn * std::round(piece.rings[0][0].x / full_turn));
    } else {
      for (Piece& one : cut(piece)) out.push_back(std::move(one));
    }
  }
  return out;
}

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

// A polygon whose shell runs around a pole: along the antimeridian to the pole of its hemisphere, or to the hole that
// runs around the pole too.
Piece opened_at_pole(const Chain& shell, double turn, const std::vector<std::pair<Chain, double>>& holes) {
  Piece out{ShapeKind::polygon, {eastward(shell, turn)}};
  Chain& ring = out.rings[0];
  Chain back;
  for (const auto& [hole, hole_turn] : holes) {
    if (hole_turn != 0 && back.empty())
      back = eastward(hole, hole_turn);
    else if (hole_turn == 0)
      out.rings.push_back(hole);
  }
  if (back.empty()) {
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
  for (std::size_t h = 1; h < out.rings.size(); ++h)
    shift(out.rings[h], -full_turn * std::round(out.rings[h][0].x / full_turn));
  return out;
}

Chain chain_of(const StoreView& store, IndexRange vertices) {
  Chain chain;
  for (int i = vertices.begin; i < vertices.end; ++i) chain.push_back(vertex_of(store, i));
  return chain;
}

// The parts of a shape with each longitude next to the one before, and holes beside their shell.
std::vector<Piece> unwound_pieces(const StoreView& store, int shape, bool& around_pole) {
  std::vector<Piece> out;
  for (int part = store.parts(shape).begin; part < store.parts(shape).end; ++part) {
    const IndexRange rings = store.rings(part);
    if (rings.size() == 0 || store.vertices(rings.begin).size() == 0) continue;
    const ShapeKind kind = store.part_kind(part);
    Chain shell = chain_of(store, store.vertices(rings.begin));
    const double turn = unwind(shell);
    std::vector<std::pair<Chain, double>> holes;
    for (int r = rings.begin + 1; r < rings.end; ++r) {
      Chain hole = chain_of(store, store.vertices(r));
      if (hole.empty()) continue;
      const double hole_turn = unwind(hole);
      shift(hole, full_turn * std::round((shell[0].x - hole[0].x) / full_turn));
      holes.emplace_back(std::move(hole), hole_turn);
    }
    if (kind == ShapeKind::polygon && turn != 0 && shell.size() > 2) {
      around_pole = true;
      out.push_back(opened_at_pole(shell, turn, holes));
      continue;
    }
    Piece piece{kind, {std::move(shell)}};
    for (auto& [hole, hole_turn] : holes) piece.rings.push_back(std::move(hole));
    out.push_back(std::move(piece));
  }
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

}  // namespace

bool crosses_antimeridian(const StoreView& store, int shape) {
  const IndexRange rings = store.shape_rings(shape);
  for (int r = rings.begin; r < rings.end; ++r) {
    const IndexRange v = store.vertices(r);
    for (int i = v.begin; i < v.end; ++i)
      if (std::fabs(store.x[i]) > half_turn || (i > v.begin && std::fabs(store.x[i] - store.x[i - 1]) > half_turn))
        return true;
  }
  return false;
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
      const std::vector<Piece> unwound = unwound_pieces(rows.store, shape, around_pole);
      ++(around_pole ? out.around_pole : out.cut);
      write_shape(rows.store.types[shape], cut_all(unwound), builder);
    } else {
      write_shape(rows.store.types[shape], pieces_of(rows.store, shape), builder);
    }
    out.handles.push_back(builder.size());
  }
  out.store = builder.take();
  return out;
}

}  // namespace civic
