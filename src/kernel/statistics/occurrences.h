// How often each of several things comes in a list.
#pragma once
#include <span>
#include <vector>

namespace civic {

struct Occurrences {
  int none = 0, once = 0;
  std::vector<int> several;  // those that come more than once, in order
};

// Of 1 to n in `list`, of which all are 1 to n.
Occurrences occurrences(std::span<const int> list, int n);

}  // namespace civic
