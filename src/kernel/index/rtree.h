// A packed R-tree over boxes in Hilbert order (Kamel and Faloutsos 1993, "On packing R-trees"): built once in
// O(n), no pointers, immutable.
#pragma once
#include <algorithm>
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
  // Calls found(row, its box) instead; boxes come from the tree, where neighbours lie side by side in memory.
  template <class Found>
  void visit(const Box& box, const Found& found) const;
  std::size_t size() const { return rows_.size(); }
  // The rows in Hilbert order, in which searches for their surroundings find what they need in the cache.
  const std::vector<int>& rows() const { return rows_; }

  // The tree itself, for searches that choose their own way.
  struct Node {
    std::size_t index;
    int level;  // 0 for a leaf, which is a row
  };
  Node root() const { return {nodes_.size() - 1, static_cast<int>(level_start_.size()) - 2}; }
  bool is_leaf(Node node) const { return node.level == 0; }
  const Box& box(Node node) const { return nodes_[node.index]; }
  int row(Node leaf) const { return rows_[leaf.index]; }
  template <class Visit>
  void children(Node node, const Visit& visit) const {
    const std::size_t first = level_start_[node.level - 1] + (node.index - level_start_[node.level]) * fanout;
    const std::size_t last = std::min(level_start_[node.level], first + fanout);
    for (std::size_t child = first; child < last; ++child) visit(Node{child, node.level - 1});
  }

 private:
  static constexpr int fanout = 16;
  void build(std::vector<Box> boxes, std::vector<int> rows);
  std::vector<Box> nodes_;                // leaves' boxes first, then level by level up to the root
  std::vector<std::size_t> level_start_;  // where each level begins in nodes_; last is the end
  std::vector<int> rows_;                 // row of each leaf box
};

template <class Found>
void RTree::visit(const Box& box, const Found& found) const {
  if (rows_.empty() || box.empty()) return;
  Node stack[fanout * 12];  // 12 levels of 16 hold any store
  int depth = 0;
  auto meet = [&](const Node& node) {
    if (!nodes_[node.index].meets(box)) return;
    if (is_leaf(node))
      found(row(node), nodes_[node.index]);
    else
      stack[depth++] = node;
  };
  meet(root());
  while (depth > 0) children(stack[--depth], meet);
}

// Position of a cell on the Hilbert curve over a 65536 x 65536 grid.
std::uint32_t hilbert_position(std::uint32_t x, std::uint32_t y);

}  // namespace civic
