// Snap rounding (Hobby 1999, "Practical segment intersection with finite precision output"): all segments are cut where
// they meet, and drawn through the grid cells that hold an end or a crossing, until none crosses another.
#pragma once
#include <vector>

#include "grid.h"

namespace civic {

// A segment of some source, such as a ring of a feature.
struct Segment {
  int from, to;  // points
  int source;
};

struct Noded {
  std::vector<GridPoint> points;  // ascending, each once
  std::vector<Segment> segments;  // meet in common points only; no segment is a point

  int place(GridPoint point) const;  // of a point that went in
};

// Points may repeat; segments refer to them by place. Reports progress and may be interrupted.
Noded node(std::vector<GridPoint> points, std::vector<Segment> segments);

}  // namespace civic
