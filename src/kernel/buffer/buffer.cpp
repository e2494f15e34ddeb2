#include "buffer.h"

#include <algorithm>
#include <cmath>

#include "../base/error.h"
#include "../base/xy.h"
#include "../overlay/dissolve.h"
#include "../overlay/mask.h"
#include "../overlay/repair.h"
#include "../overlay/thin_rings.h"
#include "../shapes/derive.h"

namespace civic {
namespace {

// The only shape of a store, all of it that a rule puts inside.
StoreBuffer filled(const StoreView& store, int shape, FillRule rule) {
  const int handle[] = {shape + 1};
  return repair({store, handle}, rule).store;
}

// Whether edges are so short against the distance that the curve would cross itself all along.
bool is_fine_grained(const StoreView& s, int shape, double distance, const Surface& surface) {
  double length = 0;
  std::size_t edges = 0;
  const IndexRange rings = s.shape_rings(shape);
  for (int ring = rings.begin; ring < rings.end; ++ring)
    for (int i = s.vertices(ring).begin; i + 1 < s.vertices(ring).end; ++i, ++edges) {
      const XY edge = surface.tangent({s.x[i], s.y[i]}).towards({s.x[i + 1], s.y[i + 1]});
      length += std::hypot(edge.x, edge.y);
    }
  return edges > 32 && length < 2 * static_cast<double>(edges) * std::fabs(distance);
}

// The ground beside the rings and lines of a shape, put together of small pieces, in which crossings stay few.
StoreBuffer ground_by_pieces(const StoreView& store, int shape, double distance, const BufferStyle& style,
                             const Surface& surface) {
  constexpr int piece_edges = 16;
  ShapeBuilder builder;
  swept_ground(store, shape, distance, style, piece_edges, surface, builder);
  const StoreBuffer ground = builder.take();
  const int handle[] = {1};
  const StoreBuffer parts = parts_of({ground.view(), handle}).store;
  std::vector<StoreBuffer> pieces;
  for (int part = 0; part < parts.view().size(); ++part)
    pieces.push_back(filled(parts.view(), part, FillRule::nonzero));
  return union_of(std::move(pieces));
}

// Of a shape that is not a valid polygon alone in its store the ground is all there is.
StoreBuffer by_pieces(const StoreView& store, int shape, double distance, const BufferStyle& style,
                      const Surface& surface, bool polygon) {
  StoreBuffer ground = ground_by_pieces(store, shape, distance, style, surface);
  if (!polygon || ground.types.empty()) return ground;
  const int one[] = {1};
  const ShapeRows both[] = {{store, one}, {ground.view(), one}};
  return distance > 0 ? united(both) : mask(both[0], both[1], false).store;
}

// Ground and shape share the shape's edges, and each came through a snap rounding of its own: what they leave of no
// width between them, as holes of a buffer or parts of what is left inside, is taken out.
StoreBuffer without_slivers(StoreBuffer made, double width) {
  return without_thin_rings(std::move(made), Rings::holes_and_parts, 1e-6 * width);
}

// The curve, if all of it is one ring that turns left once around, from its leftmost place: such a one needs no
// filling.
std::vector<XY> convex_ring(const StoreView& curve) {
  if (curve.ring_vertices.size() != 2) return {};
  std::vector<XY> ring;
  for (int i = 0; i < curve.ring_vertices[1]; ++i) ring.push_back({curve.x[i], curve.y[i]});
  const std::size_t n = ring.size();
  int turns_back = 0;
  for (std::size_t i = 0; i < n; ++i) {
    const XY &a = ring[i], &b = ring[(i + 1) % n], &c = ring[(i + 2) % n];
    const double ux = b.x - a.x, uy = b.y - a.y, vx = c.x - b.x, vy = c.y - b.y;
    const double least = 1e-9 * std::hypot(ux, uy) * std::hypot(vx, vy);
    if (!(ux * vy - uy * vx > least)) return {};
    turns_back += (a < b) != (b < c);
  }
  if (turns_back != 2) return {};
  std::rotate(ring.begin(), std::min_element(ring.begin(), ring.end()), ring.end());
  return ring;
}

StoreBuffer filled_curve(const StoreView& curve) {
  const std::vector<XY> ring = convex_ring(curve);
  if (ring.empty()) return filled(curve, 0, FillRule::positive);
  ShapeBuilder builder;
  builder.begin_shape(type_code(ShapeKind::polygon, false, false));
  builder.begin_part(ShapeKind::polygon);
  builder.begin_ring();
  for (const XY p : ring) builder.vertex(p.x, p.y);
  builder.vertex(ring[0].x, ring[0].y);
  builder.end_shape();
  return builder.take();
}

}  // namespace

StoreBuffer buffer_of_shape(const StoreView& store, int shape, double distance, const BufferStyle& style,
                            const Surface& surface) {
  const bool polygon = store.holds_part(shape, ShapeKind::polygon);
  StoreBuffer valid;
  if (polygon) {
    valid = filled(store, shape, FillRule::even_odd);
    if (distance == 0 || valid.types.empty()) return valid;
  }
  const StoreView from = polygon ? valid.view() : store;
  const int at = polygon ? 0 : shape;
  if (is_fine_grained(from, at, distance, surface))
    return without_slivers(by_pieces(from, at, distance, style, surface, polygon),
                           surface.units_of_coordinates(std::fabs(distance)));
  ShapeBuilder curve;
  offset_curve(from, at, distance, style, surface, curve);
  return filled_curve(curve.take().view());
}

Pieces buffers_by_row(const ShapeRows& rows, std::span<const double> distances,
                      const std::function<StoreBuffer(int shape, double distance)>& make) {
  for (const double distance : distances)
    if (std::isinf(distance)) throw ArgumentError("a distance is infinite");
  return row_by_row(rows, [&](const ShapeRows& one, int row) {
    return std::isnan(distances[row]) ? StoreBuffer() : make(one[0], distances[row]);
  });
}

Pieces buffer(const ShapeRows& rows, std::span<const double> distances, const BufferStyle& style) {
  return buffers_by_row(
      rows, distances, [&](int shape, double distance) { return buffer_of_shape(rows.store, shape, distance, style); });
}

}  // namespace civic
