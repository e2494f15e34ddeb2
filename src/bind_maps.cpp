#include "bind.h"
#include "kernel/maps/label_places.h"

using namespace Rcpp;
using namespace civic;

// Middles of labels, NaN where there is no room, in the order of the labels; lengths in millimetres of a panel.
// [[Rcpp::export]]
List core_label_places(NumericVector x, NumericVector y, NumericVector width, NumericVector height,
                       LogicalVector beside, double wide, double high, double apart) {
  std::vector<Label> labels;
  for (R_xlen_t i = 0; i < x.size(); ++i) labels.push_back({x[i], y[i], width[i], height[i], beside[i] == TRUE});
  const auto places = label_places(labels, wide, high, apart);
  NumericVector middle_x(no_init(x.size())), middle_y(no_init(x.size()));
  for (R_xlen_t i = 0; i < x.size(); ++i) {
    middle_x[i] = places[i].x;
    middle_y[i] = places[i].y;
  }
  return List::create(_["x"] = middle_x, _["y"] = middle_y);
}
