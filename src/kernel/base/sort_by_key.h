// Sorting by small whole numbers, in a few passes.
#pragma once
#include <algorithm>
#include <cstddef>
#include <limits>
#include <memory>
#include <utility>
#include <vector>

#include "error.h"
#include "parallel.h"

namespace civic {

// Puts items in the order of their keys, from 0 to keys - 1; those of one key keep their order. Returns where each key
// begins among them, and at last their number. Items are first parted into stretches of keys, few enough that the
// places written to stay in a core's cache and page table, then each stretch is put in order by itself.
template <class T, class KeyOf>
std::vector<int> sort_by_key(std::vector<T>& items, std::size_t keys, const KeyOf& key_of) {
  if (items.size() > static_cast<std::size_t>(std::numeric_limits<int>::max()))
    throw ArgumentError("there are more than 2147483647 things to put in order");
  constexpr std::size_t most_stretches = 512;
  std::size_t shift = 0;
  while ((keys >> shift) >= most_stretches) ++shift;
  const std::size_t stretches = (keys >> shift) + 1;
  const auto stretch_of = [&](const T& item) { return static_cast<std::size_t>(key_of(item)) >> shift; };

  // Each share of the items is parted by a thread of its own: of each stretch the first share's items come first.
  constexpr std::size_t least = 1 << 16;  // items, below which one thread is as fast
  const std::size_t shares = items.size() < least ? 1 : context().threads;
  std::vector<std::vector<std::size_t>> next(shares, std::vector<std::size_t>(stretches, 0));
  const auto visit_share = [&](std::size_t share, const auto& visit) {
    const std::size_t end = items.size() * (share + 1) / shares;
    for (std::size_t i = items.size() * share / shares; i < end; ++i)
      visit(items[i], next[share][stretch_of(items[i])]);
  };
  parallel_for(shares, 1, [&](std::size_t share, std::size_t) {
    visit_share(share, [](const T&, std::size_t& count) { ++count; });
  });
  std::vector<std::size_t> bounds(stretches + 1, items.size());
  std::size_t before = 0;
  for (std::size_t s = 0; s < stretches; ++s) {
    bounds[s] = before;
    for (auto& counts : next) before += std::exchange(counts[s], before);
  }
  // Not a vector, which one thread would fill first: most of the time goes into memory that is touched for the first
  // time.
  const std::unique_ptr<T[]> parted(new T[items.size()]);
  parallel_for(shares, 1, [&](std::size_t share, std::size_t) {
    visit_share(share, [&](const T& item, std::size_t& place) { parted[place++] = item; });
  });

  std::vector<int> start(keys + 1, static_cast<int>(items.size()));
  parallel_for(stretches, shares == 1 ? stretches : 8, [&](std::size_t first, std::size_t last) {
    std::vector<int> place((std::size_t{1} << shift) + 1);
    for (std::size_t s = first; s < last; ++s) {
      const std::size_t base = s << shift, width = std::min(std::size_t{1} << shift, keys - std::min(keys, base));
      std::fill(place.begin(), place.end(), 0);
      for (std::size_t i = bounds[s]; i < bounds[s + 1]; ++i)
        ++place[static_cast<std::size_t>(key_of(parted[i])) - base + 1];
      place[0] = static_cast<int>(bounds[s]);
      for (std::size_t k = 0; k < width; ++k) {
        start[base + k] = place[k];
        place[k + 1] += place[k];
      }
      for (std::size_t i = bounds[s]; i < bounds[s + 1]; ++i)
        items[static_cast<std::size_t>(place[static_cast<std::size_t>(key_of(parted[i])) - base]++)] = parted[i];
    }
  });
  return start;
}

// The same, and those of one key in the order that `less` says: for keys that few items share much faster than a sort
// by comparisons alone, and side by side.
template <class T, class KeyOf, class Less>
std::vector<int> sort_by_key(std::vector<T>& items, std::size_t keys, const KeyOf& key_of, const Less& less) {
  const std::vector<int> start = sort_by_key(items, keys, key_of);
  parallel_for(keys, 1 << 14, [&](std::size_t begin, std::size_t end) {
    for (std::size_t key = begin; key < end; ++key)
      if (start[key + 1] - start[key] > 1) std::sort(items.begin() + start[key], items.begin() + start[key + 1], less);
  });
  return start;
}

}  // namespace civic
