#include "buffer.h"

#include <cmath>

#include "../error.h"
#include "../measure/local_plane.h"
#include "../shapes/antimeridian.h"
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

// Empty where nothing is left.
StoreBuffer buffer_of(const StoreView& store, int shape, double distance, const BufferStyle& style) {
  const bool polygon = store.holds_part(shape, ShapeKind::polygon);
  StoreBuffer valid;
  if (polygon) {
    valid = filled(store, shape, FillRule::even_odd);
    if (distance == 0 || valid.types.empty()) return valid;
  }
  const StoreView from = polygon ? valid.view() : store;
  const int at = polygon ? 0 : shape;
  if (is_fine_grained(from, at, distance)) return by_pieces(from, at, distance, style, polygon);
  ShapeBuilder curve;
  offset_curve(from, at, distance, style, curve);
  return filled(curve.take().view(), 0, FillRule::positive);
}

// Of one row; none where its distance is missing.
using Made = std::function<StoreBuffer(int shape, double distance)>;
Pieces buffers_by_row(const ShapeRows& rows, std::span<const double> distances, const Made& make) {
  for (const double distance : distances)
    if (std::isinf(distance)) throw ArgumentError("a distance is infinite");
  return row_by_row(rows, [&](const ShapeRows& one, int row) {
    return std::isnan(distances[row]) ? StoreBuffer() : make(one[0], distances[row]);
  });
}

}  // namespace

Pieces buffer(const ShapeRows& rows, std::span<const double> distances, const BufferStyle& style) {
  return buffers_by_row(rows, distances,
                        [&](int shape, double distance) { return buffer_of(rows.store, shape, distance, style); });
}

Pieces geodesic_buffer(const ShapeRows& rows, const Ellipsoid& ellipsoid, std::span<const double> distances,
                       const BufferStyle& style) {
  const Geodesic geodesic(ellipsoid);
  return buffers_by_row(rows, distances, [&](int shape, double distance) -> StoreBuffer {
    const LocalPlane plane(ellipsoid, middle_of_shape(rows.store, shape));
    const StoreBuffer flat = plane.of_degrees(edges_in_pieces(geodesic, rows.store, shape, 20000));
    StoreBuffer made = buffer_of(flat.view(), 0, distance, style);
    if (made.types.empty()) return made;
    const StoreBuffer back = plane.to_degrees(std::move(made));
    const int handle[] = {1};
    return cut_at_antimeridian({back.view(), handle}, 0).store;
  });
}

}  // namespace civic
