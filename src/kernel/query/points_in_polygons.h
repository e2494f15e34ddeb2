// Which points of one layer are related to the polygons of another.
#pragma once
#include <memory>
#include <vector>

#include "../index/rtree.h"
#include "../predicate/locate.h"
#include "relate.h"

namespace civic {

enum class Family { none, points, polygons, other };

// The family that all shapes of a layer share; lines and mixtures are `other`.
Family family_of(const ShapeRows& rows);

// The question: the relation reads "point relation polygon".
class PointsInPolygons {
 public:
  PointsInPolygons(const ShapeRows& points, const ShapeRows& polygons, Relation relation, double distance);

 private:
  friend class PointSearch;
  const ShapeRows& points_;
  const ShapeRows& polygons_;
  const Relation relation_;
  const double distance_;
  const std::shared_ptr<const RTree> index_;  // of the points
  bool holds_at_[3];                          // for points in one place, by its location
};

// Answers it for one polygon after the other, on one thread.
class PointSearch {
 public:
  explicit PointSearch(const PointsInPolygons& question) : question_(question) {}
  // Rows of the points, in no particular order, until the next call.
  std::vector<int>& related_to(int polygon_row);

 private:
  struct Candidate {
    int row;
    const Box* box;
  };
  void keep_near(int shape);
  template <class Locate>
  void keep_related(const Locate& locate);

  const PointsInPolygons& question_;
  std::vector<Candidate> candidates_;
  std::vector<int> related_;
  PolygonLocator locator_;
};

}  // namespace civic
