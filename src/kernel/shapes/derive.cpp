#include "derive.h"

#include <algorithm>

#include "seams.h"

namespace civic {
namespace {

class Copier {
 public:
  Copier(const ShapeRows& rows, ShapeBuilder& builder) : s_(rows.store), builder_(builder) {}

  int type_like(int shape, ShapeKind kind) const {
    return type_code(kind, has_z(s_.types[shape]), has_m(s_.types[shape]));
  }
  void ring(int ring) {
    builder_.begin_ring();
    for (int i = s_.vertices(ring).begin; i < s_.vertices(ring).end; ++i) vertex(i);
  }
  void vertex(int i) {
    builder_.vertex(s_.x[i], s_.y[i], s_.z.empty() ? nan_value : s_.z[i], s_.m.empty() ? nan_value : s_.m[i]);
  }

 private:
  const StoreView& s_;
  ShapeBuilder& builder_;
};

// Calls make(shape, builder, copier) for the rows that are not missing.
template <class Make>
Derived derive(const ShapeRows& rows, const Make& make) {
  Derived out;
  ShapeBuilder builder;
  Copier copier(rows, builder);
  for (int row = 0; row < rows.size(); ++row) {
    if (rows[row] < 0) continue;
    const int before = builder.size();
    make(rows[row], builder, copier);
    out.rows.insert(out.rows.end(), static_cast<std::size_t>(builder.size() - before), row);
  }
  out.store = builder.take();
  return out;
}

int count_rings(const StoreView& s, int shape) {
  int rings = 0;
  for (int part = s.parts(shape).begin; part < s.parts(shape).end; ++part)
    if (s.part_kind(part) == ShapeKind::polygon) rings += s.rings(part).size();
  return rings;
}

}  // namespace

std::vector<int> boundary_ends(const StoreView& s, int shape) {
  std::vector<int> ends;
  for (int part = s.parts(shape).begin; part < s.parts(shape).end; ++part) {
    if (s.part_kind(part) != ShapeKind::line) continue;
    for (int ring = s.rings(part).begin; ring < s.rings(part).end; ++ring) {
      const IndexRange v = s.vertices(ring);
      if (v.size() > 1 && (s.x[v.begin] != s.x[v.end - 1] || s.y[v.begin] != s.y[v.end - 1]))
        ends.insert(ends.end(), {v.begin, v.end - 1});
    }
  }
  auto place = [&](int i) { return std::pair(s.x[i], s.y[i]); };
  std::sort(ends.begin(), ends.end(), [&](int a, int b) { return place(a) < place(b); });
  std::vector<int> odd;
  for (std::size_t i = 0, j = 0; i < ends.size(); i = j) {
    while (j < ends.size() && place(ends[j]) == place(ends[i])) ++j;
    if ((j - i) % 2 == 1) odd.push_back(ends[i]);
  }
  return odd;
}

Derived parts_of(const ShapeRows& rows) {
  const StoreView& s = rows.store;
  return derive(rows, [&](int shape, ShapeBuilder& builder, Copier& copy) {
    for (int part = s.parts(shape).begin; part < s.parts(shape).end; ++part) {
      builder.begin_shape(copy.type_like(shape, s.part_kind(part)));
      builder.begin_part(s.part_kind(part));
      for (int ring = s.rings(part).begin; ring < s.rings(part).end; ++ring) copy.ring(ring);
      builder.end_shape();
    }
  });
}

Derived boundaries_of(const ShapeRows& rows, bool on_globe) {
  const StoreView& s = rows.store;
  return derive(rows, [&](int shape, ShapeBuilder& builder, Copier& copy) {
    const int rings = count_rings(s, shape);
    if (on_globe && rings > 0 && has_seams(s, shape)) {
      const ShapeBuilder::Mark before = builder.mark();
      builder.begin_shape(copy.type_like(shape, ShapeKind::multiline));
      if (add_borders(s, shape, builder) > 0)
        builder.end_shape();
      else
        builder.rewind(before);
    } else if (rings > 0) {
      builder.begin_shape(copy.type_like(shape, rings > 1 ? ShapeKind::multiline : ShapeKind::line));
      for (int part = s.parts(shape).begin; part < s.parts(shape).end; ++part) {
        if (s.part_kind(part) != ShapeKind::polygon) continue;
        for (int ring = s.rings(part).begin; ring < s.rings(part).end; ++ring) {
          builder.begin_part(ShapeKind::line);
          copy.ring(ring);
        }
      }
      builder.end_shape();
    } else if (const std::vector<int> ends = boundary_ends(s, shape); !ends.empty()) {
      builder.begin_shape(copy.type_like(shape, ends.size() > 1 ? ShapeKind::multipoint : ShapeKind::point));
      for (const int i : ends) {
        builder.begin_part(ShapeKind::point);
        builder.begin_ring();
        copy.vertex(i);
      }
      builder.end_shape();
    }
  });
}

Derived outer_rings_of(const ShapeRows& rows) {
  const StoreView& s = rows.store;
  return derive(rows, [&](int shape, ShapeBuilder& builder, Copier& copy) {
    builder.begin_shape(s.types[shape]);
    for (int part = s.parts(shape).begin; part < s.parts(shape).end; ++part) {
      builder.begin_part(s.part_kind(part));
      const IndexRange rings = s.rings(part);
      const int end = s.part_kind(part) == ShapeKind::polygon ? std::min(rings.end, rings.begin + 1) : rings.end;
      for (int ring = rings.begin; ring < end; ++ring) copy.ring(ring);
    }
    builder.end_shape();
  });
}

}  // namespace civic
