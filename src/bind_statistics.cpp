#include <numeric>

#include "bind.h"
#include "kernel/base/error.h"
#include "kernel/statistics/drawn_sums.h"
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

// Number of points and sums of their columns by polygon, and the rows of points in several polygons, which are in no
// sum; see sums_in_polygons() of the core; NULL where it gives none.
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
  for (int& point : found->in_several) ++point;
  return List::create(_["points"] = r_vector(found->points), _["sums"] = sums,
                      _["in_several"] = r_vector(found->in_several));
}

// How the rows' own weighted sums of their neighbours' values lie among sums drawn at random, see drawn_sums() of the
// core. Rows are 1-based; links are put in order by row.
// [[Rcpp::export]]
List core_drawn_sums(NumericVector values, IntegerVector rows, NumericVector weights, NumericVector sums, double most,
                     double seed) {
  const int n = static_cast<int>(values.size());
  need_within(span_of(rows), n, "row");
  if (rows.size() != weights.size() || sums.size() != values.size()) throw ArgumentError("a link needs a weight");
  if (!(most >= 1 && most <= 1e9)) throw ArgumentError("permutations out of range");
  WeightedLinks links{std::vector<int>(static_cast<std::size_t>(n) + 1, 0), std::vector<double>(span_of(rows).size())};
  for (const int row : rows) ++links.starts[row];
  std::partial_sum(links.starts.begin(), links.starts.end(), links.starts.begin());
  std::vector<int> next(links.starts.begin(), links.starts.end() - 1);
  for (R_xlen_t k = 0; k < rows.size(); ++k) links.weights[next[rows[k] - 1]++] = weights[k];
  for (int i = 0; i < n; ++i)
    if (links.starts[i + 1] - links.starts[i] >= n) throw ArgumentError("a row has more neighbours than there are");
  DrawnSums found = drawn_sums(span_of(values), links, span_of(sums), static_cast<std::int64_t>(most),
                               static_cast<std::uint64_t>(seed));
  LogicalVector beyond(found.beyond_all.begin(), found.beyond_all.end());
  return List::create(_["mean"] = r_vector(found.means), _["deviation"] = r_vector(found.deviations),
                      _["p_value"] = r_vector(found.p_values), _["beyond_all"] = beyond);
}
