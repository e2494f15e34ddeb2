#include "pieces.h"

#include <cmath>
#include <numeric>

#include "../base/parallel.h"
#include "../measure/planar.h"

namespace civic {

RegionCells cells_by_region(const Arrangement& a, const std::function<std::int64_t(int)>& region_of) {
  RegionCells cells;
  for (int face = 1; face < a.faces(); ++face)
    for (const int feature : a.cover(face)) cells.faces.push_back({region_of(feature), face});
  for (int e = 0; e < a.edges(); ++e)
    for (const auto& line : a.lines(e)) cells.edges.push_back({region_of(line.feature), e});
  for (const Belonging& point : a.points())
    cells.nodes.push_back({region_of(static_cast<int>(point.region)), point.cell});
  return cells;
}

std::vector<int> self_crossing_rows(const Arrangement& arrangement, const ShapeRows& rows, int first_feature) {
  std::vector<double> covered(rows.size(), 0);
  for (int face = 1; face < arrangement.faces(); ++face)
    for (const int feature : arrangement.cover(face))
      if (feature >= first_feature && feature < first_feature + rows.size())
        covered[feature - first_feature] += arrangement.area(face);
  std::vector<int> out;
  for (int row = 0; row < rows.size(); ++row) {
    if (rows[row] < 0) continue;
    const double enclosed = planar_area(rows.store, rows[row]);
    const double slack = 1e-9 * enclosed + 8 * arrangement.cell() * planar_perimeter(rows.store, rows[row]);
    if (std::fabs(enclosed - covered[row]) > slack) out.push_back(row);
  }
  return out;
}

Pieces row_by_row(const ShapeRows& rows, const std::function<StoreBuffer(const ShapeRows& one, int row)>& make) {
  std::vector<StoreBuffer> made(rows.size());
  parallel_for(rows.size(), 16, [&](std::size_t begin, std::size_t end) {
    for (std::size_t row = begin; row < end; ++row, end_if_interrupted())
      if (rows.handles[row] >= 1) made[row] = make({rows.store, rows.handles.subspan(row, 1)}, static_cast<int>(row));
  });
  std::vector<int> all(made.size());
  std::iota(all.begin(), all.end(), 0);
  return pieces_of(made, all);
}

Pieces pieces_of(std::span<const StoreBuffer> shapes, std::span<const int> rows) {
  Pieces out;
  std::vector<StoreView> views;
  for (std::size_t i = 0; i < shapes.size(); ++i) {
    if (shapes[i].types.empty()) continue;
    views.push_back(shapes[i].view());
    out.x.push_back(rows[i]);
  }
  out.store = StoreBuffer(count_all(views));
  concatenate(views, out.store.target());
  return out;
}

Pieces pieces_by_row(const Arrangement& a, RegionCells cells, std::span<const char> left_out) {
  Pieces out;
  std::vector<std::int64_t> keys;
  out.store = a.shapes(std::move(cells), keys, left_out);
  out.x.assign(keys.begin(), keys.end());
  return out;
}

}  // namespace civic
