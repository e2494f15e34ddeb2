#include "bind.h"
#include "bind_crs.h"
#include "kernel/buffer/buffer.h"
#include "kernel/overlay/coverage.h"
#include "kernel/overlay/depth.h"
#include "kernel/overlay/dissolve.h"
#include "kernel/overlay/mask.h"
#include "kernel/overlay/overlay.h"
#include "kernel/overlay/repair.h"
#include "kernel/overlay/shared.h"
#include "kernel/overlay/simplify.h"
#include "kernel/overlay/split.h"

using namespace Rcpp;
using namespace civic;

namespace {

IntegerVector one_based(const std::vector<int>& rows) {
  IntegerVector out(rows.size());
  for (std::size_t i = 0; i < rows.size(); ++i) out[i] = rows[i] < 0 ? NA_INTEGER : rows[i] + 1;
  return out;
}

std::vector<int> zero_based(const IntegerVector& rows) {
  std::vector<int> out(rows.begin(), rows.end());
  for (int& row : out) --row;
  return out;
}

// A piece's handle is its place.
List r_pieces(Pieces& pieces) {
  return List::create(_["store"] = r_store(pieces.store), _["x"] = one_based(pieces.x), _["y"] = one_based(pieces.y),
                      _["whole"] = LogicalVector(pieces.whole.begin(), pieces.whole.end()),
                      _["touching"] = static_cast<double>(pieces.touching),
                      _["self_crossing_x"] = one_based(pieces.self_crossing_x),
                      _["self_crossing_y"] = one_based(pieces.self_crossing_y));
}

// The same of an overlay: rows that overlap others of their layer, and their common ground, of x and of y.
List r_overlay(Pieces& pieces) {
  List out = r_pieces(pieces);
  out["stacked"] =
      NumericVector::create(pieces.stacked_x.rows, pieces.stacked_x.area, pieces.stacked_y.rows, pieces.stacked_y.area);
  return out;
}

// Which pieces are wanted, of "both", "x" and "y".
OverlayKeep overlay_parts(const StringVector& parts, bool touches) {
  const auto wants = [&](const char* part) { return std::find(parts.begin(), parts.end(), part) != parts.end(); };
  return {wants("both"), wants("x"), wants("y"), touches};
}

BufferStyle buffer_style(const List& style) {
  BufferStyle out;
  const std::string ends = as<std::string>(style["ends"]), corners = as<std::string>(style["corners"]),
                    side = as<std::string>(style["side"]);
  out.ends = ends == "flat" ? LineEnds::flat : ends == "square" ? LineEnds::square : LineEnds::round;
  out.corners = corners == "mitred" ? Corners::mitred : corners == "bevelled" ? Corners::bevelled : Corners::round;
  out.side = side == "left" ? LineSide::left : side == "right" ? LineSide::right : LineSide::both;
  out.segments = as<int>(style["segments"]);
  out.mitre_limit = as<double>(style["mitre_limit"]);
  return out;
}

}  // namespace

// `on_globe`, here and below: coordinates are degrees, and lengths and areas are in metres.
// [[Rcpp::export]]
List core_overlay(IntegerVector x_handles, List x_store, IntegerVector y_handles, List y_store, StringVector parts,
                  bool touches, bool on_globe) {
  Pieces pieces = overlay(shape_rows(x_handles, x_store), shape_rows(y_handles, y_store), overlay_parts(parts, touches),
                          Yardstick(on_globe));
  return r_overlay(pieces);
}

// [[Rcpp::export]]
List core_overlay_onto(IntegerVector x_handles, List x_store, IntegerVector y_handles, List y_store, StringVector parts,
                       bool touches, double tolerance, bool on_globe) {
  Brought brought = overlay_onto(shape_rows(x_handles, x_store), shape_rows(y_handles, y_store),
                                 overlay_parts(parts, touches), tolerance, Yardstick(on_globe));
  List out = r_overlay(brought.pieces);
  out["moved"] = static_cast<double>(brought.moved);
  out["farthest"] = brought.farthest;
  out["had"] = r_vector(brought.had);
  out["covers"] = r_vector(brought.covers);
  out["thin"] = static_cast<double>(brought.thin);
  return out;
}

// [[Rcpp::export]]
List core_mask(IntegerVector x_handles, List x_store, IntegerVector y_handles, List y_store, bool inside) {
  Pieces pieces = mask(shape_rows(x_handles, x_store), shape_rows(y_handles, y_store), inside);
  return r_pieces(pieces);
}

// [[Rcpp::export]]
List core_split_by_lines(IntegerVector x_handles, List x_store, IntegerVector y_handles, List y_store) {
  Pieces pieces = split_by_lines(shape_rows(x_handles, x_store), shape_rows(y_handles, y_store));
  return r_pieces(pieces);
}

// The rows that lie on each piece as a list.
// [[Rcpp::export]]
List core_flatten(IntegerVector handles, List store) {
  Flattened flat = flatten(shape_rows(handles, store));
  List rows(flat.rows.size());
  for (std::size_t i = 0; i < flat.rows.size(); ++i) rows[i] = one_based(flat.rows[i]);
  return List::create(_["store"] = r_store(flat.store), _["rows"] = rows);
}

// Groups are numbered from 1.
// [[Rcpp::export]]
List core_dissolve(IntegerVector handles, List store, IntegerVector groups) {
  Pieces pieces = dissolve(shape_rows(handles, store), zero_based(groups));
  return r_pieces(pieces);
}

// [[Rcpp::export]]
List core_repair(IntegerVector handles, List store, bool winding) {
  Pieces pieces = repair(shape_rows(handles, store), winding ? FillRule::nonzero : FillRule::even_odd);
  return r_pieces(pieces);
}

// [[Rcpp::export]]
List core_gaps(IntegerVector handles, List store, bool on_globe) {
  Pieces pieces = find_gaps(shape_rows(handles, store), Yardstick(on_globe));
  return r_pieces(pieces);
}

// [[Rcpp::export]]
List core_overlaps(IntegerVector handles, List store) {
  Pieces pieces = find_overlaps(shape_rows(handles, store));
  return r_pieces(pieces);
}

// Ranks are numbers from 1, all different.
// [[Rcpp::export]]
List core_close_gaps(IntegerVector handles, List store, IntegerVector ranks, double tolerance, bool on_globe) {
  Closed closed = close_gaps(shape_rows(handles, store), zero_based(ranks), tolerance, Yardstick(on_globe));
  List out = r_pieces(closed.pieces);
  out["moved"] = static_cast<double>(closed.moved);
  out["farthest"] = closed.farthest;
  out["gaps"] = static_cast<double>(closed.gaps);
  out["overlaps"] = static_cast<double>(closed.overlaps);
  out["gap_area"] = closed.gap_area;
  out["overlap_area"] = closed.overlap_area;
  out["before"] = r_vector(closed.before);
  out["after"] = r_vector(closed.after);
  return out;
}

// Classes are numbers, or none at all.
// [[Rcpp::export]]
List core_absorb(IntegerVector handles, List store, LogicalVector slivers, IntegerVector classes, bool largest,
                 bool on_globe) {
  const std::vector<char> chosen(slivers.begin(), slivers.end());
  const std::vector<int> kinds(classes.begin(), classes.end());
  Absorbed absorbed = absorb(shape_rows(handles, store), chosen, kinds,
                             largest ? AbsorbInto::largest : AbsorbInto::longest_border, Yardstick(on_globe));
  List out = r_pieces(absorbed.pieces);
  out["into"] = one_based(absorbed.into);
  return out;
}

// Of the shape in row i the origins are the rows from start[i] on, 0-based.
// [[Rcpp::export]]
List core_with_depth(IntegerVector handles, List store, IntegerVector start, IntegerVector origins,
                     IntegerVector from_handles, List from_store) {
  const std::vector<int> rows = zero_based(origins);
  const std::vector<int> begins(start.begin(), start.end());
  Deepened deep = with_depth(shape_rows(handles, store), {begins, rows}, shape_rows(from_handles, from_store));
  for (int& handle : deep.handles)
    if (handle == 0) handle = NA_INTEGER;
  return List::create(_["store"] = r_store(deep.store), _["handles"] = r_vector(deep.handles), _["flat"] = deep.flat);
}

// `crs` is NULL for a plane, else a geographic CRS in degrees, and distances are in metres.
// [[Rcpp::export]]
List core_buffer(IntegerVector handles, List store, NumericVector distances, List style, Nullable<List> crs) {
  const ShapeRows rows = shape_rows(handles, store);
  const std::vector<double> by(distances.begin(), distances.end());
  Pieces found = crs.isNull() ? buffer(rows, by, buffer_style(style))
                              : geodesic_buffer(rows, kernel_crs(List(crs)).datum.ellipsoid, by, buffer_style(style));
  return r_pieces(found);
}

// [[Rcpp::export]]
List core_simplify(IntegerVector handles, List store, double area, bool alone, bool on_globe) {
  Pieces pieces = simplify(shape_rows(handles, store), area, alone, on_globe);
  return r_pieces(pieces);
}

// [[Rcpp::export]]
List core_shared_measures(IntegerVector x_handles, List x_store, IntegerVector y_handles, List y_store) {
  const auto found = shared_measures(shape_rows(x_handles, x_store), shape_rows(y_handles, y_store));
  IntegerVector x(no_init(found.size())), y(no_init(found.size()));
  NumericVector area(no_init(found.size())), length(no_init(found.size()));
  for (std::size_t i = 0; i < found.size(); ++i) {
    x[i] = found[i].x + 1;
    y[i] = found[i].y + 1;
    area[i] = found[i].area;
    length[i] = found[i].length;
  }
  return List::create(_["x"] = x, _["y"] = y, _["area"] = area, _["length"] = length);
}
