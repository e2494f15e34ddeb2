// Pairs of rows of two layers, put in order.
#pragma once
#include <cstddef>
#include <vector>

namespace civic {

// Orders pairs by x, a row below `rows`; those of one x keep their order.
template <class Pair>
void sort_by_x(std::vector<Pair>& pairs, int rows) {
  std::vector<std::size_t> start(static_cast<std::size_t>(rows) + 1, 0);
  for (const Pair& pair : pairs) ++start[pair.x + 1];
  for (int x = 0; x < rows; ++x) start[x + 1] += start[x];
  std::vector<Pair> sorted(pairs.size());
  for (const Pair& pair : pairs) sorted[start[pair.x]++] = pair;
  pairs.swap(sorted);
}

}  // namespace civic
