#include "store.h"

#include <algorithm>
#include <bit>
#include <cstring>
#include <numeric>
#include <utility>

#include "../base/error.h"
#include "../base/parallel.h"

namespace civic {

const char* kind_name(ShapeKind kind) {
  static const char* const names[] = {"",           "point",     "line",         "polygon",
                                      "multipoint", "multiline", "multipolygon", "collection"};
  return names[static_cast<int>(kind)];
}

namespace {

int checked_offset(std::size_t value) {
  if (value > static_cast<std::size_t>(std::numeric_limits<int>::max()))
    throw ArgumentError("a store holds at most 2147483647 vertices; split the layer");
  return static_cast<int>(value);
}

template <class T>
std::span<const T> as_span(const std::vector<T>& values) {
  return {values.data(), values.size()};
}

}  // namespace

StoreBuffer::StoreBuffer(const StoreCounts& counts)
    : types(counts.shapes),
      part_types(counts.parts),
      shape_parts(counts.shapes + 1),
      part_rings(counts.parts + 1),
      ring_vertices(counts.rings + 1),
      x(counts.vertices),
      y(counts.vertices),
      z(counts.z ? counts.vertices : 0),
      m(counts.m ? counts.vertices : 0),
      boxes(counts.shapes) {}

StoreView StoreBuffer::view() const {
  return {as_span(types), as_span(part_types), as_span(shape_parts), as_span(part_rings), as_span(ring_vertices),
          as_span(x),     as_span(y),          as_span(z),           as_span(m),          as_span(boxes)};
}

StoreTarget StoreBuffer::target() {
  return {types, part_types, shape_parts, part_rings, ring_vertices, x, y, z, m, boxes};
}

void ShapeBuilder::reserve(std::size_t shapes, std::size_t vertices) {
  for (std::vector<int>* column :
       {&store_.types, &store_.part_types, &store_.shape_parts, &store_.part_rings, &store_.ring_vertices})
    column->reserve(shapes + 1);
  store_.boxes.reserve(shapes);
  store_.x.reserve(vertices);
  store_.y.reserve(vertices);
}

void ShapeBuilder::begin_shape(int type) {
  store_.types.push_back(type);
  store_.boxes.emplace_back();
  if (has_z(type) && store_.z.empty()) store_.z.assign(store_.x.size(), nan_value);
  if (has_m(type) && store_.m.empty()) store_.m.assign(store_.x.size(), nan_value);
}

void ShapeBuilder::begin_part(ShapeKind kind) {
  end_part();
  store_.part_types.push_back(static_cast<int>(kind));
  part_open_ = true;
}

void ShapeBuilder::begin_ring() {
  end_ring();
  ring_open_ = true;
}

void ShapeBuilder::vertex(double x, double y, double z, double m) {
  store_.x.push_back(x);
  store_.y.push_back(y);
  const int type = store_.types.back();
  if (!store_.z.empty() || has_z(type)) store_.z.push_back(z);
  if (!store_.m.empty() || has_m(type)) store_.m.push_back(m);
  store_.boxes.back().add(x, y);
}

void ShapeBuilder::vertices(const std::uint8_t* raw, std::size_t n) {
  const int type = store_.types.back();
  const bool z = has_z(type), m = has_m(type);
  const std::size_t start = store_.x.size(), width = 8 * (2 + z + m);
  store_.x.resize(start + n);
  store_.y.resize(start + n);
  auto read = [&](std::size_t i, std::size_t value) {
    double number;
    std::memcpy(&number, raw + i * width + 8 * value, 8);
    return number;
  };
  Box& box = store_.boxes.back();
  for (std::size_t i = 0; i < n; ++i) {
    const double x = store_.x[start + i] = read(i, 0), y = store_.y[start + i] = read(i, 1);
    box.add(x, y);
  }
  if (!store_.z.empty() || z) store_.z.resize(start + n, nan_value);
  if (!store_.m.empty() || m) store_.m.resize(start + n, nan_value);
  for (std::size_t i = 0; z && i < n; ++i) store_.z[start + i] = read(i, 2);
  for (std::size_t i = 0; m && i < n; ++i) store_.m[start + i] = read(i, 2 + z);
}

bool ShapeBuilder::close_ring() {
  const std::size_t first = store_.ring_vertices.back(), last = store_.x.size() - 1;
  if (ring_size() < 1 || (store_.x[first] == store_.x[last] && store_.y[first] == store_.y[last])) return false;
  vertex(store_.x[first], store_.y[first], store_.z.empty() ? nan_value : store_.z[first],
         store_.m.empty() ? nan_value : store_.m[first]);
  return true;
}

void ShapeBuilder::promote_z() {
  int& type = store_.types.back();
  if (has_z(type)) return;
  type += 1000;
  if (store_.z.empty()) store_.z.assign(store_.x.size(), nan_value);
}

void ShapeBuilder::end_ring() {
  if (ring_open_) store_.ring_vertices.push_back(checked_offset(store_.x.size()));
  ring_open_ = false;
}

void ShapeBuilder::end_part() {
  end_ring();
  if (part_open_) store_.part_rings.push_back(checked_offset(store_.ring_vertices.size() - 1));
  part_open_ = false;
}

void ShapeBuilder::end_shape() {
  end_part();
  store_.shape_parts.push_back(checked_offset(store_.part_types.size()));
}

void ShapeBuilder::rewind(const Mark& mark) {
  ring_open_ = part_open_ = false;
  store_.types.resize(mark.shapes);
  store_.boxes.resize(mark.shapes);
  store_.shape_parts.resize(mark.shapes + 1);
  store_.part_types.resize(mark.parts);
  store_.part_rings.resize(mark.parts + 1);
  store_.ring_vertices.resize(mark.rings + 1);
  for (std::vector<double>* column : {&store_.x, &store_.y, &store_.z, &store_.m})
    if (!column->empty()) column->resize(mark.vertices);
}

StoreBuffer ShapeBuilder::take() { return std::exchange(store_, StoreBuffer()); }

double signed_area_twice(const StoreView& store, IndexRange v) {
  if (v.size() < 3) return 0;
  const double x0 = store.x[v.begin], y0 = store.y[v.begin];
  double sum = 0;
  for (int i = v.begin + 1; i + 1 < v.end; ++i)
    sum += (store.x[i] - x0) * (store.y[i + 1] - y0) - (store.x[i + 1] - x0) * (store.y[i] - y0);
  return sum;
}

void orient_rings(const StoreTarget& t, IndexRange shapes) {
  StoreView view;
  view.x = t.x;
  view.y = t.y;
  for (int part = t.shape_parts[shapes.begin]; part < t.shape_parts[shapes.end]; ++part) {
    if (t.part_types[part] != static_cast<int>(ShapeKind::polygon)) continue;
    for (int ring = t.part_rings[part]; ring < t.part_rings[part + 1]; ++ring) {
      const IndexRange v{t.ring_vertices[ring], t.ring_vertices[ring + 1]};
      const double area = signed_area_twice(view, v);
      const bool shell = ring == t.part_rings[part];
      if (shell ? area >= 0 : area <= 0) continue;
      for (auto column : {t.x, t.y, t.z, t.m})
        if (!column.empty()) std::reverse(column.begin() + v.begin, column.begin() + v.end);
    }
  }
}

namespace {

void count_shape(const StoreView& store, int shape, StoreCounts& counts) {
  const IndexRange parts = store.parts(shape), rings = store.shape_rings(shape);
  ++counts.shapes;
  counts.parts += parts.size();
  counts.rings += rings.size();
  counts.vertices += store.shape_vertices(shape).size();
  counts.z |= has_z(store.types[shape]);
  counts.m |= has_m(store.types[shape]);
}

// Appends shapes to the columns of a target, keeping the running offsets.
class Appender {
 public:
  explicit Appender(const StoreTarget& out) : out_(out) {
    out_.shape_parts[0] = out_.part_rings[0] = out_.ring_vertices[0] = 0;
  }

  void append(const StoreView& in, IndexRange shapes) {
    const IndexRange parts{in.shape_parts[shapes.begin], in.shape_parts[shapes.end]};
    const IndexRange rings{in.part_rings[parts.begin], in.part_rings[parts.end]};
    const IndexRange vertices{in.ring_vertices[rings.begin], in.ring_vertices[rings.end]};
    std::copy_n(in.types.begin() + shapes.begin, shapes.size(), out_.types.begin() + at_.shapes);
    std::copy_n(in.boxes.begin() + shapes.begin, shapes.size(), out_.boxes.begin() + at_.shapes);
    std::copy_n(in.part_types.begin() + parts.begin, parts.size(), out_.part_types.begin() + at_.parts);
    shift(in.shape_parts, shapes, at_.parts, out_.shape_parts, at_.shapes);
    shift(in.part_rings, parts, at_.rings, out_.part_rings, at_.parts);
    shift(in.ring_vertices, rings, at_.vertices, out_.ring_vertices, at_.rings);
    copy_column(in.x, vertices, out_.x);
    copy_column(in.y, vertices, out_.y);
    copy_column(in.z, vertices, out_.z);
    copy_column(in.m, vertices, out_.m);
    at_.shapes += shapes.size();
    at_.parts += parts.size();
    at_.rings += rings.size();
    at_.vertices += vertices.size();
  }

 private:
  static void shift(std::span<const int> from, IndexRange range, std::size_t start, std::span<int> to, std::size_t at) {
    const int by = checked_offset(start) - from[range.begin];
    for (int i = range.begin; i < range.end; ++i) to[++at] = from[i + 1] + by;
  }
  void copy_column(std::span<const double> from, IndexRange vertices, std::span<double> to) {
    if (to.empty()) return;
    if (from.empty())
      std::fill_n(to.begin() + at_.vertices, vertices.size(), nan_value);
    else
      std::copy_n(from.begin() + vertices.begin, vertices.size(), to.begin() + at_.vertices);
  }
  const StoreTarget out_;
  StoreCounts at_;
};

}  // namespace

StoreBuffer gather(std::span<const ShapeRows> layers, std::vector<int>& handles, int missing) {
  StoreCounts counts;
  handles.clear();
  std::vector<std::vector<int>> kept(layers.size());  // shapes of each layer in order of first use
  for (std::size_t l = 0; l < layers.size(); ++l) {
    std::vector<int> renumbered(layers[l].store.size(), 0);
    for (int row = 0; row < layers[l].size(); ++row) {
      const int shape = layers[l][row];
      if (shape >= 0 && renumbered[shape] == 0) {
        count_shape(layers[l].store, shape, counts);
        renumbered[shape] = static_cast<int>(counts.shapes);
        kept[l].push_back(shape);
      }
      handles.push_back(shape < 0 ? missing : renumbered[shape]);
    }
  }
  checked_offset(counts.vertices);
  StoreBuffer out(counts);
  Appender appender(out.target());
  for (std::size_t l = 0; l < layers.size(); ++l)
    for (int shape : kept[l]) appender.append(layers[l].store, {shape, shape + 1});
  return out;
}

StoreCounts count_all(std::span<const StoreView> stores) {
  StoreCounts counts;
  for (const auto& store : stores) {
    counts.shapes += store.types.size();
    counts.parts += store.part_types.size();
    counts.rings += store.ring_vertices.size() - 1;
    counts.vertices += store.x.size();
    counts.z |= !store.z.empty();
    counts.m |= !store.m.empty();
  }
  checked_offset(counts.vertices);
  return counts;
}

void concatenate(std::span<const StoreView> stores, const StoreTarget& target) {
  Appender appender(target);
  for (const auto& store : stores) appender.append(store, {0, store.size()});
}

namespace {

// Total order of doubles in which NaN equals NaN and comes last.
int compare_double(double a, double b) {
  if (a < b) return -1;
  if (a > b) return 1;
  return static_cast<int>(std::isnan(a)) - static_cast<int>(std::isnan(b));
}

int compare_columns(std::span<const double> column, IndexRange a, IndexRange b) {
  if (column.empty()) return 0;
  for (int i = 0; i < a.size(); ++i)
    if (int c = compare_double(column[a.begin + i], column[b.begin + i])) return c;
  return 0;
}

int compare_offsets(std::span<const int> offsets, IndexRange a, IndexRange b) {
  for (int i = 0; i < a.size(); ++i) {
    const int in_a = offsets[a.begin + i + 1] - offsets[a.begin + i];
    const int in_b = offsets[b.begin + i + 1] - offsets[b.begin + i];
    if (in_a != in_b) return in_a - in_b;
  }
  return 0;
}

int compare_shapes(const StoreView& s, int a, int b) {
  if (s.types[a] != s.types[b]) return s.types[a] - s.types[b];
  const IndexRange va = s.shape_vertices(a), vb = s.shape_vertices(b);
  const int shared = std::min(va.size(), vb.size());
  const IndexRange heads_a{va.begin, va.begin + shared}, heads_b{vb.begin, vb.begin + shared};
  for (auto column : {s.x, s.y, s.z, s.m})
    if (int c = compare_columns(column, heads_a, heads_b)) return c;
  if (va.size() != vb.size()) return va.size() - vb.size();
  const IndexRange pa = s.parts(a), pb = s.parts(b), ra = s.shape_rings(a), rb = s.shape_rings(b);
  if (pa.size() != pb.size()) return pa.size() - pb.size();
  if (ra.size() != rb.size()) return ra.size() - rb.size();
  for (int i = 0; i < pa.size(); ++i)
    if (int c = s.part_types[pa.begin + i] - s.part_types[pb.begin + i]) return c;
  if (int c = compare_offsets(s.part_rings, pa, pb)) return c;
  return compare_offsets(s.ring_vertices, ra, rb);
}

}  // namespace

std::vector<int> content_ranks(const ShapeRows& rows) {
  std::vector<int> order, ranks(rows.size(), 0);
  for (int row = 0; row < rows.size(); ++row)
    if (rows[row] >= 0) order.push_back(row);
  auto compare = [&](int a, int b) { return compare_shapes(rows.store, rows[a], rows[b]); };
  std::sort(order.begin(), order.end(), [&](int a, int b) { return compare(a, b) < 0; });
  int rank = 0;
  for (std::size_t i = 0; i < order.size(); ++i) {
    if (i == 0 || compare(order[i - 1], order[i]) != 0) ++rank;
    ranks[order[i]] = rank;
  }
  return ranks;
}

namespace {

// Two sums of words, each scattered by the last step of SplitMix64 (Steele, Lea & Flood 2014, figure 14).
class Digest {
 public:
  void add(std::uint64_t word) {
    high_ = scatter(high_ + word);
    low_ = scatter(low_ ^ (word * 0x9e3779b97f4a7c15));
  }
  void add(double number) {
    if (std::isnan(number)) number = nan_value;
    add(std::bit_cast<std::uint64_t>(number + 0.0));  // -0 is 0
  }
  ContentKey key() const { return {static_cast<double>(high_ >> 11), static_cast<double>(low_ >> 11)}; }

 private:
  static std::uint64_t scatter(std::uint64_t z) {
    z += 0x9e3779b97f4a7c15;
    z = (z ^ (z >> 30)) * 0xbf58476d1ce4e5b9;
    z = (z ^ (z >> 27)) * 0x94d049bb133111eb;
    return z ^ (z >> 31);
  }
  std::uint64_t high_ = 0, low_ = 1;
};

}  // namespace

ContentKey content_key(const StoreView& s, int shape) {
  Digest digest;
  const int type = s.types[shape];
  digest.add(static_cast<std::uint64_t>(type));
  const IndexRange parts = s.parts(shape);
  for (int part = parts.begin; part < parts.end; ++part) {
    const IndexRange rings = s.rings(part);
    digest.add(static_cast<std::uint64_t>(s.part_types[part]) << 32 | static_cast<std::uint64_t>(rings.size()));
    for (int ring = rings.begin; ring < rings.end; ++ring) {
      const IndexRange vertices = s.vertices(ring);
      digest.add(static_cast<std::uint64_t>(vertices.size()));
      for (int v = vertices.begin; v < vertices.end; ++v) {
        digest.add(s.x[v]);
        digest.add(s.y[v]);
        if (has_z(type)) digest.add(s.z[v]);
        if (has_m(type)) digest.add(s.m[v]);
      }
    }
  }
  return digest.key();
}

namespace {

// Offsets into a level of `size` items: one more than those they belong to, from 0 to the size, never falling.
void check_offsets(std::span<const int> offsets, std::size_t owners, std::size_t size, const char* name) {
  const bool fits = offsets.size() == owners + 1 && offsets.front() == 0 &&
                    offsets.back() == static_cast<std::int64_t>(size) && std::is_sorted(offsets.begin(), offsets.end());
  if (!fits) throw FormatError(std::string("the shape store is damaged: its ") + name + " do not fit");
}

[[noreturn]] void damaged_shape(int shape, const char* what) {
  throw FormatError("the shape store is damaged: shape " + std::to_string(shape + 1) + " " + what);
}

bool fits_kind(const StoreView& s, int part) {
  const IndexRange rings = s.rings(part);
  switch (s.part_kind(part)) {
    case ShapeKind::point:
      return rings.size() == 1 && s.vertices(rings.begin).size() == 1;
    case ShapeKind::line:
      return rings.size() == 1;
    default:
      return s.part_kind(part) == ShapeKind::polygon;
  }
}

}  // namespace

void check_store(const StoreView& s) {
  check_offsets(s.shape_parts, s.types.size(), s.part_types.size(), "parts");
  check_offsets(s.part_rings, s.part_types.size(), s.ring_vertices.empty() ? 0 : s.ring_vertices.size() - 1, "rings");
  check_offsets(s.ring_vertices, s.ring_vertices.empty() ? 0 : s.ring_vertices.size() - 1, s.x.size(), "vertices");
  auto fits = [&](std::span<const double> column) { return column.empty() || column.size() == s.x.size(); };
  if (s.boxes.size() != s.types.size() || s.y.size() != s.x.size() || !fits(s.z) || !fits(s.m))
    throw FormatError("the shape store is damaged: its columns differ in length");
  for (int shape = 0; shape < s.size(); ++shape) {
    const int type = s.types[shape], kind = type % 1000;
    if (type < 0 || type >= 4000 || kind < 1 || kind > kind_limit) damaged_shape(shape, "is of no known kind");
    const bool measures_fit = s.x.empty() || (!(has_z(type) && s.z.empty()) && !(has_m(type) && s.m.empty()));
    if (!measures_fit) damaged_shape(shape, "has no Z or M");
    const IndexRange parts = s.parts(shape);
    if (kind <= 3 && parts.size() > 1) damaged_shape(shape, "has too many parts");
    for (int part = parts.begin; part < parts.end; ++part) {
      const bool own_kind = kind == kind_limit || s.part_types[part] == static_cast<int>(part_kind(kind_of(type)));
      if (!own_kind || !fits_kind(s, part)) damaged_shape(shape, "has parts of another kind");
    }
  }
}

}  // namespace civic
