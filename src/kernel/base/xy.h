// A place in the plane, ordered by x, then y.
#pragma once
#include <compare>

namespace civic {

struct XY {
  double x, y;
  friend auto operator<=>(const XY&, const XY&) = default;
  friend XY operator+(XY a, XY b) { return {a.x + b.x, a.y + b.y}; }
  friend XY operator-(XY a, XY b) { return {a.x - b.x, a.y - b.y}; }
  friend XY operator*(double k, XY a) { return {k * a.x, k * a.y}; }
};

}  // namespace civic
