// A point well inside a shape.
#pragma once
#include "planar.h"

namespace civic {

// Of polygons the place farthest from all borders of the part with the largest box, to a hundredth of its width (pole
// of inaccessibility: Garcia-Castellanos and Lombardo 2007); of lines the middle of the longest; of points the first.
// NaN where there is none.
Coordinate inner_point(const StoreView& store, int shape);

}  // namespace civic
