// Sums over the rings of a shape.
#pragma once
#include <cmath>

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

// Area of the polygon parts: each shell less its holes, from the areas of rings. What lies around its shell was the
// shell: no part is below 0.
template <class RingArea>
double area_of_rings(const StoreView& store, int shape, const RingArea& ring_area) {
  double sum = 0;
  const IndexRange parts = store.parts(shape);
  for (int part = parts.begin; part < parts.end; ++part) {
    if (store.part_kind(part) != ShapeKind::polygon) continue;
    const IndexRange rings = store.rings(part);
    double area = 0;
    for (int ring = rings.begin; ring < rings.end; ++ring)
      area += (ring == rings.begin ? 1 : -1) * ring_area(store.vertices(ring));
    sum += std::fabs(area);
  }
  return sum;
}

}  // namespace civic
