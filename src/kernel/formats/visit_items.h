// Many small items of a file, such as records, read with few calls and looked at on several threads.
#pragma once
#include <vector>

#include "../parallel.h"
#include "bytes.h"

namespace civic {

// Where an item lies.
struct Place {
  std::size_t at, length;
  std::size_t end() const { return at + length; }
};

// Items [first, last) that lie close together in bytes [begin, end), so that one read fetches them all.
struct Stretch {
  std::size_t first, last, begin, end;
};

// Groups n items, of which place_of(i) tells the place, into stretches that fit a core's cache; a gap or a step back
// between items starts a new one.
template <class PlaceOf>
std::vector<Stretch> stretches_of(std::size_t n, const PlaceOf& place_of) {
  constexpr std::size_t most_bytes = std::size_t{256} << 10, widest_gap = 2048, most_items = 1 << 16;
  std::vector<Stretch> out;
  for (std::size_t i = 0; i < n; ++i) {
    const Place place = place_of(i);
    const bool fits = !out.empty() && place.at >= out.back().end && place.at - out.back().end <= widest_gap &&
                      place.end() - out.back().begin <= most_bytes && i - out.back().first < most_items;
    if (!fits) out.push_back({i, i, place.at, place.at});
    out.back().last = i + 1;
    out.back().end = place.end();
  }
  return out;
}

// Calls visit(number, each) for groups of items, in any order and on several threads; each(look) calls
// look(i, bytes of item i) for the items of the group in order.
template <class PlaceOf, class Visit>
void visit_items(const InputFile& file, std::size_t n, const PlaceOf& place_of, const Visit& visit) {
  constexpr std::size_t group_bytes = std::size_t{1} << 20, group_stretches = 1024, most_kept = std::size_t{4} << 20;
  const std::vector<Stretch> stretches = stretches_of(n, place_of);
  std::vector<std::size_t> groups;  // first stretch of each
  std::size_t bytes = 0;
  for (std::size_t s = 0; s < stretches.size(); ++s) {
    if (groups.empty() || bytes > group_bytes || s - groups.back() >= group_stretches) {
      groups.push_back(s);
      bytes = 0;
    }
    bytes += stretches[s].end - stretches[s].begin;
  }
  parallel_for(groups.size(), 1, [&](std::size_t group, std::size_t) {
    const std::size_t last = group + 1 < groups.size() ? groups[group + 1] : stretches.size();
    visit(group, [&](const auto& look) {
      thread_local std::vector<std::uint8_t> bytes;  // kept, as fresh memory costs as much as reading into it
      for (std::size_t s = groups[group]; s < last; ++s) {
        const Stretch& stretch = stretches[s];
        const std::size_t size = stretch.end - stretch.begin;
        if (bytes.size() < size) bytes.resize(size);
        file.read(stretch.begin, size, bytes.data());
        for (std::size_t i = stretch.first; i < stretch.last; ++i)
          look(i, bytes.data() + (place_of(i).at - stretch.begin));
      }
      if (bytes.size() > most_kept) std::vector<std::uint8_t>().swap(bytes);
    });
  });
}

}  // namespace civic
