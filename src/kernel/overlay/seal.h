// Borders that run nearly along one another are made to run along one another.
#pragma once
#include "../shapes/store.h"
#include "yardstick.h"

namespace civic {

struct Sealed {
  StoreBuffer store;         // a shape for each row that is not missing, in order
  std::vector<int> handles;  // 1-based, 0 for missing rows
  std::size_t moved = 0;     // vertices moved
  double farthest = 0;       // how far
};

// Shapes of a higher rank follow those of lower ranks, which stay: a vertex within the tolerance of a vertex moves
// there, else to the nearest edge within the tolerance, and edges take in the vertices within the tolerance of them.
// Corners that are farther than that from all others stay where they are. Rings may come to lie on themselves.
Sealed seal(const ShapeRows& rows, std::span<const int> ranks, double tolerance, const Yardstick& yardstick);

// Shapes follow those of another layer, and not one another.
Sealed seal_onto(const ShapeRows& fixed, const ShapeRows& rows, double tolerance, const Yardstick& yardstick);

}  // namespace civic
