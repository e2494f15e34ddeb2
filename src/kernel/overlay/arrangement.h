// The plane cut up by the borders of layers of polygons: nodes, edges and faces, and which features cover each face. All
// overlays are unions of its faces, so that their borders are the same wherever they meet.
#pragma once
#include <span>
#include <vector>

#include "../noding/noder.h"
#include "../shapes/store.h"

namespace civic {

enum class FillRule { even_odd, nonzero };

class Arrangement {
 public:
  // The polygons of several layers, whose rows are numbered on: the features. Other parts are left out. Invalid polygons
  // are taken by the rule. Throws FormatError where a coordinate is not finite.
  Arrangement(std::span<const ShapeRows> layers, FillRule rule);

  int faces() const { return static_cast<int>(cover_start_.size()) - 1; }
  // The features that cover a face, ascending. Face 0 is the outside.
  std::span<const int> cover(int face) const {
    return {cover_.data() + cover_start_[face], static_cast<std::size_t>(cover_start_[face + 1] - cover_start_[face])};
  }
  double cell() const { return grid_.cell(); }

  // A face that belongs to a region, by the region's key.
  struct Belonging {
    std::int64_t region;
    int face;
  };
  // The regions as valid polygons, one shape for each key that occurs, ascending; keys are written to `keys`. Regions may
  // overlap.
  StoreBuffer regions(std::vector<Belonging> belongings, std::vector<std::int64_t>& keys) const;

  // Twice the area of a face in cells, exact but for the conversion; infinite outside.
  double area(int face) const { return areas_[face]; }

  // Edges between two faces, for those who look at borders.
  struct Edge {
    int from, to;     // nodes, from the left one to the right one
    int left, right;  // faces
  };
  const std::vector<Edge>& edges() const { return edges_; }
  std::span<const GridPoint> nodes() const { return points_; }
  double x(int node) const { return grid_.coordinate(points_[node].x); }
  double y(int node) const { return grid_.coordinate(points_[node].y); }

 private:
  struct Crossing {  // what stepping over an edge from right to left changes
    int feature, count;
  };
  Noded collect(std::span<const ShapeRows> layers);
  void merge_edges(const std::vector<Segment>& segments);
  void sort_around_nodes();
  void trace_cycles();
  void link_cycles();
  void cover_faces();

  // Half-edge 2 e runs along edge e, 2 e + 1 back.
  int origin(int half) const { return half & 1 ? edges_[half >> 1].to : edges_[half >> 1].from; }
  int target(int half) const { return origin(half ^ 1); }

  FillRule rule_;
  Grid grid_;
  std::vector<GridPoint> points_;
  std::vector<Edge> edges_;
  std::vector<int> crossing_start_;
  std::vector<Crossing> crossings_;
  std::vector<int> around_start_, around_;  // half-edges out of each node, counter-clockwise
  std::vector<int> place_;                  // of each half-edge among those out of its origin
  std::vector<int> cycle_;                  // of each half-edge, then its face
  std::vector<int> cover_start_, cover_;
  std::vector<double> areas_;
  friend class RegionTracer;
};

}  // namespace civic
