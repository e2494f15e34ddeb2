#include "sums_in_polygons.h"

#include <cmath>

#include "../base/parallel.h"
#include "../query/points_in_polygons.h"

namespace civic {
namespace {

constexpr std::size_t polygons_at_once = 64;

// The points found in some polygons that follow each other.
struct FoundPoints {
  std::vector<int> rows;
  std::vector<std::size_t> ends{0};  // of each polygon's, behind where the first begins

  std::size_t polygons() const { return ends.size() - 1; }
  std::span<const int> of(std::size_t k) const { return std::span(rows).subspan(ends[k], ends[k + 1] - ends[k]); }
};

std::vector<FoundPoints> points_found(const ShapeRows& polygons, const ShapeRows& points) {
  const PointsInPolygons question(points, polygons, Relation::intersects, 0);
  const auto n = static_cast<std::size_t>(polygons.size());
  std::vector<FoundPoints> out((n + polygons_at_once - 1) / polygons_at_once);
  parallel_for(n, polygons_at_once, [&](std::size_t begin, std::size_t end) {
    PointSearch search(question);
    FoundPoints& found = out[begin / polygons_at_once];
    for (std::size_t polygon = begin; polygon < end; ++polygon) {
      const std::vector<int>& rows = search.related_to(static_cast<int>(polygon));
      found.rows.insert(found.rows.end(), rows.begin(), rows.end());
      found.ends.push_back(found.rows.size());
    }
  });
  return out;
}

// How many polygons each point lies in: 0, 1, or 2 for several.
std::vector<char> polygons_around(const std::vector<FoundPoints>& found, int points) {
  std::vector<char> out(static_cast<std::size_t>(points), 0);
  for (const FoundPoints& some : found)
    for (const int point : some.rows)
      if (char& count = out[static_cast<std::size_t>(point)]; count < 2) ++count;
  return out;
}

struct Sum {
  double sum = 0;
  int count = 0;
};

Sum add_up(const SummedColumn& column, std::span<const int> points) {
  Sum out;
  for (const int point : points) {
    const double value = column.values[static_cast<std::size_t>(point)];
    if (column.skip_missing && std::isnan(value)) continue;
    out.sum += value;
    ++out.count;
  }
  return out;
}

}  // namespace

std::optional<SumsInPolygons> sums_in_polygons(const ShapeRows& polygons, const ShapeRows& points,
                                               std::span<const SummedColumn> columns) {
  if (family_of(polygons) != Family::polygons || family_of(points) != Family::points) return std::nullopt;
  const std::vector<FoundPoints> found = points_found(polygons, points);
  const std::vector<char> around = polygons_around(found, points.size());
  const auto n = static_cast<std::size_t>(polygons.size());
  SumsInPolygons out{std::vector<int>(n, 0), std::vector<GroupedSums>(columns.size(), GroupedSums(n)), {}};
  for (std::size_t point = 0; point < around.size(); ++point)
    if (around[point] == 2) out.in_several.push_back(static_cast<int>(point));

  parallel_for(found.size(), 1, [&](std::size_t begin, std::size_t) {
    const FoundPoints& some = found[begin];
    std::vector<int> alone;
    for (std::size_t k = 0; k < some.polygons(); ++k) {
      std::span<const int> rows = some.of(k);
      if (!out.in_several.empty()) {
        alone.clear();
        for (const int point : rows)
          if (around[static_cast<std::size_t>(point)] == 1) alone.push_back(point);
        rows = alone;
      }
      const std::size_t polygon = begin * polygons_at_once + k;
      out.points[polygon] = static_cast<int>(rows.size());
      for (std::size_t j = 0; j < columns.size(); ++j) {
        const Sum sum = add_up(columns[j], rows);
        out.columns[j].sums[polygon] = sum.sum;
        out.columns[j].counts[polygon] = sum.count;
      }
    }
  });
  return out;
}

}  // namespace civic
