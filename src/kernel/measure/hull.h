// Convex hulls (Andrew 1979, the monotone chain), with exact orientations.
#pragma once
#include "../shapes/derive.h"

namespace civic {

// A polygon; a line or a point where all vertices of a shape lie on one. Shapes without vertices have none.
Derived hulls_of(const ShapeRows& rows);

// One around the vertices of all rows.
Derived hull_of_all(const ShapeRows& rows);

}  // namespace civic
