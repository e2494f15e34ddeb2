#include <catch2/catch.hpp>

#include "kernel/base/error.h"
#include "kernel/classify/intervals.h"
#include "support.h"

using namespace civic;

namespace {

// Least within-class sum of squares by trying every partition.
double least_by_trying(const std::vector<double>& sorted, std::size_t from, int classes) {
  if (classes == 1) {
    const double ends[] = {sorted[from], sorted.back()};
    return within_sum_of_squares(std::span(sorted).subspan(from), ends);
  }
  double least = HUGE_VAL;
  for (std::size_t cut = from + 1; cut + classes - 1 <= sorted.size(); ++cut) {
    if (sorted[cut] == sorted[cut - 1]) continue;
    const double ends[] = {sorted[from], sorted[cut - 1]};
    const double first = within_sum_of_squares(std::span(sorted).subspan(from, cut - from), ends);
    least = std::min(least, first + least_by_trying(sorted, cut, classes - 1));
  }
  return least;
}

}  // namespace

TEST_CASE("natural breaks are the best of all partitions") {
  std::mt19937 random(4);
  std::uniform_int_distribution<int> any(0, 25);
  for (int round = 0; round < 60; ++round) {
    std::vector<double> values;
    for (int i = 0; i < 11; ++i) values.push_back(any(random) * 0.25);
    std::sort(values.begin(), values.end());
    for (int classes = 1; classes <= 4; ++classes) {
      const auto breaks = natural_breaks(values, classes);
      REQUIRE(breaks.size() == static_cast<std::size_t>(classes) + 1);
      REQUIRE(within_sum_of_squares(values, breaks) == Approx(least_by_trying(values, 0, classes)).margin(1e-12));
    }
  }
  CHECK_THROWS_AS(natural_breaks(std::vector<double>{1, 1, 2}, 3), ArgumentError);
}

TEST_CASE("natural breaks do not hang on how large the values are") {
  std::vector<double> values{-3, -2.5, 0, 0.25, 1, 7, 8, 8.5, 20}, huge;
  for (const double value : values) huge.push_back(std::ldexp(value, 1015));
  std::vector<double> expected = natural_breaks(values, 4);
  for (double& value : expected) value = std::ldexp(value, 1015);
  CHECK(natural_breaks(huge, 4) == expected);
  CHECK(natural_breaks(std::vector<double>{1, 2, 3, 10, 11, 1e290}, 3) == std::vector<double>{1, 3, 11, 1e290});
}

TEST_CASE("classes are closed on the right, the first on both sides") {
  const std::vector<double> breaks{0, 1, 2}, values{0, 0.5, 1, 1.5, 2, 2.5, -1, nan_value};
  CHECK(class_of(values, breaks) == std::vector<int>{1, 1, 1, 2, 2, 0, 0, 0});
}
