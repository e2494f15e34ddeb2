// Overlay of two layers and repair: the pieces of an arrangement by the features they belong to. Polygons,
// lines and points of either layer take part; a shape of several kinds does so with all its parts.
#pragma once
#include <functional>
#include <vector>

#include "arrangement.h"
#include "yardstick.h"

namespace civic {

struct OverlayKeep {
  bool both = false, only_x = false, only_y = false;
  bool touches = false;  // where two shapes meet in less than both could: polygons along borders, lines in points
};

// Rows whose polygons overlap others of their layer, and the ground on which they do.
struct Stacked {
  int rows = 0;
  double area = 0;
};

struct Pieces {
  StoreBuffer store;
  std::vector<int> x, y;     // of each piece the rows it comes from, -1 for none; ascending
  std::vector<char> whole;   // whether it is all of a shape of lines and points, which may stand for it
  std::size_t touching = 0;  // pairs that meet in less than both could, and nothing more
  std::vector<int> self_crossing_x, self_crossing_y;  // rows whose polygons cross or overlap themselves
  Stacked stacked_x, stacked_y;                       // told by overlay() alone
};

// Pieces where both layers lie, or only one. Polygons are taken by the even-odd rule; lines and points on the border of
// a polygon lie within it.
Pieces overlay(const ShapeRows& x, const ShapeRows& y, const OverlayKeep& keep,
               const Yardstick& yardstick = Yardstick(false));

// The same with the borders of y, where they are nearer to those of x than the tolerance, brought onto them, and
// regions whose mean width is at most the tolerance joined to one beside them that the same rows of x cover. x stays as
// it is; rows of y overlap only where they did.
struct Brought {
  Pieces pieces;
  std::size_t moved = 0;            // vertices of y
  double farthest = 0;              // how far
  std::vector<double> had, covers;  // area of each row of y, before and in the end
  std::size_t thin = 0;             // regions left that are thin: all that rows of x, or of y, have there
};
Brought overlay_onto(const ShapeRows& x, const ShapeRows& y, const OverlayKeep& keep, double tolerance,
                     const Yardstick& yardstick);

// How much area and length each pair of shapes has in common; only pairs that have some, by x, then y. A line on a
// border that several polygons share counts for the first of them.
struct Shared {
  int x, y;
  double area, length;
};
std::vector<Shared> shared_measures(const ShapeRows& x, const ShapeRows& y);

// What of each shape of x lies within the shapes of y taken together, or outside them: as above, y being -1.
Pieces mask(const ShapeRows& x, const ShapeRows& y, bool inside);

// Each row's shape on its own, made valid by the rule; x holds the row. Rows without any inside or line have no piece.
Pieces repair(const ShapeRows& rows, FillRule rule);

// All cells of regions of whole features, by the region of each feature.
RegionCells cells_by_region(const Arrangement& arrangement, const std::function<std::int64_t(int)>& region_of);

// The shapes of regions whose keys are rows; x holds the row.
Pieces pieces_by_row(const Arrangement& arrangement, RegionCells cells, std::span<const char> left_out = {});

// Rows whose polygons cover another area than their rings enclose: they cross or overlap themselves. The arrangement's
// features from `first_feature` on are the rows.
std::vector<int> self_crossing_rows(const Arrangement& arrangement, const ShapeRows& rows, int first_feature);

// Stores of one shape or none as pieces; x holds the rows, those of the others left out.
Pieces pieces_of(std::span<const StoreBuffer> shapes, std::span<const int> rows);

// What `make` makes of each row on its own, a store of one shape or none; x holds the row.
Pieces row_by_row(const ShapeRows& rows, const std::function<StoreBuffer(const ShapeRows& one, int row)>& make);

}  // namespace civic
