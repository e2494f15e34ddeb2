#include "coverage.h"

#include <algorithm>
#include <map>

#include "borders.h"
#include "seal.h"

namespace civic {
Pieces find_gaps(const ShapeRows& rows) {
  const Arrangement a({&rows, 1}, FillRule::even_odd);
  const Borders borders(a, Borders::no_faces);
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

void count_thin(const ShapeRows& rows, double tolerance, Closed& out) {
  const Arrangement a({&rows, 1}, FillRule::even_odd);
  const Borders borders(a, Borders::no_faces);
  for (int face = 1; face < a.faces(); ++face) {
    if (a.cover(face).size() == 1 || !borders.is_thin(face, tolerance)) continue;
    const bool gap = a.cover(face).empty();
    ++(gap ? out.gaps : out.overlaps);
    (gap ? out.gap_area : out.overlap_area) += a.area(face);
  }
}

// What row each face goes to: thin gaps and thin pieces cut off from the rest of their row to the row with the longest
// border, thin overlaps to that of the lowest rank.
RegionCells settle(const Arrangement& a, std::span<const int> ranks, double tolerance) {
  const Borders borders(a, Borders::same_cover);
  std::map<int, double> largest;  // piece of each row
  for (int face = 1; face < a.faces(); ++face)
    if (a.cover(face).size() == 1) largest[a.cover(face)[0]] = std::max(largest[a.cover(face)[0]], borders.area(face));
  RegionCells cells;
  for (int face = 1; face < a.faces(); ++face) {
    const auto cover = a.cover(face);
    const bool thin = borders.is_thin(face, tolerance);
    if (cover.size() > 1 && thin) {
      cells.faces.push_back(
          {*std::min_element(cover.begin(), cover.end(), [&](int i, int j) { return ranks[i] < ranks[j]; }), face});
    } else if (cover.size() > 1) {
      for (const int row : cover) cells.faces.push_back({row, face});
    } else {
      const int own = cover.empty() ? -1 : cover[0];
      const bool cut_off = own >= 0 && borders.area(face) < largest[own];
      const int taker = thin && (own < 0 || cut_off) ? borders.longest(face, own) : -1;
      if (taker >= 0 || own >= 0) cells.faces.push_back({taker >= 0 ? taker : own, face});
    }
  }
  return cells;
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
  out.pieces = pieces_by_row(a, settle(a, ranks, tolerance));
  return out;
}

Absorbed absorb(const ShapeRows& rows, const std::vector<char>& slivers, std::span<const int> classes,
                AbsorbInto into) {
  const Arrangement a({&rows, 1}, FillRule::even_odd);
  const int n = rows.size();
  std::vector<double> areas(n, 0);
  std::vector<std::map<int, double>> shared(n);  // borders of slivers with other rows
  const Borders borders(a, Borders::no_faces);
  for (int face = 1; face < a.faces(); ++face)
    for (const int row : a.cover(face)) {
      areas[row] += a.area(face);
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
