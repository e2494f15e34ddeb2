// Sets of features, numbered as they come: 0 is the empty set.
#pragma once
#include <map>
#include <span>
#include <vector>

namespace civic {

class Covers {
 public:
  int number(std::vector<int> features) {
    const auto [found, is_new] = numbers_.try_emplace(std::move(features), static_cast<int>(sets_.size()));
    if (is_new) sets_.push_back(&found->first);
    return found->second;
  }
  std::span<const int> operator[](int number) const { return *sets_[number]; }

 private:
  std::map<std::vector<int>, int> numbers_{{{}, 0}};
  std::vector<const std::vector<int>*> sets_{&numbers_.begin()->first};
};

}  // namespace civic
