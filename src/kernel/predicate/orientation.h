// The exact side of a point against a directed line: a floating-point filter with an error bound, then expansions
// (Shewchuk 1997, "Adaptive precision floating-point arithmetic and fast robust geometric predicates").
#pragma once
#include <cmath>

namespace civic {

// The exact sign by expansion arithmetic; called where the filter cannot decide.
int orientation_exact(double ax, double ay, double bx, double by, double cx, double cy);

// +1 where c lies left of the line from a to b, -1 right of it, 0 on it. Exact for finite input whose products
// neither overflow nor underflow.
inline int orientation(double ax, double ay, double bx, double by, double cx, double cy) {
  const double left = (ax - cx) * (by - cy), right = (ay - cy) * (bx - cx);
  const double det = left - right;
  constexpr double bound = 3.3306690738754716e-16;  // (3 + 16 u) u with u = 2^-53
  const double error = bound * (std::fabs(left) + std::fabs(right));
  if (det > error) return 1;
  if (det < -error) return -1;
  return orientation_exact(ax, ay, bx, by, cx, cy);
}

}  // namespace civic
