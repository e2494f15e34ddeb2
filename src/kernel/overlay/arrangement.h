// The plane cut up by layers of shapes: faces, edges and nodes, and which features each of them belongs to. Every
// overlay is a union of such cells, so that its pieces are the same wherever they meet.
#pragma once
#include <span>
#include <vector>

#include "../noding/noder.h"
#include "../shapes/store.h"

namespace civic {

// Where a polygon is inside: what an odd number of rings encloses, what rings run around, or run around more often
// counter-clockwise than clockwise.
enum class FillRule { even_odd, nonzero, positive };

// A cell of the arrangement that belongs to a region, by the region's key.
struct Belonging {
  std::int64_t region;
  int cell;
  friend auto operator<=>(const Belonging&, const Belonging&) = default;
};

// The cells of regions. An edge of a face and an end of an edge need not be named.
struct RegionCells {
  std::vector<Belonging> faces, edges, nodes;
};

class Arrangement {
 public:
  // The shapes of several layers, whose rows are numbered on: the features. Polygons are taken by the rule. Throws
  // FormatError where a coordinate is not finite.
  Arrangement(std::span<const ShapeRows> layers, FillRule rule) : Arrangement(layers, rule, grid_for(layers)) {}

  // On the grid of other layers too.
  Arrangement(std::span<const ShapeRows> layers, FillRule rule, const Grid& grid);
  static Grid grid_for(std::span<const ShapeRows> layers);

  int faces() const { return static_cast<int>(cover_start_.size()) - 1; }
  int edges() const { return static_cast<int>(edges_.size()); }
  int nodes() const { return static_cast<int>(points_.size()); }

  // The features whose polygons cover a face, ascending. Face 0 is the outside.
  std::span<const int> cover(int face) const { return slice(cover_, cover_start_, face); }
  // A feature whose lines run along an edge, and how much more often from its left end than from its right one.
  struct EdgeLine {
    int feature, count;
  };
  std::span<const EdgeLine> lines(int edge) const { return slice(edge_lines_, edge_line_start_, edge); }
  bool runs_along(int edge, int feature) const;
  // The features that hold an edge or a node, borders with them, ascending.
  void edge_features(int edge, std::vector<int>& features) const;
  void node_features(int node, std::vector<int>& features) const;

  // The features' points: feature in `region`, node in `cell`; by node.
  std::span<const Belonging> points() const { return point_features_; }
  bool is_point(int node, int feature) const;

  // The regions as valid shapes, one for each key that occurs, ascending; keys are written to `keys`. Regions may
  // overlap. Of a region's cells those that lie on the border of others of it are taken once. Nodes that are marked as
  // left out are not written.
  StoreBuffer shapes(RegionCells cells, std::vector<std::int64_t>& keys, std::span<const char> left_out = {}) const;

  // Area of a face, infinite outside.
  double area(int face) const { return areas_[face] * grid_.step() * grid_.step() / 2; }
  double cell() const { return grid_.cell(); }

  struct Edge {
    int from, to;     // nodes, from the left one to the right one
    int left, right;  // faces
  };
  const Edge& edge(int e) const { return edges_[e]; }
  double length(int e) const;
  GridPoint point(int node) const { return points_[node]; }
  double x(int node) const { return x_[node]; }
  double y(int node) const { return y_[node]; }
  // Half-edge 2 e runs along edge e, 2 e + 1 back; those out of a node come counter-clockwise.
  std::span<const int> around(int node) const { return slice(around_, around_start_, node); }

 private:
  struct Crossing {  // what stepping over an edge from right to left changes
    int feature, count;
  };
  template <class T>
  static std::span<const T> slice(const std::vector<T>& all, const std::vector<int>& start, int i) {
    return {all.data() + start[i], static_cast<std::size_t>(start[i + 1] - start[i])};
  }
  void collect(std::span<const ShapeRows> layers);
  void place_nodes(std::span<const ShapeRows> layers);
  void merge_edges(const std::vector<Segment>& segments, std::size_t nodes);
  void sort_around_nodes();
  void trace_cycles();
  void link_cycles(const std::vector<int>& around_groups);
  std::vector<int> surrounding_cycles() const;
  void cover_faces();

  int origin(int half) const { return half & 1 ? edges_[half >> 1].to : edges_[half >> 1].from; }
  int target(int half) const { return origin(half ^ 1); }

  FillRule rule_;
  Grid grid_;
  std::vector<GridPoint> points_;  // ascending by x, then y
  std::vector<double> x_, y_;
  std::vector<Edge> edges_;
  std::vector<int> crossing_start_;
  std::vector<Crossing> crossings_;
  std::vector<int> edge_line_start_;
  std::vector<EdgeLine> edge_lines_;
  std::vector<Belonging> point_features_;
  std::vector<int> around_start_, around_;  // half-edges out of each node
  std::vector<int> next_;                   // of each half-edge that from its end clockwise next to the way back
  std::vector<int> cycle_;                  // of each half-edge, then its face
  std::vector<int> cover_start_, cover_;
  std::vector<double> areas_;  // twice, in steps
  struct IsolatedNode {
    int node, face;
  };
  std::vector<IsolatedNode> isolated_;  // the points' nodes without edges, ascending
  friend class RegionTracer;
};

}  // namespace civic
