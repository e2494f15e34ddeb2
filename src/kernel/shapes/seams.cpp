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

// Calls use(edge) for each edge of the polygons of a shape.
template <class Use>
void each_polygon_edge(const StoreView& s, int shape, const Use& use) {
  for (int part = s.parts(shape).begin; part < s.parts(shape).end; ++part) {
    if (s.part_kind(part) != ShapeKind::polygon) continue;
    for (int ring = s.rings(part).begin; ring < s.rings(part).end; ++ring)
      for (int i = s.vertices(ring).begin; i + 1 < s.vertices(ring).end; ++i)
        use(GlobeEdge{s.x[i], s.y[i], s.x[i + 1], s.y[i + 1]});
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
  each_polygon_edge(s, shape, [&](const GlobeEdge& edge) {
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
  each_polygon_edge(s, shape, [&](const GlobeEdge& edge) { at_pole = at_pole || is_at_pole(edge); });
  return at_pole || !seams_along_meridians(s, shape).empty();
}

void each_border(const StoreView& s, int shape, const std::function<void(const GlobeEdge&)>& use) {
  const auto seams = seams_along_meridians(s, shape);
  each_polygon_edge(s, shape, [&](const GlobeEdge& edge) {
    if (is_at_pole(edge)) return;
    const auto along = is_along_meridian(edge) ? seams.find(meridian(edge.from_longitude)) : seams.end();
    if (along == seams.end()) return use(edge);
    for (const GlobeEdge& piece : between(edge, along->second)) use(piece);
  });
}

std::optional<StoreBuffer> full_turns_in_pieces(const StoreView& s, int shape) {
  if (!(s.boxes[shape].xmax - s.boxes[shape].xmin >= 360 - least)) return std::nullopt;
  bool found = false;
  each_polygon_edge(s, shape, [&](const GlobeEdge& edge) { found = found || edge.is_full_turn(); });
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
  std::optional<GlobeEdge> last;
  each_border(s, shape, [&](const GlobeEdge& edge) {
    if (!last || last->to_longitude != edge.from_longitude || last->to_latitude != edge.from_latitude) {
      builder.begin_part(ShapeKind::line);
      builder.begin_ring();
      builder.vertex(edge.from_longitude, edge.from_latitude);
    }
    builder.vertex(edge.to_longitude, edge.to_latitude);
    last = edge;
  });
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
