// Named relations of OGC 06-103r4 section 6.1.15 and the pairs of rows for which they hold.
#pragma once
#include <string>
#include <vector>

#include "../predicate/relation_matrix.h"
#include "../shapes/store.h"

namespace civic {

enum class Relation {
  intersects,
  within,
  contains,
  covers,
  covered_by,
  touches,
  crosses,
  overlaps,
  equals,
  disjoint,
  within_distance
};

Relation parse_relation(const std::string& name);  // throws ArgumentError

struct RowPair {
  int x, y;  // 0-based rows
};

// Whether a relation other than within_distance holds between shapes of such a matrix and such dimensions.
bool holds(Relation relation, const RelationMatrix& matrix, int dimension_x, int dimension_y);

// The pairs of rows (x, y) for which `relation` holds, sorted by x, then y. Rows that are missing or empty are in
// no pair. `distance` is in coordinate units and serves within_distance alone.
std::vector<RowPair> related_pairs(const ShapeRows& x, const ShapeRows& y, Relation relation, double distance);

}  // namespace civic
