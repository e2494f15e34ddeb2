// What the shapes of two layers have in common, measured and not cut.
#pragma once
#include <vector>

#include "arrangement.h"

namespace civic {

// How much area and length each pair of shapes has in common; only pairs that have some, by x, then y. A line on a
// border that several polygons share counts for the first of them.
struct Shared {
  int x, y;
  double area, length;
};
std::vector<Shared> shared_measures(const ShapeRows& x, const ShapeRows& y);

}  // namespace civic
