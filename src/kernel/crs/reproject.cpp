#include "reproject.h"

#include <algorithm>
#include <cmath>
#include <optional>

#include "../base/parallel.h"
#include "../shapes/antimeridian.h"
#include "projection.h"

namespace civic {
namespace {

// Western edge of a map, degrees from its middle: -180 itself is a name of the eastern one. Off by 0.01 mm.
constexpr double western_edge = -180 + 1e-10;

// Longitude of the middle of a map that ends half a turn from it, in the source's degrees; none for maps without such
// an edge.
std::optional<double> middle_of_map(const Crs& from, const Crs& to) {
  if (to.kind != CrsKind::projected || !ends_at_antimeridian(to.method)) return std::nullopt;
  const double start = to.has_parameter("initial_longitude") ? to.parameter("initial_longitude", 0) + 180
                                                             : to.parameter("central_meridian", 0);
  return start + to.meridian_degrees - from.meridian_degrees;
}

template <class Each>
void over_vertices(StoreBuffer& store, const Each& each) {
  parallel_for(store.x.size(), 1 << 16, [&](std::size_t begin, std::size_t end) {
    for (std::size_t i = begin; i < end; ++i) each(store.x[i], store.y[i]);
  });
}

bool any_crosses(const StoreView& store) {
  for (int shape = 0; shape < store.size(); ++shape)
    if (crosses_antimeridian(store, shape)) return true;
  return false;
}

void turn_points_back(StoreBuffer& store) {
  const StoreView view = store.view();
  const StoreTarget target = store.target();
  for (int part = 0; part < static_cast<int>(view.part_types.size()); ++part) {
    if (view.part_kind(part) != ShapeKind::point) continue;
    const IndexRange rings = view.rings(part);
    for (int i = view.ring_vertices[rings.begin]; i < view.ring_vertices[rings.end]; ++i)
      if (std::fabs(view.x[i]) > 180) target.x[i] = std::remainder(view.x[i], 360.0);
  }
}

// Lines and polygons that touch the western edge stay on its side.
void keep_west(StoreBuffer& store) {
  const StoreView view = store.view();
  const StoreTarget target = store.target();
  for (int part = 0; part < static_cast<int>(view.part_types.size()); ++part) {
    if (view.part_kind(part) == ShapeKind::point) continue;
    const IndexRange rings = view.rings(part);
    for (int i = view.ring_vertices[rings.begin]; i < view.ring_vertices[rings.end]; ++i)
      target.x[i] = std::max(view.x[i], western_edge);
  }
}

// Cuts shapes on longitude and latitude half a turn from the middle of a map. `unit`: degrees in a unit of coordinates.
std::size_t cut_at_edge(StoreBuffer& store, std::vector<int>& handles, double middle, double unit, int missing) {
  double low = HUGE_VAL, high = -HUGE_VAL;
  for (const double x : store.x) {
    low = std::min(low, x * unit);
    high = std::max(high, x * unit);
  }
  const bool within = low > middle - 180 && high <= middle + 180;
  if (within && !any_crosses(store.view())) return 0;  // the common case
  over_vertices(store, [&](double& x, double&) { x = x * unit - middle; });
  turn_points_back(store);
  std::size_t count = 0;
  if (any_crosses(store.view())) {
    AntimeridianCut cut = cut_at_antimeridian({store.view(), handles}, missing);
    store = std::move(cut.store);
    handles = std::move(cut.handles);
    count = cut.cut + cut.around_pole;
  }
  keep_west(store);
  over_vertices(store, [&](double& x, double&) { x = (x + middle) / unit; });
  return count;
}

// Shapes that run along the antimeridian to a pole lose those edges on maps that show the pole as a point: the run of
// vertices at the pole and on the meridians to it, but for the two where it starts and ends.
bool is_seam(const StoreView& s, int i, double unit) {
  return std::fabs(s.y[i] * unit) >= 90 - 1e-9 || std::fabs(std::fabs(s.x[i] * unit) - 180) < 1e-9;
}

// Which vertices of a closed ring are left when its run through a pole is taken out; empty for all.
std::vector<int> without_pole(const StoreView& s, IndexRange v, double unit) {
  const int n = v.size() - 1;
  int pole = -1;
  for (int i = 0; i < n && pole < 0; ++i)
    if (std::fabs(s.y[v.begin + i] * unit) >= 90 - 1e-9) pole = i;
  if (pole < 0) return {};
  auto seam = [&](int i) { return is_seam(s, v.begin + (i % n + n) % n, unit); };
  int first = pole, last = pole;
  while (last - first < n && seam(first - 1)) --first;
  while (last - first < n && seam(last + 1)) ++last;
  if (last - first >= n - 2) return {};
  std::vector<int> kept;
  // The first and the last of the run stand on the antimeridian, mostly at one latitude and then one place on the map.
  const double gap = s.y[v.begin + (first % n + n) % n] - s.y[v.begin + last % n];
  for (int i = std::fabs(gap * unit) < 1e-9 ? last + 1 : last; i <= first + n; ++i)
    kept.push_back(v.begin + (i % n + n) % n);
  kept.push_back(kept.front());
  return kept;
}

void drop_seams(StoreBuffer& store, double unit) {
  const StoreView s = store.view();
  const bool any = std::any_of(s.boxes.begin(), s.boxes.end(), [&](const Box& box) {
    return box.ymax * unit >= 90 - 1e-9 || box.ymin * unit <= -90 + 1e-9;
  });
  if (!any) return;
  ShapeBuilder builder;
  for (int shape = 0; shape < s.size(); ++shape) {
    builder.begin_shape(s.types[shape]);
    for (int part = s.parts(shape).begin; part < s.parts(shape).end; ++part) {
      builder.begin_part(s.part_kind(part));
      for (int ring = s.rings(part).begin; ring < s.rings(part).end; ++ring) {
        builder.begin_ring();
        const IndexRange v = s.vertices(ring);
        std::vector<int> kept;
        if (s.part_kind(part) == ShapeKind::polygon && v.size() > 4) kept = without_pole(s, v, unit);
        auto put = [&](int i) {
          builder.vertex(s.x[i], s.y[i], s.z.empty() ? nan_value : s.z[i], s.m.empty() ? nan_value : s.m[i]);
        };
        if (kept.empty())
          for (int i = v.begin; i < v.end; ++i) put(i);
        else
          for (const int i : kept) put(i);
      }
    }
    builder.end_shape();
  }
  store = builder.take();
}

// 1 for a map around the north pole, -1 around the south pole, 0 for others.
int pole_of_map(const Crs& to) {
  const std::string& method = to.method;
  const bool azimuthal =
      method.find("Stereographic") != std::string::npos || method.find("Azimuthal") != std::string::npos;
  if (to.kind != CrsKind::projected || !azimuthal) return 0;
  const bool by_parallel = method.starts_with("Polar") && !to.has_parameter("latitude_of_origin");
  const double latitude = by_parallel ? to.parameter("standard_parallel_1", 0) : to.parameter("latitude_of_origin", 0);
  if (!by_parallel && std::fabs(latitude) < 90 - 1e-9 && !method.starts_with("Polar")) return 0;
  return latitude > 0 ? 1 : latitude < 0 ? -1 : 0;
}

// Whether a ring holds a pole, or runs around it.
bool surrounds_pole(const StoreView& s, IndexRange v, double unit, int pole) {
  double turn = 0, latitudes = 0;
  for (int i = v.begin; i < v.end; ++i) {
    if (pole * s.y[i] * unit >= 90 - 1e-9) return true;
    latitudes += s.y[i];
    if (i > v.begin) turn += std::remainder((s.x[i] - s.x[i - 1]) * unit, 360.0);
  }
  return std::fabs(turn) > 180 && pole * latitudes > 0;
}

// Polygons around the pole opposite to that of a map, which would cover it from outside: its rim is no place.
std::vector<int> around_far_pole(const StoreBuffer& store, std::span<const int> handles, double unit, int map_pole) {
  const StoreView s = store.view();
  std::vector<int> rows;
  for (std::size_t row = 0; row < handles.size(); ++row) {
    if (handles[row] < 1) continue;
    const int shape = handles[row] - 1;
    bool around = false;
    for (int part = s.parts(shape).begin; part < s.parts(shape).end && !around; ++part)
      if (s.part_kind(part) == ShapeKind::polygon && s.rings(part).size() > 0)
        around = surrounds_pole(s, s.vertices(s.rings(part).begin), unit, -map_pole);
    if (around) rows.push_back(static_cast<int>(row));
  }
  return rows;
}

// How many pieces each edge is to be cut into, by the bow of its curve at three places: it falls with the square.
std::vector<int> pieces_of_edges(const StoreView& s, const Transform& transform, double tolerance) {
  constexpr int places = 3, most_pieces = 4096;
  std::vector<int> pieces(s.x.size(), 1);
  parallel_for(s.ring_vertices.size() - 1, 256, [&](std::size_t first, std::size_t last) {
    std::vector<double> x, y;
    for (std::size_t ring = first; ring < last; ++ring) {
      const IndexRange v = s.vertices(static_cast<int>(ring));
      x.clear();
      y.clear();
      for (int i = v.begin; i + 1 < v.end; ++i)
        for (int k = 0; k <= places + 1; ++k) {
          const double t = static_cast<double>(k) / (places + 1);
          x.push_back(s.x[i] + t * (s.x[i + 1] - s.x[i]));
          y.push_back(s.y[i] + t * (s.y[i + 1] - s.y[i]));
        }
      transform.apply_here(x.data(), y.data(), x.size());
      for (int i = v.begin, at = 0; i + 1 < v.end; ++i, at += places + 2) {
        double bow = 0;
        for (int k = 1; k <= places; ++k) {
          const double t = static_cast<double>(k) / (places + 1);
          bow = std::max(bow, std::hypot(x[at + k] - x[at] - t * (x[at + places + 1] - x[at]),
                                         y[at + k] - y[at] - t * (y[at + places + 1] - y[at])));
        }
        if (bow > tolerance)
          pieces[i] = std::min(most_pieces, static_cast<int>(std::ceil(1.2 * std::sqrt(bow / tolerance))));
      }
    }
  });
  return pieces;
}

std::size_t densify(StoreBuffer& store, const Transform& transform, double tolerance) {
  const StoreView s = store.view();
  const std::vector<int> pieces = pieces_of_edges(s, transform, tolerance);
  std::size_t added = 0;
  for (const int p : pieces) added += static_cast<std::size_t>(p) - 1;
  if (added == 0) return 0;
  if (added + s.x.size() > 0x7fffffff) throw ArgumentError("the tolerance asks for more than 2147483647 vertices");
  StoreBuffer out;
  auto put = [&](std::vector<double>& column, std::span<const double> from) {
    if (from.empty()) return;
    column.reserve(from.size() + added);
    for (std::size_t i = 0; i < from.size(); ++i) {
      column.push_back(from[i]);
      for (int k = 1; k < pieces[i]; ++k)
        column.push_back(from[i] + static_cast<double>(k) / pieces[i] * (from[i + 1] - from[i]));
    }
  };
  put(out.x, s.x);
  put(out.y, s.y);
  put(out.z, s.z);
  put(out.m, s.m);
  std::size_t total = 0, at = 0;
  for (int& offset : store.ring_vertices) {
    for (; at < static_cast<std::size_t>(offset); ++at) total += static_cast<std::size_t>(pieces[at]);
    offset = static_cast<int>(total);
  }
  store.x = std::move(out.x);
  store.y = std::move(out.y);
  store.z = std::move(out.z);
  store.m = std::move(out.m);
  return added;
}

// Boxes and directions of rings after the coordinates have changed. Says for each shape whether a vertex was lost.
std::vector<char> settle(StoreBuffer& store) {
  const StoreView view = store.view();
  const StoreTarget target = store.target();
  std::vector<char> failed(static_cast<std::size_t>(view.size()), 0);
  parallel_for(failed.size(), 1024, [&](std::size_t begin, std::size_t end) {
    for (int shape = static_cast<int>(begin); shape < static_cast<int>(end); ++shape) {
      Box box;
      const IndexRange v = view.shape_vertices(shape);
      for (int i = v.begin; i < v.end; ++i) {
        failed[static_cast<std::size_t>(shape)] |= std::isnan(view.x[i]);
        box.add(view.x[i], view.y[i]);
      }
      target.boxes[shape] = box;
    }
    orient_rings(target, {static_cast<int>(begin), static_cast<int>(end)});
  });
  return failed;
}

}  // namespace

Reprojected reproject(const ShapeRows& rows, const Crs& from, const Crs& to, const Transform& transform,
                      const ReprojectOptions& options) {
  Reprojected out;
  out.store = gather({&rows, 1}, out.handles, options.missing);
  std::vector<int> beyond;
  if (from.kind == CrsKind::geographic) {
    if (const int pole = pole_of_map(to); pole != 0)
      beyond = around_far_pole(out.store, out.handles, from.unit_size, pole);
    if (const auto middle = middle_of_map(from, to))
      out.cut = cut_at_edge(out.store, out.handles, *middle, from.unit_size, options.missing);
    else if (to.kind == CrsKind::projected)
      drop_seams(out.store, from.unit_size);
  }
  if (options.tolerance > 0) out.added = densify(out.store, transform, options.tolerance);
  transform.apply(out.store.x.data(), out.store.y.data(), out.store.x.size());
  if (to.kind == CrsKind::geographic && from.kind == CrsKind::projected)
    out.cut = cut_at_edge(out.store, out.handles, 0, to.unit_size, options.missing);
  std::vector<char> failed = settle(out.store);
  for (const int row : beyond) failed[static_cast<std::size_t>(out.handles[static_cast<std::size_t>(row)]) - 1] = 1;
  for (std::size_t row = 0; row < out.handles.size(); ++row) {
    const int handle = out.handles[row];
    if (handle < 1 || !failed[static_cast<std::size_t>(handle) - 1]) continue;
    out.handles[row] = options.missing;
    out.lost.push_back(static_cast<int>(row));
  }
  return out;
}

}  // namespace civic
