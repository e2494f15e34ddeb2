#include "hull.h"

#include <algorithm>

#include "../base/xy.h"
#include "../predicate/orientation.h"

namespace civic {
namespace {

// Counter-clockwise, without the first place again.
std::vector<XY> hull_of(std::vector<XY> places) {
  std::sort(places.begin(), places.end());
  places.erase(std::unique(places.begin(), places.end()), places.end());
  if (places.size() < 3) return places;
  std::vector<XY> hull;
  for (const bool upper : {false, true}) {
    const std::size_t base = hull.size();
    for (const auto& p : places) {
      while (hull.size() >= base + 2 &&
             orientation(hull[hull.size() - 2].x, hull[hull.size() - 2].y, hull.back().x, hull.back().y, p.x, p.y) <= 0)
        hull.pop_back();
      hull.push_back(p);
    }
    hull.pop_back();  // where the other side begins
    if (!upper) std::reverse(places.begin(), places.end());
  }
  return hull;
}

void add_vertices(const StoreView& s, int shape, std::vector<XY>& places) {
  const IndexRange v = s.shape_vertices(shape);
  for (int i = v.begin; i < v.end; ++i) places.push_back({s.x[i], s.y[i]});
}

void write_hull(std::vector<XY> places, int row, ShapeBuilder& builder, std::vector<int>& rows) {
  std::vector<XY> hull = hull_of(std::move(places));
  if (hull.empty()) return;
  const ShapeKind kind = hull.size() > 2 ? ShapeKind::polygon : hull.size() == 2 ? ShapeKind::line : ShapeKind::point;
  if (kind == ShapeKind::polygon) hull.push_back(hull.front());
  builder.begin_shape(type_code(kind, false, false));
  builder.begin_part(kind);
  builder.begin_ring();
  for (const auto& [x, y] : hull) builder.vertex(x, y);
  builder.end_shape();
  rows.push_back(row);
}

}  // namespace

Derived hulls_of(const ShapeRows& rows) {
  Derived out;
  ShapeBuilder builder;
  for (int row = 0; row < rows.size(); ++row) {
    if (rows[row] < 0) continue;
    std::vector<XY> places;
    add_vertices(rows.store, rows[row], places);
    write_hull(std::move(places), row, builder, out.rows);
  }
  out.store = builder.take();
  return out;
}

Derived hull_of_all(const ShapeRows& rows) {
  Derived out;
  ShapeBuilder builder;
  std::vector<XY> places;
  for (int row = 0; row < rows.size(); ++row)
    if (rows[row] >= 0) add_vertices(rows.store, rows[row], places);
  write_hull(std::move(places), 0, builder, out.rows);
  out.store = builder.take();
  return out;
}

}  // namespace civic
