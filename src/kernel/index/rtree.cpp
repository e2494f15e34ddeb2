#include "rtree.h"

#include <algorithm>
#include <array>

#include "../parallel.h"

namespace civic {

std::uint32_t hilbert_position(std::uint32_t x, std::uint32_t y) {
  std::uint32_t position = 0;
  for (std::uint32_t side = 1u << 15; side > 0; side >>= 1) {
    const std::uint32_t right = (x & side) ? 1 : 0, upper = (y & side) ? 1 : 0;
    position = (position << 2) | ((3 * right) ^ upper);
    // In the lower half the curve turns: mirrored on the right, then mirrored along the diagonal. Masks instead of
    // branches, which would be guessed wrong half the time.
    const std::uint32_t lower = 0u - (upper ^ 1), mirrored = (0u - right) & lower & 0xffff;
    x ^= mirrored;
    y ^= mirrored;
    const std::uint32_t swapped = (x ^ y) & lower;
    x ^= swapped;
    y ^= swapped;
  }
  return position;
}

namespace {

struct Keyed {
  std::uint32_t key;
  int item;
};

// Stable counting sort by key, one digit of 11 bits at a time.
void radix_sort(std::vector<Keyed>& items) {
  std::vector<Keyed> spare(items.size());
  for (int shift = 0; shift < 33; shift += 11) {
    std::array<std::size_t, 2049> start{};
    for (const Keyed& item : items) ++start[((item.key >> shift) & 2047) + 1];
    for (int digit = 0; digit < 2048; ++digit) start[digit + 1] += start[digit];
    for (const Keyed& item : items) spare[start[(item.key >> shift) & 2047]++] = item;
    items.swap(spare);
  }
}

std::vector<Keyed> hilbert_order(const std::vector<Box>& boxes) {
  Box extent;
  for (const Box& box : boxes) extent.add(box);
  const double width = extent.xmax - extent.xmin, height = extent.ymax - extent.ymin;
  const double to_x = width > 0 ? 65535 / width : 0, to_y = height > 0 ? 65535 / height : 0;
  std::vector<Keyed> order(boxes.size());
  parallel_for(boxes.size(), 1 << 15, [&](std::size_t begin, std::size_t end) {
    for (std::size_t i = begin; i < end; ++i) {
      const double cx = ((boxes[i].xmin + boxes[i].xmax) / 2 - extent.xmin) * to_x;
      const double cy = ((boxes[i].ymin + boxes[i].ymax) / 2 - extent.ymin) * to_y;
      auto cell = [](double c) { return static_cast<std::uint32_t>(c > 0 ? std::min(c, 65535.0) : 0); };
      order[i] = {hilbert_position(cell(cx), cell(cy)), static_cast<int>(i)};
    }
  });
  radix_sort(order);
  return order;
}

}  // namespace

RTree::RTree(const ShapeRows& rows) {
  std::vector<Box> boxes;
  std::vector<int> kept;
  boxes.reserve(rows.size());
  kept.reserve(rows.size());
  for (int row = 0; row < rows.size(); ++row) {
    const Box box = rows.box(row);
    if (box.empty()) continue;
    boxes.push_back(box);
    kept.push_back(row);
  }
  build(std::move(boxes), std::move(kept));
}

RTree::RTree(std::span<const Box> all) {
  std::vector<Box> boxes;
  std::vector<int> kept;
  for (std::size_t row = 0; row < all.size(); ++row) {
    if (all[row].empty()) continue;
    boxes.push_back(all[row]);
    kept.push_back(static_cast<int>(row));
  }
  build(std::move(boxes), std::move(kept));
}

void RTree::build(std::vector<Box> boxes, std::vector<int> rows) {
  const std::vector<Keyed> order = hilbert_order(boxes);
  nodes_.reserve(boxes.size() + boxes.size() / (fanout - 1) + 8);
  nodes_.resize(boxes.size());
  rows_.resize(boxes.size());
  parallel_for(order.size(), 1 << 14, [&](std::size_t begin, std::size_t end) {
    for (std::size_t i = begin; i < end; ++i) {
      nodes_[i] = boxes[order[i].item];
      rows_[i] = rows[order[i].item];
    }
  });
  level_start_ = {0, nodes_.size()};
  while (level_start_.back() - level_start_[level_start_.size() - 2] > 1) {
    const std::size_t begin = level_start_[level_start_.size() - 2], end = level_start_.back();
    for (std::size_t child = begin; child < end; child += fanout) {
      Box parent;
      for (std::size_t i = child; i < std::min(end, child + fanout); ++i) parent.add(nodes_[i]);
      nodes_.push_back(parent);
    }
    level_start_.push_back(nodes_.size());
  }
}

void RTree::search(const Box& box, std::vector<int>& rows) const {
  visit(box, [&](int row, const Box&) { rows.push_back(row); });
}

}  // namespace civic
