#include "grouped_sums.h"

#include <cmath>

#include "../base/parallel.h"

namespace civic {

// Each thread adds up groups of its own, so that the order in which a group's values are added is always theirs.
GroupedSums grouped_sums(std::span<const double> values, std::span<const int> rows, std::span<const int> groups, int n,
                         bool skip_missing) {
  constexpr std::size_t least = 1 << 16;  // rows, below which one thread is as fast
  GroupedSums out(static_cast<std::size_t>(n));
  const std::size_t shares = rows.size() < least ? 1 : context().threads;
  const auto first_group = [&](std::size_t share) {
    return static_cast<int>(static_cast<std::size_t>(n) * share / shares);
  };
  parallel_for(shares, 1, [&](std::size_t share, std::size_t) {
    const int first = first_group(share), last = first_group(share + 1);
    for (std::size_t i = 0; i < rows.size(); ++i) {
      const int group = groups[i] - 1;
      if (group < first || group >= last) continue;
      const double value = values[rows[i] - 1];
      if (skip_missing && std::isnan(value)) continue;
      out.sums[group] += value;
      ++out.counts[group];
    }
  });
  return out;
}

}  // namespace civic
