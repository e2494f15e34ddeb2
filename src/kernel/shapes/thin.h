// Shapes as a device of a given resolution can show them.
#pragma once
#include <vector>

#include "store.h"

namespace civic {

// What is drawn: rings, lines and points, one after the other.
struct DrawnShapes {
  std::vector<double> x, y;    // vertices
  std::vector<int> row;        // of each vertex
  std::vector<int> ring;       // of each vertex, ascending through all rows
  std::vector<int> dimension;  // of each vertex's part: 0, 1 or 2
};

// The rows whose boxes meet `window`, each vertex moved to the middle of its cell of the given size. Vertices that fall
// where the one before them fell, or on the straight line between their neighbours, are left out; as that depends on
// places alone, shapes that share a border share it as drawn. Shells smaller than a cell become a cell, smaller holes
// close.
DrawnShapes thinned(const ShapeRows& rows, const Box& window, double cell_width, double cell_height);

}  // namespace civic
