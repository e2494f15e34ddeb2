// Places for labels on a map: boxes that lie on it and over no other.
#pragma once
#include <span>
#include <vector>

namespace civic {

// A label: its anchor, its size, whether it stands beside its anchor (a point) or over it. Lengths in one unit.
struct Label {
  double x, y, width, height;
  bool beside;
};

struct LabelPlace {
  double x, y;  // the middle; NaN where none of the tried places is free
};

// Labels are placed in the order given, each at the first free of some places around its anchor, `apart` from the
// others.
std::vector<LabelPlace> label_places(std::span<const Label> labels, double wide, double high, double apart);

}  // namespace civic
