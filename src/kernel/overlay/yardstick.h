// How lengths and areas of coordinates are taken: as they are, or on longitude and latitude in metres.
#pragma once
#include <vector>

#include "../base/xy.h"
#include "arrangement.h"

namespace civic {

// On the globe places are compared in the plane that touches the ellipsoid (WGS 84) there, true to a ten-thousandth for
// lengths up to some kilometres.
class Yardstick {
 public:
  explicit Yardstick(bool on_globe) : on_globe_(on_globe) {}

  // How long a unit of x and one of y are at a place.
  XY units_at(double y) const;
  double distance(XY a, XY b) const;
  // Share of the way from a to b that is nearest to p.
  double share_along(XY a, XY b, XY p) const;
  // A box with all that is within reach of another.
  Box grown(const Box& box, double reach) const;
  bool is_on_globe() const { return on_globe_; }

 private:
  bool on_globe_;
};

// Of an arrangement's cells. The area of face 0, the outside, is infinite.
class CellSizes {
 public:
  CellSizes(const Arrangement& arrangement, const Yardstick& yardstick);
  double area(int face) const { return on_globe_.empty() ? a_.area(face) : on_globe_[face]; }
  double length(int edge) const;

 private:
  const Arrangement& a_;
  Yardstick yardstick_;
  std::vector<double> on_globe_;
};

}  // namespace civic
