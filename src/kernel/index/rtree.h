// A packed R-tree over boxes in Hilbert order (Kamel and Faloutsos 1993, "On packing R-trees"): built once in
// O(n), no pointers, immutable.
#pragma once
#include <cstdint>
#include <vector>

#include "../shapes/store.h"

namespace civic {

class RTree {
 public:
  // Indexes the rows whose boxes are not empty.
  explicit RTree(const ShapeRows& rows);
  explicit RTree(std::span<const Box> boxes);

  // Appends the rows whose boxes meet `box`, in no particular order.
  void search(const Box& box, std::vector<int>& rows) const;
  std::size_t size() const { return rows_.size(); }

 private:
  static constexpr int fanout = 16;
  void build(std::vector<Box> boxes, std::vector<int> rows);
  std::vector<Box> nodes_;                // leaves' boxes first, then level by level up to the root
  std::vector<std::size_t> level_start_;  // where each level begins in nodes_; last is the end
  std::vector<int> rows_;                 // row of each leaf box
};

// Position of a cell on the Hilbert curve over a 65536 x 65536 grid.
std::uint32_t hilbert_position(std::uint32_t x, std::uint32_t y);

}  // namespace civic
