// Shapes made of the parts of others.
#pragma once
#include <vector>

#include "store.h"

namespace civic {

struct Derived {
  StoreBuffer store;
  std::vector<int> rows;  // of each shape the row it was made of, ascending; rows of which nothing is made are missing
};

// Every part as a shape of its own.
Derived parts_of(const ShapeRows& rows);

// The vertices of a shape's lines that are the end of an odd number of open ones, by place: their boundary.
std::vector<int> boundary_ends(const StoreView& store, int shape);

// Boundaries (OGC 06-103r4, section 6.1.4): the rings of polygons as lines, the ends of lines that an odd number of
// them share as points. Points have none. On the globe, in degrees, cuts along the antimeridian and edges along a pole
// are none (see seams.h).
Derived boundaries_of(const ShapeRows& rows, bool on_globe);

// Polygons without their holes; other parts as they are.
Derived outer_rings_of(const ShapeRows& rows);

}  // namespace civic
