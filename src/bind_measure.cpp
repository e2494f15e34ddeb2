#include "bind.h"
#include "kernel/measure/planar.h"
#include "kernel/parallel.h"

using namespace Rcpp;
using namespace civic;

// Planar area, length or perimeter of each row in coordinate units; NA where the shape is missing.
// [[Rcpp::export]]
NumericVector core_planar_measure(IntegerVector handles, List store, std::string measure) {
  const ShapeRows rows = shape_rows(handles, store);
  NumericVector out(no_init(rows.size()));
  double* values = out.begin();
  const double missing = NA_REAL;
  const auto one = measure == "area" ? planar_area : measure == "length" ? planar_length : planar_perimeter;
  parallel_for(rows.size(), 1024, [&](std::size_t begin, std::size_t end) {
    for (int i = static_cast<int>(begin); i < static_cast<int>(end); ++i)
      values[i] = rows[i] < 0 ? missing : one(rows.store, rows[i]);
  });
  return out;
}

// [[Rcpp::export]]
List core_planar_centroids(IntegerVector handles, List store) {
  const ShapeRows rows = shape_rows(handles, store);
  NumericVector x(rows.size(), NA_REAL), y(rows.size(), NA_REAL);
  for (int i = 0; i < rows.size(); ++i) {
    if (rows[i] < 0) continue;
    const Coordinate centre = planar_centroid(rows.store, rows[i]);
    x[i] = centre.x;
    y[i] = centre.y;
  }
  return List::create(_["x"] = x, _["y"] = y);
}
