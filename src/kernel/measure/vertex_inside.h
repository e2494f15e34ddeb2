// Whether a vertex of one shape lies inside a polygon of another or on its border, by the first of each ring.
#pragma once
#include "../predicate/locate.h"

namespace civic {

inline bool vertex_inside(const StoreView& inner, int inner_shape, const StoreView& outer, int outer_shape) {
  const IndexRange rings = inner.shape_rings(inner_shape);
  const Box& box = outer.boxes[static_cast<std::size_t>(outer_shape)];
  for (int ring = rings.begin; ring < rings.end; ++ring) {
    const IndexRange v = inner.vertices(ring);
    if (v.size() == 0) continue;
    const auto first = static_cast<std::size_t>(v.begin);
    if (box.holds(inner.x[first], inner.y[first]) &&
        locate_in_shape(outer, outer_shape, inner.x[first], inner.y[first]) != Location::outside)
      return true;
  }
  return false;
}

}  // namespace civic
