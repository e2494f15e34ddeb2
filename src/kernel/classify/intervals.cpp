#include "intervals.h"

#include <algorithm>
#include <cmath>
#include <limits>

#include "../error.h"
#include "../parallel.h"

namespace civic {

std::vector<double> finite_sorted(std::span<const double> values) {
  std::vector<double> sorted;
  sorted.reserve(values.size());
  for (double v : values)
    if (std::isfinite(v)) sorted.push_back(v);
  if (!std::is_sorted(sorted.begin(), sorted.end())) std::sort(sorted.begin(), sorted.end());
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
template <class Real>
class RunCosts {
 public:
  explicit RunCosts(std::span<const double> sorted) {
    const long double centre = sorted[sorted.size() / 2];
    long double count = 0, sum = 0, squares = 0;
    sums_.push_back({0, 0, 0});
    for (std::size_t i = 0; i < sorted.size(); ++i) {
      const long double v = sorted[i] - centre;
      count += 1;
      sum += v;
      squares += v * v;
      if (i + 1 < sorted.size() && sorted[i + 1] == sorted[i]) continue;
      values_.push_back(sorted[i]);
      sums_.push_back({static_cast<Real>(count), static_cast<Real>(sum), static_cast<Real>(squares)});
    }
  }

  int size() const { return static_cast<int>(values_.size()); }
  double value(int i) const { return values_[i]; }
  // Of the distinct values first..last, both counted.
  Real operator()(int first, int last) const {
    const Sums &a = sums_[first], &b = sums_[last + 1];
    const Real sum = b.sum - a.sum;
    return std::max<Real>(0, b.squares - a.squares - sum * sum / (b.count - a.count));
  }

 private:
  struct Sums {
    Real count, sum, squares;
  };
  std::vector<double> values_;
  std::vector<Sums> sums_;
};

// One layer of the dynamic programme: least cost of splitting the values up to each end into one class more.
template <class Real>
class Layer {
 public:
  Layer(const RunCosts<Real>& costs, const std::vector<Real>& before, std::vector<Real>& least, std::vector<int>& cut,
        int classes)
      : costs_(costs), before_(before), least_(least), cut_(cut), classes_(classes) {}

  // Solves all ends first..last: the best cut moves with the end, so that an end halfway bounds those on either side,
  // which are then solved side by side.
  void solve(int first, int last) {
    std::vector<Ends> open{{first, last, classes_ - 1, last}};
    for (int rounds = 0; rounds < 4; ++rounds) {
      std::vector<Ends> next;
      for (const Ends& ends : open) halve(ends, [&](const Ends& half) { next.push_back(half); });
      open.swap(next);
    }
    parallel_for(open.size(), 1, [&](std::size_t begin, std::size_t end) {
      for (std::size_t i = begin; i < end; ++i) solve_all(open[i]);
    });
  }

  // The best cut for one end alone, between two places.
  void solve_end(int end, int low, int high) {
    Real best = std::numeric_limits<Real>::infinity();
    int best_cut = low;
    for (int start = std::max(low, classes_ - 1); start <= std::min(high, end); ++start) {
      const Real cost = before_[start - 1] + costs_(start, end);
      if (cost < best) {
        best = cost;
        best_cut = start;
      }
    }
    least_[end] = best;
    cut_[end] = best_cut;
  }

 private:
  struct Ends {
    int first, last, low, high;  // ends to solve, and where their cuts lie
  };
  template <class Rest>
  void halve(const Ends& ends, const Rest& rest) {
    if (ends.first > ends.last) return;
    const int middle = ends.first + (ends.last - ends.first) / 2;
    solve_end(middle, ends.low, ends.high);
    rest(Ends{ends.first, middle - 1, ends.low, cut_[middle]});
    rest(Ends{middle + 1, ends.last, cut_[middle], ends.high});
  }
  void solve_all(const Ends& ends) {
    halve(ends, [&](const Ends& half) { solve_all(half); });
  }

  const RunCosts<Real>& costs_;
  const std::vector<Real>& before_;
  std::vector<Real>& least_;
  std::vector<int>& cut_;
  const int classes_;
};

struct Partition {
  std::vector<double> breaks;
  double within, all;  // sums of squares
};

template <class Real>
Partition best_partition(std::span<const double> sorted, int classes) {
  const RunCosts<Real> costs(sorted);
  const int n = costs.size();
  if (classes > n) throw ArgumentError("there are fewer distinct values than classes");
  std::vector<Real> before(n), least(n);
  for (int end = 0; end < n; ++end) before[end] = costs(0, end);
  std::vector<std::vector<int>> cuts(classes + 1, std::vector<int>(n, 0));  // first value of the last class
  for (int k = 2; k <= classes; ++k) {
    Layer<Real> layer(costs, before, least, cuts[k], k);
    if (k < classes)
      layer.solve(k - 1, n - 1);
    else
      layer.solve_end(n - 1, k - 1, n - 1);
    before.swap(least);
  }
  Partition found{std::vector<double>(classes + 1), static_cast<double>(before[n - 1]),
                  static_cast<double>(costs(0, n - 1))};
  int end = n - 1;
  for (int k = classes; k >= 1; --k) {
    found.breaks[k] = costs.value(end);
    end = cuts[k][end] - 1;
  }
  found.breaks[0] = costs.value(0);
  return found;
}

}  // namespace

std::vector<double> natural_breaks(std::span<const double> sorted, int classes) {
  // Doubles tell partitions apart unless classes are so narrow that their squares drown in those of the whole.
  constexpr double enough = 1e-5;
  constexpr std::size_t few = 20000;
  if (sorted.size() > few) {
    Partition quick = best_partition<double>(sorted, classes);
    if (quick.within > enough * quick.all) return std::move(quick.breaks);
  }
  return best_partition<long double>(sorted, classes).breaks;
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
