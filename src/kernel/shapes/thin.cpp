#include "thin.h"

#include <cmath>

#include "../base/parallel.h"

namespace civic {
namespace {

struct Cell {
  std::int64_t column, row;
  bool operator==(const Cell&) const = default;
};

bool in_line(const Cell& a, const Cell& b, const Cell& c) {
  const std::int64_t ux = b.column - a.column, uy = b.row - a.row, vx = c.column - b.column, vy = c.row - b.row;
  return ux * vy == uy * vx && ux * vx + uy * vy >= 0;
}

class Thinner {
 public:
  Thinner(const ShapeRows& rows, const Box& window, double width, double height)
      : rows_(rows), window_(window), width_(width), height_(height) {}

  void add(int row, DrawnShapes& out) {
    const Box box = rows_.box(row);
    if (box.empty() || !box.meets(window_)) return;
    const StoreView& store = rows_.store;
    const IndexRange parts = store.parts(rows_[row]);
    for (int part = parts.begin; part < parts.end; ++part) {
      const int dimension = dimension_of(store.part_kind(part));
      const IndexRange rings = store.rings(part);
      for (int ring = rings.begin; ring < rings.end; ++ring) {
        thin(store.vertices(ring));
        if (cells_.empty()) continue;
        if (dimension == 2 && !make_area(ring == rings.begin)) continue;
        append(row, dimension, out);
      }
    }
  }

 private:
  void thin(IndexRange vertices) {
    const StoreView& store = rows_.store;
    cells_.clear();
    for (int i = vertices.begin; i < vertices.end; ++i) {
      if (!std::isfinite(store.x[i]) || !std::isfinite(store.y[i])) continue;
      const Cell cell{place(store.x[i], window_.xmin, width_), place(store.y[i], window_.ymin, height_)};
      if (!cells_.empty() && cells_.back() == cell) continue;
      const std::size_t n = cells_.size();
      if (n > 1 && in_line(cells_[n - 2], cells_[n - 1], cell))
        cells_.back() = cell;
      else
        cells_.push_back(cell);
    }
  }

  // Far beyond the window cells are counted no further, so that their products stay exact.
  static std::int64_t place(double value, double from, double size) {
    constexpr double far = 1 << 30;
    return static_cast<std::int64_t>(std::floor(std::max(-far, std::min(far, (value - from) / size))));
  }

  // A ring that has no area as thinned: a shell becomes a cell, a hole goes.
  bool make_area(bool shell) {
    if (cells_.size() > 3) return true;
    if (!shell) return false;
    const Cell at = cells_.front();
    if (cells_.size() < 3)
      cells_ = {at, {at.column + 1, at.row}, {at.column + 1, at.row + 1}, {at.column, at.row + 1}, at};
    return true;
  }

  void append(int row, int dimension, DrawnShapes& out) {
    const int ring = out.ring.empty() ? 1 : out.ring.back() + 1;
    for (const Cell& cell : cells_) {
      out.x.push_back(window_.xmin + (static_cast<double>(cell.column) + 0.5) * width_);
      out.y.push_back(window_.ymin + (static_cast<double>(cell.row) + 0.5) * height_);
      out.row.push_back(row);
      out.ring.push_back(ring);
      out.dimension.push_back(dimension);
    }
  }

  const ShapeRows& rows_;
  const Box window_;
  const double width_, height_;
  std::vector<Cell> cells_;
};

template <class T>
void append_all(std::vector<T>& to, const std::vector<T>& from, T plus = 0) {
  for (const T& value : from) to.push_back(value + plus);
}

}  // namespace

DrawnShapes thinned(const ShapeRows& rows, const Box& window, double cell_width, double cell_height) {
  constexpr std::size_t grain = 256;
  std::vector<DrawnShapes> pieces((static_cast<std::size_t>(rows.size()) + grain - 1) / grain);
  parallel_for(static_cast<std::size_t>(rows.size()), grain, [&](std::size_t begin, std::size_t end) {
    Thinner thinner(rows, window, cell_width, cell_height);
    for (std::size_t row = begin; row < end; ++row) thinner.add(static_cast<int>(row), pieces[begin / grain]);
  });
  DrawnShapes all;
  for (const DrawnShapes& piece : pieces) {
    const int rings = all.ring.empty() ? 0 : all.ring.back();
    append_all(all.x, piece.x);
    append_all(all.y, piece.y);
    append_all(all.row, piece.row);
    append_all(all.ring, piece.ring, rings);
    append_all(all.dimension, piece.dimension);
  }
  return all;
}

}  // namespace civic
