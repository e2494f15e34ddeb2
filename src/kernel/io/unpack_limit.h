// How much a source may unpack to, so that a small one cannot fill the memory: told before the memory is taken.
#pragma once
#include <algorithm>
#include <cstddef>
#include <string>

#include "../base/context.h"
#include "../base/error.h"

namespace civic {

// What a source of so many bytes may unpack to.
inline double room_for(std::size_t source) {
  return context().unpack_bytes > 0 ? context().unpack_bytes : std::max(1e9, 100 * static_cast<double>(source));
}

inline void need_room(std::size_t unpacked, std::size_t source) {
  const double room = room_for(source);
  if (static_cast<double>(unpacked) > room)
    throw LimitError("its " + std::to_string(source) + " bytes unpack to more than the " +
                     std::to_string(static_cast<std::size_t>(room)) + " that are allowed");
}

}  // namespace civic
