// Where points lie relative to polygons, exactly, and how far from shapes they are.
#pragma once
#include <vector>

#include "../shapes/store.h"

namespace civic {

enum class Location : int { outside = 0, boundary = 1, inside = 2 };

// One point against all polygon parts of a shape, testing every edge.
Location locate_in_shape(const StoreView& store, int shape, double x, double y);

// The edges of one shape's polygon parts in horizontal bands, for many points against the same shape: a point
// meets the edges of its own band only.
class PolygonLocator {
 public:
  PolygonLocator(const StoreView& store, int shape);
  Location locate(double x, double y) const;

 private:
  int band_of(double y) const;
  const StoreView& store_;
  Box box_;
  double bands_per_unit_ = 0;
  int bands_ = 1;
  std::vector<int> band_start_;  // bands + 1 offsets into edges_
  struct Edge {
    double ax, ay, bx, by;
  };
  std::vector<Edge> edges_;
};

// Planar distance between two shapes one of which has only points; 0 where they meet, NaN where one is empty.
double distance_from_points(const StoreView& points, int point_shape, const StoreView& store, int shape);

}  // namespace civic
