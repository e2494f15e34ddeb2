#include "rtree.h"

#include <algorithm>
#include <utility>

#include "../base/parallel.h"
#include "../base/sort_by_key.h"

namespace civic {

namespace {

// The way of the curve through 16 x 16 cells, for each way it may lie: mirrored in both directions (1), turned over the
// diagonal (2), or both.
struct HilbertSteps {
  struct Step {
    std::uint8_t position, lie;  // of the curve within the cell
  };
  Step steps[4][256];

  constexpr HilbertSteps() : steps{} {
    for (unsigned lie = 0; lie < 4; ++lie)
      for (unsigned cell = 0; cell < 256; ++cell) {
        unsigned position = 0, now = lie;
        for (int bit = 3; bit >= 0; --bit) {
          unsigned right = (cell >> (4 + bit) ^ now) & 1, upper = (cell >> bit ^ now) & 1;
          if (now & 2) std::swap(right, upper);
          position = position << 2 | ((3 * right) ^ upper);
          if (!upper) now ^= right | 2;  // in the lower half the curve turns
        }
        steps[lie][cell] = {static_cast<std::uint8_t>(position), static_cast<std::uint8_t>(now)};
      }
  }
};
constexpr HilbertSteps hilbert_steps;

}  // namespace

std::uint32_t hilbert_position(std::uint32_t x, std::uint32_t y) {
  std::uint32_t position = 0, lie = 0;
  for (int shift = 12; shift >= 0; shift -= 4) {
    const auto step = hilbert_steps.steps[lie][(x >> shift & 15) << 4 | (y >> shift & 15)];
    position = position << 8 | step.position;
    lie = step.lie;
  }
  return position;
}

namespace {

// The cell of a box's middle in the grid over an extent, by its place on the curve.
class HilbertGrid {
 public:
  explicit HilbertGrid(const Box& extent) : extent_(extent) {
    const double width = extent.xmax - extent.xmin, height = extent.ymax - extent.ymin;
    to_x_ = width > 0 ? 65535 / width : 0;
    to_y_ = height > 0 ? 65535 / height : 0;
  }
  std::uint32_t position(const Box& box) const {
    const auto cell = [](double c) { return static_cast<std::uint32_t>(c > 0 ? std::min(c, 65535.0) : 0); };
    return hilbert_position(cell(((box.xmin + box.xmax) / 2 - extent_.xmin) * to_x_),
                            cell(((box.ymin + box.ymax) / 2 - extent_.ymin) * to_y_));
  }

 private:
  Box extent_;
  double to_x_ = 0, to_y_ = 0;
};

struct Keyed {
  std::uint32_t key;
  int row;
};

// Items are `rows` of `boxes`.
std::vector<Keyed> hilbert_order(std::span<const Box> boxes, const std::vector<int>& rows) {
  Box extent;
  for (const int row : rows) extent.add(boxes[row]);
  const HilbertGrid grid(extent);
  std::vector<Keyed> order(rows.size());
  parallel_for(rows.size(), 1 << 15, [&](std::size_t begin, std::size_t end) {
    for (std::size_t i = begin; i < end; ++i) order[i] = {grid.position(boxes[rows[i]]), rows[i]};
  });
  // By squares of the curve, about as many as there are boxes.
  int shift = 0;
  while (shift < 31 && (0xffffffffu >> shift) >= order.size()) ++shift;
  sort_by_key(
      order, (0xffffffffu >> shift) + std::size_t{1}, [&](const Keyed& k) { return k.key >> shift; },
      [](const Keyed& a, const Keyed& b) { return a.key != b.key ? a.key < b.key : a.row < b.row; });
  return order;
}

}  // namespace

std::vector<double> hilbert_keys(const ShapeRows& rows, const Box& extent) {
  const HilbertGrid grid(extent);
  std::vector<double> keys(static_cast<std::size_t>(rows.size()));
  parallel_for(keys.size(), 1 << 15, [&](std::size_t begin, std::size_t end) {
    for (std::size_t row = begin; row < end; ++row) {
      const Box box = rows.box(static_cast<int>(row));
      keys[row] = box.empty() ? 0x1p32 : grid.position(box);
    }
  });
  return keys;
}

RTree::RTree(const ShapeRows& rows) {
  std::vector<Box> boxes(static_cast<std::size_t>(rows.size()));
  parallel_for(boxes.size(), 1 << 15, [&](std::size_t begin, std::size_t end) {
    for (std::size_t row = begin; row < end; ++row) boxes[row] = rows.box(static_cast<int>(row));
  });
  build(boxes);
}

RTree::RTree(std::span<const Box> boxes) { build(boxes); }

void RTree::build(std::span<const Box> boxes) {
  std::vector<int> rows;
  rows.reserve(boxes.size());
  for (std::size_t row = 0; row < boxes.size(); ++row)
    if (!boxes[row].empty()) rows.push_back(static_cast<int>(row));
  const std::vector<Keyed> order = hilbert_order(boxes, rows);
  nodes_.reserve(order.size() + order.size() / (fanout - 1) + 8);
  nodes_.resize(order.size());
  rows_.resize(order.size());
  parallel_for(order.size(), 1 << 14, [&](std::size_t begin, std::size_t end) {
    for (std::size_t i = begin; i < end; ++i) {
      nodes_[i] = boxes[order[i].row];
      rows_[i] = order[i].row;
    }
  });
  level_start_ = {0, nodes_.size()};
  while (level_start_.back() - level_start_[level_start_.size() - 2] > 1) {
    const std::size_t begin = level_start_[level_start_.size() - 2], end = level_start_.back();
    nodes_.resize(end + (end - begin + fanout - 1) / fanout);
    parallel_for(nodes_.size() - end, 1 << 12, [&](std::size_t first, std::size_t last) {
      for (std::size_t k = first; k < last; ++k)
        for (std::size_t i = begin + k * fanout; i < std::min(end, begin + (k + 1) * fanout); ++i)
          nodes_[end + k].add(nodes_[i]);
    });
    level_start_.push_back(nodes_.size());
  }
}

void RTree::search(const Box& box, std::vector<int>& rows) const {
  visit(box, [&](int row, const Box&) { rows.push_back(row); });
}

}  // namespace civic
