// What the benchmarks measure the core against: the slow obvious way. Compiled when they run.
#include <Rcpp.h>

#include <cmath>

using Rcpp::IntegerVector;
using Rcpp::NumericVector;

// sin, cos, exp and atan2 once for each pair.
// [[Rcpp::export]]
double plain_loop(NumericVector x, NumericVector y) {
  double sum = 0;
  for (R_xlen_t i = 0; i < x.size(); ++i) sum += std::sin(x[i]) + std::cos(y[i]) + std::exp(y[i]) + std::atan2(y[i], x[i]);
  return sum;
}

// How many of the given points lie in the given polygons of a store, every edge tested; 1 is the first of each.
// [[Rcpp::export]]
int count_inside(NumericVector x, NumericVector y, Rcpp::List store, IntegerVector points, IntegerVector polygons) {
  const IntegerVector shape_parts = store["shape_parts"], part_rings = store["part_rings"], ring_vertices = store["ring_vertices"];
  const NumericVector vx = store["x"], vy = store["y"];
  int count = 0;
  for (R_xlen_t k = 0; k < points.size(); ++k) {
    const double px = x[points[k] - 1], py = y[points[k] - 1];
    const int shape = polygons[k] - 1;
    bool inside = false;
    for (int r = part_rings[shape_parts[shape]]; r < part_rings[shape_parts[shape + 1]]; ++r)
      for (int i = ring_vertices[r]; i + 1 < ring_vertices[r + 1]; ++i)
        if ((vy[i] > py) != (vy[i + 1] > py) && px < vx[i] + (py - vy[i]) * (vx[i + 1] - vx[i]) / (vy[i + 1] - vy[i])) inside = !inside;
    count += inside;
  }
  return count;
}
