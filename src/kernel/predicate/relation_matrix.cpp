#include "relation_matrix.h"

#include <algorithm>

#include "../base/progress.h"
#include "../shapes/derive.h"
#include "orientation.h"

namespace civic {
namespace {

using Edge = RelatedShape::Edge;
using XY = XY;

int orientation(const Edge& e, double x, double y) { return civic::orientation(e.ax, e.ay, e.bx, e.by, x, y); }
int orientation(XY from, XY to, XY at) { return civic::orientation(from.x, from.y, to.x, to.y, at.x, at.y); }

bool is_on(const Edge& e, double x, double y) {
  return x >= std::min(e.ax, e.bx) && x <= std::max(e.ax, e.bx) && y >= std::min(e.ay, e.by) &&
         y <= std::max(e.ay, e.by) && orientation(e, x, y) == 0;
}

Box box_at(XY p) {
  Box box;
  box.add(p.x, p.y);
  return box;
}

template <class T>
void keep_once(std::vector<T>& all) {
  std::sort(all.begin(), all.end());
  all.erase(std::unique(all.begin(), all.end()), all.end());
}

}  // namespace

RelationMatrix RelationMatrix::transposed() const {
  RelationMatrix out;
  for (const Where a : {Where::interior, Where::boundary, Where::exterior})
    for (const Where b : {Where::interior, Where::boundary, Where::exterior}) out.at(b, a) = at(a, b);
  return out;
}

std::string RelationMatrix::text() const {
  std::string out;
  for (const int cell : cells_) out += "F012"[cell + 1];
  return out;
}

bool RelationMatrix::meets() const {
  return std::max({at(Where::interior, Where::interior), at(Where::interior, Where::boundary),
                   at(Where::boundary, Where::interior), at(Where::boundary, Where::boundary)}) >= 0;
}

Box RelatedShape::Edge::box() const {
  Box box;
  box.add(ax, ay);
  box.add(bx, by);
  return box;
}

RelatedShape::RelatedShape(const StoreView& store, int shape)
    : box_(store.boxes[shape]), edges_(collect_edges(store, shape)), tree_(std::span<const Box>(edge_boxes())) {}

std::vector<Edge> RelatedShape::collect_edges(const StoreView& s, int shape) {
  std::vector<Edge> edges;
  for (int part = s.parts(shape).begin; part < s.parts(shape).end; ++part) {
    const ShapeKind kind = s.part_kind(part);
    for (int ring = s.rings(part).begin; ring < s.rings(part).end; ++ring) {
      const IndexRange v = s.vertices(ring);
      if (v.size() == 0) continue;
      dimension_ = std::max(dimension_, dimension_of(kind));
      has_polygons_ |= kind == ShapeKind::polygon;
      const int last = v.end - 1;
      if (kind == ShapeKind::point) points_.push_back({s.x[v.begin], s.y[v.begin]});
      const bool of_polygon = kind == ShapeKind::polygon, shell = ring == s.rings(part).begin;
      const bool turned = of_polygon && (signed_area_twice(s, v) > 0) != shell;
      for (int i = v.begin; i < last; ++i) {
        const int from = turned ? i + 1 : i, to = turned ? i : i + 1;
        if (s.x[from] != s.x[to] || s.y[from] != s.y[to])
          edges.push_back({s.x[from], s.y[from], s.x[to], s.y[to], of_polygon});
      }
    }
  }
  keep_once(points_);
  for (const int end : boundary_ends(s, shape)) ends_.push_back({s.x[end], s.y[end]});
  return edges;
}

std::vector<Box> RelatedShape::edge_boxes() const {
  std::vector<Box> boxes;
  if (edges_.size() <= few_edges) return boxes;
  boxes.reserve(edges_.size());
  for (const Edge& e : edges_) boxes.push_back(e.box());
  return boxes;
}

int RelatedShape::boundary_dimension() const { return has_polygons_ ? 1 : ends_.empty() ? -1 : 0; }

bool RelatedShape::encloses(double x, double y) const {
  if (!has_polygons_ || !box_.holds(x, y)) return false;
  bool odd = false;  // crossings of the ray to the right
  visit({x, y, box_.xmax, y}, [&](const Edge& e) {
    if (e.of_polygon && (e.ay > y) != (e.by > y) && (orientation(e, x, y) > 0) == (e.by > e.ay)) odd = !odd;
  });
  return odd;
}

Where RelatedShape::locate(double x, double y) const {
  if (!box_.holds(x, y)) return Where::exterior;
  bool on_border = false, on_line = false;
  visit({x, y, x, y}, [&](const Edge& e) {
    if (is_on(e, x, y)) (e.of_polygon ? on_border : on_line) = true;
  });
  if (on_border) return Where::boundary;
  if (encloses(x, y)) return Where::interior;
  const XY p{x, y};
  if (std::binary_search(ends_.begin(), ends_.end(), p)) return Where::boundary;
  return on_line || std::binary_search(points_.begin(), points_.end(), p) ? Where::interior : Where::exterior;
}

namespace {

// What lies along a direction from a place, and on either side of it, relative to a shape.
struct Course {
  Where along, left, right;
};
constexpr Course inside{Where::interior, Where::interior, Where::interior};
constexpr Course outside{Where::exterior, Where::exterior, Where::exterior};

// The edges that leave a place, as a shape has them there.
class Star {
 public:
  Star(const RelatedShape& shape, XY middle) : middle_(middle) {
    shape.visit(box_at(middle), [&](const Edge& e) {
      if (!is_on(e, middle.x, middle.y)) return;
      const XY a{e.ax, e.ay}, b{e.bx, e.by};
      if (b != middle) rays_.push_back({b, e.of_polygon, true});
      if (a != middle) rays_.push_back({a, e.of_polygon, false});
    });
  }

  // `enclosed` by the shape's polygons, where no edge of theirs leaves the place.
  Course towards(XY to, bool enclosed) const {
    const Ray* before = nullptr;  // the polygon's ray next clockwise
    bool on_line = false;
    for (const Ray& ray : rays_) {
      if (same_way(ray.to, to)) {
        if (ray.of_polygon)
          return ray.outward ? Course{Where::boundary, Where::interior, Where::exterior}
                             : Course{Where::boundary, Where::exterior, Where::interior};
        on_line = true;
      } else if (ray.of_polygon && (before == nullptr || comes_between(before->to, ray.to, to))) {
        before = &ray;
      }
    }
    if (before != nullptr) return before->outward ? inside : outside;
    if (enclosed) return inside;
    return on_line ? Course{Where::interior, Where::exterior, Where::exterior} : outside;
  }

 private:
  struct Ray {
    XY to;
    bool of_polygon, outward;  // outward: the edge leaves the middle, with the inside on its left
  };
  bool same_way(XY p, XY q) const {
    return orientation(middle_, p, q) == 0 && (p.x > middle_.x) == (q.x > middle_.x) &&
           (p.x < middle_.x) == (q.x < middle_.x) && (p.y > middle_.y) == (q.y > middle_.y) &&
           (p.y < middle_.y) == (q.y < middle_.y);
  }
  // Whether, going counter-clockwise from p, q comes before r; none point the same way as r.
  bool comes_between(XY p, XY q, XY r) const {
    const int pq = turn(p, q), pr = turn(p, r);
    if (pq != pr) return pq < pr;
    return orientation(middle_, q, r) > 0;
  }
  // Quarter-turn-like steps counter-clockwise from p: 0 the same way, 1 up to a half turn, 2 a half turn, 3 beyond.
  int turn(XY p, XY q) const {
    const int s = orientation(middle_, p, q);
    return s > 0 ? 1 : s < 0 ? 3 : same_way(p, q) ? 0 : 2;
  }

  XY middle_;
  std::vector<Ray> rays_;
};

// Walks the edges of one shape, and enters into the matrix what its pieces, their sides and their ends share with the
// other.
class Walk {
 public:
  Walk(const RelatedShape& a, const RelatedShape& b, RelationMatrix& matrix, bool until_they_meet)
      : a_(a), b_(b), matrix_(matrix), until_they_meet_(until_they_meet) {}

  void go() {
    std::size_t walked = 0;
    for (const Edge& s : a_.edges()) {
      if (++walked % 1024 == 0) end_if_interrupted();
      if (!s.box().meets(b_.box())) {
        enter(s, outside);
        last_ = outside;
        end_ = {s.bx, s.by};
        known_ = true;
      } else {
        walk(s);
      }
      if (until_they_meet_ && matrix_.meets()) return;
    }
  }

 private:
  void walk(const Edge& s) {
    places_.clear();
    crossings_.clear();
    overlaps_.clear();
    b_.visit(s.box(), [&](const Edge& e) { meet(s, e); });
    if (places_.empty() && crossings_.empty()) {
      // The whole edge lies in one place, that of the edge before if that ended here.
      if (!known_ || end_ != XY{s.ax, s.ay}) {
        last_ = b_.encloses(s.ax, s.ay) ? inside : outside;
      }
      enter(s, last_);
      end_ = {s.bx, s.by};
      known_ = true;
      return;
    }
    known_ = false;
    keep_once(places_);
    for (const XY& p : places_) {
      matrix_.raise(a_.locate(p.x, p.y), b_.locate(p.x, p.y), 0);
      const Star star(b_, p);
      const bool enclosed = b_.encloses(p.x, p.y);
      if (p != XY{s.bx, s.by}) enter(s, star.towards({s.bx, s.by}, enclosed));
      if (p != XY{s.ax, s.ay}) enter(s, reversed(star.towards({s.ax, s.ay}, enclosed)));
    }
    for (const Edge& e : crossings_) enter_crossing(s, e);
  }

  // How an edge of the other shape meets this one.
  void meet(const Edge& s, const Edge& e) {
    const int sa = orientation(s, e.ax, e.ay), sb = orientation(s, e.bx, e.by), ea = orientation(e, s.ax, s.ay),
              eb = orientation(e, s.bx, s.by);
    if (sa * sb < 0 && ea * eb < 0) {
      crossings_.push_back(e);
      return;
    }
    if (sa == 0 && is_on(s, e.ax, e.ay)) places_.push_back({e.ax, e.ay});
    if (sb == 0 && is_on(s, e.bx, e.by)) places_.push_back({e.bx, e.by});
    if (ea == 0 && is_on(e, s.ax, s.ay)) places_.push_back({s.ax, s.ay});
    if (eb == 0 && is_on(e, s.bx, s.by)) places_.push_back({s.bx, s.by});
    if (sa == 0 && sb == 0) overlaps_.push_back(e);
  }

  // A piece of s with what lies along and beside it.
  void enter(const Edge& s, const Course& other) {
    matrix_.raise(s.of_polygon ? Where::boundary : Where::interior, other.along, 1);
    if (!s.of_polygon) return;
    const bool area = b_.dimension() == 2;
    if (area || other.left == Where::exterior) matrix_.raise(Where::interior, other.left, 2);
    if (area || other.right == Where::exterior) matrix_.raise(Where::exterior, other.right, 2);
  }
  static Course reversed(Course c) {
    std::swap(c.left, c.right);
    return c;
  }

  // Two edges that cross in their insides: a node of both, and pieces of s on either side of the other edge. Where a
  // vertex lies just there, its star says all.
  void enter_crossing(const Edge& s, const Edge& e) {
    for (const XY& p : places_)
      if (is_on(e, p.x, p.y)) return;
    if (!passes_line_end(s, e))
      matrix_.raise(s.of_polygon ? Where::boundary : Where::interior, e.of_polygon ? Where::boundary : Where::interior,
                    0);
    if (e.of_polygon) {
      enter(s, inside);
      enter(s, outside);
      return;
    }
    for (const Edge& o : overlaps_)
      if (orientation(e, o.ax, o.ay) * orientation(e, o.bx, o.by) < 0) return;  // s runs along another line there
    if (b_.dimension() == 1) enter(s, outside);
  }
  // Whether an end of a line of either shape lies where two edges cross.
  bool passes_line_end(const Edge& s, const Edge& e) const {
    for (const auto* ends : {&a_.line_ends(), &b_.line_ends()})
      for (const XY& p : *ends)
        if (is_on(s, p.x, p.y) && is_on(e, p.x, p.y)) return true;
    return false;
  }

  const RelatedShape& a_;
  const RelatedShape& b_;
  RelationMatrix& matrix_;
  const bool until_they_meet_;
  std::vector<XY> places_;
  std::vector<Edge> crossings_, overlaps_;
  bool known_ = false;
  XY end_{};
  Course last_ = outside;
};

// The points and the ends of lines of one shape.
void enter_places(const RelatedShape& a, const RelatedShape& b, RelationMatrix& matrix) {
  for (const XY& p : a.points()) matrix.raise(a.locate(p.x, p.y), b.locate(p.x, p.y), 0);
  for (const XY& p : a.line_ends()) matrix.raise(a.locate(p.x, p.y), b.locate(p.x, p.y), 0);
}

// What a shape shares with the exterior of one that it reaches beyond by its dimension alone.
void enter_excess(const RelatedShape& a, const RelatedShape& b, RelationMatrix& matrix) {
  if (a.dimension() > b.dimension()) matrix.raise(Where::interior, Where::exterior, a.dimension());
  if (b.dimension() <= 0 && a.boundary_dimension() == 1) matrix.raise(Where::boundary, Where::exterior, 1);
}

RelationMatrix matrix_of(const RelatedShape& a, const RelatedShape& b, bool until_they_meet) {
  RelationMatrix matrix, other;
  matrix.raise(Where::exterior, Where::exterior, 2);
  enter_places(a, b, matrix);
  if (until_they_meet && matrix.meets()) return matrix;
  Walk(a, b, matrix, until_they_meet).go();
  if (until_they_meet && matrix.meets()) return matrix;
  enter_excess(a, b, matrix);
  enter_places(b, a, other);
  Walk(b, a, other, until_they_meet).go();
  enter_excess(b, a, other);
  const RelationMatrix seen_back = other.transposed();
  for (const Where i : {Where::interior, Where::boundary, Where::exterior})
    for (const Where j : {Where::interior, Where::boundary, Where::exterior}) matrix.raise(i, j, seen_back.at(i, j));
  return matrix;
}

}  // namespace

RelationMatrix relate(const RelatedShape& a, const RelatedShape& b) { return matrix_of(a, b, false); }

bool intersects(const RelatedShape& a, const RelatedShape& b) {
  return a.box().meets(b.box()) && matrix_of(a, b, true).meets();
}

}  // namespace civic
