#include "surface.h"

#include <algorithm>
#include <cmath>

namespace civic {
namespace {

constexpr double accuracy = 5e-5;     // of a distance
constexpr double most_northern = 85;  // degrees, north and south
constexpr double antimeridian = 180 - 1e-6;

}  // namespace

Tangent Surface::tangent(XY at) const {
  if (!globe_) return {at};
  const Globe::Degree size = globe_->degree_at(at.y);
  const double slope = std::tan(at.y * degree) * degree;
  // A geodesic to the east bends to the equator, one to the north-east has shorter parallels before it.
  const double parallel = size.east / std::cos(at.y * degree);
  return {at, size.east, size.north, slope / parallel, slope / (2 * parallel * size.north)};
}

double Surface::units_of_coordinates(double distance) const {
  return globe_ ? distance / globe_->degree_at(45).north : distance;
}

bool Surface::holds(const Box& box, double distance) const {
  if (!globe_ || box.empty()) return false;
  const double latitude = std::max(-box.ymin, box.ymax), reach = std::fabs(distance);
  const double far = latitude + reach / globe_->degree_at(latitude).north;
  if (far > most_northern) return false;
  const double slope = std::tan(far * degree), turn = reach / globe_->least_radius();
  const double east = reach / globe_->degree_at(far).east;
  return (1 + 3 * slope * slope) * turn * turn / 3 < accuracy && box.xmin - east > -antimeridian &&
         box.xmax + east < antimeridian;
}

double Surface::longest_edge(double latitude) const {
  const double slope = std::tan(latitude * degree);
  return globe_->least_radius() * std::sqrt(8 * accuracy / (1 + 2 * slope * slope));
}

}  // namespace civic
