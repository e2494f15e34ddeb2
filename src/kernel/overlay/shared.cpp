#include "shared.h"

#include <algorithm>
#include <tuple>

#include "sides.h"

namespace civic {

std::vector<Shared> shared_measures(const ShapeRows& x, const ShapeRows& y) {
  const ShapeRows layers[] = {x, y};
  const Arrangement a(layers, FillRule::even_odd);
  const int x_rows = x.size();
  std::vector<Shared> all;
  for (int face = 1; face < a.faces(); ++face) {
    const Sides sides = sides_of(a.cover(face), x_rows);
    for (const int i : sides.x)
      for (const int j : sides.y) all.push_back({i, j - x_rows, a.area(face), 0});
  }
  std::vector<int> features;
  for (int e = 0; e < a.edges(); ++e) {
    if (a.lines(e).empty()) continue;
    a.edge_features(e, features);
    const Sides sides = sides_of(features, x_rows);
    // Along an edge lines meet lines and polygons; of polygons that share it the first.
    const double length = a.length(e);
    auto along = [&](int feature) { return a.runs_along(e, feature); };
    for (const int i : sides.x)
      for (const int j : sides.y) {
        if (!along(i) && !along(j)) continue;
        if (!along(i) && i != sides.x.front()) continue;
        if (!along(j) && j != sides.y.front()) continue;
        all.push_back({i, j - x_rows, 0, length});
      }
  }
  std::sort(all.begin(), all.end(),
            [](const Shared& p, const Shared& q) { return std::tie(p.x, p.y) < std::tie(q.x, q.y); });
  std::vector<Shared> out;
  for (const Shared& s : all) {
    if (out.empty() || out.back().x != s.x || out.back().y != s.y) {
      out.push_back(s);
    } else {
      out.back().area += s.area;
      out.back().length += s.length;
    }
  }
  return out;
}

}  // namespace civic
