// A layer cut by lines, and a layer without overlaps: pieces of an arrangement's faces.
#pragma once
#include "pieces.h"

namespace civic {

// The polygons of each row cut along lines; x holds the row of each piece. A line that ends within a polygon, and does
// not meet another there, parts nothing.
Pieces split_by_lines(const ShapeRows& polygons, const ShapeRows& lines);

// The ground of a layer in pieces that no border crosses, one for each set of rows whose polygons lie on it.
struct Flattened {
  StoreBuffer store;
  std::vector<std::vector<int>> rows;  // of each piece, ascending; pieces in the order of these
};
Flattened flatten(const ShapeRows& polygons);

}  // namespace civic
