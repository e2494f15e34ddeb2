#include <algorithm>
#include <cmath>
#include <limits>

#include "../base/progress.h"
#include "../measure/local_plane.h"
#include "../overlay/dissolve.h"
#include "../overlay/mask.h"
#include "../overlay/repair.h"
#include "../predicate/locate.h"
#include "../predicate/validity.h"
#include "../shapes/antimeridian.h"
#include "../shapes/derive.h"
#include "../shapes/seams.h"
#include "buffer.h"

namespace civic {
namespace {

constexpr double reach = 200000;  // metres from the middle of a plane that shapes may lie: distances are true to 0.03 %
constexpr double longest_piece = 20000;  // of an edge in a plane, where it bows by some L^2 / 8 R^2 of the reach
constexpr int one_handle[] = {1};

// How far borders may lie from where they should.
double tolerance_of(double distance) { return std::max(1e-3, 2e-4 * std::fabs(distance)); }

ShapeRows only_shape(const StoreBuffer& store) { return {store.view(), one_handle}; }

// The shape of a plane in degrees, with vertices added where its edges are straight there and not here, by more than a
// tolerance in metres.
class ToDegrees {
 public:
  ToDegrees(const LocalPlane& plane, const Globe& globe, double tolerance)
      : plane_(plane), globe_(globe), tolerance_(tolerance) {}

  StoreBuffer operator()(const StoreView& flat) {
    builder_.begin_shape(flat.types[0]);
    for (int part = flat.parts(0).begin; part < flat.parts(0).end; ++part) {
      builder_.begin_part(flat.part_kind(part));
      for (int ring = flat.rings(part).begin; ring < flat.rings(part).end; ++ring) {
        builder_.begin_ring();
        const IndexRange v = flat.vertices(ring);
        Vertex here = vertex(flat.x[v.begin], flat.y[v.begin]);
        builder_.vertex(here.at.longitude, here.at.latitude);
        for (int i = v.begin + 1; i < v.end; ++i) {
          const Vertex next = vertex(flat.x[i], flat.y[i]);
          between(here, next, 0);
          builder_.vertex(next.at.longitude, next.at.latitude);
          here = next;
        }
      }
    }
    builder_.end_shape();
    return builder_.take();
  }

 private:
  struct Vertex {
    double x, y;
    GeoPoint at;
  };
  Vertex vertex(double x, double y) const { return {x, y, plane_.to_degrees(x, y)}; }
  void between(const Vertex& a, const Vertex& b, int depth) {
    constexpr int most = 14;
    if (is_straight(a, b)) return;
    const Vertex middle = vertex((a.x + b.x) / 2, (a.y + b.y) / 2);
    const double turn = std::remainder(b.at.longitude - a.at.longitude, 360.0);
    const GeoPoint straight{a.at.longitude + turn / 2, (a.at.latitude + b.at.latitude) / 2};
    if (depth == most ||
        (std::fabs(turn) < 90 && globe_.rough_length(near_to(middle.at, straight), straight) <= tolerance_))
      return;
    between(a, middle, depth + 1);
    builder_.vertex(middle.at.longitude, middle.at.latitude);
    between(middle, b, depth + 1);
  }
  // Whether a short edge is surely straight enough: what it swerves in degrees, and what it bows in the plane.
  bool is_straight(const Vertex& a, const Vertex& b) const {
    const double length = std::hypot(b.x - a.x, b.y - a.y);
    return length < longest_piece && std::fabs(b.at.longitude - a.at.longitude) < 1 &&
           2 * (globe_.swerve(a.at, b.at) + 0.05 * length * length / (8 * globe_.least_radius())) <= tolerance_;
  }
  static GeoPoint near_to(GeoPoint at, GeoPoint other) {
    return {other.longitude + std::remainder(at.longitude - other.longitude, 360.0), at.latitude};
  }
  const LocalPlane& plane_;
  const Globe& globe_;
  const double tolerance_;
  ShapeBuilder builder_;
};

// In the plane of degrees a shape is valid but for vertices that came to cross on their way.
StoreBuffer made_valid(StoreBuffer shape) {
  if (shape.types.empty() || check_shape(shape.view(), 0).problem == Problem::none) return shape;
  return repair(only_shape(shape), FillRule::even_odd).store;
}

StoreBuffer whole_globe() {
  ShapeBuilder builder;
  builder.begin_shape(static_cast<int>(ShapeKind::polygon));
  builder.begin_part(ShapeKind::polygon);
  builder.begin_ring();
  for (const auto& [x, y] : {std::pair{-180.0, -90.0}, {180.0, -90.0}, {180.0, 90.0}, {-180.0, 90.0}, {-180.0, -90.0}})
    builder.vertex(x, y);
  builder.end_shape();
  return builder.take();
}

// One shape on the plane around its middle, from which it may not reach far.
class NearMiddle {
 public:
  NearMiddle(const Ellipsoid& ellipsoid, const Globe& globe, double distance, const BufferStyle& style)
      : ellipsoid_(ellipsoid), globe_(globe), distance_(distance), style_(style) {}

  StoreBuffer operator()(const StoreView& degrees, int shape) const {
    const GeoPoint middle = middle_of_shape(degrees, shape);
    const LocalPlane plane(ellipsoid_, middle);
    const double tolerance = tolerance_of(distance_);
    const StoreBuffer flat = plane.of_degrees(edges_in_pieces(globe_, degrees, shape, longest_piece, tolerance));
    const StoreBuffer made = buffer_of_shape(flat.view(), 0, distance_, style_);
    if (made.types.empty()) return made;
    const StoreBuffer back = ToDegrees(plane, globe_, tolerance)(made.view());
    StoreBuffer cut = made_valid(cut_at_antimeridian(only_shape(back), 0).store);
    if (distance_ <= 0 || cut.types.empty()) return cut;
    // The curve of what is wider than half the globe runs around what is left out.
    const double quarter = globe_.geodesic().distance({0, 0}, {0, 90});
    if (distance_ < 0.9 * quarter || holds_a_vertex(cut, degrees, shape)) return cut;
    return mask(only_shape(whole_globe()), only_shape(cut), false).store;
  }

 private:
  static bool holds_a_vertex(const StoreBuffer& cut, const StoreView& s, int shape) {
    const int v = s.shape_vertices(shape).begin;
    return locate_in_shape(cut.view(), 0, std::remainder(s.x[v], 360.0), s.y[v]) == Location::inside;
  }
  const Ellipsoid& ellipsoid_;
  const Globe& globe_;
  const double distance_;
  const BufferStyle& style_;
};

bool lies_within_reach(const Globe& globe, const StoreView& s, int shape) {
  const Space middle = globe.place(middle_of_shape(s, shape));
  const IndexRange v = s.shape_vertices(shape);
  for (int i = v.begin; i < v.end; ++i)
    if ((globe.place({s.x[i], s.y[i]}) - middle).length() > reach) return false;
  return true;
}

// Stretches of the rings and lines of a shape, and its points, each within reach of its middle.
std::vector<StoreBuffer> stretches_of(const Geodesic& geodesic, const StoreView& s, int shape) {
  std::vector<StoreBuffer> out;
  for (int part = s.parts(shape).begin; part < s.parts(shape).end; ++part)
    for (int ring = s.rings(part).begin; ring < s.rings(part).end; ++ring) {
      const IndexRange v = s.vertices(ring);
      for (int from = v.begin; from < v.end;) {
        const GeoPoint start{s.x[from], s.y[from]};
        int to = from + 1;
        while (to < v.end && geodesic.distance(start, {s.x[to], s.y[to]}) < reach) ++to;
        ShapeBuilder builder;
        const ShapeKind kind = to - from > 1 ? ShapeKind::line : ShapeKind::point;
        builder.begin_shape(static_cast<int>(kind));
        builder.begin_part(kind);
        builder.begin_ring();
        for (int i = from; i < to; ++i) builder.vertex(s.x[i], s.y[i]);
        builder.end_shape();
        out.push_back(builder.take());
        if (to == v.end) break;
        from = to - 1 > from ? to - 1 : to;
      }
    }
  return out;
}

// Of a shape too large for one plane: the shape together with the ground around its edges, stretch by stretch, or
// without it.
StoreBuffer by_stretches(const NearMiddle& near, const Globe& globe, const StoreView& s, int shape, double distance) {
  std::vector<StoreBuffer> grounds;
  const StoreBuffer borders = borders_on_globe(s, shape);
  const StoreBuffer pieces = edges_in_pieces(globe, borders.view(), 0, longest_piece, tolerance_of(distance));
  for (const StoreBuffer& stretch : stretches_of(globe.geodesic(), pieces.view(), 0)) {
    end_if_interrupted();
    grounds.push_back(near(stretch.view(), 0));
  }
  StoreBuffer ground = union_of(std::move(grounds));
  if (!s.holds_part(shape, ShapeKind::polygon)) return ground;
  const int handle[] = {shape + 1};
  StoreBuffer inside = made_valid(cut_at_antimeridian(ShapeRows{s, handle}, 0).store);
  if (ground.types.empty()) return inside;
  if (distance < 0) return mask(only_shape(inside), only_shape(ground), false).store;
  std::vector<StoreBuffer> both;
  both.push_back(std::move(inside));
  both.push_back(std::move(ground));
  return union_of(std::move(both));
}

// In the plane of degrees, where a surface lends its measure around every vertex.
StoreBuffer in_degrees(const Surface& surface, const Globe& globe, const StoreView& s, int shape, double distance,
                       const BufferStyle& style) {
  const Box& box = s.boxes[shape];
  const double longest = surface.longest_edge(std::max(-box.ymin, box.ymax));
  const StoreBuffer pieces = edges_in_pieces(globe, s, shape, longest, std::numeric_limits<double>::infinity());
  return buffer_of_shape(pieces.view(), 0, distance, style, surface);
}

// The projection around a single place has exact distances from there.
bool is_a_place(const Box& box) { return box.xmin == box.xmax && box.ymin == box.ymax; }

bool is_round(const BufferStyle& style) {
  return style.ends == LineEnds::round && style.corners == Corners::round && style.side == LineSide::both;
}

}  // namespace

Pieces geodesic_buffer(const ShapeRows& rows, const Ellipsoid& ellipsoid, std::span<const double> distances,
                       const BufferStyle& style) {
  const Globe globe(ellipsoid);
  const Surface surface(globe);
  const double half_turn = globe.geodesic().distance({0, -90}, {0, 90});
  return buffers_by_row(rows, distances, [&](int row, double distance) -> StoreBuffer {
    if (!is_a_place(rows.store.boxes[row]) && surface.holds(rows.store.boxes[row], distance))
      return in_degrees(surface, globe, rows.store, row, distance, style);
    const std::optional<StoreBuffer> in_pieces = full_turns_in_pieces(rows.store, row);
    const StoreView s = in_pieces ? in_pieces->view() : rows.store;
    const int shape = in_pieces ? 0 : row;
    if (distance >= half_turn && s.shape_vertices(shape).size() > 0) return whole_globe();
    const NearMiddle near(ellipsoid, globe, distance, style);
    // A plane would take seams for borders, which only matters inwards.
    const bool in_a_plane = lies_within_reach(globe, s, shape) && !(distance < 0 && has_seams(s, shape));
    if (distance == 0 || !is_round(style) || in_a_plane) return near(s, shape);
    // Around its edges the ground is as wide, inwards too.
    const NearMiddle around(ellipsoid, globe, std::fabs(distance), style);
    if (distance < 0 && !s.holds_part(shape, ShapeKind::polygon)) return {};
    return by_stretches(around, globe, s, shape, distance);
  });
}

}  // namespace civic
