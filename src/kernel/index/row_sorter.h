// Orders short lists of row numbers, many of them one after the other.
#pragma once
#include <algorithm>
#include <vector>

namespace civic {

// Rows fall into about as many equal stretches as there are rows, in which they then are few: several times as fast as
// a sort by comparisons where they are spread evenly, which is then tried instead where they are not.
class RowSorter {
 public:
  void sort(std::vector<int>& rows) {
    constexpr std::size_t least = 16;
    constexpr int most_in_a_stretch = 8;
    if (rows.size() < least) return std::sort(rows.begin(), rows.end());
    const auto [low, high] = std::minmax_element(rows.begin(), rows.end());
    const auto first = static_cast<unsigned>(*low), span = static_cast<unsigned>(*high) - first;
    int shift = 0;
    while ((span >> shift) >= rows.size()) ++shift;
    const auto stretch_of = [&](int row) { return (static_cast<unsigned>(row) - first) >> shift; };

    starts_.assign((span >> shift) + 2, 0);
    for (const int row : rows) ++starts_[stretch_of(row) + 1];
    if (*std::max_element(starts_.begin(), starts_.end()) > most_in_a_stretch)
      return std::sort(rows.begin(), rows.end());
    for (std::size_t k = 1; k < starts_.size(); ++k) starts_[k] += starts_[k - 1];
    spread_.resize(rows.size());
    for (const int row : rows) spread_[static_cast<std::size_t>(starts_[stretch_of(row)]++)] = row;
    rows.swap(spread_);
    insert_in_order(rows);
  }

 private:
  static void insert_in_order(std::vector<int>& rows) {
    for (std::size_t i = 1; i < rows.size(); ++i) {
      const int row = rows[i];
      std::size_t at = i;
      for (; at > 0 && rows[at - 1] > row; --at) rows[at] = rows[at - 1];
      rows[at] = row;
    }
  }
  std::vector<int> starts_, spread_;
};

}  // namespace civic
