// The columnar shape store: shapes -> parts -> rings -> vertices, as offsets into flat columns.
//
// Every type uses the same four levels. A point is one part of one ring of one vertex; a multipoint has a part per
// point; a polygon is one part whose first ring is the shell; a collection has parts of several types.
#pragma once
#include <algorithm>
#include <cmath>
#include <cstdint>
#include <limits>
#include <span>
#include <string>
#include <vector>

#include "../base/portable.h"

namespace civic {

// OGC Simple Features type codes (06-103r4, 8.2.8). Z adds 1000, M adds 2000.
enum class ShapeKind : int {
  point = 1,
  line = 2,
  polygon = 3,
  multipoint = 4,
  multiline = 5,
  multipolygon = 6,
  collection = 7
};

constexpr int kind_limit = 7;
inline ShapeKind kind_of(int type) { return static_cast<ShapeKind>(type % 1000); }
inline bool has_z(int type) { return type / 1000 == 1 || type / 1000 == 3; }
inline bool has_m(int type) { return type / 1000 >= 2; }
inline int type_code(ShapeKind kind, bool z, bool m) {
  return static_cast<int>(kind) + (z ? 1000 : 0) + (m ? 2000 : 0);
}
// The kind of one part of a shape of kind `kind`: multipolygon -> polygon, polygon -> polygon.
inline ShapeKind part_kind(ShapeKind kind) {
  const int code = static_cast<int>(kind);
  return static_cast<ShapeKind>(code >= 4 && code <= 6 ? code - 3 : code);
}
inline ShapeKind multi_kind(ShapeKind kind) {
  const int code = static_cast<int>(kind);
  return static_cast<ShapeKind>(code <= 3 ? code + 3 : code);
}
const char* kind_name(ShapeKind kind);  // "polygon", "multipoint", …
inline int dimension_of(ShapeKind part) { return static_cast<int>(part_kind(part)) - 1; }

constexpr double nan_value = std::numeric_limits<double>::quiet_NaN();

// An axis-parallel box; empty when xmin > xmax.
struct Box {
  double xmin = std::numeric_limits<double>::infinity();
  double ymin = std::numeric_limits<double>::infinity();
  double xmax = -std::numeric_limits<double>::infinity();
  double ymax = -std::numeric_limits<double>::infinity();

  bool empty() const { return !(xmin <= xmax && ymin <= ymax); }
  // Vertices that are not finite do not count.
  void add(double x, double y) {
    if (!std::isfinite(x) || !std::isfinite(y)) return;
    if (x < xmin) xmin = x;
    if (x > xmax) xmax = x;
    if (y < ymin) ymin = y;
    if (y > ymax) ymax = y;
  }
  void add(const Box& other) {
    if (other.empty()) return;
    xmin = std::min(xmin, other.xmin);
    ymin = std::min(ymin, other.ymin);
    xmax = std::max(xmax, other.xmax);
    ymax = std::max(ymax, other.ymax);
  }
  // Without branches, which a search of an index would guess wrong half the time.
  bool meets(const Box& other) const {
    return (xmin <= other.xmax) & (other.xmin <= xmax) & (ymin <= other.ymax) & (other.ymin <= ymax);
  }
  bool holds(double x, double y) const { return x >= xmin && x <= xmax && y >= ymin && y <= ymax; }
  bool holds(const Box& other) const { return holds(other.xmin, other.ymin) && holds(other.xmax, other.ymax); }
  bool is_place() const { return xmin == xmax && ymin == ymax; }
  // How far apart two boxes are; 0 where they meet.
  double gap(const Box& other) const {
    const double dx = std::max({0.0, other.xmin - xmax, xmin - other.xmax});
    const double dy = std::max({0.0, other.ymin - ymax, ymin - other.ymax});
    return dx == 0 ? dy : dy == 0 ? dx : std::sqrt(dx * dx + dy * dy);
  }
  Box grown(double by) const { return {xmin - by, ymin - by, xmax + by, ymax + by}; }
};

struct IndexRange {
  int begin = 0, end = 0;
  int size() const { return end - begin; }
};

// Read-only columns of a store, wherever they live.
struct StoreView {
  std::span<const int> types;          // per shape
  std::span<const int> part_types;     // per part: 1, 2 or 3
  std::span<const int> shape_parts;    // shapes + 1 offsets into parts
  std::span<const int> part_rings;     // parts + 1 offsets into rings
  std::span<const int> ring_vertices;  // rings + 1 offsets into vertices
  std::span<const double> x, y;
  std::span<const double> z, m;  // empty where no shape has them
  std::span<const Box> boxes;    // per shape

  int size() const { return static_cast<int>(types.size()); }
  IndexRange parts(int shape) const { return {shape_parts[shape], shape_parts[shape + 1]}; }
  IndexRange rings(int part) const { return {part_rings[part], part_rings[part + 1]}; }
  IndexRange vertices(int ring) const { return {ring_vertices[ring], ring_vertices[ring + 1]}; }
  IndexRange shape_rings(int shape) const {
    return {part_rings[shape_parts[shape]], part_rings[shape_parts[shape + 1]]};
  }
  IndexRange shape_vertices(int shape) const {
    const IndexRange rings = shape_rings(shape);
    return {ring_vertices[rings.begin], ring_vertices[rings.end]};
  }
  ShapeKind part_kind(int part) const { return static_cast<ShapeKind>(part_types[part]); }
  bool holds_part(int shape, ShapeKind kind) const {
    for (int part = parts(shape).begin; part < parts(shape).end; ++part)
      if (part_kind(part) == kind) return true;
    return false;
  }
};

// Rows of a layer: 1-based handles into a store; anything below 1 is a missing shape.
struct ShapeRows {
  StoreView store;
  std::span<const int> handles;

  int size() const { return static_cast<int>(handles.size()); }
  int operator[](int row) const { return handles[row] < 1 ? -1 : handles[row] - 1; }
  Box box(int row) const {
    const int shape = (*this)[row];
    return shape < 0 ? Box{} : store.boxes[shape];
  }
};

struct StoreCounts {
  std::size_t shapes = 0, parts = 0, rings = 0, vertices = 0;
  bool z = false, m = false;
};

// Writable columns of fixed size; a decoder that knows its counts fills them in place.
struct StoreTarget {
  std::span<int> types, part_types, shape_parts, part_rings, ring_vertices;
  std::span<double> x, y, z, m;
  std::span<Box> boxes;
};

// A store that owns its columns.
struct StoreBuffer {
  std::vector<int> types, part_types, shape_parts{0}, part_rings{0}, ring_vertices{0};
  std::vector<double> x, y, z, m;
  std::vector<Box> boxes;

  StoreBuffer() = default;
  explicit StoreBuffer(const StoreCounts& counts);
  StoreView view() const;
  StoreTarget target();
};

// Appends shapes one vertex at a time. Z and M columns appear with the first shape that has them.
class ShapeBuilder {
 public:
  void reserve(std::size_t shapes, std::size_t vertices);
  void begin_shape(int type);
  void begin_part(ShapeKind kind);
  void begin_ring();
  void vertex(double x, double y, double z = nan_value, double m = nan_value);
  // Several, as little-endian doubles x, y and what the shape's type has of z and m, one vertex after the other.
  void vertices(const std::uint8_t* raw, std::size_t n);
  void end_shape();
  // Gives the current shape Z, where it was begun without.
  void promote_z();
  // Repeats the first vertex of the current ring where the ring is open; says whether it was.
  bool close_ring();
  int ring_size() const { return static_cast<int>(store_.x.size()) - store_.ring_vertices.back(); }
  const Box& last_box() const { return store_.boxes.back(); }
  // How far the store has grown, to go back to where shapes turn out to be unwanted or broken.
  struct Mark {
    std::size_t shapes = 0, parts = 0, rings = 0, vertices = 0;
  };
  Mark mark() const {
    return {store_.types.size(), store_.part_types.size(), store_.ring_vertices.size() - 1, store_.x.size()};
  }
  void rewind(const Mark& mark);
  int size() const { return static_cast<int>(store_.types.size()); }
  StoreBuffer take();

 private:
  void end_ring();
  void end_part();
  StoreBuffer store_;
  bool ring_open_ = false, part_open_ = false;
};

// Twice the signed area of a ring, positive when counter-clockwise, taken from its first vertex to keep digits.
double signed_area_twice(const StoreView& store, IndexRange vertices);

// Turns rings of polygon parts so that shells run counter-clockwise and holes clockwise.
void orient_rings(const StoreTarget& store, IndexRange shapes);

// Copies the rows of several layers, one after the other, into one store without the shapes nobody refers to.
// Missing rows have no shape in the result; `handles` holds the rows' new 1-based handles, `missing` for none.
StoreBuffer gather(std::span<const ShapeRows> layers, std::vector<int>& handles, int missing);

// Every shape of the stores, one after the other: how much that is, and into columns of that size.
StoreCounts count_all(std::span<const StoreView> stores);
void concatenate(std::span<const StoreView> stores, const StoreTarget& target);

// Rank of every row in the order of its content (kind, then vertices, dense from 1): equal shapes share a rank; 0 for
// missing.
std::vector<int> content_ranks(const ShapeRows& rows);

// 106 bits of a shape's content as two whole numbers: equal shapes have equal keys, in whatever stores they are, and
// unequal ones do not (two of a billion shapes share a key with a probability of 1e-14).
struct ContentKey {
  double high, low;
  bool operator==(const ContentKey&) const = default;
};
ContentKey content_key(const StoreView& store, int shape);

// Throws FormatError where offsets, lengths or kinds of a store do not fit each other, so that it can be read without
// care.
void check_store(const StoreView& store);

}  // namespace civic
