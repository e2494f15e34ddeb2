// Class intervals of a set of numbers. Values that are not finite do not count.
#pragma once
#include <span>
#include <vector>

namespace civic {

// Equal widths from the least to the greatest value.
std::vector<double> equal_breaks(std::span<const double> sorted, int classes);

// Sample quantiles of type 7 (Hyndman and Fan 1996), repeated breaks removed.
std::vector<double> quantile_breaks(std::span<const double> sorted, int classes);

// The partition with the least within-class sum of squares (Fisher 1958, "On grouping for maximum homogeneity"), by
// dynamic programming over distinct values. The best last cut moves with the end of the class, so that each layer
// is solved by halving (O(n log n) a layer) rather than by trying every pair.
std::vector<double> natural_breaks(std::span<const double> sorted, int classes);

std::vector<double> finite_sorted(std::span<const double> values);

// Sum of squares within the classes, and the goodness of variance fit that follows.
double within_sum_of_squares(std::span<const double> sorted, std::span<const double> breaks);
double variance_fit(std::span<const double> sorted, std::span<const double> breaks);

// 1-based class of each value, 0 where it is missing or outside the breaks.
std::vector<int> class_of(std::span<const double> values, std::span<const double> breaks);

}  // namespace civic
