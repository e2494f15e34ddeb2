#include "relate.h"

#include <algorithm>
#include <array>

#include "../base/error.h"
#include "../base/parallel.h"
#include "../base/sort_by_key.h"
#include "../index/kept_index.h"
#include "../index/row_sorter.h"
#include "../measure/distance.h"
#include "points_in_polygons.h"

namespace civic {

Relation parse_relation(const std::string& name) {
  static const std::array<const char*, 11> names{"intersects", "within",   "contains",       "covers",
                                                 "covered by", "touches",  "crosses",        "overlaps",
                                                 "equals",     "disjoint", "within distance"};
  for (std::size_t i = 0; i < names.size(); ++i)
    if (name == names[i]) return static_cast<Relation>(i);
  throw ArgumentError("unknown relation \"" + name + "\"");
}

bool holds(Relation relation, const RelationMatrix& m, int dimension_x, int dimension_y) {
  constexpr Where in = Where::interior, border = Where::boundary, out = Where::exterior;
  const bool beyond_y = m.at(in, out) >= 0 || m.at(border, out) >= 0,
             beyond_x = m.at(out, in) >= 0 || m.at(out, border) >= 0;
  const int inner = m.at(in, in);
  switch (relation) {
    case Relation::intersects:
      return m.meets();
    case Relation::disjoint:
      return !m.meets() && dimension_x >= 0 && dimension_y >= 0;
    case Relation::within:
      return inner >= 0 && !beyond_y;
    case Relation::contains:
      return inner >= 0 && !beyond_x;
    case Relation::covered_by:
      return m.meets() && !beyond_y;
    case Relation::covers:
      return m.meets() && !beyond_x;
    case Relation::equals:
      return m.meets() && !beyond_x && !beyond_y;
    case Relation::touches:
      return inner < 0 && m.meets();
    case Relation::crosses:
      if (dimension_x == 1 && dimension_y == 1) return inner == 0;
      if (dimension_x < dimension_y) return inner >= 0 && m.at(in, out) >= 0;
      return dimension_x > dimension_y && inner >= 0 && m.at(out, in) >= 0;
    case Relation::overlaps:
      return dimension_x == dimension_y && inner == dimension_x && m.at(in, out) >= 0 && m.at(out, in) >= 0;
    default:
      return false;
  }
}

namespace {

// The relation seen from the other side.
Relation converse(Relation relation) {
  switch (relation) {
    case Relation::within:
      return Relation::contains;
    case Relation::contains:
      return Relation::within;
    case Relation::covers:
      return Relation::covered_by;
    case Relation::covered_by:
      return Relation::covers;
    default:
      return relation;
  }
}

// Pairs as (point row, polygon row), by polygon, then by point.
std::vector<RowPair> points_against_polygons(const ShapeRows& points, const ShapeRows& polygons, Relation relation,
                                             double distance) {
  const PointsInPolygons related(points, polygons, relation, distance);
  return parallel_collect<RowPair>(polygons.size(), 64, [&](std::size_t begin, std::size_t end, auto& out) {
    PointSearch search(related);
    RowSorter sorter;
    for (int row = static_cast<int>(begin); row < static_cast<int>(end); ++row) {
      std::vector<int>& found = search.related_to(row);
      sorter.sort(found);
      for (const int point : found) out.push_back({point, row});
    }
  });
}

using PointSet = std::vector<std::pair<double, double>>;

PointSet point_set(const ShapeRows& rows, int row) {
  const IndexRange v = rows.store.shape_vertices(rows[row]);
  PointSet set;
  for (int i = v.begin; i < v.end; ++i) set.emplace_back(rows.store.x[i], rows.store.y[i]);
  std::sort(set.begin(), set.end());
  set.erase(std::unique(set.begin(), set.end()), set.end());
  return set;
}

bool holds_for_point_sets(Relation relation, const PointSet& a, const PointSet& b) {
  PointSet shared;
  std::set_intersection(a.begin(), a.end(), b.begin(), b.end(), std::back_inserter(shared));
  const bool a_in_b = shared.size() == a.size(), b_in_a = shared.size() == b.size();
  switch (relation) {
    case Relation::intersects:
      return !shared.empty();
    case Relation::disjoint:
      return shared.empty();
    case Relation::within:
    case Relation::covered_by:
      return a_in_b;
    case Relation::contains:
    case Relation::covers:
      return b_in_a;
    case Relation::equals:
      return a_in_b && b_in_a;
    case Relation::overlaps:
      return !shared.empty() && !a_in_b && !b_in_a;
    default:
      return false;  // points touch and cross nothing of their own dimension
  }
}

std::vector<RowPair> points_against_points(const ShapeRows& x, const ShapeRows& y, Relation relation, double distance) {
  const auto index = index_of(y);
  const RTree& tree = *index;
  const bool near = relation == Relation::within_distance;
  return parallel_collect<RowPair>(x.size(), 1024, [&](std::size_t begin, std::size_t end, auto& out) {
    std::vector<int> candidates;
    for (int row = static_cast<int>(begin); row < static_cast<int>(end); ++row) {
      const Box box = x.box(row);
      if (box.empty()) continue;
      candidates.clear();
      tree.search(near ? box.grown(distance) : box, candidates);
      std::sort(candidates.begin(), candidates.end());
      for (int other : candidates) {
        const bool holds = near ? distance_from_points(x.store, x[row], y.store, y[other]) <= distance
                                : holds_for_point_sets(relation, point_set(x, row), point_set(y, other));
        if (holds) out.push_back({row, other});
      }
    }
  });
}

// Shapes of any types. The side with more vertices a shape is the outer one, each of which is made ready once.
class AnyAgainstAny {
 public:
  AnyAgainstAny(const ShapeRows& outer, const ShapeRows& inner, Relation relation, double distance, bool swapped)
      : outer_(outer), inner_(inner), relation_(relation), distance_(distance), swapped_(swapped) {}

  // Pairs as (inner row, outer row), by outer, then by inner.
  std::vector<RowPair> find() const {
    const auto index = index_of(inner_);
    const RTree& tree = *index;
    return parallel_collect<RowPair>(outer_.size(), 8, [&](std::size_t begin, std::size_t end, auto& out) {
      std::vector<int> candidates;
      for (int row = static_cast<int>(begin); row < static_cast<int>(end); ++row) {
        const Box box = outer_.box(row);
        if (box.empty()) continue;
        candidates.clear();
        tree.search(relation_ == Relation::within_distance ? box.grown(distance_) : box, candidates);
        std::sort(candidates.begin(), candidates.end());
        if (candidates.empty()) continue;
        if (relation_ == Relation::within_distance) {
          for (const int other : candidates)
            if (nearest_places(inner_.store, inner_[other], outer_.store, outer_[row]).distance <= distance_)
              out.push_back({other, row});
          continue;
        }
        const RelatedShape ready(outer_.store, outer_[row]);
        for (const int other : candidates)
          if (related(ready, RelatedShape(inner_.store, inner_[other]))) out.push_back({other, row});
      }
    });
  }

 private:
  bool related(const RelatedShape& outer, const RelatedShape& inner) const {
    if (relation_ == Relation::intersects) return intersects(inner, outer);
    const RelatedShape& x = swapped_ ? inner : outer;
    const RelatedShape& y = swapped_ ? outer : inner;
    return holds(relation_, relate(x, y), x.dimension(), y.dimension());
  }
  const ShapeRows& outer_;
  const ShapeRows& inner_;
  const Relation relation_;
  const double distance_;
  const bool swapped_;  // x is the inner side
};

std::size_t vertices_of(const ShapeRows& rows) {
  std::size_t sum = 0;
  for (int row = 0; row < rows.size(); ++row)
    if (rows[row] >= 0) sum += static_cast<std::size_t>(rows.store.shape_vertices(rows[row]).size());
  return sum;
}

std::vector<RowPair> complement(const ShapeRows& x, const ShapeRows& y, const std::vector<RowPair>& pairs) {
  std::vector<RowPair> out;
  std::size_t next = 0;
  for (int i = 0; i < x.size(); ++i)
    for (int j = 0; j < y.size(); ++j) {
      if (next < pairs.size() && pairs[next].x == i && pairs[next].y == j) {
        ++next;
      } else if (!x.box(i).empty() && !y.box(j).empty()) {
        out.push_back({i, j});
      }
    }
  return out;
}

}  // namespace

std::vector<RowPair> related_pairs(const ShapeRows& x, const ShapeRows& y, Relation relation, double distance) {
  if (relation == Relation::within_distance && !(distance >= 0))
    throw ArgumentError("the relation \"within distance\" needs a distance of 0 or more");
  if (relation == Relation::disjoint) return complement(x, y, related_pairs(x, y, Relation::intersects, 0));

  const Family fx = family_of(x), fy = family_of(y);
  std::vector<RowPair> pairs;
  if (fx == Family::none || fy == Family::none) return pairs;
  if (fx == Family::points && fy == Family::points) {
    pairs = points_against_points(x, y, relation, distance);
  } else if (fx == Family::points && fy == Family::polygons) {
    pairs = points_against_polygons(x, y, relation, distance);
    sort_by_key(pairs, static_cast<std::size_t>(x.size()), [](const auto& pair) { return pair.x; });
  } else if (fx == Family::polygons && fy == Family::points) {
    pairs = points_against_polygons(y, x, converse(relation), distance);
    for (auto& pair : pairs) std::swap(pair.x, pair.y);
  } else if (vertices_of(x) * static_cast<std::size_t>(y.size()) >
             vertices_of(y) * static_cast<std::size_t>(x.size())) {
    pairs = AnyAgainstAny(x, y, relation, distance, false).find();
    for (auto& pair : pairs) std::swap(pair.x, pair.y);
  } else {
    pairs = AnyAgainstAny(y, x, relation, distance, true).find();
    sort_by_key(pairs, static_cast<std::size_t>(x.size()), [](const auto& pair) { return pair.x; });
  }
  return pairs;
}

}  // namespace civic
