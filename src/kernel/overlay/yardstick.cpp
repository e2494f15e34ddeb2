#include "yardstick.h"

#include <algorithm>
#include <cmath>
#include <limits>

#include "../base/portable.h"

namespace civic {
namespace {

constexpr double radius = 6378137, flattening = 1 / 298.257223563;  // WGS 84
constexpr double eccentricity2 = flattening * (2 - flattening);

// Area between the equator and a latitude for each radian of longitude (Snyder 1987, "Map projections: a working
// manual", equation 3-12).
double area_to(double latitude) {
  const double e = std::sqrt(eccentricity2), sine = std::sin(latitude * degree);
  return radius * radius * (1 - eccentricity2) / 2 *
         (sine / (1 - eccentricity2 * sine * sine) + std::atanh(e * sine) / e);
}

// What an edge from a to b adds to the area on its left, in a sum around it: Simpson's rule along the edge.
double area_beside(XY a, XY b) {
  return (a.x - b.x) * degree * (area_to(a.y) + 4 * area_to((a.y + b.y) / 2) + area_to(b.y)) / 6;
}

}  // namespace

// Radii of curvature along the meridian and across it (Snyder 1987, equations 4-18 and 4-20).
XY Yardstick::units_at(double y) const {
  if (!on_globe_) return {1, 1};
  const double sine = std::sin(y * degree), w = 1 - eccentricity2 * sine * sine, across = radius / std::sqrt(w);
  return {across * std::cos(y * degree) * degree, across * (1 - eccentricity2) / w * degree};
}

double Yardstick::distance(XY a, XY b) const {
  const XY unit = units_at((a.y + b.y) / 2);
  return std::hypot((a.x - b.x) * unit.x, (a.y - b.y) * unit.y);
}

double Yardstick::share_along(XY a, XY b, XY p) const {
  const XY unit = units_at(p.y);
  const double dx = (b.x - a.x) * unit.x, dy = (b.y - a.y) * unit.y, length = dx * dx + dy * dy;
  return length == 0 ? 0 : std::clamp(((p.x - a.x) * unit.x * dx + (p.y - a.y) * unit.y * dy) / length, 0.0, 1.0);
}

Box Yardstick::grown(const Box& box, double reach) const {
  if (!on_globe_) return box.grown(reach);
  const double dy = reach / units_at(0).y;  // where degrees of latitude are shortest
  const double farthest = std::min(90.0, std::max(std::fabs(box.ymin - dy), std::fabs(box.ymax + dy)));
  const double dx = std::min(360.0, reach / std::max(units_at(farthest).x, 1e-9));
  return {box.xmin - dx, box.ymin - dy, box.xmax + dx, box.ymax + dy};
}

CellSizes::CellSizes(const Arrangement& a, const Yardstick& yardstick) : a_(a), yardstick_(yardstick) {
  if (!yardstick.is_on_globe()) return;
  on_globe_.assign(a.faces(), 0);
  for (int e = 0; e < a.edges(); ++e) {
    const Arrangement::Edge& edge = a.edge(e);
    const double area = area_beside({a.x(edge.from), a.y(edge.from)}, {a.x(edge.to), a.y(edge.to)});
    on_globe_[edge.left] += area;
    on_globe_[edge.right] -= area;
  }
  on_globe_[0] = std::numeric_limits<double>::infinity();
}

double CellSizes::length(int e) const {
  if (on_globe_.empty()) return a_.length(e);
  const Arrangement::Edge& edge = a_.edge(e);
  return yardstick_.distance({a_.x(edge.from), a_.y(edge.from)}, {a_.x(edge.to), a_.y(edge.to)});
}

}  // namespace civic
