#include "intervals.h"

#include <algorithm>
#include <cmath>
#include <limits>

#include "../error.h"

namespace civic {

std::vector<double> finite_sorted(std::span<const double> values) {
  std::vector<double> sorted;
  sorted.reserve(values.size());
  for (double v : values)
    if (std::isfinite(v)) sorted.push_back(v);
  std::sort(sorted.begin(), sorted.end());
  return sorted;
}

std::vector<double> equal_breaks(std::span<const double> sorted, int classes) {
  const double low = sorted.front(), width = sorted.back() - low;
  std::vector<double> breaks;
  for (int i = 0; i <= classes; ++i) breaks.push_back(low + i * width / classes);
  breaks.back() = sorted.back();
  return breaks;
}

std::vector<double> quantile_breaks(std::span<const double> sorted, int classes) {
  std::vector<double> breaks;
  for (int i = 0; i <= classes; ++i) {
    const double h = static_cast<double>(sorted.size() - 1) * i / classes;
    const auto below = static_cast<std::size_t>(std::floor(h));
    double value = sorted[below];
    if (below + 1 < sorted.size()) value += (h - std::floor(h)) * (sorted[below + 1] - sorted[below]);
    breaks.push_back(value);
  }
  breaks.erase(std::unique(breaks.begin(), breaks.end()), breaks.end());
  if (breaks.size() == 1) breaks.push_back(breaks[0]);
  return breaks;
}

namespace {

// The least value, the breaks that lie between the values, the greatest value.
std::vector<double> within_range(std::span<const double> sorted, const std::vector<double>& inner) {
  std::vector<double> breaks{sorted.front()};
  for (const double b : inner)
    if (b > breaks.back() && b < sorted.back()) breaks.push_back(b);
  breaks.push_back(sorted.back());
  return breaks;
}

double mean_of(std::span<const double> values) {
  long double sum = 0;
  for (const double v : values) sum += v;
  return static_cast<double>(sum / static_cast<long double>(values.size()));
}

}  // namespace

std::vector<double> deviation_breaks(std::span<const double> sorted, int classes) {
  const double mean = mean_of(sorted);
  long double squares = 0;
  for (const double v : sorted) squares += (v - mean) * (v - mean);
  const double deviation =
      std::sqrt(static_cast<double>(squares) / std::max<double>(1, static_cast<double>(sorted.size()) - 1));
  std::vector<double> inner;
  for (int i = 1; i < classes; ++i) inner.push_back(mean + (i - classes / 2.0) * deviation);
  return within_range(sorted, inner);
}

std::vector<double> geometric_breaks(std::span<const double> sorted, int classes) {
  if (!(sorted.front() > 0))
    throw ArgumentError("geometric classes need values above 0; the least is " + std::to_string(sorted.front()));
  const double growth = std::log(sorted.back() / sorted.front()) / classes;
  std::vector<double> inner;
  for (int i = 1; i < classes; ++i) inner.push_back(sorted.front() * std::exp(i * growth));
  return within_range(sorted, inner);
}

std::vector<double> round_breaks(std::span<const double> sorted, int classes) {
  const double width = (sorted.back() - sorted.front()) / classes;
  if (!(width > 0)) return {sorted.front(), sorted.back()};
  const double power = std::pow(10, std::floor(std::log10(width)));
  double step = 10 * power, nearest = HUGE_VAL;
  for (const double times : {1.0, 2.0, 5.0, 10.0}) {
    const double off = std::fabs(std::log(times * power / width));
    if (off < nearest) {
      nearest = off;
      step = times * power;
    }
  }
  std::vector<double> breaks;
  // Multiples are divided out where the step is below 1, so that they are the doubles nearest to round numbers.
  const double first = std::floor(sorted.front() / step), last = std::ceil(sorted.back() / step);
  for (double i = first; i <= last; ++i) breaks.push_back(step < 1 ? i / std::round(1 / step) : i * step);
  return breaks;
}

std::vector<double> head_tail_breaks(std::span<const double> sorted, int most_classes) {
  std::vector<double> inner;
  for (std::span<const double> rest = sorted; static_cast<int>(inner.size()) + 1 < most_classes;) {
    const double mean = mean_of(rest);
    const auto head =
        rest.subspan(static_cast<std::size_t>(std::upper_bound(rest.begin(), rest.end(), mean) - rest.begin()));
    if (head.empty() || static_cast<double>(head.size()) > 0.4 * static_cast<double>(rest.size())) break;
    inner.push_back(mean);
    rest = head;
  }
  return within_range(sorted, inner);
}

std::vector<double> gap_breaks(std::span<const double> sorted, int classes) {
  std::vector<std::size_t> after;
  for (std::size_t i = 0; i + 1 < sorted.size(); ++i)
    if (sorted[i] < sorted[i + 1]) after.push_back(i);
  const std::size_t wanted = std::min(after.size(), static_cast<std::size_t>(classes - 1));
  auto gap = [&](std::size_t i) { return sorted[i + 1] - sorted[i]; };
  std::stable_sort(after.begin(), after.end(), [&](std::size_t a, std::size_t b) { return gap(a) > gap(b); });
  after.resize(wanted);
  std::vector<double> inner;
  for (const std::size_t i : after) inner.push_back(sorted[i] + gap(i) / 2);
  std::sort(inner.begin(), inner.end());
  return within_range(sorted, inner);
}

namespace {

// Sums of squares of runs of distinct values, from running sums taken about the median to keep digits.
class RunCosts {
 public:
  explicit RunCosts(std::span<const double> sorted) {
    const long double centre = sorted[sorted.size() / 2];
    long double count = 0, sum = 0, squares = 0;
    counts_.push_back(0);
    sums_.push_back(0);
    squares_.push_back(0);
    for (std::size_t i = 0; i < sorted.size(); ++i) {
      const long double v = sorted[i] - centre;
      count += 1;
      sum += v;
      squares += v * v;
      if (i + 1 < sorted.size() && sorted[i + 1] == sorted[i]) continue;
      values_.push_back(sorted[i]);
      counts_.push_back(count);
      sums_.push_back(sum);
      squares_.push_back(squares);
    }
  }

  int size() const { return static_cast<int>(values_.size()); }
  double value(int i) const { return values_[i]; }
  // Of the distinct values first..last, both counted.
  long double operator()(int first, int last) const {
    const long double n = counts_[last + 1] - counts_[first], sum = sums_[last + 1] - sums_[first];
    return std::max<long double>(0, squares_[last + 1] - squares_[first] - sum * sum / n);
  }

 private:
  std::vector<double> values_;
  std::vector<long double> counts_, sums_, squares_;
};

// One layer of the dynamic programme: least cost of splitting the values up to each end into one class more.
class Layer {
 public:
  Layer(const RunCosts& costs, const std::vector<long double>& before, std::vector<long double>& least,
        std::vector<int>& cut, int classes)
      : costs_(costs), before_(before), least_(least), cut_(cut), classes_(classes) {}

  // Solves ends first..last, whose best cuts lie within low..high.
  void solve(int first, int last, int low, int high) {
    if (first > last) return;
    const int end = (first + last) / 2;
    long double best = std::numeric_limits<long double>::infinity();
    int best_cut = -1;
    for (int start = std::max(low, classes_ - 1); start <= std::min(high, end); ++start) {
      const long double cost = before_[start - 1] + costs_(start, end);
      if (cost < best) {
        best = cost;
        best_cut = start;
      }
    }
    least_[end] = best;
    cut_[end] = best_cut;
    solve(first, end - 1, low, best_cut);
    solve(end + 1, last, best_cut, high);
  }

 private:
  const RunCosts& costs_;
  const std::vector<long double>& before_;
  std::vector<long double>& least_;
  std::vector<int>& cut_;
  int classes_;
};

}  // namespace

std::vector<double> natural_breaks(std::span<const double> sorted, int classes) {
  const RunCosts costs(sorted);
  const int n = costs.size();
  if (classes > n) throw ArgumentError("there are fewer distinct values than classes");
  std::vector<long double> before(n), least(n);
  for (int end = 0; end < n; ++end) before[end] = costs(0, end);
  std::vector<std::vector<int>> cuts(classes + 1, std::vector<int>(n, 0));  // first value of the last class
  for (int k = 2; k <= classes; ++k) {
    Layer(costs, before, least, cuts[k], k).solve(k - 1, n - 1, k - 1, n - 1);
    before.swap(least);
  }
  std::vector<double> breaks(classes + 1);
  int end = n - 1;
  for (int k = classes; k >= 1; --k) {
    breaks[k] = costs.value(end);
    end = cuts[k][end] - 1;
  }
  breaks[0] = costs.value(0);
  return breaks;
}

double within_sum_of_squares(std::span<const double> sorted, std::span<const double> breaks) {
  long double total = 0;
  auto begin = std::lower_bound(sorted.begin(), sorted.end(), breaks.front());
  for (std::size_t k = 1; k < breaks.size(); ++k) {
    const auto end = std::upper_bound(begin, sorted.end(), breaks[k]);
    long double mean = 0;
    for (auto v = begin; v != end; ++v) mean += *v;
    mean /= std::max<std::ptrdiff_t>(1, end - begin);
    for (auto v = begin; v != end; ++v) total += (*v - mean) * (*v - mean);
    begin = end;
  }
  return static_cast<double>(total);
}

double variance_fit(std::span<const double> sorted, std::span<const double> breaks) {
  const double ends[] = {sorted.front(), sorted.back()};
  const double all = within_sum_of_squares(sorted, ends);
  return all == 0 ? 1 : 1 - within_sum_of_squares(sorted, breaks) / all;
}

std::vector<int> class_of(std::span<const double> values, std::span<const double> breaks) {
  std::vector<int> classes(values.size(), 0);
  for (std::size_t i = 0; i < values.size(); ++i) {
    const double v = values[i];
    if (!(v >= breaks.front() && v <= breaks.back())) continue;
    const auto above = std::lower_bound(breaks.begin() + 1, breaks.end(), v);
    classes[i] = static_cast<int>(above - breaks.begin());
  }
  return classes;
}

}  // namespace civic
