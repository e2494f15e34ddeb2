// Many small items of a file, such as records, read with few calls and looked at on several threads.
#pragma once
#include <algorithm>
#include <vector>

#include "../base/parallel.h"
#include "../io/bytes.h"

namespace civic {

// Where an item lies.
struct ByteRange {
  std::size_t at, length;
  std::size_t end() const { return at + length; }
};

// Calls visit(number, each) for groups of n items, of which place_of(i) tells the place, in any order and on several
// threads; each(look) calls look(i, bytes of item i) for the items of the group in order. Items that lie close together
// are fetched by one read, of what fits a core's cache.
template <class PlaceOf, class Visit>
void visit_items(const InputFile& file, std::size_t n, const PlaceOf& place_of, const Visit& visit) {
  constexpr std::size_t group_bytes = std::size_t{1} << 20, most_items = 1 << 16;
  constexpr std::size_t most_bytes = std::size_t{128} << 10, widest_gap = 2048, most_kept = std::size_t{4} << 20;
  const std::size_t items = group_bytes * n / std::max<std::size_t>(1, file.size());
  const std::size_t grain = std::clamp<std::size_t>(items, 1, most_items);
  parallel_for(n, grain, [&](std::size_t first, std::size_t last) {
    visit(first / grain, [&](const auto& look) {
      thread_local std::vector<std::uint8_t> bytes;  // kept, as fresh memory costs as much as reading into it
      for (std::size_t i = first; i < last;) {
        const ByteRange start = place_of(i);
        std::size_t next = i + 1, end = start.end();
        for (; next < last; ++next) {
          const ByteRange place = place_of(next);
          if (place.at < end || place.at - end > widest_gap || place.end() - start.at > most_bytes) break;
          end = place.end();
        }
        const std::size_t size = end - start.at;
        if (bytes.size() < size) bytes.resize(size);
        file.read(start.at, size, bytes.data());
        for (; i < next; ++i) look(i, bytes.data() + (place_of(i).at - start.at));
      }
      if (bytes.size() > most_kept) std::vector<std::uint8_t>().swap(bytes);
    });
  });
}

}  // namespace civic
