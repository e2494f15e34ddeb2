// Layers whose polygons are meant to cover the ground side by side: their gaps, overlaps and slivers.
#pragma once
#include "pieces.h"
#include "yardstick.h"

namespace civic {

// What no polygon covers although polygons are all around, one shape a gap; x holds the row with the longest border
// along it.
Pieces find_gaps(const ShapeRows& rows, const Yardstick& yardstick);

// What two rows cover both: x and y hold them, x < y.
Pieces find_overlaps(const ShapeRows& rows);

struct Closed {
  Pieces pieces;  // of each row that has something left, in x
  std::size_t moved = 0, gaps = 0, overlaps = 0;
  double farthest = 0, gap_area = 0, overlap_area = 0;
  std::vector<double> before, after;  // area of each row
};

// Borders nearer to one another than the tolerance are sealed, shapes of higher rank following those of lower; then
// gaps whose mean width is below the tolerance go to the row with the longest border along them, and such overlaps to
// that of the lowest rank. Ranks are all different.
Closed close_gaps(const ShapeRows& rows, std::span<const int> ranks, double tolerance, const Yardstick& yardstick);

enum class AbsorbInto { longest_border, largest };

// Each sliver goes to a row it shares a border with: that with the longest, or the largest row. `classes` allow only
// rows of the same class, where not empty. A sliver without such a row stays. x holds rows; `into` for each row where
// its slivers went last, or -1.
struct Absorbed {
  Pieces pieces;
  std::vector<int> into;
};
Absorbed absorb(const ShapeRows& rows, const std::vector<char>& slivers, std::span<const int> classes, AbsorbInto into,
                const Yardstick& yardstick);

}  // namespace civic
