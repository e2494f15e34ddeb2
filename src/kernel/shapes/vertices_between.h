// A shape with more vertices along its edges.
#pragma once
#include "store.h"

namespace civic {

// Calls between(builder, part, i) for the edge from each vertex i of a part to the next, to add what is to lie between.
template <class Between>
StoreBuffer with_vertices_between(const StoreView& s, int shape, const Between& between) {
  ShapeBuilder builder;
  builder.begin_shape(s.types[shape]);
  for (int part = s.parts(shape).begin; part < s.parts(shape).end; ++part) {
    builder.begin_part(s.part_kind(part));
    for (int ring = s.rings(part).begin; ring < s.rings(part).end; ++ring) {
      builder.begin_ring();
      const IndexRange v = s.vertices(ring);
      for (int i = v.begin; i < v.end; ++i) {
        builder.vertex(s.x[i], s.y[i]);
        if (i + 1 < v.end) between(builder, part, i);
      }
    }
  }
  builder.end_shape();
  return builder.take();
}

}  // namespace civic
