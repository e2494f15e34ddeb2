// The dimensionally extended nine-intersection matrix of two shapes (OGC 06-103r4, section 6.1.15.2), exactly: no
// coordinate is computed, and every decision is the sign of an orientation.
#pragma once
#include <array>
#include <string>
#include <vector>

#include "../base/xy.h"
#include "../index/rtree.h"
#include "locate.h"

namespace civic {

// Where a place lies relative to a shape.
enum class Where : int { interior = 0, boundary = 1, exterior = 2 };

// Dimension of what interior, boundary and exterior of two shapes share: -1 for nothing.
class RelationMatrix {
 public:
  int& at(Where a, Where b) { return cells_[3 * static_cast<int>(a) + static_cast<int>(b)]; }
  int at(Where a, Where b) const { return cells_[3 * static_cast<int>(a) + static_cast<int>(b)]; }
  void raise(Where a, Where b, int dimension) {
    if (dimension > at(a, b)) at(a, b) = dimension;
  }
  RelationMatrix transposed() const;
  std::string text() const;  // nine of F, 0, 1, 2
  bool meets() const;        // interiors or boundaries share something

 private:
  std::array<int, 9> cells_{-1, -1, -1, -1, -1, -1, -1, -1, -1};
};

// A shape made ready for many comparisons.
class RelatedShape {
 public:
  RelatedShape(const StoreView& store, int shape);

  int dimension() const { return dimension_; }  // -1 for an empty shape
  int boundary_dimension() const;               // of polygons 1, of lines with ends 0, else -1
  const Box& box() const { return box_; }
  Where locate(double x, double y) const;
  bool encloses(double x, double y) const;  // polygons do, around a place on no edge of theirs

  struct Edge {
    double ax, ay, bx, by;
    bool of_polygon;  // then the inside is on its left
    Box box() const;
  };
  const std::vector<Edge>& edges() const { return edges_; }
  const std::vector<XY>& points() const { return points_; }   // ascending, each once
  const std::vector<XY>& line_ends() const { return ends_; }  // boundary of the lines, ascending
  template <class Found>
  void visit(const Box& box, const Found& found) const {
    if (edges_.size() <= few_edges) {
      for (const Edge& e : edges_)
        if (e.box().meets(box)) found(e);
    } else {
      tree_.visit(box, [&](int e, const Box&) { found(edges_[static_cast<std::size_t>(e)]); });
    }
  }

 private:
  static constexpr std::size_t few_edges = 16;
  std::vector<Box> edge_boxes() const;
  std::vector<Edge> collect_edges(const StoreView& store, int shape);
  Box box_;
  int dimension_ = -1;
  bool has_polygons_ = false;
  std::vector<XY> points_, ends_;
  std::vector<Edge> edges_;
  RTree tree_;
};

RelationMatrix relate(const RelatedShape& a, const RelatedShape& b);

// Whether interiors or boundaries share something, which is found sooner than the matrix.
bool intersects(const RelatedShape& a, const RelatedShape& b);

}  // namespace civic
