#include "globe_shape.h"

#include <algorithm>
#include <cmath>

namespace civic {

double Space::length() const { return std::sqrt(dot(*this, *this)); }

Globe::Globe(const Ellipsoid& ellipsoid)
    : geodesic_(ellipsoid),
      a_(ellipsoid.semi_major),
      e2_(ellipsoid.e2()),
      least_radius_(a_ * (1 - e2_)),
      greatest_radius_(1.01 * a_ / (1 - ellipsoid.flattening())) {}  // a geodesic turns a little, too

Space Globe::place(GeoPoint at) const {
  const double latitude = at.latitude * degree, longitude = at.longitude * degree;
  const double s = std::sin(latitude), c = std::cos(latitude), normal = a_ / std::sqrt(1 - e2_ * s * s);
  return {normal * c * std::cos(longitude), normal * c * std::sin(longitude), normal * (1 - e2_) * s};
}

// Chords of arcs that are curved as the ellipsoid is where least, and where most (Schur's comparison theorem).
double Globe::longest_chord(double geodesic) const {
  const double half = geodesic / (2 * greatest_radius_);
  return half >= pi / 2 ? HUGE_VAL : 2 * greatest_radius_ * std::sin(half);
}

double Globe::longest_geodesic(double chord) const {
  const double ratio = chord / (2 * least_radius_);
  return ratio > 0.99 ? HUGE_VAL : 2 * least_radius_ * std::asin(ratio);
}

double Globe::bow(GeoPoint a, GeoPoint b) const {
  const double east = std::fabs(b.longitude - a.longitude) * degree,
               north = std::fabs(b.latitude - a.latitude) * degree;
  const double least =
      (a.latitude > 0) == (b.latitude > 0) ? std::min(std::fabs(a.latitude), std::fabs(b.latitude)) : 0;
  const double greatest = std::max(std::fabs(a.latitude), std::fabs(b.latitude));
  const double bend =
      east * east * std::cos(least * degree) + 2 * east * north * std::sin(greatest * degree) + north * north;
  return 1.02 * a_ * bend / 8;
}

double Globe::swerve(GeoPoint a, GeoPoint b) const {
  const double east = std::fabs(b.longitude - a.longitude) * degree,
               north = std::fabs(b.latitude - a.latitude) * degree;
  const double latitude = std::max(std::fabs(a.latitude), std::fabs(b.latitude)) * degree;
  return a_ * east * std::sin(latitude) * std::hypot(std::cos(latitude) * east, 2 * north) / 8;
}

double Globe::rough_length(GeoPoint a, GeoPoint b) const {
  const Degree size = degree_at((a.latitude + b.latitude) / 2);
  return std::hypot((b.longitude - a.longitude) * size.east, (b.latitude - a.latitude) * size.north);
}

Globe::Degree Globe::degree_at(double latitude) const {
  const double s = std::sin(latitude * degree), w2 = 1 - e2_ * s * s, normal = a_ / std::sqrt(w2);
  return {normal * std::cos(latitude * degree) * degree, normal * (1 - e2_) / w2 * degree};
}

GlobeShape::GlobeShape(const Globe& globe, const StoreView& store, int shape)
    : store_(store), shape_(shape), first_vertex_(store.shape_vertices(shape).begin) {
  const IndexRange all = store.shape_vertices(shape), rings = store.shape_rings(shape);
  at_.reserve(static_cast<std::size_t>(all.size()));
  edges_.reserve(static_cast<std::size_t>(all.size()));
  for (int i = 0; i < all.size(); ++i) at_.push_back(globe.place(degrees(i)));
  for (int ring = rings.begin; ring < rings.end; ++ring) {
    const int first = store.vertices(ring).begin - all.begin, last = store.vertices(ring).end - all.begin - 1;
    if (first == last) edges_.push_back({first, first, 0});
    for (int i = first; i < last; ++i)
      edges_.push_back({i, i + 1, static_cast<float>(1.000001 * globe.bow(degrees(i), degrees(i + 1)))});
  }
  enclose();
}

void GlobeShape::enclose() {
  constexpr std::size_t step = fanout;
  std::vector<Sphere> level;
  for (const Edge& e : edges_) {
    const Space a = at(e.from), b = at(e.to);
    level.push_back({0.5 * (a + b), 0.5 * (b - a).length() + e.bow});
  }
  while (level.size() > 1 || (spheres_.empty() && !level.empty())) {
    std::vector<Sphere> above;
    for (std::size_t begin = 0; begin < level.size(); begin += step) {
      const std::size_t end = std::min(level.size(), begin + step);
      Sphere around{{0, 0, 0}, 0};
      for (std::size_t i = begin; i < end; ++i)
        around.centre = around.centre + (1.0 / static_cast<double>(end - begin)) * level[i].centre;
      for (std::size_t i = begin; i < end; ++i)
        around.radius = std::max(around.radius, (level[i].centre - around.centre).length() + level[i].radius);
      above.push_back(around);
    }
    spheres_.push_back(above);
    level.swap(above);
  }
}

}  // namespace civic
