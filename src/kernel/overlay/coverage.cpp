#include "coverage.h"

#include <algorithm>
#include <map>

#include "seal.h"

namespace civic {
namespace {

// How long the borders of each face are with each feature beyond them.
class Borders {
 public:
  explicit Borders(const Arrangement& a) : perimeter(a.faces(), 0), lengths_(a.faces()) {
    for (int e = 0; e < a.edges(); ++e) {
      const auto& edge = a.edge(e);
      if (edge.left == edge.right) continue;
      const double length = a.length(e);
      for (const bool leftward : {true, false}) {
        const int face = leftward ? edge.left : edge.right, beyond = leftward ? edge.right : edge.left;
        if (face == 0) continue;
        perimeter[face] += length;
        for (const int feature : a.cover(beyond)) lengths_[face][feature] += length;
      }
    }
  }
  // -1 where there is none.
  int longest(int face) const {
    int best = -1;
    double most = 0;
    for (const auto& [feature, length] : lengths_[face])
      if (length > most) {
        most = length;
        best = feature;
      }
    return best;
  }
  const std::map<int, double>& lengths(int face) const { return lengths_[face]; }
  std::vector<double> perimeter;

 private:
  std::vector<std::map<int, double>> lengths_;
};

Pieces pieces_by_row(const Arrangement& a, RegionCells cells) {
  Pieces out;
  std::vector<std::int64_t> keys;
  out.store = a.shapes(std::move(cells), keys);
  for (const std::int64_t key : keys) out.x.push_back(static_cast<int>(key));
  return out;
}

}  // namespace

Pieces find_gaps(const ShapeRows& rows) {
  const Arrangement a({&rows, 1}, FillRule::even_odd);
  const Borders borders(a);
  RegionCells cells;
  for (int face = 1; face < a.faces(); ++face)
    if (a.cover(face).empty()) cells.faces.push_back({face, face});
  Pieces out = pieces_by_row(a, std::move(cells));
  for (int& face : out.x) face = borders.longest(face);
  return out;
}

Pieces find_overlaps(const ShapeRows& rows) {
  const Arrangement a({&rows, 1}, FillRule::even_odd);
  const std::int64_t n = rows.size();
  RegionCells cells;
  for (int face = 1; face < a.faces(); ++face) {
    const auto cover = a.cover(face);
    for (std::size_t i = 0; i < cover.size(); ++i)
      for (std::size_t j = i + 1; j < cover.size(); ++j) cells.faces.push_back({cover[i] * n + cover[j], face});
  }
  Pieces out;
  std::vector<std::int64_t> keys;
  out.store = a.shapes(std::move(cells), keys);
  for (const std::int64_t key : keys) {
    out.x.push_back(static_cast<int>(key / n));
    out.y.push_back(static_cast<int>(key % n));
  }
  return out;
}

namespace {

bool is_thin(const Arrangement& a, const Borders& borders, int face, double tolerance) {
  return 2 * a.area(face) <= tolerance * borders.perimeter[face];
}

void count_thin(const ShapeRows& rows, double tolerance, Closed& out) {
  const Arrangement a({&rows, 1}, FillRule::even_odd);
  const Borders borders(a);
  for (int face = 1; face < a.faces(); ++face) {
    if (a.cover(face).size() == 1 || !is_thin(a, borders, face, tolerance)) continue;
    const bool gap = a.cover(face).empty();
    ++(gap ? out.gaps : out.overlaps);
    (gap ? out.gap_area : out.overlap_area) += a.area(face);
  }
}

}  // namespace

Closed close_gaps(const ShapeRows& rows, std::span<const int> ranks, double tolerance) {
  Closed out;
  count_thin(rows, tolerance, out);
  const Sealed sealed = seal(rows, ranks, tolerance, 0);
  out.moved = sealed.moved;
  out.farthest = sealed.farthest;
  const ShapeRows settled{sealed.store.view(), sealed.handles};
  const Arrangement a({&settled, 1}, FillRule::even_odd);
  const Borders borders(a);
  RegionCells cells;
  for (int face = 1; face < a.faces(); ++face) {
    const auto cover = a.cover(face);
    const bool thin = cover.size() != 1 && is_thin(a, borders, face, tolerance);
    if (!thin) {
      for (const int row : cover) cells.faces.push_back({row, face});
    } else if (cover.empty()) {
      if (const int row = borders.longest(face); row >= 0) cells.faces.push_back({row, face});
    } else {
      cells.faces.push_back(
          {*std::min_element(cover.begin(), cover.end(), [&](int i, int j) { return ranks[i] < ranks[j]; }), face});
    }
  }
  out.pieces = pieces_by_row(a, std::move(cells));
  return out;
}

Absorbed absorb(const ShapeRows& rows, const std::vector<char>& slivers, std::span<const int> classes,
                AbsorbInto into) {
  const Arrangement a({&rows, 1}, FillRule::even_odd);
  const int n = rows.size();
  std::vector<double> areas(n, 0);
  std::vector<std::map<int, double>> shared(n);  // borders of slivers with other rows
  const Borders borders(a);
  for (int face = 1; face < a.faces(); ++face)
    for (const int row : a.cover(face)) {
      areas[row] += a.area(face);
      if (slivers[row] == 0) continue;
      for (const auto& [other, length] : borders.lengths(face))
        if (other != row) shared[row][other] += length;
    }

  Absorbed out;
  out.into.assign(n, -1);
  auto allowed = [&](int row, int other) { return classes.empty() || classes[row] == classes[other]; };
  // Slivers between slivers wait until one of their neighbours has gone somewhere.
  for (bool any = true; any;) {
    any = false;
    std::vector<int> found(n, -1);
    for (int row = 0; row < n; ++row) {
      if (slivers[row] == 0 || out.into[row] >= 0) continue;
      double most = 0;
      for (const auto& [other, length] : shared[row]) {
        const int target = slivers[other] == 0 ? other : out.into[other];
        if (target < 0 || target == row || !allowed(row, target)) continue;
        const double score = into == AbsorbInto::longest_border ? length : areas[target];
        if (score > most) {
          most = score;
          found[row] = target;
        }
      }
    }
    for (int row = 0; row < n; ++row)
      if (found[row] >= 0) {
        out.into[row] = found[row];
        any = true;
      }
  }

  RegionCells cells;
  for (int face = 1; face < a.faces(); ++face)
    for (const int row : a.cover(face)) cells.faces.push_back({out.into[row] >= 0 ? out.into[row] : row, face});
  out.pieces = pieces_by_row(a, std::move(cells));
  return out;
}

}  // namespace civic
