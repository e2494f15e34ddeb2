// Shapes on longitude and latitude that cross the antimeridian, in the two ways in which no edge runs around the world:
// cut there (RFC 7946, section 3.1.9), with parts at either end of the longitudes from -180 to 180, or in one piece,
// whose longitudes go on beyond 180.
#pragma once
#include <vector>

#include "store.h"

namespace civic {

// Whether a shape has a longitude beyond 180 degrees, or an edge that is shorter across the antimeridian.
bool crosses_antimeridian(const StoreView& store, int shape);

struct AntimeridianCut {
  StoreBuffer store;
  std::vector<int> handles;  // 1-based; `missing` as in the rows
  std::size_t cut = 0;
  std::size_t around_pole = 0;  // shapes with a ring around a pole, which now run along the antimeridian to the pole
  std::vector<int> wrapped;     // rows, from 0, with a polygon wider than a full turn, whose pieces may overlap
};

// Whether a shape has an edge longer than half a turn, which is taken for the shorter one across the antimeridian; but
// for the edges from -180 to 180, and longer ones, that close a map of the whole world or of a pole.
bool has_long_edge(const StoreView& store, int shape);

// Rows whose shapes do not cross keep them as they are. Z and M are interpolated where edges are cut.
AntimeridianCut cut_at_antimeridian(const ShapeRows& rows, int missing);

struct InOnePiece {
  StoreBuffer store;
  std::vector<int> handles;
  std::vector<int> joined;  // rows, from 0, whose longitudes changed
  std::size_t around_pole = 0;
};

// Shapes with long edges, and those whose parts lie nearer to one another across the antimeridian, with every longitude
// next to the one before it and parts side by side, around a middle from -180 to 180. Rings around a pole run along the
// antimeridian to it. With `only_edges` shapes without a long edge stay as they are.
InOnePiece in_one_piece(const ShapeRows& rows, bool only_edges, int missing);

}  // namespace civic
