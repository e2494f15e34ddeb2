#include "planar.h"

#include <cmath>

#include "rings.h"

namespace civic {
namespace {

double ring_length(const StoreView& store, IndexRange v) {
  double sum = 0;
  for (int i = v.begin; i + 1 < v.end; ++i) sum += std::hypot(store.x[i + 1] - store.x[i], store.y[i + 1] - store.y[i]);
  return sum;
}

// Weighted mean of coordinates, taken relative to an origin near the shape to keep digits.
class CentreOfMass {
 public:
  CentreOfMass(double x0, double y0) : x0_(x0), y0_(y0) {}
  void add(double x, double y, double weight) {
    weight_ += weight;
    x_ += (x - x0_) * weight;
    y_ += (y - y0_) * weight;
  }
  bool has_weight() const { return weight_ > 0; }
  Coordinate mean() const { return {x0_ + x_ / weight_, y0_ + y_ / weight_}; }

 private:
  double x0_, y0_, x_ = 0, y_ = 0, weight_ = 0;
};

void add_ring_area(const StoreView& s, IndexRange v, bool shell, CentreOfMass& mass) {
  const double x0 = s.x[v.begin], y0 = s.y[v.begin];
  const double sign = (signed_area_twice(s, v) < 0) == shell ? -1 : 1;
  for (int i = v.begin + 1; i + 1 < v.end; ++i) {
    const double cross = (s.x[i] - x0) * (s.y[i + 1] - y0) - (s.x[i + 1] - x0) * (s.y[i] - y0);
    mass.add((x0 + s.x[i] + s.x[i + 1]) / 3, (y0 + s.y[i] + s.y[i + 1]) / 3, sign * cross);
  }
}

void add_ring_length(const StoreView& s, IndexRange v, CentreOfMass& mass) {
  for (int i = v.begin; i + 1 < v.end; ++i)
    mass.add((s.x[i] + s.x[i + 1]) / 2, (s.y[i] + s.y[i + 1]) / 2,
             std::hypot(s.x[i + 1] - s.x[i], s.y[i + 1] - s.y[i]));
}

}  // namespace

double planar_area(const StoreView& store, int shape) {
  return area_of_rings(store, shape, [&](IndexRange v) { return std::fabs(signed_area_twice(store, v)) / 2; });
}

double planar_length(const StoreView& store, int shape) {
  return sum_over_rings(store, shape, ShapeKind::line, [&](IndexRange v, bool) { return ring_length(store, v); });
}

double planar_perimeter(const StoreView& store, int shape) {
  return sum_over_rings(store, shape, ShapeKind::polygon, [&](IndexRange v, bool) { return ring_length(store, v); });
}

Coordinate planar_centroid(const StoreView& store, int shape) {
  const IndexRange all = store.shape_vertices(shape);
  if (all.size() == 0) return {nan_value, nan_value};
  // Areas first; where they have no extent, lengths; where those have none, the vertices.
  for (int dimension = 2; dimension >= 0; --dimension) {
    CentreOfMass mass(store.x[all.begin], store.y[all.begin]);
    const IndexRange parts = store.parts(shape);
    for (int part = parts.begin; part < parts.end; ++part) {
      if (dimension_of(store.part_kind(part)) < dimension) continue;
      const IndexRange rings = store.rings(part);
      for (int ring = rings.begin; ring < rings.end; ++ring) {
        const IndexRange v = store.vertices(ring);
        if (v.size() == 0) continue;
        if (dimension == 2) add_ring_area(store, v, ring == rings.begin, mass);
        if (dimension == 1) add_ring_length(store, v, mass);
        if (dimension == 0)
          for (int i = v.begin; i < v.end; ++i) mass.add(store.x[i], store.y[i], 1);
      }
    }
    if (mass.has_weight()) return mass.mean();
  }
  return {nan_value, nan_value};
}

}  // namespace civic
