// One layer cut by the ground of another.
#pragma once
#include "pieces.h"

namespace civic {

// What of each shape of x lies within the shapes of y taken together, or outside them. x holds the row, and
// y is -1.
Pieces mask(const ShapeRows& x, const ShapeRows& y, bool inside);

}  // namespace civic
