#include "split.h"

#include <algorithm>
#include <map>

#include "../base/disjoint_sets.h"
#include "../base/progress.h"

namespace civic {

Pieces split_by_lines(const ShapeRows& polygons, const ShapeRows& lines) {
  const ShapeRows layers[] = {polygons, lines};
  const Arrangement a(layers, FillRule::even_odd);
  const int rows = polygons.size();

  // A number for each row on each face, joined across the edges along which no line runs.
  std::vector<int> start{0}, row_of;
  for (int face = 0; face < a.faces(); ++face) {
    for (const int feature : a.cover(face))
      if (feature < rows) row_of.push_back(feature);
    start.push_back(static_cast<int>(row_of.size()));
  }
  const auto number_of = [&](int face, int row) {
    const auto first = row_of.begin() + start[face], last = row_of.begin() + start[face + 1];
    const auto at = std::lower_bound(first, last, row);
    return at != last && *at == row ? static_cast<int>(at - row_of.begin()) : -1;
  };
  DisjointSets pieces(row_of.size());
  for (int e = 0; e < a.edges(); ++e) {
    const auto along = a.lines(e);
    if (std::any_of(along.begin(), along.end(), [&](const auto& line) { return line.feature >= rows; })) continue;
    const Arrangement::Edge& edge = a.edge(e);
    for (int k = start[edge.left]; k < start[edge.left + 1]; ++k)
      if (const int other = number_of(edge.right, row_of[k]); other >= 0) pieces.join(k, other);
  }

  // Keys that put the pieces in the order of their rows.
  const auto width = static_cast<std::int64_t>(row_of.size()) + 1;
  RegionCells cells;
  for (int face = 1; face < a.faces(); ++face)
    for (int k = start[face]; k < start[face + 1]; ++k)
      cells.faces.push_back({row_of[k] * width + pieces.find(k), face});
  Pieces out;
  std::vector<std::int64_t> keys;
  out.store = a.shapes(std::move(cells), keys);
  for (const std::int64_t key : keys) out.x.push_back(static_cast<int>(key / width));
  return out;
}

Flattened flatten(const ShapeRows& polygons) {
  const Arrangement a({&polygons, 1}, FillRule::even_odd);
  std::map<std::vector<int>, std::vector<int>> faces_of;  // by the rows that lie on them
  for (int face = 1; face < a.faces(); ++face, end_if_interrupted())
    if (const auto cover = a.cover(face); !cover.empty()) faces_of[{cover.begin(), cover.end()}].push_back(face);
  Flattened out;
  RegionCells cells;
  for (const auto& [rows, faces] : faces_of) {
    for (const int face : faces) cells.faces.push_back({static_cast<std::int64_t>(out.rows.size()), face});
    out.rows.push_back(rows);
  }
  std::vector<std::int64_t> keys;
  out.store = a.shapes(std::move(cells), keys);
  return out;
}

}  // namespace civic
