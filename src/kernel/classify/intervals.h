// Class intervals of a set of numbers. Values that are not finite do not count.
#pragma once
#include <span>
#include <vector>

namespace civic {

// Equal widths from the least to the greatest value.
std::vector<double> equal_breaks(std::span<const double> sorted, int classes);

// Sample quantiles of type 7 (Hyndman and Fan 1996), repeated breaks removed. Where nearly all values are the least
// one, so that a single class would be left, that value is a class of its own and the quantiles are those of the
// others.
std::vector<double> quantile_breaks(std::span<const double> sorted, int classes);

// The partition with the least within-class sum of squares (Fisher 1958, "On grouping for maximum homogeneity"), by
// dynamic programming over distinct values. The best last cut moves with the end of the class, so that each layer
// is solved by halving (O(n log n) a layer) rather than by trying every pair.
std::vector<double> natural_breaks(std::span<const double> sorted, int classes);

// Inner breaks whole standard deviations apart, about the mean: at it for an even number of classes, half a deviation
// beside it for an odd one. Those beyond the values are left out.
std::vector<double> deviation_breaks(std::span<const double> sorted, int classes);

// Each class as many times as wide as the one before: breaks in geometric progression. All values must be above 0.
std::vector<double> geometric_breaks(std::span<const double> sorted, int classes);

// Whole multiples of 1, 2 or 5 times a power of ten that hold all values, in about as many classes.
std::vector<double> round_breaks(std::span<const double> sorted, int classes);

// At the mean, then at the mean of what lies above it, and so on while that is a minority of at most 40 %
// (Jiang 2013, "Head/tail breaks"), in at most so many classes.
std::vector<double> head_tail_breaks(std::span<const double> sorted, int most_classes);

// In the middle of the widest gaps between neighbouring values.
std::vector<double> gap_breaks(std::span<const double> sorted, int classes);

std::vector<double> finite_sorted(std::span<const double> values);

// Sum of squares within the classes, and the goodness of variance fit that follows.
double within_sum_of_squares(std::span<const double> sorted, std::span<const double> breaks);
double variance_fit(std::span<const double> sorted, std::span<const double> breaks);

// 1-based class of each value, 0 where it is missing or outside the breaks.
std::vector<int> class_of(std::span<const double> values, std::span<const double> breaks);

}  // namespace civic
