#include "local_plane.h"

#include <cmath>

#include "../shapes/vertices_between.h"
#include "planar.h"

namespace civic {
namespace {

void set_box(StoreBuffer& shape) {
  shape.boxes[0] = Box{};
  for (std::size_t i = 0; i < shape.x.size(); ++i) shape.boxes[0].add(shape.x[i], shape.y[i]);
}

}  // namespace

LocalPlane::LocalPlane(const Ellipsoid& ellipsoid, GeoPoint middle, const char* method) {
  Crs local;
  local.kind = CrsKind::projected;
  local.datum.ellipsoid = ellipsoid;
  local.method = method;
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

namespace {

// The direction of the plumb line at a place, of length 1, and back.
Space plumb_line(GeoPoint at) {
  const double latitude = at.latitude * degree, longitude = at.longitude * degree;
  return {std::cos(latitude) * std::cos(longitude), std::cos(latitude) * std::sin(longitude), std::sin(latitude)};
}

GeoPoint place_below(Space line) {
  return {std::atan2(line.y, line.x) / degree, std::atan2(line.z, std::hypot(line.x, line.y)) / degree};
}

constexpr double longest_piece = 20000, straight_to = 10;  // metres

GeoPoint middle_of_lines(const Globe& globe, const StoreView& s, int shape) {
  const StoreBuffer fine = edges_in_pieces(globe, s, shape, longest_piece, straight_to);
  const StoreView pieces = fine.view();
  Space sum{0, 0, 0};
  for (int part = 0; part < pieces.parts(0).end; ++part) {
    if (pieces.part_kind(part) != ShapeKind::line) continue;
    for (int ring = pieces.rings(part).begin; ring < pieces.rings(part).end; ++ring)
      for (int i = pieces.vertices(ring).begin; i + 1 < pieces.vertices(ring).end; ++i) {
        const GeoPoint a{fine.x[i], fine.y[i]}, b{fine.x[i + 1], fine.y[i + 1]};
        sum = sum + globe.rough_length(a, b) * (plumb_line(a) + plumb_line(b));
      }
  }
  return sum.length() > 0 ? place_below(sum) : middle_of_shape(s, shape);
}

GeoPoint middle_of_polygons(const Globe& globe, const Ellipsoid& ellipsoid, const StoreView& s, int shape) {
  const StoreBuffer fine = edges_in_pieces(globe, s, shape, longest_piece, straight_to);
  GeoPoint at = middle_of_shape(s, shape);
  for (int round = 0; round < 50; ++round) {
    const LocalPlane plane(ellipsoid, at, "Lambert Azimuthal Equal Area");
    const StoreBuffer flat = plane.of_degrees(fine);
    const Coordinate centre = planar_centroid(flat.view(), 0);
    at = plane.to_degrees(centre.x, centre.y);
    if (!(std::hypot(centre.x, centre.y) > 1e-6)) return at;
  }
  return at;
}

}  // namespace

GeoPoint globe_centroid(const Globe& globe, const Ellipsoid& ellipsoid, const StoreView& s, int shape) {
  if (s.holds_part(shape, ShapeKind::polygon)) return middle_of_polygons(globe, ellipsoid, s, shape);
  if (s.holds_part(shape, ShapeKind::line)) return middle_of_lines(globe, s, shape);
  const IndexRange v = s.shape_vertices(shape);
  if (v.size() == 1) return {s.x[v.begin], s.y[v.begin]};
  return v.size() == 0 ? GeoPoint{nan_value, nan_value} : middle_of_shape(s, shape);
}

}  // namespace civic
