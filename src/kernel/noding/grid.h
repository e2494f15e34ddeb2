// The grid of snap rounding: coordinates as whole numbers of a power of two, on which predicates are exact.
#pragma once
#include <cmath>
#include <cstdint>

#include "../base/portable.h"

namespace civic {

struct GridPoint {
  std::int64_t x, y;
  friend bool operator==(const GridPoint&, const GridPoint&) = default;
  friend auto operator<=>(const GridPoint&, const GridPoint&) = default;  // by x, then y
};

// Orientation of c against the directed line from a to b: +1 left, -1 right, 0 on it. Exact for coordinates up to 2^61.
inline int orientation(GridPoint a, GridPoint b, GridPoint c) {
  const Wide left = static_cast<Wide>(b.x - a.x) * (c.y - a.y), right = static_cast<Wide>(b.y - a.y) * (c.x - a.x);
  return left > right ? 1 : left < right ? -1 : 0;
}

// Twice the area on the left of a walk, whose wrapped sums come out right, as the area itself fits.
class TwiceArea {
 public:
  explicit TwiceArea(GridPoint base) : base_(base) {}
  void step(GridPoint from, GridPoint to) {
    sum_ += static_cast<UnsignedWide>(static_cast<Wide>(from.x - base_.x) * (to.y - base_.y) -
                                      static_cast<Wide>(to.x - base_.x) * (from.y - base_.y));
  }
  double value() const { return static_cast<double>(static_cast<Wide>(sum_)); }

 private:
  GridPoint base_;
  UnsignedWide sum_ = 0;
};

// Input stands on steps of 2^-60 of the largest coordinate, so that vertices keep their digits; places that are
// computed stand on cells of 2^-52 of it, which doubles hold exactly.
class Grid {
 public:
  static constexpr std::int64_t cell_steps = 256;

  explicit Grid(double largest) {
    int exponent = 0;
    std::frexp(largest, &exponent);
    step_ = std::ldexp(1, largest > 0 ? exponent - 60 : 0);
  }
  GridPoint of(double x, double y) const { return {std::llround(x / step_), std::llround(y / step_)}; }
  double coordinate(std::int64_t steps) const { return static_cast<double>(steps) * step_; }
  double step() const { return step_; }
  double cell() const { return step_ * cell_steps; }

  // The middle of the cell that a place lies in.
  static std::int64_t cell_of(std::int64_t steps) {
    constexpr std::int64_t half = cell_steps / 2;
    return (steps + half) & ~(cell_steps - 1);
  }
  static GridPoint cell_of(GridPoint p) { return {cell_of(p.x), cell_of(p.y)}; }

 private:
  double step_;
};

}  // namespace civic
