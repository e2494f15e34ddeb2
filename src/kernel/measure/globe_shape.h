// Shapes on longitude and latitude made ready for distances along the ellipsoid. An edge is the straight line in
// degrees between its vertices (RFC 7946, section 3.1.1), as location, relations and overlays take it.
#pragma once
#include <vector>

#include "../base/made_once.h"
#include "../geodesy/geodesic.h"
#include "../shapes/store.h"

namespace civic {

// A place in space, metres from the ellipsoid's centre.
struct Space {
  double x, y, z;
  friend Space operator+(Space a, Space b) { return {a.x + b.x, a.y + b.y, a.z + b.z}; }
  friend Space operator-(Space a, Space b) { return {a.x - b.x, a.y - b.y, a.z - b.z}; }
  friend Space operator*(double k, Space a) { return {k * a.x, k * a.y, k * a.z}; }
  friend double dot(Space a, Space b) { return a.x * b.x + a.y * b.y + a.z * b.z; }
  double length() const;
};

// What chords through the ellipsoid say of the geodesics above them.
class Globe {
 public:
  explicit Globe(const Ellipsoid& ellipsoid);

  const Geodesic& geodesic() const { return geodesic_; }
  double least_radius() const { return least_radius_; }
  Space place(GeoPoint at) const;
  // The longest chord that a geodesic of this length can have; infinite from half a turn on.
  double longest_chord(double geodesic) const;
  // A length that no geodesic above such a chord exceeds; infinite for chords near the diameter.
  double longest_geodesic(double chord) const;
  // How far an edge lies from the chord between its ends at most: an eighth of the greatest second derivative of its
  // place in space.
  double bow(GeoPoint a, GeoPoint b) const;
  // How far it lies from the geodesic between them, about: the same on the surface.
  double swerve(GeoPoint a, GeoPoint b) const;
  // Its length by the degrees at its middle.
  double rough_length(GeoPoint a, GeoPoint b) const;
  // East and north, in metres for a degree, at a latitude.
  struct Degree {
    double east, north;
  };
  Degree degree_at(double latitude) const;

 private:
  Geodesic geodesic_;
  double a_, e2_, least_radius_, greatest_radius_;
};

// The edges and points of one shape, with a tree of spheres around stretches of them.
class GlobeShape {
 public:
  GlobeShape(const Globe& globe, const StoreView& store, int shape);

  bool empty() const { return edges_.empty(); }
  const StoreView& store() const { return store_; }
  int shape() const { return shape_; }

  // From vertex to vertex, counted from the shape's first; a point goes to itself.
  struct Edge {
    int from, to;
    float bow;
  };
  const Edge& edge(int i) const { return edges_[static_cast<std::size_t>(i)]; }
  Space at(int vertex) const { return at_[static_cast<std::size_t>(vertex)]; }
  GeoPoint degrees(int vertex) const {
    const auto i = static_cast<std::size_t>(first_vertex_ + vertex);
    return {store_.x[i], store_.y[i]};
  }

  // A node of level 1 holds up to `fanout` edges, one above up to as many nodes; the top level has one.
  static constexpr int fanout = 8;
  struct Sphere {
    Space centre;
    double radius;
  };
  int levels() const { return static_cast<int>(spheres_.size()); }
  const Sphere& sphere(int level, int i) const {
    return spheres_[static_cast<std::size_t>(level - 1)][static_cast<std::size_t>(i)];
  }
  int count(int level) const {
    return static_cast<int>(level == 0 ? edges_.size() : spheres_[static_cast<std::size_t>(level - 1)].size());
  }

 private:
  void enclose();
  StoreView store_;
  int shape_, first_vertex_;
  std::vector<Space> at_;
  std::vector<Edge> edges_;
  std::vector<std::vector<Sphere>> spheres_;
};

// The shapes of a layer, each made ready once.
class GlobeRows {
 public:
  GlobeRows(const Globe& globe, const ShapeRows& rows)
      : globe_(globe), rows_(rows), ready_(static_cast<std::size_t>(rows.store.size())) {}
  const GlobeShape& operator[](int row) const {
    return ready_.at(static_cast<std::size_t>(rows_[row]), [&] { return GlobeShape(globe_, rows_.store, rows_[row]); });
  }
  const ShapeRows& rows() const { return rows_; }

 private:
  const Globe& globe_;
  const ShapeRows rows_;
  MadeOnce<GlobeShape> ready_;  // by shape of the store, which several rows may share
};

// The distance along the ellipsoid between the nearest places of two shapes: 0 where they meet in degrees. Infinite
// where it is certainly beyond the limit, NaN where one of them is empty.
double globe_distance(const Globe& globe, const GlobeShape& a, const GlobeShape& b, double limit);

// Whether that is at most the limit, which mostly takes less.
bool within_on_globe(const Globe& globe, const GlobeShape& a, const GlobeShape& b, double limit);

// The distance between rows that are not missing; single points need not be made ready.
double distance_of_rows(const Globe& globe, const GlobeRows& x, int row_x, const GlobeRows& y, int row_y, double limit);

}  // namespace civic
