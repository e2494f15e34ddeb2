#include "seams.h"

#include <algorithm>
#include <cmath>
#include <cstdint>
#include <map>
#include <optional>
#include <utility>
#include <vector>

#include "vertices_between.h"

namespace civic {
namespace {

using Interval = std::pair<double, double>;  // of latitudes

// Sorted, with those that meet joined.
std::vector<Interval> joined(std::vector<Interval> intervals) {
  std::sort(intervals.begin(), intervals.end());
  std::vector<Interval> out;
  for (const Interval& next : intervals) {
    if (!out.empty() && next.first <= out.back().second)
      out.back().second = std::max(out.back().second, next.second);
    else
      out.push_back(next);
  }
  return out;
}

std::vector<Interval> common(const std::vector<Interval>& a, const std::vector<Interval>& b) {
  std::vector<Interval> out;
  for (std::size_t i = 0, j = 0; i < a.size() && j < b.size();) {
    const double from = std::max(a[i].first, b[j].first), to = std::min(a[i].second, b[j].second);
    if (from < to) out.emplace_back(from, to);
    a[i].second < b[j].second ? ++i : ++j;
  }
  return out;
}

// Calls use(edge, i) for each edge of the polygons of a shape, from vertex i to the next.
template <class Use>
void each_polygon_edge(const StoreView& s, int shape, const Use& use) {
  for (int part = s.parts(shape).begin; part < s.parts(shape).end; ++part) {
    if (s.part_kind(part) != ShapeKind::polygon) continue;
    for (int ring = s.rings(part).begin; ring < s.rings(part).end; ++ring)
      for (int i = s.vertices(ring).begin; i + 1 < s.vertices(ring).end; ++i)
        use(GlobeEdge{s.x[i], s.y[i], s.x[i + 1], s.y[i + 1]}, i);
  }
}

constexpr double least = 1e-9;  // degrees, a tenth of a millimetre: nearer is the same place

using Meridian = std::int64_t;
Meridian meridian(double longitude) { return std::llround(longitude / least); }

bool is_along_meridian(const GlobeEdge& edge) {
  return std::fabs(edge.from_longitude) <= 720 && meridian(edge.from_longitude) == meridian(edge.to_longitude);
}

bool is_at_pole(const GlobeEdge& edge) {
  return std::fabs(edge.from_latitude) >= 90 - least && std::fabs(edge.to_latitude) >= 90 - least &&
         std::fabs(edge.to_latitude - edge.from_latitude) <= least;
}

// The seams along each meridian that has some: apart from one another, from south to north.
std::map<Meridian, std::vector<Interval>> seams_along_meridians(const StoreView& s, int shape) {
  std::map<Meridian, std::vector<Interval>> edges, seams;
  each_polygon_edge(s, shape, [&](const GlobeEdge& edge, int) {
    if (is_along_meridian(edge))
      edges[meridian(edge.from_longitude)].push_back(std::minmax(edge.from_latitude, edge.to_latitude));
  });
  for (auto& [at, intervals] : edges) intervals = joined(std::move(intervals));
  for (const auto& [at, intervals] : edges) {
    const auto beyond = edges.find(at + meridian(360));
    if (beyond == edges.end()) continue;
    std::vector<Interval> both = common(intervals, beyond->second);
    if (both.empty()) continue;
    seams[beyond->first] = both;
    seams[at] = std::move(both);
  }
  return seams;
}

// The pieces of an edge along a meridian that lie between its seams, in the edge's direction.
std::vector<GlobeEdge> between(const GlobeEdge& edge, const std::vector<Interval>& seams) {
  std::vector<GlobeEdge> out;
  const auto [south, north] = std::minmax(edge.from_latitude, edge.to_latitude);
  const bool northward = edge.from_latitude < edge.to_latitude;
  const double x = edge.from_longitude;
  double from = south;
  const auto add_up_to = [&](double to) {
    if (from < to) out.push_back(northward ? GlobeEdge{x, from, x, to} : GlobeEdge{x, to, x, from});
  };
  for (const Interval& seam : seams) {
    add_up_to(std::clamp(seam.first, from, north));
    from = std::clamp(seam.second, from, north);
  }
  add_up_to(north);
  if (!northward) std::reverse(out.begin(), out.end());
  return out;
}

}  // namespace

bool has_seams(const StoreView& s, int shape) {
  const Box& box = s.boxes[shape];
  if (!(box.xmax - box.xmin >= 360 - 2 * least) && box.ymin > -90 + least && box.ymax < 90 - least) return false;
  bool at_pole = false;
  each_polygon_edge(s, shape, [&](const GlobeEdge& edge, int) { at_pole = at_pole || is_at_pole(edge); });
  return at_pole || !seams_along_meridians(s, shape).empty();
}

void each_border(const StoreView& s, int shape, const std::function<void(const GlobeEdge&, int)>& use) {
  const auto seams = seams_along_meridians(s, shape);
  each_polygon_edge(s, shape, [&](const GlobeEdge& edge, int i) {
    if (is_at_pole(edge)) return;
    const auto along = is_along_meridian(edge) ? seams.find(meridian(edge.from_longitude)) : seams.end();
    if (along == seams.end()) return use(edge, i);
    for (const GlobeEdge& piece : between(edge, along->second)) use(piece, i);
  });
}

int add_borders(const StoreView& s, int shape, ShapeBuilder& builder) {
  const bool z = has_z(s.types[shape]), m = has_m(s.types[shape]);
  // At a place of the edge from vertex i; edges that are no borders all along run along a meridian.
  const auto add = [&](double longitude, double latitude, int i) {
    const bool at_start = longitude == s.x[i] && latitude == s.y[i];
    const bool at_end = longitude == s.x[i + 1] && latitude == s.y[i + 1];
    const double share = at_start ? 0 : at_end ? 1 : (latitude - s.y[i]) / (s.y[i + 1] - s.y[i]);
    const auto there = [&](const auto& values) {
      return share == 0 ? values[i] : share == 1 ? values[i + 1] : std::lerp(values[i], values[i + 1], share);
    };
    builder.vertex(longitude, latitude, z ? there(s.z) : nan_value, m ? there(s.m) : nan_value);
  };
  int lines = 0;
  std::optional<GlobeEdge> last;
  int last_i = 0;
  each_border(s, shape, [&](const GlobeEdge& edge, int i) {
    const bool goes_on = last && last->to_longitude == edge.from_longitude && last->to_latitude == edge.from_latitude &&
                         i <= last_i + 1;  // farther on it is another ring
    if (!goes_on) {
      builder.begin_part(ShapeKind::line);
      builder.begin_ring();
      add(edge.from_longitude, edge.from_latitude, i);
      ++lines;
    }
    add(edge.to_longitude, edge.to_latitude, i);
    last = edge;
    last_i = i;
  });
  return lines;
}

std::optional<StoreBuffer> full_turns_in_pieces(const StoreView& s, int shape) {
  if (!(s.boxes[shape].xmax - s.boxes[shape].xmin >= 360 - least)) return std::nullopt;
  bool found = false;
  each_polygon_edge(s, shape, [&](const GlobeEdge& edge, int) { found = found || edge.is_full_turn(); });
  if (!found) return std::nullopt;
  return with_vertices_between(s, shape, [&](ShapeBuilder& builder, int part, int i) {
    if (s.part_kind(part) != ShapeKind::polygon) return;
    const GlobeEdge edge{s.x[i], s.y[i], s.x[i + 1], s.y[i + 1]};
    for (int k = 1; edge.is_full_turn() && k < GlobeEdge::pieces_of_turn; ++k) {
      const auto [longitude, latitude] = edge.vertex_of_turn(k);
      builder.vertex(longitude, latitude);
    }
  });
}

StoreBuffer borders_on_globe(const StoreView& s, int shape) {
  ShapeBuilder builder;
  builder.begin_shape(static_cast<int>(ShapeKind::collection));
  add_borders(s, shape, builder);
  for (int part = s.parts(shape).begin; part < s.parts(shape).end; ++part) {
    if (s.part_kind(part) == ShapeKind::polygon) continue;
    builder.begin_part(s.part_kind(part));
    for (int ring = s.rings(part).begin; ring < s.rings(part).end; ++ring) {
      builder.begin_ring();
      for (int i = s.vertices(ring).begin; i < s.vertices(ring).end; ++i) builder.vertex(s.x[i], s.y[i]);
    }
  }
  builder.end_shape();
  return builder.take();
}

}  // namespace civic
