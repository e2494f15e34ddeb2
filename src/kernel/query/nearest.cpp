#include "nearest.h"

#include <algorithm>
#include <atomic>
#include <cmath>

#include "../base/parallel.h"
#include "../base/sort_by_key.h"
#include "../index/kept_index.h"
#include "../measure/distance.h"
#include "../measure/globe_shape.h"

namespace civic {
namespace {

class Planar {
 public:
  Planar(const ShapeRows& x, const ShapeRows& y) : x_(x), y_(y) {}
  Box box(int j) const { return y_.box(j); }
  // No more than the distance of anything in the boxes; exact between places.
  double bound(const Box& a, const Box& b) const { return a.gap(b); }
  // Whether the bound is above a limit, without its root; rounding is on the side of "no".
  bool beyond(const Box& a, const Box& b, double limit) const {
    const double dx = std::max({0.0, b.xmin - a.xmax, a.xmin - b.xmax});
    const double dy = std::max({0.0, b.ymin - a.ymax, a.ymin - b.ymax});
    return dx * dx + dy * dy > limit * limit * (1 + 1e-12);
  }
  double distance(int i, int j, const Box& a, const Box& b, double) const {
    if (a.is_place() && b.is_place()) return bound(a, b);
    return nearest_places(x_.store, x_[i], y_.store, y_[j]).distance;
  }

 private:
  const ShapeRows &x_, &y_;
};

class OnGlobe {
 public:
  OnGlobe(const ShapeRows& x, const ShapeRows& y, const Globe& globe)
      : globe_(globe), x_(globe, x), y_(globe, y), radius_(globe.least_radius()) {}
  Box box(int j) const { return y_.rows().box(j); }
  // Boxes hold the edges, which are straight in degrees. No line on the ellipsoid is shorter than that with the same
  // degrees on the sphere of its least radius of curvature.
  double bound(const Box& a, const Box& b) const {
    return 0.999999 * 2 * radius_ * std::asin(std::min(1.0, std::sqrt(half_chord_squared(a, b))));
  }
  bool beyond(const Box& a, const Box& b, double limit) const {
    const double angle = limit / (0.999999 * 2 * radius_);
    if (!(angle < pi / 2)) return false;
    const double chord = std::sin(angle);
    return half_chord_squared(a, b) > chord * chord * (1 + 1e-12);
  }
  // Infinite where it is certainly beyond the limit.
  double distance(int i, int j, const Box&, const Box&, double limit) const {
    return distance_of_rows(globe_, x_, i, y_, j, limit);
  }
  bool within(int i, int j, double limit) const { return within_on_globe(globe_, x_[i], y_[j], limit); }

 private:
  // Of the unit sphere, between any two places of the boxes at least (the haversine formula).
  static double half_chord_squared(const Box& a, const Box& b) {
    const double north = std::max({0.0, b.ymin - a.ymax, a.ymin - b.ymax}) * degree;
    double east = std::max({0.0, b.xmin - a.xmax, a.xmin - b.xmax});
    east = std::max(0.0, std::min(east, 360 - (std::max(a.xmax, b.xmax) - std::min(a.xmin, b.xmin)))) * degree;
    const double s = std::sin(north / 2), t = std::sin(east / 2);
    return s * s + least_cosine(a) * least_cosine(b) * t * t;
  }
  static double least_cosine(const Box& a) {
    return std::max(0.0, std::cos(std::min(90.0, std::max(std::fabs(a.ymin), std::fabs(a.ymax))) * degree));
  }
  const Globe& globe_;
  const GlobeRows x_, y_;
  const double radius_;
};

// The search for one row: what is known of the nearest so far, and what is still to be opened, nearest first.
template <class Metric>
class Search {
 public:
  Search(const RTree& tree, const Metric& metric, const NearWanted& wanted)
      : tree_(tree),
        metric_(metric),
        count_(static_cast<std::size_t>(wanted.count)),
        most_(count_ + static_cast<std::size_t>(wanted.ties)),
        within_(wanted.within) {}

  void run(int row, const Box& box, std::vector<NearRow>& out) {
    open_.clear();
    found_.clear();
    cut_at_ = -1;
    row_ = row;
    // The nearest row is no farther than the one that was nearest to the row before, which lies close by.
    hint_ = count_ == 1 && last_ >= 0
                ? std::min(within_, metric_.distance(row, last_, box, metric_.box(last_), within_) * (1 + 1e-12))
                : within_;
    push(tree_.root(), box);
    while (!open_.empty()) {
      std::pop_heap(open_.begin(), open_.end(), later);
      const Open at = open_.back();
      open_.pop_back();
      if (at.bound > limit()) break;
      if (!tree_.is_leaf(at.node)) {
        tree_.children(at.node, [&](const RTree::Node& child) { push(child, box); });
        continue;
      }
      measure(at.node, box);
    }
    std::sort(found_.begin(), found_.end(), nearer);
    if (!found_.empty()) last_ = found_.front().y;
    out.insert(out.end(), found_.begin(), found_.end());
    cut_rows_ += found_.size() >= count_ && cut_at_ == kth_;
  }
  std::size_t cut_rows() const { return cut_rows_; }

 private:
  struct Open {
    double bound;
    RTree::Node node;
  };
  static bool later(const Open& a, const Open& b) { return a.bound > b.bound; }
  static bool nearer(const NearRow& a, const NearRow& b) {
    return a.distance != b.distance ? a.distance < b.distance : a.y < b.y;
  }

  void measure(const RTree::Node& leaf, const Box& box) {
    const double distance = metric_.distance(row_, tree_.row(leaf), box, tree_.box(leaf), limit());
    if (distance <= limit()) keep({row_, tree_.row(leaf), distance});
  }
  double limit() const { return found_.size() < count_ ? hint_ : kth_; }
  void push(const RTree::Node& node, const Box& box) {
    if (metric_.beyond(box, tree_.box(node), limit())) return;
    const double bound = metric_.bound(box, tree_.box(node));
    if (bound > limit()) return;
    if (tree_.is_leaf(node) && box.is_place() && tree_.box(node).is_place())
      return measure(node, box);  // at once: it is cheap
    open_.push_back({bound, node});
    std::push_heap(open_.begin(), open_.end(), later);
  }
  // Keeps the count nearest and those that are as far as the last of them.
  void keep(const NearRow& near) {
    if (found_.size() < count_) {
      found_.push_back(near);
      if (found_.size() < count_) return;
      std::sort(found_.begin(), found_.end(), nearer);
      kth_ = near_enough();
      return;
    }
    if (found_.size() == most_ && !nearer(near, found_.back())) {
      cut_at_ = near.distance;
      return;
    }
    found_.insert(std::upper_bound(found_.begin(), found_.end(), near, nearer), near);
    kth_ = near_enough();
    while (found_.back().distance > kth_) found_.pop_back();
    if (found_.size() > most_) {
      cut_at_ = kth_;
      found_.pop_back();
    }
  }

  double near_enough() const { return found_[count_ - 1].distance; }

  const RTree& tree_;
  const Metric& metric_;
  const std::size_t count_, most_;
  const double within_;
  std::vector<Open> open_;
  std::vector<NearRow> found_;
  double kth_ = 0, hint_ = 0, cut_at_ = -1;  // the distance of a tie that was left out
  std::size_t cut_rows_ = 0;
  int row_ = 0, last_ = -1;
};

template <class Metric>
NearRows search_all(const ShapeRows& x, const ShapeRows& y, const Metric& metric, const NearWanted& wanted) {
  const auto index = index_of(y);
  const RTree& tree = *index;
  if (tree.size() == 0 || wanted.count < 1) return {};
  // Rows that lie near one another search the same nodes, which are in the cache then.
  const auto near_each_other = index_of(x);
  const std::vector<int>& order = near_each_other->rows();
  std::atomic<std::size_t> cut{0};
  auto found = parallel_collect<NearRow>(order.size(), 4096, [&](std::size_t begin, std::size_t end, auto& out) {
    Search<Metric> search(tree, metric, wanted);
    for (std::size_t i = begin; i < end; ++i) {
      search.run(order[i], x.box(order[i]), out);
      end_if_interrupted();
    }
    cut += search.cut_rows();
  });
  sort_by_key(found, static_cast<std::size_t>(x.size()), [](const auto& pair) { return pair.x; });
  return {std::move(found), cut};
}

}  // namespace

NearRows nearest_rows(const ShapeRows& x, const ShapeRows& y, const NearWanted& wanted) {
  return search_all(x, y, Planar(x, y), wanted);
}

NearRows nearest_rows_on_globe(const ShapeRows& x, const ShapeRows& y, const Ellipsoid& ellipsoid,
                               const NearWanted& wanted) {
  const Globe globe(ellipsoid);
  return search_all(x, y, OnGlobe(x, y, globe), wanted);
}

std::vector<RowPair> pairs_within_on_globe(const ShapeRows& x, const ShapeRows& y, const Ellipsoid& ellipsoid,
                                           double distance) {
  const Globe globe(ellipsoid);
  const OnGlobe metric(x, y, globe);
  const auto index = index_of(y);
  const RTree& tree = *index;
  if (tree.size() == 0) return {};
  return parallel_collect<RowPair>(x.size(), 64, [&](std::size_t begin, std::size_t end, auto& out) {
    std::vector<RTree::Node> open;
    for (int row = static_cast<int>(begin); row < static_cast<int>(end); ++row) {
      const Box box = x.box(row);
      if (box.empty()) continue;
      const std::size_t first = out.size();
      open.assign(1, tree.root());
      while (!open.empty()) {
        const RTree::Node node = open.back();
        open.pop_back();
        if (metric.beyond(box, tree.box(node), distance)) continue;
        if (!tree.is_leaf(node)) {
          tree.children(node, [&](const RTree::Node& child) { open.push_back(child); });
        } else if (metric.within(row, tree.row(node), distance)) {
          out.push_back({row, tree.row(node)});
        }
      }
      std::sort(out.begin() + static_cast<std::ptrdiff_t>(first), out.end(),
                [](const RowPair& a, const RowPair& b) { return a.y < b.y; });
      end_if_interrupted();
    }
  });
}

}  // namespace civic
