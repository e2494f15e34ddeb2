#include "points_in_polygons.h"

#include <numeric>

#include "../base/parallel.h"
#include "../index/kept_index.h"

namespace civic {
namespace {

Family common(Family a, Family b) { return a == Family::none || a == b ? b : b == Family::none ? a : Family::other; }

// How the points of one shape lie relative to another shape.
struct Tally {
  int inside = 0, boundary = 0, outside = 0;
  void add(Location where) {
    ++(where == Location::inside ? inside : where == Location::boundary ? boundary : outside);
  }
};

// What the relation says of points (first) against polygons (second). The matrix cells that decide it follow from
// the tally: points have no boundary, and a polygon always reaches beyond any points.
bool holds_for_points_in_polygon(Relation relation, const Tally& t) {
  const bool meets = t.inside + t.boundary > 0;
  switch (relation) {
    case Relation::intersects:
      return meets;
    case Relation::disjoint:
      return !meets;
    case Relation::within:
      return t.outside == 0 && t.inside > 0;
    case Relation::covered_by:
      return t.outside == 0 && meets;
    case Relation::touches:
      return t.inside == 0 && t.boundary > 0;
    case Relation::crosses:
      return t.inside > 0 && t.outside > 0;
    default:
      return false;  // contains, covers, equals and overlaps cannot hold
  }
}

}  // namespace

Family family_of(const ShapeRows& rows) {
  constexpr std::size_t grain = 1 << 16;
  const auto n = static_cast<std::size_t>(rows.size());
  std::vector<Family> families((n + grain - 1) / grain, Family::none);
  parallel_for(n, grain, [&](std::size_t begin, std::size_t end) {
    Family family = Family::none;
    for (std::size_t row = begin; row < end; ++row) {
      const int shape = rows[static_cast<int>(row)];
      const IndexRange parts = shape < 0 ? IndexRange{} : rows.store.parts(shape);
      for (int part = parts.begin; part < parts.end; ++part) {
        const ShapeKind kind = rows.store.part_kind(part);
        family = common(family, kind == ShapeKind::point     ? Family::points
                                : kind == ShapeKind::polygon ? Family::polygons
                                                             : Family::other);
      }
    }
    families[begin / grain] = family;
  });
  return std::accumulate(families.begin(), families.end(), Family::none, common);
}

PointsInPolygons::PointsInPolygons(const ShapeRows& points, const ShapeRows& polygons, Relation relation,
                                   double distance)
    : points_(points), polygons_(polygons), relation_(relation), distance_(distance), index_(index_of(points)) {
  for (const Location where : {Location::outside, Location::boundary, Location::inside}) {
    Tally tally;
    tally.add(where);
    holds_at_[static_cast<int>(where)] = holds_for_points_in_polygon(relation, tally);
  }
}

std::vector<int>& PointSearch::related_to(int polygon_row) {
  const ShapeRows& polygons = question_.polygons_;
  related_.clear();
  const Box box = polygons.box(polygon_row);
  if (box.empty()) return related_;
  const bool near = question_.relation_ == Relation::within_distance;
  candidates_.clear();
  question_.index_->visit(near ? box.grown(question_.distance_) : box, [&](int row, const Box& place) {
    candidates_.push_back({row, &place});
  });
  const int shape = polygons[polygon_row];
  // Banding the edges costs about as much as testing them for four points.
  const bool many = candidates_.size() > 4 && polygons.store.shape_vertices(shape).size() > 64;
  if (near) {
    keep_near(shape);
  } else if (many) {
    locator_.take(polygons.store, shape);
    keep_related([&](double x, double y) { return locator_.locate(x, y); });
  } else {
    keep_related([&](double x, double y) { return locate_in_shape(polygons.store, shape, x, y); });
  }
  return related_;
}

void PointSearch::keep_near(int shape) {
  const ShapeRows& points = question_.points_;
  for (const Candidate& c : candidates_) {
    end_if_interrupted();
    if (distance_from_points(points.store, points[c.row], question_.polygons_.store, shape) <= question_.distance_)
      related_.push_back(c.row);
  }
}

template <class Locate>
void PointSearch::keep_related(const Locate& locate) {
  const ShapeRows& points = question_.points_;
  related_.resize(candidates_.size());
  std::size_t count = 0;
  std::size_t done = 0;
  for (const Candidate& c : candidates_) {
    if (++done % 256 == 0) end_if_interrupted();
    bool holds;
    if (c.box->is_place()) {  // all its points lie in one place
      holds = question_.holds_at_[static_cast<int>(locate(c.box->xmin, c.box->ymin))];
    } else {
      Tally tally;
      const IndexRange v = points.store.shape_vertices(points[c.row]);
      for (int i = v.begin; i < v.end; ++i) tally.add(locate(points.store.x[i], points.store.y[i]));
      holds = holds_for_points_in_polygon(question_.relation_, tally);
    }
    related_[count] = c.row;
    count += holds;
  }
  related_.resize(count);
}

}  // namespace civic
