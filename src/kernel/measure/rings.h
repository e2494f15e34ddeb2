// Sums over the rings of a shape.
#pragma once
#include "../shapes/store.h"

namespace civic {

// Sum of measure(ring's vertices, whether it is a shell) over all rings of the parts of one kind; the rings of a line
// part are its one line.
template <class Measure>
double sum_over_rings(const StoreView& store, int shape, ShapeKind kind, const Measure& measure) {
  double sum = 0;
  const IndexRange parts = store.parts(shape);
  for (int part = parts.begin; part < parts.end; ++part) {
    if (store.part_kind(part) != kind) continue;
    const IndexRange rings = store.rings(part);
    for (int ring = rings.begin; ring < rings.end; ++ring) sum += measure(store.vertices(ring), ring == rings.begin);
  }
  return sum;
}

}  // namespace civic
