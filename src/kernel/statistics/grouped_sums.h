// Sums of a column by group.
#pragma once
#include <span>
#include <vector>

namespace civic {

struct GroupedSums {
  std::vector<double> sums;
  std::vector<int> counts;  // of what was added

  explicit GroupedSums(std::size_t groups) : sums(groups, 0.0), counts(groups, 0) {}
};

// Adds values[rows[i] - 1] to group groups[i] - 1 of `n`, for each i. A missing value makes the sum of its group
// missing, unless it is to be skipped.
GroupedSums grouped_sums(std::span<const double> values, std::span<const int> rows, std::span<const int> groups, int n,
                         bool skip_missing);

}  // namespace civic
