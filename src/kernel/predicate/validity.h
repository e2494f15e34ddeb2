// Whether shapes are valid by OGC 06-103r4, section 6.1.11.1, decided exactly.
#pragma once
#include "../shapes/store.h"

namespace civic {

enum class Problem {
  none,
  bad_coordinate,
  open_ring,
  too_few_points,
  crossing,    // edges cross or overlap, within a ring or between rings
  self_touch,  // a ring meets itself at a point
  repeated_ring,
  hole_outside,
  hole_in_hole,
  part_in_part,
  split_interior  // rings that touch one another cut it
};

const char* problem_name(Problem problem);

struct Finding {
  Problem problem = Problem::none;
  double x = nan_value, y = nan_value;  // where
};

// The first rule broken, in the order of the problems above but for the first crossing or touch met.
Finding check_shape(const StoreView& store, int shape);

}  // namespace civic
