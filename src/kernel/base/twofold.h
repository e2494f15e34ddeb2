// Numbers of twice the digits of a double: the unevaluated sum of two, after Dekker (1971), "A floating-point technique
// for extending the available precision", Numerische Mathematik 18, and Knuth's exact sum of two numbers.
#pragma once
#include "portable.h"

namespace civic {

// high + low is exactly the result, and high the double nearest to it.
struct Twofold {
  double high = 0, low = 0;

  constexpr Twofold() = default;
  constexpr Twofold(double value) : high(value) {}  // NOLINT: doubles are such numbers
  constexpr Twofold(double h, double l) : high(h), low(l) {}
  explicit constexpr operator double() const { return high + low; }

  friend constexpr bool operator==(const Twofold& a, const Twofold& b) = default;
  friend constexpr bool operator<(const Twofold& a, const Twofold& b) {
    return a.high < b.high || (a.high == b.high && a.low < b.low);
  }
  friend constexpr bool operator>(const Twofold& a, const Twofold& b) { return b < a; }
};

// Exact to 106 bits.
inline Twofold twofold_of(Wide value) {
  const double high = static_cast<double>(value);
  return {high, static_cast<double>(value - static_cast<Wide>(high))};
}

// The exact sum of any two doubles.
constexpr Twofold exact_sum(double a, double b) {
  const double sum = a + b, part = sum - a;
  return {sum, (a - (sum - part)) + (b - part)};
}

// The exact product of two doubles up to 1e150; no fused multiplication is asked for, as some systems only pretend to
// have one.
constexpr Twofold exact_product(double a, double b) {
  constexpr double splitter = 134217729;  // 2^27 + 1
  const double product = a * b;
  const double as = splitter * a, bs = splitter * b;
  const double ah = as - (as - a), bh = bs - (bs - b);
  const double al = a - ah, bl = b - bh;
  return {product, al * bl - (((product - ah * bh) - al * bh) - ah * bl)};
}

// The sum of a larger number and a smaller.
constexpr Twofold tidied(double large, double small) {
  const double sum = large + small;
  return {sum, small - (sum - large)};
}

constexpr Twofold operator-(Twofold a) { return {-a.high, -a.low}; }
constexpr Twofold operator+(Twofold a, Twofold b) {
  const Twofold high = exact_sum(a.high, b.high), low = exact_sum(a.low, b.low);
  const Twofold sum = tidied(high.high, high.low + low.high);
  return tidied(sum.high, sum.low + low.low);
}
constexpr Twofold operator-(Twofold a, Twofold b) { return a + -b; }
constexpr Twofold operator*(Twofold a, Twofold b) {
  const Twofold product = exact_product(a.high, b.high);
  return tidied(product.high, product.low + (a.high * b.low + a.low * b.high));
}
constexpr Twofold operator/(Twofold a, Twofold b) {
  const double first = a.high / b.high;
  const Twofold rest = a - b * Twofold(first);
  const double second = rest.high / b.high;
  const double third = (rest - b * Twofold(second)).high / b.high;
  const Twofold quotient = tidied(first, second);
  return tidied(quotient.high, quotient.low + third);
}
constexpr Twofold& operator+=(Twofold& a, Twofold b) { return a = a + b; }

// A running sum of doubles, of which the digits that each step rounds off are kept.
class ExactSum {
 public:
  void add(double value) {
    const Twofold step = exact_sum(sum_, value);
    sum_ = step.high;
    rest_ += step.low;
  }
  double value() const { return sum_ + rest_; }

 private:
  double sum_ = 0, rest_ = 0;
};

}  // namespace civic
