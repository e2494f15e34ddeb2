#include "local_plane.h"

#include <cmath>

#include "../shapes/vertices_between.h"

namespace civic {
namespace {

void set_box(StoreBuffer& shape) {
  shape.boxes[0] = Box{};
  for (std::size_t i = 0; i < shape.x.size(); ++i) shape.boxes[0].add(shape.x[i], shape.y[i]);
}

}  // namespace

LocalPlane::LocalPlane(const Ellipsoid& ellipsoid, GeoPoint middle) {
  Crs local;
  local.kind = CrsKind::projected;
  local.datum.ellipsoid = ellipsoid;
  local.method = "Azimuthal Equidistant";
  local.parameters = {{"latitude_of_origin", middle.latitude}, {"central_meridian", middle.longitude}};
  projection_ = make_projection(local);
}

StoreBuffer LocalPlane::of_degrees(StoreBuffer shape) const {
  for (double& x : shape.x) x *= degree;
  for (double& y : shape.y) y *= degree;
  projection_->forward(shape.x.data(), shape.y.data(), shape.x.size());
  set_box(shape);
  return shape;
}

StoreBuffer LocalPlane::to_degrees(StoreBuffer shape) const {
  projection_->inverse(shape.x.data(), shape.y.data(), shape.x.size());
  for (double& x : shape.x) x /= degree;
  for (double& y : shape.y) y /= degree;
  set_box(shape);
  return shape;
}

GeoPoint LocalPlane::to_degrees(double x, double y) const {
  projection_->inverse(&x, &y, 1);
  return {x / degree, y / degree};
}

GeoPoint middle_of_shape(const StoreView& s, int shape) {
  const IndexRange v = s.shape_vertices(shape);
  double x = 0, y = 0, z = 0;
  for (int i = v.begin; i < v.end; ++i) {
    const double longitude = s.x[i] * degree, latitude = s.y[i] * degree;
    x += std::cos(latitude) * std::cos(longitude);
    y += std::cos(latitude) * std::sin(longitude);
    z += std::sin(latitude);
  }
  return {std::atan2(y, x) / degree, std::atan2(z, std::hypot(x, y)) / degree};
}

StoreBuffer edges_in_pieces(const Globe& globe, const StoreView& s, int shape, double longest, double tolerance) {
  return with_vertices_between(s, shape, [&](ShapeBuilder& builder, int, int i) {
    const GeoPoint from{s.x[i], s.y[i]}, to{s.x[i + 1], s.y[i + 1]};
    const double east = to.longitude - from.longitude, north = to.latitude - from.latitude;
    const double cut = std::max(std::sqrt(globe.swerve(from, to) / tolerance), globe.rough_length(from, to) / longest);
    const int pieces = static_cast<int>(std::ceil(std::min(cut, 1e6)));
    for (int k = 1; k < pieces; ++k)
      builder.vertex(from.longitude + east * k / pieces, from.latitude + north * k / pieces);
  });
}

}  // namespace civic
