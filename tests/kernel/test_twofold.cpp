#include <catch2/catch.hpp>
#include <cmath>
#include <random>

#include "kernel/base/twofold.h"

using namespace civic;

namespace {

// The value as a whole number, which it has to be.
Wide whole(Twofold value) { return static_cast<Wide>(value.high) + static_cast<Wide>(value.low); }

std::int64_t random_whole(std::mt19937_64& random, int bits) {
  const auto value = static_cast<std::int64_t>(random() >> (64 - bits));
  return random() % 2 == 0 ? value : -value;
}

}  // namespace

TEST_CASE("sums and products of doubles are exact") {
  std::mt19937_64 random(1);
  for (int i = 0; i < 20000; ++i) {
    const std::int64_t a = random_whole(random, 53), b = random_whole(random, 1 + i % 53);
    const double x = static_cast<double>(a), y = static_cast<double>(b);
    REQUIRE(whole(exact_product(x, y)) == static_cast<Wide>(a) * b);
    const Twofold sum = exact_sum(x, y / 1024);  // y / 1024 has digits far below those of x
    REQUIRE(whole({sum.high * 1024, sum.low * 1024}) == static_cast<Wide>(a) * 1024 + b);
  }
}

TEST_CASE("numbers of twice the digits keep them through every operation") {
  std::mt19937_64 random(2);
  for (int i = 0; i < 20000; ++i) {
    const Wide a = static_cast<Wide>(random_whole(random, 60)) * random_whole(random, 40);
    const Wide b = random_whole(random, 50) | 1;
    const Twofold x = twofold_of(a), y = twofold_of(b);
    REQUIRE(whole(x) == a);
    REQUIRE(whole(x + y) == a + b);
    REQUIRE(whole(x - y) == a - b);
    const Twofold back = x / y * y - x;
    REQUIRE(std::fabs(back.high) <= std::ldexp(std::fabs(x.high), -100));
    REQUIRE((x < y) == (a < b));
    REQUIRE((x == y) == (a == b));
  }
}

TEST_CASE("running sums keep what doubles round off") {
  ExactSum sum;
  for (int i = 0; i < 1000000; ++i) sum.add(0.1);
  CHECK(sum.value() == 100000.0 + 1000000 * 5.551115123125783e-18);  // 0.1 is 5.55e-18 more than a tenth
  ExactSum mixed;
  for (const double value : {1e100, 1.0, -1e100}) mixed.add(value);
  CHECK(mixed.value() == 1);
}
