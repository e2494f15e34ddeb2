// Sets of things joined pairwise.
#pragma once
#include <numeric>
#include <vector>

#include "portable.h"

namespace civic {

class DisjointSets {
 public:
  explicit DisjointSets(std::size_t n) : parent_(n) { std::iota(parent_.begin(), parent_.end(), 0); }
  int find(int i) {
    while (parent_[i] != i) i = parent_[i] = parent_[parent_[i]];
    return i;
  }
  // Whether they were apart before.
  bool join(int a, int b) {
    const int from = find(a), to = find(b);
    parent_[from] = to;
    return from != to;
  }

 private:
  std::vector<int> parent_;
};

}  // namespace civic
