#include "grouped_sums.h"

#include <cmath>

namespace civic {

GroupedSums grouped_sums(std::span<const double> values, std::span<const int> rows, std::span<const int> groups, int n,
                         bool skip_missing) {
  GroupedSums out{std::vector<double>(n, 0.0), std::vector<int>(n, 0)};
  for (std::size_t i = 0; i < rows.size(); ++i) {
    const double value = values[rows[i] - 1];
    if (skip_missing && std::isnan(value)) continue;
    out.sums[groups[i] - 1] += value;
    ++out.counts[groups[i] - 1];
  }
  return out;
}

}  // namespace civic
