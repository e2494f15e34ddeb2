// The features of two layers that are arranged together: which are whose, and what they are made of.
#pragma once
#include <algorithm>
#include <span>
#include <vector>

#include "arrangement.h"

namespace civic {

// The features of a cell that belong to each of two layers, those of y less the rows of x.
struct Sides {
  std::span<const int> x, y;
};
inline Sides sides_of(std::span<const int> features, int x_rows) {
  const auto split = std::lower_bound(features.begin(), features.end(), x_rows) - features.begin();
  return {features.first(static_cast<std::size_t>(split)), features.subspan(static_cast<std::size_t>(split))};
}

// What each feature has of lines and points, to tell whether a piece is all of it.
class Wholes {
 public:
  Wholes(const Arrangement& a, std::span<const ShapeRows> layers) {
    for (const ShapeRows& rows : layers)
      for (int row = 0; row < rows.size(); ++row)
        has_polygon_.push_back(rows[row] >= 0 && rows.store.holds_part(rows[row], ShapeKind::polygon));
    cells_.assign(has_polygon_.size(), 0);
    for (int e = 0; e < a.edges(); ++e)
      for (const auto& line : a.lines(e)) ++cells_[line.feature];
    for (const Belonging& point : a.points()) ++cells_[point.region];
  }
  bool is_whole(int feature, int cells) const { return !has_polygon_[feature] && cells == cells_[feature]; }
  bool has_polygon(int feature) const { return has_polygon_[feature]; }

 private:
  std::vector<char> has_polygon_;
  std::vector<int> cells_;
};

}  // namespace civic
