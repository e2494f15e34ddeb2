#include "buffer.h"

#include <cmath>

#include "../error.h"
#include "../measure/local_plane.h"
#include "../shapes/antimeridian.h"

namespace civic {
namespace {

// The only shape of a store, all of it that a rule puts inside.
StoreBuffer filled(const StoreView& store, int shape, FillRule rule) {
  const int handle[] = {shape + 1};
  return repair({store, handle}, rule).store;
}

bool holds_polygon(const StoreView& s, int shape) {
  for (int part = s.parts(shape).begin; part < s.parts(shape).end; ++part)
    if (s.part_kind(part) == ShapeKind::polygon) return true;
  return false;
}

// Empty where nothing is left.
StoreBuffer buffer_of(const StoreView& store, int shape, double distance, const BufferStyle& style) {
  if (holds_polygon(store, shape)) {
    const StoreBuffer valid = filled(store, shape, FillRule::even_odd);
    if (distance == 0 || valid.types.empty()) return valid;
    ShapeBuilder curve;
    offset_curve(valid.view(), 0, distance, style, curve);
    return filled(curve.take().view(), 0, FillRule::positive);
  }
  ShapeBuilder curve;
  offset_curve(store, shape, distance, style, curve);
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
