#include "bind.h"
#include "kernel/error.h"
#include "kernel/statistics/grouped_sums.h"
#include "kernel/statistics/occurrences.h"
#include "kernel/statistics/sums_in_polygons.h"

using namespace Rcpp;
using namespace civic;

namespace {

void need_within(std::span<const int> numbers, int n, const char* what) {
  bool within = true;
  for (const int i : numbers) within &= i >= 1 && i <= n;
  if (!within) throw ArgumentError(std::string(what) + " out of range");
}

List r_sums(GroupedSums& found) {
  return List::create(_["sum"] = r_vector(found.sums), _["count"] = r_vector(found.counts));
}

}  // namespace

// Sum and count of values[rows] by group, 1 to n.
// [[Rcpp::export]]
List core_grouped_sums(NumericVector values, IntegerVector rows, IntegerVector groups, int n, bool skip_missing) {
  if (rows.size() != groups.size()) throw ArgumentError("a row needs a group");
  need_within(span_of(rows), static_cast<int>(values.size()), "row");
  need_within(span_of(groups), n, "group");
  GroupedSums found = grouped_sums(span_of(values), span_of(rows), span_of(groups), n, skip_missing);
  return r_sums(found);
}

// Of 1 to n: how many come never and once in `list`, and which more often.
// [[Rcpp::export]]
List core_occurrences(IntegerVector list, int n) {
  need_within(span_of(list), n, "row");
  Occurrences found = occurrences(span_of(list), n);
  return List::create(_["none"] = found.none, _["once"] = found.once, _["several"] = r_vector(found.several));
}

// Number of points and sums of their columns by polygon, see sums_in_polygons() of the core; NULL where it gives none.
// [[Rcpp::export]]
Nullable<List> core_sums_in_polygons(IntegerVector polygon_handles, List polygon_store, IntegerVector point_handles,
                                     List point_store, List columns, LogicalVector skip_missing) {
  std::vector<SummedColumn> summed;
  std::vector<NumericVector> kept;
  for (R_xlen_t k = 0; k < columns.size(); ++k) {
    kept.emplace_back(columns[k]);
    if (kept.back().size() != point_handles.size()) throw ArgumentError("a column needs a value for each point");
    summed.push_back({span_of(kept.back()), static_cast<bool>(skip_missing[k])});
  }
  auto found =
      sums_in_polygons(shape_rows(polygon_handles, polygon_store), shape_rows(point_handles, point_store), summed);
  if (!found) return R_NilValue;
  List sums;
  for (GroupedSums& column : found->columns) sums.push_back(r_sums(column));
  return List::create(_["points"] = r_vector(found->points), _["sums"] = sums);
}
