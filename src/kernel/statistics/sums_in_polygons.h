// Sums of columns of points by the polygons that they lie in, without a list of which lies where.
#pragma once
#include <optional>
#include <span>
#include <vector>

#include "../shapes/store.h"
#include "grouped_sums.h"

namespace civic {

struct SummedColumn {
  std::span<const double> values;  // of each point
  bool skip_missing;
};

// Of the points that lie in one polygon or on its border, and in no other.
struct SumsInPolygons {
  std::vector<int> points;           // in each polygon
  std::vector<GroupedSums> columns;  // see grouped_sums()
  std::vector<int> in_several;       // the points that lie in several polygons, which are in no sum
};

// None where the layers are not of points and of polygons alone.
std::optional<SumsInPolygons> sums_in_polygons(const ShapeRows& polygons, const ShapeRows& points,
                                               std::span<const SummedColumn> columns);

}  // namespace civic
