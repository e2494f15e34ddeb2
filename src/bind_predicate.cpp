#include "bind.h"
#include "bind_crs.h"
#include "kernel/base/made_once.h"
#include "kernel/base/parallel.h"
#include "kernel/measure/distance.h"
#include "kernel/predicate/validity.h"
#include "kernel/query/nearest.h"
#include "kernel/query/relate.h"

using namespace Rcpp;
using namespace civic;

namespace {

List list_of_pairs(const std::vector<RowPair>& pairs) {
  IntegerVector x(no_init(pairs.size())), y(no_init(pairs.size()));
  int *to_x = x.begin(), *to_y = y.begin();
  parallel_for(pairs.size(), 1 << 16, [&](std::size_t begin, std::size_t end) {
    for (std::size_t i = begin; i < end; ++i, end_if_interrupted()) {
      to_x[i] = pairs[i].x + 1;
      to_y[i] = pairs[i].y + 1;
    }
  });
  return List::create(_["x"] = x, _["y"] = y);
}

}  // namespace

// Pairs of rows, 1-based, for which a relation holds; see related_pairs() of the core.
// [[Rcpp::export]]
List core_related_pairs(IntegerVector x_handles, List x_store, IntegerVector y_handles, List y_store,
                        std::string relation, double distance) {
  return list_of_pairs(related_pairs(shape_rows(x_handles, x_store), shape_rows(y_handles, y_store),
                                     parse_relation(relation), distance));
}

// Pairs within a distance in metres, on longitude and latitude along the ellipsoid of a CRS.
// [[Rcpp::export]]
List core_pairs_within_on_globe(IntegerVector x_handles, List x_store, IntegerVector y_handles, List y_store,
                                double distance, List crs) {
  return list_of_pairs(pairs_within_on_globe(shape_rows(x_handles, x_store), shape_rows(y_handles, y_store),
                                             kernel_crs(crs).datum.ellipsoid, distance));
}

// The matrices of pairs of rows, recycled where one side has a single row; NA where a shape is missing.
// [[Rcpp::export]]
CharacterVector core_relations(IntegerVector x_handles, List x_store, IntegerVector y_handles, List y_store) {
  const ShapeRows x = shape_rows(x_handles, x_store), y = shape_rows(y_handles, y_store);
  const int n = x.size() == 0 || y.size() == 0 ? 0 : std::max(x.size(), y.size());
  auto shape_of = [](const ShapeRows& rows, int i) { return rows[rows.size() == 1 ? 0 : i]; };
  std::vector<std::string> texts(static_cast<std::size_t>(n));
  const MadeOnce<RelatedShape> ready_x(static_cast<std::size_t>(x.store.size())),
      ready_y(static_cast<std::size_t>(y.store.size()));
  auto ready = [](const MadeOnce<RelatedShape>& made, const ShapeRows& rows, int shape) -> const RelatedShape& {
    return made.at(static_cast<std::size_t>(shape), [&] { return RelatedShape(rows.store, shape); });
  };
  parallel_for(texts.size(), 64, [&](std::size_t begin, std::size_t end) {
    for (std::size_t i = begin; i < end; ++i, end_if_interrupted()) {
      const int a = shape_of(x, static_cast<int>(i)), b = shape_of(y, static_cast<int>(i));
      if (a >= 0 && b >= 0) texts[i] = relate(ready(ready_x, x, a), ready(ready_y, y, b)).text();
    }
  });
  CharacterVector out(n);
  for (int i = 0; i < n; ++i)
    out[i] =
        texts[static_cast<std::size_t>(i)].empty() ? NA_STRING : Rf_mkChar(texts[static_cast<std::size_t>(i)].c_str());
  return out;
}

// What is wrong with each shape, "" for nothing, and where; NA for missing shapes.
// [[Rcpp::export]]
List core_check_shapes(IntegerVector handles, List store) {
  const ShapeRows rows = shape_rows(handles, store);
  std::vector<Finding> found(static_cast<std::size_t>(rows.size()));
  parallel_for(found.size(), 64, [&](std::size_t begin, std::size_t end) {
    for (std::size_t i = begin; i < end; ++i, end_if_interrupted())
      if (const int shape = rows[static_cast<int>(i)]; shape >= 0) found[i] = check_shape(rows.store, shape);
  });
  CharacterVector problem(rows.size());
  NumericVector x(rows.size(), NA_REAL), y(rows.size(), NA_REAL);
  for (int i = 0; i < rows.size(); ++i) {
    const Finding& f = found[static_cast<std::size_t>(i)];
    problem[i] = rows[i] < 0 ? NA_STRING : Rf_mkChar(problem_name(f.problem));
    if (f.problem == Problem::none) continue;
    x[i] = f.x;
    y[i] = f.y;
  }
  return List::create(_["problem"] = problem, _["x"] = x, _["y"] = y);
}

// Rows pair off.
// [[Rcpp::export]]
LogicalVector core_nearly_equal(IntegerVector x_handles, List x_store, IntegerVector y_handles, List y_store,
                                double tolerance) {
  const ShapeRows x = shape_rows(x_handles, x_store), y = shape_rows(y_handles, y_store);
  std::vector<int> out(static_cast<std::size_t>(x.size()), NA_LOGICAL);
  parallel_for(out.size(), 64, [&](std::size_t begin, std::size_t end) {
    for (std::size_t i = begin; i < end; ++i, end_if_interrupted()) {
      const int a = x[static_cast<int>(i)], b = y[static_cast<int>(i)];
      if (a >= 0 && b >= 0) out[i] = nearly_equal(x.store, a, y.store, b, tolerance);
    }
  });
  return LogicalVector(out.begin(), out.end());
}

// For each row of x the nearest rows of y, 1-based, with ties at the last; on longitude and latitude in metres where a
// CRS is given.
// [[Rcpp::export]]
List core_nearest_rows(IntegerVector x_handles, List x_store, IntegerVector y_handles, List y_store, int count,
                       int ties, double within, Nullable<List> crs) {
  const ShapeRows x = shape_rows(x_handles, x_store), y = shape_rows(y_handles, y_store);
  const NearWanted wanted{count, ties, within};
  const auto [found, cut] = crs.isNull() ? nearest_rows(x, y, wanted)
                                         : nearest_rows_on_globe(x, y, kernel_crs(List(crs)).datum.ellipsoid, wanted);
  IntegerVector rows(no_init(found.size())), others(no_init(found.size()));
  NumericVector distance(no_init(found.size()));
  for (std::size_t i = 0; i < found.size(); ++i) {
    rows[i] = found[i].x + 1;
    others[i] = found[i].y + 1;
    distance[i] = found[i].distance;
  }
  return List::create(_["x"] = rows, _["y"] = others, _["distance"] = distance, _["cut"] = static_cast<double>(cut));
}
