// The pieces of an arrangement by the features they belong to: what overlay, mask, dissolve, repair and others give.
#pragma once
#include <functional>
#include <span>
#include <vector>

#include "arrangement.h"

namespace civic {

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
