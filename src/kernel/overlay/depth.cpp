#include "depth.h"

#include <algorithm>
#include <cmath>
#include <memory>
#include <tuple>

#include "../base/parallel.h"
#include "../index/rtree.h"

namespace civic {
namespace {

struct Depth {
  double z = nan_value, m = nan_value;
};

// What one shape's origins know of places.
class Known {
 public:
  Known(const ShapeRows& from, std::span<const int> rows) : s_(from.store) {
    for (const int row : rows) {
      const int shape = from[row];
      if (shape < 0) continue;
      has_z |= has_z_of(s_.types[shape]);
      has_m |= has_m_of(s_.types[shape]);
      const IndexRange v = s_.shape_vertices(shape);
      for (int i = v.begin; i < v.end; ++i) vertices_.push_back(i);
      const IndexRange rings = s_.shape_rings(shape);
      for (int ring = rings.begin; ring < rings.end; ++ring)
        for (int i = s_.vertices(ring).begin; i + 1 < s_.vertices(ring).end; ++i) edges_.push_back(i);
    }
    if (!has_z && !has_m) return;
    std::stable_sort(vertices_.begin(), vertices_.end(), [&](int i, int j) { return place(i) < place(j); });
  }

  bool has_z = false, has_m = false;

  bool is_deep(Depth d) const { return (!has_z || !std::isnan(d.z)) && (!has_m || !std::isnan(d.m)); }

  Depth at(double x, double y) {
    const std::pair here(x, y);
    const auto before = [&](int i, const std::pair<double, double>& p) { return place(i) < p; };
    for (auto v = std::lower_bound(vertices_.begin(), vertices_.end(), here, before);
         v != vertices_.end() && place(*v) == here; ++v)
      if (const Depth d = of(*v); is_deep(d)) return d;
    return between(x, y);
  }

 private:
  static bool has_z_of(int type) { return type / 1000 == 1 || type / 1000 == 3; }
  static bool has_m_of(int type) { return type / 1000 >= 2; }
  std::pair<double, double> place(int i) const { return {s_.x[i], s_.y[i]}; }
  Depth of(int i) const { return {s_.z.empty() ? nan_value : s_.z[i], s_.m.empty() ? nan_value : s_.m[i]}; }

  // On the nearest edge, no farther than snap rounding moves places.
  Depth between(double x, double y) {
    if (!tree_) {
      std::vector<Box> boxes(edges_.size());
      for (std::size_t e = 0; e < edges_.size(); ++e)
        for (const int i : {edges_[e], edges_[e] + 1}) boxes[e].add(s_.x[i], s_.y[i]);
      tree_ = std::make_unique<RTree>(std::span<const Box>(boxes));
    }
    double least = 1e-14 * std::max(std::fabs(x), std::fabs(y));
    Depth best;
    Box around;
    around.add(x, y);
    tree_->visit(around.grown(least), [&](int e, const Box&) {
      const int i = edges_[e];
      const double dx = s_.x[i + 1] - s_.x[i], dy = s_.y[i + 1] - s_.y[i], length = dx * dx + dy * dy;
      if (length == 0) return;
      const double t = std::clamp(((x - s_.x[i]) * dx + (y - s_.y[i]) * dy) / length, 0.0, 1.0);
      const double off = std::hypot(s_.x[i] + t * dx - x, s_.y[i] + t * dy - y);
      const Depth a = of(i), b = of(i + 1), d{a.z + t * (b.z - a.z), a.m + t * (b.m - a.m)};
      if (off > least || !is_deep(d)) return;
      least = off;
      best = d;
    });
    return best;
  }

  const StoreView& s_;
  std::vector<int> vertices_, edges_;  // in the store; edges by their first vertex
  std::unique_ptr<RTree> tree_;
};

}  // namespace

Deepened with_depth(const ShapeRows& made, const Origins& origins, const ShapeRows& from) {
  struct Found {
    bool z = false, m = false;
    std::vector<Depth> vertices;  // none of a shape that stays flat
  };
  const StoreView& s = made.store;
  std::vector<Found> found(static_cast<std::size_t>(made.size()));
  std::vector<char> is_flat(found.size(), 0);
  parallel_for(found.size(), 64, [&](std::size_t begin, std::size_t end) {
    for (std::size_t row = begin; row < end; ++row, end_if_interrupted()) {
      const int shape = made[static_cast<int>(row)];
      if (shape < 0 || s.types[shape] >= 1000) continue;
      const auto first = static_cast<std::size_t>(origins.start[row]);
      Known known(from, origins.rows.subspan(first, static_cast<std::size_t>(origins.start[row + 1]) - first));
      if (!known.has_z && !known.has_m) continue;
      std::vector<Depth> depths;
      const IndexRange v = s.shape_vertices(shape);
      for (int i = v.begin; i < v.end; ++i) depths.push_back(known.at(s.x[i], s.y[i]));
      is_flat[row] = !std::all_of(depths.begin(), depths.end(), [&](Depth d) { return known.is_deep(d); });
      if (is_flat[row] == 0) found[row] = {known.has_z, known.has_m, std::move(depths)};
    }
  });

  Deepened out;
  out.flat = static_cast<int>(std::count(is_flat.begin(), is_flat.end(), 1));
  ShapeBuilder builder;
  for (int row = 0; row < made.size(); ++row) {
    const int shape = made[row];
    out.handles.push_back(shape < 0 ? 0 : builder.size() + 1);
    if (shape < 0) continue;
    const Found& f = found[row];
    const int first = s.shape_vertices(shape).begin;
    builder.begin_shape(f.z || f.m ? type_code(kind_of(s.types[shape]), f.z, f.m) : s.types[shape]);
    for (int part = s.parts(shape).begin; part < s.parts(shape).end; ++part) {
      builder.begin_part(s.part_kind(part));
      for (int ring = s.rings(part).begin; ring < s.rings(part).end; ++ring) {
        builder.begin_ring();
        for (int i = s.vertices(ring).begin; i < s.vertices(ring).end; ++i) {
          const Depth own{s.z.empty() ? nan_value : s.z[i], s.m.empty() ? nan_value : s.m[i]};
          const Depth d = f.vertices.empty() ? own : f.vertices[i - first];
          builder.vertex(s.x[i], s.y[i], d.z, d.m);
        }
      }
    }
    builder.end_shape();
  }
  out.store = builder.take();
  return out;
}

}  // namespace civic
