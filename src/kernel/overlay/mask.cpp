#include "mask.h"

#include "sides.h"

namespace civic {

Pieces mask(const ShapeRows& x, const ShapeRows& y, bool inside) {
  const ShapeRows layers[] = {x, y};
  const Arrangement a(layers, FillRule::even_odd);
  const int x_rows = x.size();
  RegionCells cells;
  std::vector<int> count(x_rows, 0), features;
  auto wanted = [&](std::span<const int> all) { return sides_of(all, x_rows).y.empty() != inside; };
  for (int face = 1; face < a.faces(); ++face)
    if (wanted(a.cover(face)))
      for (const int i : sides_of(a.cover(face), x_rows).x) cells.faces.push_back({i, face});
  for (int e = 0; e < a.edges(); ++e) {
    if (a.lines(e).empty()) continue;
    a.edge_features(e, features);
    if (!wanted(features)) continue;
    for (const auto& line : a.lines(e))
      if (line.feature < x_rows) {
        cells.edges.push_back({line.feature, e});
        ++count[line.feature];
      }
  }
  for (const Belonging& point : a.points()) {
    if (point.region >= x_rows) continue;
    a.node_features(point.cell, features);
    if (!wanted(features)) continue;
    cells.nodes.push_back(point);
    ++count[point.region];
  }
  Pieces out = pieces_by_row(a, std::move(cells));
  out.y.assign(out.x.size(), -1);
  const Wholes wholes(a, layers);
  for (const int row : out.x) out.whole.push_back(wholes.is_whole(row, count[row]));
  out.self_crossing_x = self_crossing_rows(a, x, 0);
  out.self_crossing_y = self_crossing_rows(a, y, x_rows);
  return out;
}

}  // namespace civic
