#include <map>

#include "bind.h"
#include "kernel/base/error.h"
#include "kernel/classify/intervals.h"

using namespace Rcpp;
using namespace civic;

// [[Rcpp::export]]
NumericVector core_class_breaks(NumericVector values, int classes, std::string method) {
  const auto sorted = finite_sorted(span_of(values));
  if (sorted.empty()) throw ArgumentError("there are no values to classify");
  using Method = std::vector<double> (*)(std::span<const double>, int);
  static const std::map<std::string, Method> methods{
      {"natural", natural_breaks},     {"quantile", quantile_breaks},
      {"equal", equal_breaks},         {"standard deviation", deviation_breaks},
      {"geometric", geometric_breaks}, {"pretty", round_breaks},
      {"head-tail", head_tail_breaks}, {"maximum gaps", gap_breaks}};
  auto breaks = methods.at(method)(sorted, classes);
  return r_vector(breaks);
}

// The finite values, ascending.
// [[Rcpp::export]]
NumericVector core_finite_sorted(NumericVector values) {
  auto sorted = finite_sorted(span_of(values));
  return r_vector(sorted);
}

// [[Rcpp::export]]
double core_variance_fit(NumericVector values, NumericVector breaks) {
  return variance_fit(finite_sorted(span_of(values)), span_of(breaks));
}

// 1-based class of each value, NA outside the breaks.
// [[Rcpp::export]]
IntegerVector core_class_of(NumericVector values, NumericVector breaks) {
  auto classes = class_of(span_of(values), span_of(breaks));
  for (int& c : classes)
    if (c == 0) c = NA_INTEGER;
  return r_vector(classes);
}
