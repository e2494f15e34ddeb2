#include "bind.h"
#include "kernel/error.h"
#include "kernel/statistics/grouped_sums.h"
#include "kernel/statistics/occurrences.h"

using namespace Rcpp;
using namespace civic;

namespace {

void need_within(std::span<const int> numbers, int n, const char* what) {
  bool within = true;
  for (const int i : numbers) within &= i >= 1 && i <= n;
  if (!within) throw ArgumentError(std::string(what) + " out of range");
}

}  // namespace

// Sum and count of values[rows] by group, 1 to n.
// [[Rcpp::export]]
List core_grouped_sums(NumericVector values, IntegerVector rows, IntegerVector groups, int n, bool skip_missing) {
  if (rows.size() != groups.size()) throw ArgumentError("a row needs a group");
  need_within(span_of(rows), static_cast<int>(values.size()), "row");
  need_within(span_of(groups), n, "group");
  GroupedSums found = grouped_sums(span_of(values), span_of(rows), span_of(groups), n, skip_missing);
  return List::create(_["sum"] = r_vector(found.sums), _["count"] = r_vector(found.counts));
}

// Of 1 to n: how many come never and once in `list`, and which more often.
// [[Rcpp::export]]
List core_occurrences(IntegerVector list, int n) {
  need_within(span_of(list), n, "row");
  Occurrences found = occurrences(span_of(list), n);
  return List::create(_["none"] = found.none, _["once"] = found.once, _["several"] = r_vector(found.several));
}
