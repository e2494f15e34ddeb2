#include "offset_curve.h"

#include <algorithm>
#include <cmath>
#include <vector>

#include "../base/xy.h"

namespace civic {
namespace {

double cross(XY a, XY b) { return a.x * b.y - a.y * b.x; }
double dot(XY a, XY b) { return a.x * b.x + a.y * b.y; }

std::vector<XY> path_of(const StoreView& s, IndexRange v) {
  std::vector<XY> out;
  for (int i = v.begin; i < v.end; ++i)
    if (const XY p{s.x[i], s.y[i]}; out.empty() || out.back() != p) out.push_back(p);
  return out;
}

class CurveWriter {
 public:
  // With `piece_edges` rings are written in pieces.
  CurveWriter(double distance, const BufferStyle& style, std::size_t piece_edges, const Surface& surface,
              ShapeBuilder& builder)
      : distance_(distance), style_(style), piece_edges_(piece_edges), surface_(surface), builder_(builder) {}

  void circle(XY middle) {
    begin();
    const Tangent at = surface_.tangent(middle);
    const int n = 4 * style_.segments;
    for (int i = 0; i < n; ++i) vertex(at.place(distance_ * XY{std::cos(2 * pi * i / n), std::sin(2 * pi * i / n)}));
  }

  // The curve on the right of a closed path without its last, repeated place.
  void ring(const std::vector<XY>& path) {
    const std::size_t n = path.size();
    if (piece_edges_ == 0) {
      begin();
      for (std::size_t i = 0; i < n; ++i) corner(path[(i + n - 1) % n], path[i], path[(i + 1) % n]);
      return;
    }
    for (std::size_t from = 0; from < n; from += piece_edges_) piece(path, from, std::min(n, from + piece_edges_));
  }

  void line(const std::vector<XY>& path) {
    if (path.size() == 1) return circle(path[0]);
    std::vector<XY> back(path.rbegin(), path.rend());
    if (style_.side == LineSide::both) {
      if (path.front() == path.back() && path.size() > 3) {
        ring({path.begin(), path.end() - 1});
        ring({back.begin(), back.end() - 1});
      } else {
        std::vector<XY> there_and_back = path;
        there_and_back.insert(there_and_back.end(), back.begin() + 1, back.end() - 1);
        ring(there_and_back);
      }
    } else {
      one_side(style_.side == LineSide::right ? path : back);
    }
  }

 private:
  void begin() {
    builder_.begin_part(ShapeKind::polygon);
    builder_.begin_ring();
  }
  void vertex(XY p) { builder_.vertex(p.x, p.y); }

  static XY unit(XY d) { return (1 / std::hypot(d.x, d.y)) * d; }
  static XY onwards(const Tangent& at, XY after) { return unit(at.towards(after)); }
  static XY arriving(const Tangent& at, XY before) { return unit(-1 * at.towards(before)); }
  XY aside(XY u) const { return {distance_ * u.y, -distance_ * u.x}; }  // to the right of a direction
  void vertex_beside(XY place, XY other) {
    const Tangent at = surface_.tangent(place);
    vertex(at.place(aside(onwards(at, other))));
  }

  // From the curve beside the edge before a place to the curve beside the edge after it.
  void corner(XY before, XY place, XY after) {
    const Tangent at = surface_.tangent(place);
    const XY u = arriving(at, before), v = onwards(at, after);
    const double turn = cross(u, v);
    if (before == after || (turn == 0 && dot(u, v) < 0)) return line_end(at, u);
    vertex(at.place(aside(u)));
    if (turn * distance_ < 0) {
      vertex(place);
    } else if (turn != 0) {
      open_corner(at, u, v);
    }
    vertex(at.place(aside(v)));
  }
  void open_corner(const Tangent& at, XY u, XY v) {
    if (style_.corners == Corners::round) {
      arc(at, aside(u), std::atan2(cross(u, v), dot(u, v)));
    } else if (style_.corners == Corners::mitred && std::sqrt(2 / (1 + dot(u, v))) <= style_.mitre_limit) {
      vertex(at.place((1 / (1 + dot(u, v))) * (aside(u) + aside(v))));
    }
  }
  void line_end(const Tangent& at, XY u) {
    const XY side = aside(u), ahead = std::fabs(distance_) * u;
    vertex(at.place(side));
    if (style_.ends == LineEnds::round) arc(at, side, distance_ < 0 ? -pi : pi);
    if (style_.ends == LineEnds::square) {
      vertex(at.place(side + ahead));
      vertex(at.place(ahead - side));
    }
    vertex(at.place(-1 * side));
  }
  // The inner places of an arc from a radius on, `sweep` radians counter-clockwise.
  void arc(const Tangent& at, XY radius, double sweep) {
    const int n = static_cast<int>(std::ceil(std::fabs(sweep) / (pi / 2) * style_.segments - 1e-9));
    for (int i = 1; i < n; ++i) {
      const double angle = sweep * i / n, c = std::cos(angle), s = std::sin(angle);
      vertex(at.place({c * radius.x - s * radius.y, s * radius.x + c * radius.y}));
    }
  }

  // The ground beside some edges of a closed path, with the wedge at the end.
  void piece(const std::vector<XY>& path, std::size_t from, std::size_t to) {
    auto at = [&](std::size_t i) { return path[i % path.size()]; };
    begin();
    vertex_beside(at(from), at(from + 1));
    for (std::size_t i = from + 1; i <= to; ++i) corner(at(i - 1), at(i), at(i + 1));
    for (std::size_t i = to + 1; i-- > from;) vertex(at(i));
  }

  // Between a path and the curve on its right.
  void one_side(const std::vector<XY>& path) {
    begin();
    vertex_beside(path[0], path[1]);
    for (std::size_t i = 1; i + 1 < path.size(); ++i) corner(path[i - 1], path[i], path[i + 1]);
    const Tangent end = surface_.tangent(path.back());
    vertex(end.place(aside(arriving(end, path[path.size() - 2]))));
    for (auto p = path.rbegin(); p != path.rend(); ++p) vertex(*p);
  }

  const double distance_;
  const BufferStyle& style_;
  const std::size_t piece_edges_;
  const Surface& surface_;
  ShapeBuilder& builder_;
};

void write(const StoreView& s, int shape, double distance, const BufferStyle& style, std::size_t piece_edges,
           const Surface& surface, ShapeBuilder& builder) {
  builder.begin_shape(type_code(ShapeKind::multipolygon, false, false));
  CurveWriter writer(distance, style, piece_edges, surface, builder);
  for (int part = s.parts(shape).begin; part < s.parts(shape).end; ++part) {
    const ShapeKind kind = s.part_kind(part);
    if (kind != ShapeKind::polygon && !(distance > 0)) continue;  // nothing is left of lines and points
    for (int ring = s.rings(part).begin; ring < s.rings(part).end; ++ring) {
      std::vector<XY> path = path_of(s, s.vertices(ring));
      if (path.empty()) continue;
      if (kind == ShapeKind::point) {
        writer.circle(path[0]);
      } else if (kind == ShapeKind::line) {
        writer.line(path);
      } else {
        if (path.size() > 1 && path.front() == path.back()) path.pop_back();
        if (path.size() > 2) writer.ring(path);
      }
    }
  }
  builder.end_shape();
}

}  // namespace

void offset_curve(const StoreView& store, int shape, double distance, const BufferStyle& style, const Surface& surface,
                  ShapeBuilder& builder) {
  write(store, shape, distance, style, 0, surface, builder);
}

void swept_ground(const StoreView& store, int shape, double distance, const BufferStyle& style, int edges,
                  const Surface& surface, ShapeBuilder& builder) {
  write(store, shape, distance, style, static_cast<std::size_t>(edges), surface, builder);
}

}  // namespace civic
