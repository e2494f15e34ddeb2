#include "bind.h"
#include "kernel/predicate/locate.h"
#include "kernel/predicate/relate.h"

using namespace Rcpp;
using namespace civic;

// Pairs of rows, 1-based, for which a relation holds; see related_pairs() of the core.
// [[Rcpp::export]]
List core_related_pairs(IntegerVector x_handles, List x_store, IntegerVector y_handles, List y_store,
                        std::string relation, double distance) {
  const auto pairs =
      related_pairs(shape_rows(x_handles, x_store), shape_rows(y_handles, y_store), parse_relation(relation), distance);
  IntegerVector x(no_init(pairs.size())), y(no_init(pairs.size()));
  for (std::size_t i = 0; i < pairs.size(); ++i) {
    x[i] = pairs[i].x + 1;
    y[i] = pairs[i].y + 1;
  }
  return List::create(_["x"] = x, _["y"] = y);
}

// How many of the given (point row, polygon row) pairs meet, every edge tested; the slow obvious way for benchmarks.
// [[Rcpp::export]]
int core_count_meeting(IntegerVector point_handles, List point_store, IntegerVector polygon_handles, List polygon_store,
                       IntegerVector point_rows, IntegerVector polygon_rows) {
  const ShapeRows points = shape_rows(point_handles, point_store),
                  polygons = shape_rows(polygon_handles, polygon_store);
  int count = 0;
  for (R_xlen_t i = 0; i < point_rows.size(); ++i) {
    const int v = points.store.shape_vertices(points[point_rows[i] - 1]).begin;
    count += locate_in_shape(polygons.store, polygons[polygon_rows[i] - 1], points.store.x[v], points.store.y[v]) !=
             Location::outside;
  }
  return count;
}
