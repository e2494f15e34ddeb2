// Unions of many shapes.
#pragma once
#include "pieces.h"

namespace civic {

// The union of the shapes of each group, 0-based: x holds the group. Rows of several groups that lie beside one another
// keep the borders that they share; where rows lie many on top of one another each group is dissolved alone.
Pieces dissolve(const ShapeRows& rows, std::span<const int> groups);

// All shapes of some layers as one.
StoreBuffer united(std::span<const ShapeRows> layers);

// The same of valid polygons, one of each store; stores may be empty; by levels.
StoreBuffer union_of(std::vector<StoreBuffer> shapes);

}  // namespace civic
