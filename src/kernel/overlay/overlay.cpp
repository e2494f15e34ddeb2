#include "overlay.h"

#include <algorithm>
#include <set>

#include "../base/parallel.h"
#include "borders.h"
#include "covers.h"
#include "regions.h"
#include "seal.h"
#include "sides.h"

namespace civic {
namespace {

bool has(std::span<const int> features, int feature) {
  return std::binary_search(features.begin(), features.end(), feature);
}

Stacked stacked(const Arrangement& a, const CellSizes& sizes, int first_feature, int rows) {
  std::vector<char> is_stacked(static_cast<std::size_t>(rows), 0);
  Stacked out;
  for (int face = 1; face < a.faces(); ++face) {
    const auto from_first = sides_of(a.cover(face), first_feature).y;
    const auto own = sides_of(from_first, first_feature + rows).x;
    if (own.size() < 2) continue;
    out.area += sizes.area(face);
    for (const int feature : own) is_stacked[feature - first_feature] = 1;
  }
  out.rows = static_cast<int>(std::count(is_stacked.begin(), is_stacked.end(), 1));
  return out;
}

// Collects cells by the pair of rows they belong to.
class PairPieces {
 public:
  PairPieces(const ShapeRows& x, const ShapeRows& y, const OverlayKeep& keep, const Yardstick& yardstick)
      : layers_{x, y},
        keep_(keep),
        x_rows_(x.size()),
        width_(y.size() + 1),
        yardstick_(yardstick),
        a_(layers_, FillRule::even_odd) {}

  const Arrangement& arrangement() const { return a_; }

  // The pieces, faces being counted to the features that `cover` tells.
  template <class Cover>
  Pieces find(const Cover& cover) {
    collect(a_.faces(), cells_.faces, [&](int face, std::vector<int>&, Found& out) {
      if (face > 0)
        add(
            cover(face), [&](int, int) { return true; }, face, out);
    });
    collect(a_.edges(), cells_.edges, [&](int e, std::vector<int>& features, Found& out) {
      a_.edge_features(e, features);
      add(
          features, [&](int i, int j) { return runs(e, i) || runs(e, j); }, e, out);
      note_touches(features, e, out, [&](int i, int j) { return meet_beside(e, i, j) || runs(e, i) || runs(e, j); });
    });
    collect(a_.nodes(), cells_.nodes, [&](int n, std::vector<int>& features, Found& out) {
      a_.node_features(n, features);
      add(
          features, [&](int i, int j) { return a_.is_point(n, i) || a_.is_point(n, j); }, n, out);
      note_touches(features, n, out,
                   [&](int i, int j) { return meet_around(n, i, j) || a_.is_point(n, i) || a_.is_point(n, j); });
    });
    return pieces();
  }

 private:
  // What cells belong to, and which pairs only touch in them.
  struct Found {
    std::vector<Belonging> cells;
    std::vector<std::int64_t> touches;
  };
  // Runs visit(cell, room for its features, what is found) over all cells, side by side.
  template <class Visit>
  void collect(int n, std::vector<Belonging>& cells, const Visit& visit) {
    constexpr std::size_t grain = 8192;
    std::vector<Found> parts((static_cast<std::size_t>(n) + grain - 1) / grain);
    parallel_for(static_cast<std::size_t>(n), grain, [&](std::size_t begin, std::size_t end) {
      std::vector<int> features;
      for (std::size_t cell = begin; cell < end; ++cell) visit(static_cast<int>(cell), features, parts[begin / grain]);
    });
    std::size_t belongings = cells.size();
    for (const Found& part : parts) belongings += part.cells.size();
    cells.reserve(belongings);
    for (const Found& part : parts) {
      cells.insert(cells.end(), part.cells.begin(), part.cells.end());
      touches_.insert(touches_.end(), part.touches.begin(), part.touches.end());
    }
  }

  std::int64_t key(int i, int j) const {
    return static_cast<std::int64_t>(i + 1) * width_ + (j < 0 ? 0 : j - x_rows_ + 1);
  }

  // A cell for the pairs of its features one of which holds it as its own, and for single features likewise.
  template <class Own>
  void add(std::span<const int> features, const Own& own, int cell, Found& out) const {
    std::vector<Belonging>& to = out.cells;
    const Sides sides = sides_of(features, x_rows_);
    if (keep_.both)
      for (const int i : sides.x) {
        end_where_many(sides.y);
        for (const int j : sides.y)
          if (own(i, j)) to.push_back({key(i, j), cell});
      }
    if (keep_.only_x && sides.y.empty())
      for (const int i : sides.x)
        if (own(i, i)) to.push_back({key(i, -1), cell});
    if (keep_.only_y && sides.x.empty())
      for (const int j : sides.y)
        if (own(j, j)) to.push_back({key(-1, j), cell});
  }

  template <class More>
  void note_touches(std::span<const int> features, int cell, Found& out, const More& meets_in_more) const {
    if (!keep_.both) return;
    const Sides sides = sides_of(features, x_rows_);
    for (const int i : sides.x) {
      end_where_many(sides.y);
      for (const int j : sides.y) {
        if (meets_in_more(i, j)) continue;
        out.touches.push_back(key(i, j));
        if (keep_.touches) out.cells.push_back({key(i, j), cell});
      }
    }
  }
  // Ends interrupted work in cells of so many features that their pairs take long.
  static void end_where_many(std::span<const int> features) {
    if (features.size() > 256) end_if_interrupted();
  }

  bool runs(int e, int feature) const { return a_.runs_along(e, feature); }
  bool meet_beside(int e, int i, int j) const {
    for (const int face : {a_.edge(e).left, a_.edge(e).right})
      if (has(a_.cover(face), i) && has(a_.cover(face), j)) return true;
    return false;
  }
  bool meet_around(int n, int i, int j) const {
    const auto around = a_.around(n);
    return std::any_of(around.begin(), around.end(),
                       [&](int half) { return holds(half >> 1, i) && holds(half >> 1, j); });
  }
  // Whether a feature has the edge within or on its border.
  bool holds(int e, int feature) const {
    return has(a_.cover(a_.edge(e).left), feature) || has(a_.cover(a_.edge(e).right), feature) || runs(e, feature);
  }

  Pieces pieces() {
    Pieces out;
    auto told = start_beside(static_cast<std::size_t>(a_.faces()), [&] {
      out.self_crossing_x = self_crossing_rows(a_, layers_[0], 0);
      out.self_crossing_y = self_crossing_rows(a_, layers_[1], x_rows_);
      const CellSizes sizes(a_, yardstick_);
      out.stacked_x = stacked(a_, sizes, 0, x_rows_);
      out.stacked_y = stacked(a_, sizes, x_rows_, layers_[1].size());
    });
    std::vector<std::int64_t> with_cells;
    for (const auto* all : {&cells_.faces, &cells_.edges, &cells_.nodes})
      for (const Belonging& b : *all) with_cells.push_back(b.region);
    auto once = [](std::vector<std::int64_t>& keys) {
      std::sort(keys.begin(), keys.end());
      keys.erase(std::unique(keys.begin(), keys.end()), keys.end());
    };
    once(with_cells);
    once(touches_);
    if (!keep_.touches)
      for (const std::int64_t pair : touches_)
        out.touching += !std::binary_search(with_cells.begin(), with_cells.end(), pair);

    std::vector<int> count(with_cells.size(), 0);  // of cells that are lines' and points' own
    for (const auto* all : {&cells_.edges, &cells_.nodes})
      for (const Belonging& b : *all)
        ++count[static_cast<std::size_t>(std::lower_bound(with_cells.begin(), with_cells.end(), b.region) -
                                         with_cells.begin())];
    std::vector<std::int64_t> keys;
    out.store = a_.shapes(std::move(cells_), keys);
    const Wholes wholes(a_, layers_);
    for (std::size_t k = 0; k < keys.size(); ++k) {
      out.x.push_back(static_cast<int>(keys[k] / width_) - 1);
      out.y.push_back(static_cast<int>(keys[k] % width_) - 1);
      const int feature = out.x[k] >= 0 ? out.x[k] : out.y[k] + x_rows_;
      const bool by_polygon = out.x[k] < 0 || out.y[k] < 0 || wholes.has_polygon(out.y[k] + x_rows_);
      out.whole.push_back(by_polygon && wholes.is_whole(feature, count[k]));
    }
    told.get();
    return out;
  }

  const ShapeRows layers_[2];
  const OverlayKeep keep_;
  const int x_rows_, width_;
  const Yardstick yardstick_;
  const Arrangement a_;
  RegionCells cells_;
  std::vector<std::int64_t> touches_;
};

using RowPairs = std::set<std::pair<int, int>>;

// Pairs of rows that overlap in more than the tolerance.
RowPairs overlapping_rows(const Arrangement& a, double tolerance, const Yardstick& yardstick) {
  const Borders borders(a, yardstick);
  RowPairs out;
  for (int face = 1; face < a.faces(); ++face) {
    const auto cover = a.cover(face);
    if (cover.size() < 2 || borders.is_thin(face, tolerance)) continue;
    for (const int i : cover)
      for (const int j : cover)
        if (i < j) out.insert({i, j});
  }
  return out;
}

// What covers the faces once rows of y overlap only where they did, the first of them being left the ground, and thin
// regions have joined others.
class SettledCovers {
 public:
  SettledCovers(const Arrangement& a, const CellSizes& sizes, int x_rows, const RowPairs& overlapping, double tolerance)
      : x_rows_(x_rows), regions_(a, sizes, labels(a, overlapping)) {
    regions_.join_thin(tolerance, [&](int region, int other) { return may_join(region, other); });
    for (int face = 1; face < a.faces(); ++face)
      if (regions_.region(face) == face && regions_.label(face) != 0) thin_ += regions_.is_thin(face, tolerance);
    of_face_.resize(a.faces());
    for (int face = 0; face < a.faces(); ++face) of_face_[face] = regions_.label(regions_.region(face));
  }

  std::span<const int> operator[](int face) const { return covers_[of_face_[face]]; }
  std::size_t thin() const { return thin_; }

 private:
  std::vector<int> labels(const Arrangement& a, const RowPairs& overlapping) {
    std::vector<int> out;
    for (int face = 0; face < a.faces(); ++face, end_if_interrupted()) {
      const Sides sides = sides_of(a.cover(face), x_rows_);
      std::vector<int> features(sides.x.begin(), sides.x.end());
      for (const int j : sides.y) {
        const bool fits = std::all_of(features.begin() + std::ssize(sides.x), features.end(), [&](int i) {
          return overlapping.contains({i - x_rows_, j - x_rows_});
        });
        if (fits) features.push_back(j);
      }
      out.push_back(covers_.number(std::move(features)));
    }
    return out;
  }

  // Along the borders of x. What lies outside x gives way to nothing only where it lies along x.
  bool may_join(int region, int other) const {
    const auto own = x_of(region), others = x_of(other);
    if (!std::equal(own.begin(), own.end(), others.begin(), others.end())) return false;
    if (!own.empty() || regions_.label(other) != 0) return true;
    const auto& beside = regions_.beside(region);
    return std::any_of(beside.begin(), beside.end(), [&](const auto& side) { return !x_of(side.first).empty(); });
  }
  std::span<const int> x_of(int region) const { return sides_of(covers_[regions_.label(region)], x_rows_).x; }

  const int x_rows_;
  Covers covers_;
  Regions regions_;
  std::vector<int> of_face_;
  std::size_t thin_ = 0;
};

}  // namespace

Pieces overlay(const ShapeRows& x, const ShapeRows& y, const OverlayKeep& keep, const Yardstick& yardstick) {
  PairPieces pairs(x, y, keep, yardstick);
  return pairs.find([&](int face) { return pairs.arrangement().cover(face); });
}

Brought overlay_onto(const ShapeRows& x, const ShapeRows& y, const OverlayKeep& keep, double tolerance,
                     const Yardstick& yardstick) {
  const Arrangement before({&y, 1}, FillRule::even_odd);
  const Sealed sealed = seal_onto(x, y, tolerance, yardstick);
  PairPieces pairs(x, {sealed.store.view(), sealed.handles}, keep, yardstick);
  const Arrangement& after = pairs.arrangement();
  const CellSizes sizes(after, yardstick);
  const SettledCovers covers(after, sizes, x.size(), overlapping_rows(before, tolerance, yardstick), tolerance);
  Brought out{pairs.find([&](int face) { return covers[face]; }),
              sealed.moved,
              sealed.farthest,
              std::vector<double>(y.size(), 0),
              std::vector<double>(y.size(), 0),
              covers.thin()};
  out.pieces.self_crossing_y = self_crossing_rows(before, y, 0);
  const CellSizes sizes_before(before, yardstick);
  for (int face = 1; face < before.faces(); ++face)
    for (const int j : before.cover(face)) out.had[j] += sizes_before.area(face);
  for (int face = 1; face < after.faces(); ++face)
    for (const int j : sides_of(covers[face], x.size()).y) out.covers[j - x.size()] += sizes.area(face);
  return out;
}

}  // namespace civic
