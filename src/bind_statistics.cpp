#include "bind.h"
#include "kernel/error.h"
#include "kernel/statistics/grouped_sums.h"

using namespace Rcpp;
using namespace civic;

// Sum and count of values[rows] by group, 1 to n.
// [[Rcpp::export]]
List core_grouped_sums(NumericVector values, IntegerVector rows, IntegerVector groups, int n, bool skip_missing) {
  if (rows.size() != groups.size()) throw ArgumentError("a row needs a group");
  for (R_xlen_t i = 0; i < rows.size(); ++i)
    if (rows[i] < 1 || rows[i] > values.size() || groups[i] < 1 || groups[i] > n)
      throw ArgumentError("row or group out of range");
  auto size = [](const auto& v) { return static_cast<std::size_t>(v.size()); };
  GroupedSums found = grouped_sums({values.begin(), size(values)}, {rows.begin(), size(rows)},
                                   {groups.begin(), size(groups)}, n, skip_missing);
  return List::create(_["sum"] = r_vector(found.sums), _["count"] = r_vector(found.counts));
}
