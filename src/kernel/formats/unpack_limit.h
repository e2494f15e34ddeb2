// How much a source may unpack to, so that a small one cannot fill the memory: told before the memory is taken.
#pragma once
#include <algorithm>
#include <cstddef>
#include <string>

#include "../error.h"

namespace civic {

// In bytes, set by the host program; 0 for a hundred times the source's size and at least 1 GB.
inline std::size_t& unpack_limit() {
  static std::size_t limit = 0;
  return limit;
}

inline void need_room(std::size_t unpacked, std::size_t source) {
  constexpr std::size_t least = 1000000000;
  const std::size_t limit = unpack_limit() > 0 ? unpack_limit() : std::max(least, 100 * source);
  if (unpacked > limit)
    throw LimitError("its " + std::to_string(source) + " bytes unpack to more than the " + std::to_string(limit) +
                     " that are allowed");
}

}  // namespace civic
