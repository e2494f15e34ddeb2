#include "thin_rings.h"

#include <cmath>
#include <utility>

#include "../measure/planar.h"

namespace civic {
namespace {

// Mean width of what a ring encloses.
double width_of_ring(const StoreView& s, IndexRange v) {
  double perimeter = 0;
  for (int i = v.begin; i + 1 < v.end; ++i) perimeter += std::hypot(s.x[i + 1] - s.x[i], s.y[i + 1] - s.y[i]);
  return perimeter > 0 ? std::fabs(signed_area_twice(s, v)) / perimeter : 0;
}

}  // namespace

StoreBuffer without_thin_rings(StoreBuffer made, Rings which, double width) {
  const StoreView s = made.view();
  std::vector<char> dropped(s.ring_vertices.size(), 0);
  std::vector<int> parts;  // that stay
  bool any = false;
  for (int part = 0; part + 1 < static_cast<int>(s.part_rings.size()); ++part) {
    const IndexRange rings = s.rings(part);
    if (s.part_kind(part) == ShapeKind::polygon)
      for (int ring = rings.begin + (which == Rings::holes ? 1 : 0); ring < rings.end; ++ring) {
        dropped[ring] = width_of_ring(s, s.vertices(ring)) < width;
        any |= dropped[ring] != 0;
      }
    if (dropped[rings.begin] == 0) parts.push_back(part);
  }
  if (!any) return made;
  if (parts.empty()) return {};
  ShapeKind kind = kind_of(s.types[0]);
  if (kind == ShapeKind::multipolygon && parts.size() == 1) kind = ShapeKind::polygon;
  ShapeBuilder builder;
  builder.begin_shape(type_code(kind, false, false));
  for (const int part : parts) {
    builder.begin_part(s.part_kind(part));
    for (int ring = s.rings(part).begin; ring < s.rings(part).end; ++ring) {
      if (dropped[ring] != 0) continue;
      builder.begin_ring();
      for (int i = s.vertices(ring).begin; i < s.vertices(ring).end; ++i) builder.vertex(s.x[i], s.y[i]);
    }
  }
  builder.end_shape();
  return builder.take();
}

}  // namespace civic
