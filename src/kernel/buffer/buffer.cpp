#include "buffer.h"

#include <cmath>

#include "../error.h"
#include "../shapes/derive.h"

namespace civic {
namespace {

// The only shape of a store, all of it that a rule puts inside.
StoreBuffer filled(const StoreView& store, int shape, FillRule rule) {
  const int handle[] = {shape + 1};
  return repair({store, handle}, rule).store;
}

// The union of the first shapes of two stores.
StoreBuffer united(const StoreView& a, const StoreView& b) {
  const int one[] = {1}, group[] = {0, 0};
  const ShapeRows pair[] = {{a, one}, {b, one}};
  std::vector<int> handles;
  const StoreBuffer both = gather(pair, handles, 0);
  return dissolve({both.view(), handles}, group).store;
}

// The union of shapes one of each store, neighbours first.
StoreBuffer merged(std::vector<StoreBuffer> shapes) {
  while (shapes.size() > 1) {
    std::vector<StoreBuffer> next;
    for (std::size_t i = 0; i < shapes.size(); i += 2) {
      if (i + 1 == shapes.size() || shapes[i].types.empty() || shapes[i + 1].types.empty()) {
        next.push_back(std::move(shapes[i].types.empty() && i + 1 < shapes.size() ? shapes[i + 1] : shapes[i]));
        continue;
      }
      next.push_back(united(shapes[i].view(), shapes[i + 1].view()));
    }
    shapes.swap(next);
  }
  return shapes.empty() ? StoreBuffer() : std::move(shapes[0]);
}

// Whether edges are so short against the distance that the curve would cross itself all along.
bool is_fine_grained(const StoreView& s, int shape, double distance) {
  double length = 0;
  std::size_t edges = 0;
  const IndexRange rings = s.shape_rings(shape);
  for (int ring = rings.begin; ring < rings.end; ++ring)
    for (int i = s.vertices(ring).begin; i + 1 < s.vertices(ring).end; ++i, ++edges)
      length += std::hypot(s.x[i + 1] - s.x[i], s.y[i + 1] - s.y[i]);
  return edges > 32 && length < 2 * static_cast<double>(edges) * std::fabs(distance);
}

// The ground beside the rings and lines of a shape, put together of small pieces, in which crossings stay few.
StoreBuffer ground_by_pieces(const StoreView& store, int shape, double distance, const BufferStyle& style) {
  constexpr int piece_edges = 16;
  ShapeBuilder builder;
  swept_ground(store, shape, distance, style, piece_edges, builder);
  const StoreBuffer ground = builder.take();
  const int handle[] = {1};
  const StoreBuffer parts = parts_of({ground.view(), handle}).store;
  std::vector<StoreBuffer> pieces;
  for (int part = 0; part < parts.view().size(); ++part)
    pieces.push_back(filled(parts.view(), part, FillRule::nonzero));
  return merged(std::move(pieces));
}

// Of a shape that is not a valid polygon alone in its store the ground is all there is.
StoreBuffer by_pieces(const StoreView& store, int shape, double distance, const BufferStyle& style, bool polygon) {
  StoreBuffer ground = ground_by_pieces(store, shape, distance, style);
  if (!polygon || ground.types.empty()) return ground;
  if (distance > 0) return united(store, ground.view());
  const int one[] = {1};
  return mask({store, one}, {ground.view(), one}, false).store;
}

// Mean width of what a ring encloses.
double width_of_ring(const StoreView& s, IndexRange v) {
  double perimeter = 0;
  for (int i = v.begin; i + 1 < v.end; ++i) perimeter += std::hypot(s.x[i + 1] - s.x[i], s.y[i + 1] - s.y[i]);
  return perimeter > 0 ? std::fabs(signed_area_twice(s, v)) / perimeter : 0;
}

// Ground and shape share the shape's edges, and each came through a snap rounding of its own: what they leave of no
// width between them, as holes of a buffer or parts of what is left inside, is taken out.
StoreBuffer without_slivers(StoreBuffer made, double distance) {
  const double least = 1e-6 * std::fabs(distance);
  const StoreView s = made.view();
  if (s.size() == 0) return made;
  const auto is_thin = [&](int ring) { return width_of_ring(s, s.vertices(ring)) < least; };
  const int rings = static_cast<int>(s.ring_vertices.size()) - 1;
  int thin = 0;
  for (int ring = 0; ring < rings; ++ring) thin += is_thin(ring);
  if (thin == 0) return made;
  std::vector<int> parts;
  for (int part = s.parts(0).begin; part < s.parts(0).end; ++part)
    if (!is_thin(s.rings(part).begin)) parts.push_back(part);
  if (parts.empty()) return {};
  ShapeBuilder builder;
  builder.begin_shape(type_code(parts.size() > 1 ? ShapeKind::multipolygon : ShapeKind::polygon, false, false));
  for (const int part : parts) {
    builder.begin_part(ShapeKind::polygon);
    for (int ring = s.rings(part).begin; ring < s.rings(part).end; ++ring) {
      if (ring > s.rings(part).begin && is_thin(ring)) continue;
      builder.begin_ring();
      for (int i = s.vertices(ring).begin; i < s.vertices(ring).end; ++i) builder.vertex(s.x[i], s.y[i]);
    }
  }
  builder.end_shape();
  return builder.take();
}

}  // namespace

StoreBuffer buffer_of_shape(const StoreView& store, int shape, double distance, const BufferStyle& style) {
  const bool polygon = store.holds_part(shape, ShapeKind::polygon);
  StoreBuffer valid;
  if (polygon) {
    valid = filled(store, shape, FillRule::even_odd);
    if (distance == 0 || valid.types.empty()) return valid;
  }
  const StoreView from = polygon ? valid.view() : store;
  const int at = polygon ? 0 : shape;
  if (is_fine_grained(from, at, distance))
    return without_slivers(by_pieces(from, at, distance, style, polygon), distance);
  ShapeBuilder curve;
  offset_curve(from, at, distance, style, curve);
  return filled(curve.take().view(), 0, FillRule::positive);
}

StoreBuffer union_of(std::vector<StoreBuffer> shapes) { return merged(std::move(shapes)); }

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
