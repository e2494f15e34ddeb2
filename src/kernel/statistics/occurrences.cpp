#include "occurrences.h"

#include <algorithm>
#include <cstdint>

namespace civic {

Occurrences occurrences(std::span<const int> list, int n) {
  constexpr std::uint8_t more = 2;
  std::vector<std::uint8_t> times(static_cast<std::size_t>(n) + 1, 0);
  std::uint8_t* seen = times.data();
  for (const int which : list) seen[which] = std::min<std::uint8_t>(more, seen[which] + 1);
  Occurrences out;
  for (int which = 1; which <= n; ++which) {
    out.none += seen[which] == 0;
    out.once += seen[which] == 1;
    if (seen[which] == more) out.several.push_back(which);
  }
  return out;
}

}  // namespace civic
