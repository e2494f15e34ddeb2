// The chance of local sums by conditional permutation (Anselin 1995, "Local indicators of spatial association",
// Geographical Analysis 27, p. 96): each row's neighbours are drawn anew from all other rows.
#pragma once
#include <cstdint>
#include <span>
#include <vector>

namespace civic {

// Links from rows to their neighbours, counted from 0: those of row i from starts[i] on.
struct WeightedLinks {
  std::vector<int> starts;  // rows + 1
  std::vector<double> weights;
};

struct DrawnSums {
  std::vector<double> means, deviations;  // of the sums drawn; NaN for a row without neighbours
  std::vector<double> p_values;           // two-sided; NaN likewise
  std::vector<char> beyond_all;           // whether every sum drawn lay on the same side of the row's own
};

// Draws for each row the weighted sums of values from other rows, and tells how `sums`, the rows' own, lie among them.
// A row takes at most `most` draws, and ends after the first thousand where ten of them lie beyond it. The same seed
// gives the same draws on any number of threads.
DrawnSums drawn_sums(std::span<const double> values, const WeightedLinks& links, std::span<const double> sums,
                     std::int64_t most, std::uint64_t seed);

}  // namespace civic
