// A packed R-tree over boxes in Hilbert order (Kamel and Faloutsos 1993, "On packing R-trees"): built once in
// O(n), no pointers, immutable.
#pragma once
#include <algorithm>
#include <cstdint>
#include <utility>
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
    const auto [first, last] = children_of(node);
    for (std::size_t child = first; child < last; ++child) visit(Node{child, node.level - 1});
  }

 private:
  std::pair<std::size_t, std::size_t> children_of(Node node) const {
    const std::size_t first = level_start_[node.level - 1] + (node.index - level_start_[node.level]) * fanout;
    return {first, std::min(level_start_[node.level], first + fanout)};
  }
  static constexpr int fanout = 16;
  void build(std::span<const Box> boxes);
  std::vector<Box> nodes_;                // leaves' boxes first, then level by level up to the root
  std::vector<std::size_t> level_start_;  // where each level begins in nodes_; last is the end
  std::vector<int> rows_;                 // row of each leaf box
};

// Children that meet the box are gathered without branches, which would be guessed wrong half the time.
template <class Found>
void RTree::visit(const Box& box, const Found& found) const {
  if (rows_.empty() || box.empty() || !nodes_.back().meets(box)) return;
  if (is_leaf(root())) return found(rows_[0], nodes_[0]);
  Node stack[fanout * 12];  // 12 levels of 16 hold any store
  int depth = 0;
  stack[depth++] = root();
  while (depth > 0) {
    const Node node = stack[--depth];
    const auto [first, last] = children_of(node);
    if (node.level > 1) {
      for (std::size_t child = first; child < last; ++child) {
        stack[depth] = {child, node.level - 1};
        depth += nodes_[child].meets(box);
      }
    } else {
      std::size_t leaves[fanout];
      int count = 0;
      for (std::size_t child = first; child < last; ++child) {
        leaves[count] = child;
        count += nodes_[child].meets(box);
      }
      for (int k = 0; k < count; ++k) found(rows_[leaves[k]], nodes_[leaves[k]]);
    }
  }
}

// Position of a cell on the Hilbert curve over a 65536 x 65536 grid.
std::uint32_t hilbert_position(std::uint32_t x, std::uint32_t y);

// That of the middle of each row's box, of the grid over an extent; places beyond it are at its edges, rows without a
// shape after all.
std::vector<double> hilbert_keys(const ShapeRows& rows, const Box& extent);

}  // namespace civic
