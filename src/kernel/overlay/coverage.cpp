#include "coverage.h"

#include <algorithm>
#include <map>

#include "borders.h"
#include "covers.h"
#include "regions.h"
#include "seal.h"

namespace civic {
Pieces find_gaps(const ShapeRows& rows, const Yardstick& yardstick) {
  const Arrangement a({&rows, 1}, FillRule::even_odd);
  const Borders borders(a, yardstick);
  RegionCells cells;
  for (int face = 1; face < a.faces(); ++face)
    if (a.cover(face).empty()) cells.faces.push_back({face, face});
  Pieces out = pieces_by_row(a, std::move(cells));
  for (int& face : out.x) face = borders.longest(face, -1);
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

// Thin gaps and overlaps, and the area of each row.
void measure_before(const ShapeRows& rows, double tolerance, const Yardstick& yardstick, Closed& out) {
  const Arrangement a({&rows, 1}, FillRule::even_odd);
  const Borders borders(a, yardstick);
  out.before.assign(rows.size(), 0);
  for (int face = 1; face < a.faces(); ++face) {
    const auto cover = a.cover(face);
    for (const int row : cover) out.before[row] += borders.area(face);
    if (cover.size() == 1 || !borders.is_thin(face, tolerance)) continue;
    ++(cover.empty() ? out.gaps : out.overlaps);
    (cover.empty() ? out.gap_area : out.overlap_area) += borders.area(face);
  }
}

// Regions of the faces that the same rows cover, thin overlaps being left to the row of the lowest rank.
Regions without_thin_overlaps(const Arrangement& a, const CellSizes& sizes, Covers& covers, std::span<const int> ranks,
                              double tolerance) {
  std::vector<int> labels;
  for (int face = 0; face < a.faces(); ++face)
    labels.push_back(covers.number({a.cover(face).begin(), a.cover(face).end()}));
  Regions by_cover(a, sizes, labels);
  for (int face = 1; face < a.faces(); ++face) {
    const auto cover = a.cover(face);
    if (cover.size() < 2 || !by_cover.is_thin(by_cover.region(face), tolerance)) continue;
    labels[face] = covers.number(
        {*std::min_element(cover.begin(), cover.end(), [&](int i, int j) { return ranks[i] < ranks[j]; })});
  }
  return {a, sizes, std::move(labels)};
}

// What rows each face goes to: thin gaps, and thin pieces cut off from the rest of their row, to the row with the
// longest border along them.
RegionCells settle(const Arrangement& a, const CellSizes& sizes, std::span<const int> ranks, double tolerance) {
  Covers covers;
  Regions regions = without_thin_overlaps(a, sizes, covers, ranks, tolerance);
  std::vector<double> largest(ranks.size(), 0);  // piece of each row
  for (int face = 1; face < a.faces(); ++face) {
    const auto rows = covers[regions.label(regions.region(face))];
    if (rows.size() == 1) largest[rows[0]] = std::max(largest[rows[0]], regions.area(regions.region(face)));
  }
  regions.join_thin(tolerance, [&](int region, int other) {
    const auto own = covers[regions.label(region)];
    const bool is_cut_off = own.size() == 1 && regions.area(region) < largest[own[0]];
    return covers[regions.label(other)].size() == 1 && (own.empty() || is_cut_off);
  });
  RegionCells cells;
  for (int face = 1; face < a.faces(); ++face)
    for (const int row : covers[regions.label(regions.region(face))]) cells.faces.push_back({row, face});
  return cells;
}

}  // namespace

Closed close_gaps(const ShapeRows& rows, std::span<const int> ranks, double tolerance, const Yardstick& yardstick) {
  Closed out;
  measure_before(rows, tolerance, yardstick, out);
  const Sealed sealed = seal(rows, ranks, tolerance, yardstick);
  out.moved = sealed.moved;
  out.farthest = sealed.farthest;
  const ShapeRows settled{sealed.store.view(), sealed.handles};
  const Arrangement a({&settled, 1}, FillRule::even_odd);
  const CellSizes sizes(a, yardstick);
  RegionCells cells = settle(a, sizes, ranks, tolerance);
  out.after.assign(rows.size(), 0);
  for (const Belonging& face : cells.faces) out.after[face.region] += sizes.area(face.cell);
  out.pieces = pieces_by_row(a, std::move(cells));
  return out;
}

Absorbed absorb(const ShapeRows& rows, const std::vector<char>& slivers, std::span<const int> classes, AbsorbInto into,
                const Yardstick& yardstick) {
  const Arrangement a({&rows, 1}, FillRule::even_odd);
  const int n = rows.size();
  std::vector<double> areas(n, 0);
  std::vector<std::map<int, double>> shared(n);  // borders of slivers with other rows
  const Borders borders(a, yardstick);
  for (int face = 1; face < a.faces(); ++face)
    for (const int row : a.cover(face)) {
      areas[row] += borders.area(face);
      if (slivers[row] == 0) continue;
      for (const auto& [other, length] : borders.features_beside(face))
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
