#include "intervals.h"

#include <algorithm>
#include <cmath>
#include <limits>

#include "../base/error.h"
#include "../base/parallel.h"
#include "../base/twofold.h"

namespace civic {

std::vector<double> finite_sorted(std::span<const double> values) {
  std::vector<double> sorted;
  sorted.reserve(values.size());
  for (double v : values)
    if (std::isfinite(v)) sorted.push_back(v);
  if (!std::is_sorted(sorted.begin(), sorted.end())) parallel_sort(sorted);
  return sorted;
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

}  // namespace

std::vector<double> equal_breaks(std::span<const double> sorted, int classes) {
  const double low = sorted.front(), high = sorted.back(), width = high - low;
  std::vector<double> inner;
  for (int i = 1; i < classes; ++i)
    inner.push_back(std::isfinite(width) ? low + i * width / classes
                                         : low * (1 - i * 1.0 / classes) + high * (i * 1.0 / classes));
  return within_range(sorted, inner);
}

namespace {

double quantile(std::span<const double> sorted, double share) {
  const double h = static_cast<double>(sorted.size() - 1) * share;
  const auto below = static_cast<std::size_t>(std::floor(h));
  const double rest = h - std::floor(h);
  return rest > 0 ? sorted[below] * (1 - rest) + sorted[below + 1] * rest : sorted[below];
}

std::vector<double> inner_quantiles(std::span<const double> sorted, int classes) {
  std::vector<double> inner;
  for (int i = 1; i < classes; ++i) inner.push_back(quantile(sorted, i * 1.0 / classes));
  return inner;
}

}  // namespace

std::vector<double> quantile_breaks(std::span<const double> sorted, int classes) {
  std::vector<double> breaks = within_range(sorted, inner_quantiles(sorted, classes));
  const auto above = sorted.subspan(
      static_cast<std::size_t>(std::upper_bound(sorted.begin(), sorted.end(), sorted.front()) - sorted.begin()));
  if (breaks.size() > 2 || classes < 2 || above.empty()) return breaks;
  breaks = within_range(above, inner_quantiles(above, classes - 1));
  breaks.front() = sorted.front();
  breaks.insert(breaks.begin(), sorted.front());
  return breaks;
}

namespace {

double mean_of(std::span<const double> values) {
  ExactSum sum;
  for (const double v : values) sum.add(v);
  return sum.value() / static_cast<double>(values.size());
}

}  // namespace

std::vector<double> deviation_breaks(std::span<const double> sorted, int classes) {
  const double mean = mean_of(sorted);
  ExactSum squares;
  for (const double v : sorted) squares.add((v - mean) * (v - mean));
  const double deviation = std::sqrt(squares.value() / std::max<double>(1, static_cast<double>(sorted.size()) - 1));
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
  const double width = sorted.back() / classes - sorted.front() / classes;
  if (!(width > 1e-300) || !std::isfinite(width)) return {sorted.front(), sorted.back()};
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
  const int steps = static_cast<int>(std::min(last - first, 1e6));
  for (int k = -1; k <= steps + 1; ++k)
    breaks.push_back(step < 1 && step > 1e-15 ? (first + k) / std::round(1 / step) : (first + k) * step);
  breaks.erase(std::unique(breaks.begin(), breaks.end()), breaks.end());
  // The first and the last are there for what rounding leaves beyond the others.
  while (breaks.size() > 2 && breaks[1] <= sorted.front()) breaks.erase(breaks.begin());
  while (breaks.size() > 2 && breaks[breaks.size() - 2] >= sorted.back()) breaks.pop_back();
  const bool holds_all = breaks.size() > 1 && breaks.front() <= sorted.front() && breaks.back() >= sorted.back();
  return holds_all ? breaks : std::vector<double>{sorted.front(), sorted.back()};
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

// Sums of squares of runs of distinct values, from running sums taken about the median to keep digits. Values whose
// squares would overflow are divided by a power of two, with the rest of them.
template <class Real>
class RunCosts {
 public:
  explicit RunCosts(std::span<const double> sorted) {
    int exponent = 0;
    std::frexp(std::max(std::fabs(sorted.front()), std::fabs(sorted.back())), &exponent);
    exponent = std::max(0, exponent - 490 + std::ilogb(static_cast<double>(sorted.size())));
    const double centre = std::ldexp(sorted[sorted.size() / 2], -exponent);
    double count = 0;
    Twofold sum, squares;
    sums_.push_back({0, 0, 0});
    for (std::size_t i = 0; i < sorted.size(); ++i) {
      const Twofold v = exact_sum(std::ldexp(sorted[i], -exponent), -centre);
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
    return std::max(Real(0.0), b.squares - a.squares - sum * sum / (b.count - a.count));
  }

 private:
  struct Sums {
    Real count, sum, squares;
  };
  std::vector<double> values_;
  std::vector<Sums> sums_;
};

// One layer of the dynamic programme: least cost of splitting the values up to each end into one class more.
template <class Real, class Cost>
class Layer {
 public:
  Layer(const Cost& costs, const std::vector<Real>& before, std::vector<Real>& least, std::vector<int>& cut)
      : costs_(costs), before_(before), least_(least), cut_(cut) {}

  // Solves all ends first..last, whose last class starts within low..high: the best start moves with the end, so that
  // an end halfway bounds those on either side, which are then solved side by side.
  void solve(int first, int last, int low, int high) {
    std::vector<Ends> open{{first, last, low, high}};
    for (int rounds = 0; rounds < 2; ++rounds) {
      std::vector<Ends> next;
      for (const Ends& ends : open) halve(ends, [&](const Ends& half) { next.push_back(half); });
      open.swap(next);
    }
    parallel_for(open.size(), 1, [&](std::size_t begin, std::size_t end) {
      for (std::size_t i = begin; i < end; ++i) solve_all(open[i]);
    });
  }

 private:
  struct Ends {
    int first, last, low, high;  // ends to solve, and where their last class starts
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
  void solve_end(int end, int low, int high) {
    Real best = Real(std::numeric_limits<double>::infinity());
    int best_cut = low;
    for (int start = low; start <= std::min(high, end); ++start) {
      const Real cost = before_[start - 1] + costs_(start, end);
      if (cost < best) {
        best = cost;
        best_cut = start;
      }
    }
    least_[end] = best;
    cut_[end] = best_cut;
  }

  const Cost& costs_;
  const std::vector<Real>& before_;
  std::vector<Real>& least_;
  std::vector<int>& cut_;
};

// Where the last value of each class but the last may lie.
struct Window {
  int first, last;
};

// Windows that hold the best partition, from bounds on blocks of values. A partition that cuts between blocks only
// costs no less than the best one; one that leaves out the blocks its classes hold in part no more. A block can hold a
// cut where the second bound, over the partitions that cut there, is not above the first.
template <class Real>
class CutWindows {
 public:
  CutWindows(const RunCosts<Real>& costs, int classes) : costs_(costs), classes_(classes) {
    // Blocks of few values where these lie close, of a short range where they do not.
    constexpr double blocks = 1 << 13;
    const int n = costs.size();
    const double low = costs.value(0), range = costs.value(n - 1) - low;
    for (int i = 0, last = -1; i < n; ++i) {
      const int block = static_cast<int>(blocks * (0.5 * i / n + 0.5 * (costs.value(i) - low) / range));
      if (block != last) start_.push_back(i);
      last = block;
    }
    start_.push_back(n);
  }

  std::vector<Window> find() const {
    const int m = blocks();
    const Real least = least_between_blocks() * (1 + Real(1e-9));
    const auto before = bounds([&](int i, int j) { return inside(i, j); }, [&](int b) { return whole(0, start_[b]); });
    const auto after = bounds([&](int i, int j) { return inside(m - 1 - j, m - 1 - i); },
                              [&](int b) { return whole(start_[m - b], costs_.size()); });
    std::vector<Window> windows;
    for (int k = 1; k < classes_; ++k) {
      Window window{costs_.size(), -1};
      for (int b = 0; b < m; ++b) {
        if (before[k - 1][b] + after[classes_ - 1 - k][m - 1 - b] > least) continue;
        window.first = std::min(window.first, std::max(k - 1, start_[b] - 1));
        window.last = std::max(window.last, std::min(costs_.size() - 1 - (classes_ - k), start_[b + 1] - 1));
      }
      windows.push_back(window);
    }
    return windows;
  }

 private:
  int blocks() const { return static_cast<int>(start_.size()) - 1; }
  // Of the values from..to, the last not counted.
  Real whole(int from, int to) const { return from < to ? costs_(from, to - 1) : 0; }
  // Of what a class that starts in block i and ends in block j holds for certain.
  Real inside(int i, int j) const { return i < j ? whole(start_[i + 1], start_[j]) : 0; }

  // The best partition that cuts between blocks only.
  Real least_between_blocks() const {
    const int m = blocks();
    const auto cost = [&](int i, int j) { return whole(start_[i], start_[j + 1]); };
    std::vector<Real> before(m), least(m);
    std::vector<int> cut(m);
    for (int b = 0; b < m; ++b) before[b] = cost(0, b);
    for (int k = 2; k <= classes_; ++k) {
      Layer<Real, decltype(cost)>(cost, before, least, cut).solve(k - 1, m - 1, k - 1, m - 1);
      before.swap(least);
    }
    return before[m - 1];
  }

  // Least cost of 1, 2, … classes up to a cut in each block, by what classes hold for certain.
  template <class Cost, class First>
  std::vector<std::vector<Real>> bounds(const Cost& between, const First& first) const {
    const int m = blocks();
    const auto cost = [&](int start, int end) { return between(start - 1, end); };
    std::vector<std::vector<Real>> all(classes_ - 1, std::vector<Real>(m, 0));
    for (int b = 0; b < m; ++b) all[0][b] = first(b);
    std::vector<int> cut(m);
    // Two cuts in one block cost no less than the first of them in the block before; in the first block they cost
    // nothing.
    for (int k = 2; k < classes_; ++k)
      Layer<Real, decltype(cost)>(cost, all[k - 2], all[k - 1], cut).solve(1, m - 1, 1, m - 1);
    return all;
  }

  const RunCosts<Real>& costs_;
  const int classes_;
  std::vector<int> start_;  // blocks + 1
};

struct Partition {
  std::vector<double> breaks;
  double within, all;  // sums of squares
};

template <class Real>
std::vector<Window> windows_of(const RunCosts<Real>& costs, int classes) {
  constexpr int many = 1 << 17;  // values, from which bounds are worth their time
  if (costs.size() >= many && classes > 1) return CutWindows<Real>(costs, classes).find();
  std::vector<Window> windows;
  for (int k = 1; k < classes; ++k) windows.push_back({k - 1, costs.size() - 1 - (classes - k)});
  return windows;
}

template <class Real>
Partition best_partition(std::span<const double> sorted, int classes) {
  const RunCosts<Real> costs(sorted);
  const int n = costs.size();
  if (classes > n) throw ArgumentError("there are fewer distinct values than classes");
  std::vector<Window> windows = windows_of(costs, classes);
  windows.push_back({n - 1, n - 1});
  std::vector<Real> before(n), least(n);
  for (int end = windows[0].first; end <= windows[0].last; ++end) before[end] = costs(0, end);
  std::vector<std::vector<int>> cuts(classes + 1, std::vector<int>(n, 0));  // first value of the last class
  for (int k = 2; k <= classes; ++k) {
    const Window &starts = windows[k - 2], &ends = windows[k - 1];
    Layer<Real, RunCosts<Real>>(costs, before, least, cuts[k])
        .solve(ends.first, ends.last, starts.first + 1, starts.last + 1);
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
  return best_partition<Twofold>(sorted, classes).breaks;
}

double within_sum_of_squares(std::span<const double> sorted, std::span<const double> breaks) {
  ExactSum total;
  auto begin = std::lower_bound(sorted.begin(), sorted.end(), breaks.front());
  for (std::size_t k = 1; k < breaks.size(); ++k) {
    const auto end = std::upper_bound(begin, sorted.end(), breaks[k]);
    const double mean = begin == end ? 0 : mean_of({begin, end});
    for (auto v = begin; v != end; ++v) total.add((*v - mean) * (*v - mean));
    begin = end;
  }
  return total.value();
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
