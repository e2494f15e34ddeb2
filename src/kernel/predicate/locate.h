// Where points lie relative to polygons, exactly, and how far from shapes they are.
#pragma once
#include <span>
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
  // Takes another shape; the memory of the last is used again.
  void take(const StoreView& store, int shape);
  Location locate(double x, double y) const;
  // Edges counted once for each of their bands, which is what it holds in memory.
  std::size_t entries() const { return banded_.size(); }

 private:
  struct Edge {
    double ax, ay, bx, by;  // from the lower end to the upper
    double slope;           // x a unit of y
  };
  int band_of(double y) const;
  Location locate_exactly(std::span<const Edge> edges, double x, double y) const;
  Box box_;
  double bands_per_unit_ = 0;
  double doubt_ = 0;  // how far rounding can move the place where an edge is as high as a point
  int bands_ = 1;
  std::vector<int> band_start_;  // bands + 1 offsets into banded_
  std::vector<Edge> banded_;
  struct Spanning {
    Edge edge;
    int first, last;  // bands
  };
  std::vector<Spanning> edges_;  // while they are put into bands
};

// Planar distance between two shapes one of which has only points; 0 where they meet, NaN where one is empty.
double distance_from_points(const StoreView& points, int point_shape, const StoreView& store, int shape);

}  // namespace civic
