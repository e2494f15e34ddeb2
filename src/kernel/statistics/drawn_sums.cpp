#include "drawn_sums.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>

#include "../base/parallel.h"

namespace civic {
namespace {

constexpr std::int64_t first_draws = 999;
constexpr std::int64_t enough_beyond = 10;

// Random whole numbers (Steele, Lea and Flood 2014, "Fast splittable pseudorandom number generators"), a stream a row.
class RandomStream {
 public:
  RandomStream(std::uint64_t seed, std::uint64_t row) : state_(mixed(seed) ^ mixed(~row)) {}
  // Below n, each as likely as the others to some 2^-32.
  std::size_t below(std::size_t n) {
    state_ += 0x9e3779b97f4a7c15u;
    return static_cast<std::size_t>((mixed(state_) >> 32) * n >> 32);
  }

 private:
  static std::uint64_t mixed(std::uint64_t z) {
    z = (z ^ z >> 30) * 0xbf58476d1ce4e5b9u;
    z = (z ^ z >> 27) * 0x94d049bb133111ebu;
    return z ^ z >> 31;
  }
  std::uint64_t state_;
};

// Draws sums for one row after the other.
class Drawer {
 public:
  explicit Drawer(std::span<const double> values) : values_(values), order_(values.size() - 1) {
    std::iota(order_.begin(), order_.end(), std::size_t{0});
    for (const double value : values) largest_ = std::max(largest_, std::fabs(value));
  }

  void draw(std::size_t row, std::span<const double> weights, double own, std::int64_t most, RandomStream random) {
    double total_weight = 0;
    for (const double weight : weights) total_weight += std::fabs(weight);
    const double slack = 1e-12 * total_weight * largest_;  // the order of adding changes the last digits
    above_ = below_ = draws = 0;
    double sum = 0, squares = 0;
    while (draws < most) {
      const double off = one_sum(row, weights, random) - own;
      above_ += off >= -slack;
      below_ += off <= slack;
      sum += off;
      squares += off * off;
      if (++draws == first_draws && beyond() >= enough_beyond) break;
    }
    const double n = static_cast<double>(draws), middle = sum / n;
    mean = own + middle;
    deviation = std::sqrt(std::max(0.0, squares - n * middle * middle) / (n - 1));
  }

  std::int64_t beyond() const { return std::min(above_, below_); }
  std::int64_t draws = 0;
  double mean = 0, deviation = 0;

 private:
  // Draws without replacement by swaps to the front, which are then taken back.
  double one_sum(std::size_t row, std::span<const double> weights, RandomStream& random) {
    double sum = 0;
    swapped_.clear();
    for (std::size_t k = 0; k < weights.size(); ++k) {
      const std::size_t other = k + random.below(order_.size() - k);
      std::swap(order_[k], order_[other]);
      swapped_.push_back(other);
      const std::size_t drawn = order_[k];
      sum += weights[k] * values_[drawn + (drawn >= row ? 1 : 0)];
    }
    for (std::size_t k = weights.size(); k-- > 0;) std::swap(order_[k], order_[swapped_[k]]);
    return sum;
  }

  std::span<const double> values_;
  std::vector<std::size_t> order_, swapped_;
  double largest_ = 0;
  std::int64_t above_ = 0, below_ = 0;
};

}  // namespace

DrawnSums drawn_sums(std::span<const double> values, const WeightedLinks& links, std::span<const double> sums,
                     std::int64_t most, std::uint64_t seed) {
  constexpr double none = std::numeric_limits<double>::quiet_NaN();
  const std::size_t n = values.size();
  DrawnSums out{std::vector<double>(n, none), std::vector<double>(n, none), std::vector<double>(n, none),
                std::vector<char>(n, 0)};
  parallel_for(n, n / 256 + 1, [&](std::size_t begin, std::size_t end) {
    Drawer drawer(values);
    for (std::size_t i = begin; i < end; ++i) {
      const auto first = static_cast<std::size_t>(links.starts[i]),
                 last = static_cast<std::size_t>(links.starts[i + 1]);
      if (first == last) continue;
      drawer.draw(i, std::span(links.weights).subspan(first, last - first), sums[i], most, RandomStream(seed, i));
      out.means[i] = drawer.mean;
      out.deviations[i] = drawer.deviation;
      out.p_values[i] =
          std::min(1.0, 2 * static_cast<double>(drawer.beyond() + 1) / static_cast<double>(drawer.draws + 1));
      out.beyond_all[i] = drawer.beyond() == 0;
    }
  });
  return out;
}

}  // namespace civic
