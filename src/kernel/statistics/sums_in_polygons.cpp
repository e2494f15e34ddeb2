#include "sums_in_polygons.h"

#include <algorithm>
#include <atomic>
#include <cmath>

#include "../base/parallel.h"
#include "../query/points_in_polygons.h"

namespace civic {
namespace {

void add_up(const SummedColumn& column, const std::vector<int>& points, GroupedSums& sums, std::size_t group) {
  double sum = 0;
  int count = 0;
  for (const int point : points) {
    const double value = column.values[static_cast<std::size_t>(point)];
    if (column.skip_missing && std::isnan(value)) continue;
    sum += value;
    ++count;
  }
  sums.sums[group] = sum;
  sums.counts[group] = count;
}

}  // namespace

std::optional<SumsInPolygons> sums_in_polygons(const ShapeRows& polygons, const ShapeRows& points,
                                               std::span<const SummedColumn> columns) {
  if (family_of(polygons) != Family::polygons || family_of(points) != Family::points) return std::nullopt;
  const PointsInPolygons question(points, polygons, Relation::intersects, 0);
  const auto n = static_cast<std::size_t>(polygons.size());
  SumsInPolygons out{std::vector<int>(n, 0), std::vector<GroupedSums>(columns.size(), GroupedSums(n))};
  std::vector<std::atomic<bool>> seen(static_cast<std::size_t>(points.size()));
  std::atomic<std::size_t> found_in_all = 0;
  parallel_for(n, 64, [&](std::size_t begin, std::size_t end) {
    PointSearch search(question);
    std::size_t found_here = 0;
    for (std::size_t polygon = begin; polygon < end; ++polygon) {
      const std::vector<int>& found = search.related_to(static_cast<int>(polygon));
      out.points[polygon] = static_cast<int>(found.size());
      found_here += found.size();
      for (const int point : found) seen[static_cast<std::size_t>(point)].store(true, std::memory_order_relaxed);
      for (std::size_t k = 0; k < columns.size(); ++k) add_up(columns[k], found, out.columns[k], polygon);
    }
    found_in_all += found_here;
  });
  const auto distinct = static_cast<std::size_t>(std::count(seen.begin(), seen.end(), true));
  if (distinct < found_in_all) return std::nullopt;
  return out;
}

}  // namespace civic
