// The grid of snap rounding: coordinates as whole numbers of a power of two, on which predicates are exact.
#pragma once
#include <cmath>
#include <cstdint>

namespace civic {

struct GridPoint {
  std::int64_t x, y;
  friend bool operator==(const GridPoint&, const GridPoint&) = default;
  friend auto operator<=>(const GridPoint&, const GridPoint&) = default;  // by x, then y
};

// Side of c against the directed line from a to b: +1 left, -1 right, 0 on it. Exact for coordinates up to 2^53.
inline int side(GridPoint a, GridPoint b, GridPoint c) {
  using Wide = __int128;
  const Wide left = static_cast<Wide>(b.x - a.x) * (c.y - a.y), right = static_cast<Wide>(b.y - a.y) * (c.x - a.x);
  return left > right ? 1 : left < right ? -1 : 0;
}

class Grid {
 public:
  // The finest whose coordinates up to `largest` are whole numbers of 52 bits.
  explicit Grid(double largest) {
    int exponent = 0;
    std::frexp(largest, &exponent);
    cell_ = std::ldexp(1, largest > 0 ? exponent - 52 : 0);
  }
  GridPoint of(double x, double y) const { return {std::llround(x / cell_), std::llround(y / cell_)}; }
  double coordinate(std::int64_t whole) const { return static_cast<double>(whole) * cell_; }
  double cell() const { return cell_; }

 private:
  double cell_;
};

}  // namespace civic
