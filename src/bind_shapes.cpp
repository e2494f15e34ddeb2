#include "bind.h"
#include "kernel/base/error.h"
#include "kernel/base/parallel.h"
#include "kernel/index/rtree.h"
#include "kernel/measure/hull.h"
#include "kernel/shapes/antimeridian.h"
#include "kernel/shapes/thin.h"
#include "kernel/shapes/wkb.h"
#include "kernel/shapes/wkt.h"
#include "store_seal.h"

using namespace Rcpp;
using namespace civic;

namespace {

// Reads one shape an element, naming the element in errors.
template <class ReadOne>
List read_each(R_xlen_t n, const ReadOne& read_one) {
  ShapeBuilder builder;
  IntegerVector handles(n, NA_INTEGER);
  for (R_xlen_t i = 0; i < n; ++i) {
    try {
      if (read_one(i, builder)) handles[i] = builder.size();
    } catch (const FormatError& problem) {
      throw FormatError("element " + std::to_string(i + 1) + ": " + problem.what());
    }
  }
  StoreBuffer store = builder.take();
  return List::create(_["store"] = r_store(store), _["handles"] = handles);
}

}  // namespace

// [[Rcpp::export]]
List core_shapes_from_wkt(CharacterVector texts) {
  return read_each(texts.size(), [&](R_xlen_t i, ShapeBuilder& builder) {
    if (CharacterVector::is_na(texts[i])) return false;
    read_wkt(CHAR(texts[i]), builder);
    return true;
  });
}

// [[Rcpp::export]]
List core_shapes_from_wkb(List blobs) {
  return read_each(blobs.size(), [&](R_xlen_t i, ShapeBuilder& builder) {
    const SEXP blob = blobs[i];
    if (Rf_isNull(blob)) return false;
    if (TYPEOF(blob) != RAWSXP) throw FormatError("it is no raw vector");
    read_wkb({RAW(blob), static_cast<std::size_t>(XLENGTH(blob))}, builder);
    return true;
  });
}

// [[Rcpp::export]]
CharacterVector core_wkt(IntegerVector handles, List store, int decimals) {
  const ShapeRows rows = shape_rows(handles, store);
  CharacterVector out(rows.size(), NA_STRING);
  std::string text;
  for (int i = 0; i < rows.size(); ++i) {
    if (rows[i] < 0) continue;
    text.clear();
    write_wkt(rows.store, rows[i], decimals, text);
    out[i] = text;
  }
  return out;
}

// [[Rcpp::export]]
List core_wkb(IntegerVector handles, List store) {
  const ShapeRows rows = shape_rows(handles, store);
  List out(rows.size());
  for (int i = 0; i < rows.size(); ++i) {
    if (rows[i] < 0) continue;
    std::vector<std::uint8_t> bytes;
    write_wkb(rows.store, rows[i], bytes);
    out[i] = r_raw(bytes);
  }
  return out;
}

// Points from coordinate vectors; a row where x or y is missing has no shape.
// [[Rcpp::export]]
List core_point_shapes(NumericVector x, NumericVector y) {
  const R_xlen_t n = x.size();
  IntegerVector handles(n, NA_INTEGER);
  StoreCounts counts;
  for (R_xlen_t i = 0; i < n; ++i)
    if (!std::isnan(x[i]) && !std::isnan(y[i])) handles[i] = static_cast<int>(++counts.shapes);
  counts.parts = counts.rings = counts.vertices = counts.shapes;
  RStore store(counts);
  const StoreTarget& t = store.target;
  int at = 0;
  for (R_xlen_t i = 0; i < n; ++i) {
    if (handles[i] == NA_INTEGER) continue;
    t.types[at] = t.part_types[at] = static_cast<int>(ShapeKind::point);
    t.shape_parts[at] = t.part_rings[at] = t.ring_vertices[at] = at;
    t.x[at] = x[i];
    t.y[at] = y[i];
    t.boxes[at] = Box();
    t.boxes[at].add(x[i], y[i]);
    ++at;
  }
  t.shape_parts[at] = t.part_rings[at] = t.ring_vertices[at] = at;
  return List::create(_["store"] = store.list, _["handles"] = handles);
}

// Numbers as text: the shortest that reads back the same, or with some digits after the point.
// [[Rcpp::export]]
CharacterVector core_number_text(NumericVector values, int decimals) {
  CharacterVector out(values.size(), NA_STRING);
  std::string text;
  for (R_xlen_t i = 0; i < values.size(); ++i) {
    if (std::isnan(values[i])) continue;
    text.clear();
    write_number(values[i], decimals, text);
    out[i] = text;
  }
  return out;
}

namespace {

// Whether rows are the shapes of a store in their order, missing ones left out.
bool are_all_in_order(const ShapeRows& rows) {
  int next = 0;
  for (int i = 0; i < rows.size(); ++i)
    if (rows[i] >= 0 && rows[i] != next++) return false;
  return next == rows.store.size();
}

}  // namespace

// The box around all rows: xmin, ymin, xmax, ymax; NA where there is no vertex.
// [[Rcpp::export]]
NumericVector core_extent(IntegerVector handles, List store) {
  const ShapeRows rows = shape_rows(handles, store);
  const SEXP known = extent_under_seal(store);
  if (!Rf_isNull(known) && are_all_in_order(rows)) return known;
  const auto boxes = parallel_collect<Box>(rows.size(), 1 << 16, [&](std::size_t begin, std::size_t end, auto& out) {
    Box some;
    for (int i = static_cast<int>(begin); i < static_cast<int>(end); ++i)
      if (rows[i] >= 0) some.add(rows.store.boxes[rows[i]]);
    out.push_back(some);
  });
  Box box;
  for (const Box& some : boxes) box.add(some);
  if (box.empty()) return NumericVector(4, NA_REAL);
  return NumericVector::create(box.xmin, box.ymin, box.xmax, box.ymax);
}

// Rows whose shapes cross the antimeridian, cut there; NULL where none does.
// [[Rcpp::export]]
Nullable<List> core_cut_at_antimeridian(IntegerVector handles, List store) {
  const ShapeRows rows = shape_rows(handles, store);
  bool any = false;
  for (int i = 0; i < rows.size() && !any; ++i) {
    const Box box = rows.box(i);
    any = !box.empty() && (box.xmax > 180 || box.xmin < -180 || has_long_edge(rows.store, rows[i]));
  }
  if (!any) return R_NilValue;
  AntimeridianCut cut = cut_at_antimeridian(rows, NA_INTEGER);
  IntegerVector wrapped(cut.wrapped.begin(), cut.wrapped.end());
  return List::create(_["store"] = r_store(cut.store), _["handles"] = r_vector(cut.handles), _["wrapped"] = wrapped + 1,
                      _["cut"] = static_cast<double>(cut.cut), _["around_pole"] = static_cast<double>(cut.around_pole));
}

// Shapes in one piece across the antimeridian (with `only_edges` those that have a long edge); NULL where none changes.
// [[Rcpp::export]]
Nullable<List> core_in_one_piece(IntegerVector handles, List store, bool only_edges) {
  const ShapeRows rows = shape_rows(handles, store);
  bool any = false;
  for (int i = 0; i < rows.size() && !any; ++i)
    any = rows[i] >= 0 && rows.box(i).xmax - rows.box(i).xmin > 180 &&
          (!only_edges || has_long_edge(rows.store, rows[i]));
  if (!any) return R_NilValue;
  InOnePiece found = in_one_piece(rows, only_edges, NA_INTEGER);
  if (found.joined.empty()) return R_NilValue;
  IntegerVector joined(found.joined.begin(), found.joined.end());
  return List::create(_["store"] = r_store(found.store), _["handles"] = r_vector(found.handles),
                      _["joined"] = joined + 1, _["around_pole"] = static_cast<double>(found.around_pole));
}

// [[Rcpp::export]]
List core_gather(IntegerVector handles, List store) {
  const ShapeRows rows = shape_rows(handles, store);
  std::vector<int> fresh;
  StoreBuffer out = gather({&rows, 1}, fresh, NA_INTEGER);
  return List::create(_["store"] = r_store(out), _["handles"] = r_vector(fresh));
}

// [[Rcpp::export]]
List core_concatenate(List stores) {
  std::vector<StoreView> views;
  for (R_xlen_t i = 0; i < stores.size(); ++i) views.push_back(store_view(stores[i]));
  RStore out(count_all(views));
  concatenate(views, out.target);
  return out.list;
}

// [[Rcpp::export]]
IntegerVector core_content_ranks(IntegerVector handles, List store) {
  std::vector<int> ranks = content_ranks(shape_rows(handles, store));
  for (int& rank : ranks)
    if (rank == 0) rank = NA_INTEGER;
  return r_vector(ranks);
}

// Keys that are equal where shapes are, in whatever store.
// [[Rcpp::export]]
List core_content_keys(IntegerVector handles, List store) {
  const ShapeRows rows = shape_rows(handles, store);
  NumericVector high(no_init(rows.size())), low(no_init(rows.size()));
  for (int row = 0; row < rows.size(); ++row) {
    const ContentKey key = rows[row] < 0 ? ContentKey{NA_REAL, NA_REAL} : content_key(rows.store, rows[row]);
    high[row] = key.high;
    low[row] = key.low;
  }
  return List::create(_["high"] = high, _["low"] = low);
}

// One row a vertex, as coordinates_of() returns them.
// [[Rcpp::export]]
List core_coordinates(IntegerVector handles, List store) {
  const ShapeRows rows = shape_rows(handles, store);
  const StoreView& s = rows.store;
  std::size_t n = 0;
  for (int i = 0; i < rows.size(); ++i)
    if (rows[i] >= 0) n += s.shape_vertices(rows[i]).size();
  IntegerVector shape(no_init(n)), part(no_init(n)), ring(no_init(n));
  NumericVector x(no_init(n)), y(no_init(n)), z(no_init(s.z.empty() ? 0 : n)), m(no_init(s.m.empty() ? 0 : n));
  std::size_t at = 0;
  for (int i = 0; i < rows.size(); ++i) {
    if (rows[i] < 0) continue;
    const IndexRange parts = s.parts(rows[i]);
    for (int p = parts.begin; p < parts.end; ++p) {
      const IndexRange rings = s.rings(p);
      for (int r = rings.begin; r < rings.end; ++r) {
        const IndexRange vertices = s.vertices(r);
        for (int v = vertices.begin; v < vertices.end; ++v, ++at) {
          shape[at] = i + 1;
          part[at] = p - parts.begin + 1;
          ring[at] = r - rings.begin + 1;
          x[at] = s.x[v];
          y[at] = s.y[v];
          if (!s.z.empty()) z[at] = s.z[v];
          if (!s.m.empty()) m[at] = s.m[v];
        }
      }
    }
  }
  List out = List::create(_["shape"] = shape, _["part"] = part, _["ring"] = ring, _["x"] = x, _["y"] = y);
  if (!s.z.empty()) out["z"] = z;
  if (!s.m.empty()) out["m"] = m;
  return out;
}

// Type code of each row, NA where the shape is missing.
// [[Rcpp::export]]
IntegerVector core_types(IntegerVector handles, List store) {
  const ShapeRows rows = shape_rows(handles, store);
  IntegerVector out(rows.size(), NA_INTEGER);
  for (int i = 0; i < rows.size(); ++i)
    if (rows[i] >= 0) out[i] = rows.store.types[rows[i]];
  return out;
}

// Vertices of each row, 0 where the shape is missing or empty.
// [[Rcpp::export]]
IntegerVector core_vertex_counts(IntegerVector handles, List store) {
  const ShapeRows rows = shape_rows(handles, store);
  IntegerVector out(rows.size());
  for (int i = 0; i < rows.size(); ++i)
    if (rows[i] >= 0) out[i] = rows.store.shape_vertices(rows[i]).size();
  return out;
}

// A matrix of four rows (xmin, ymin, xmax, ymax), a column each; NA where there is no box.
// The places of rows along the Hilbert curve over an extent of xmin, ymin, xmax, ymax.
// [[Rcpp::export]]
NumericVector core_hilbert_keys(IntegerVector handles, List store, NumericVector extent) {
  std::vector<double> keys = hilbert_keys(shape_rows(handles, store), {extent[0], extent[1], extent[2], extent[3]});
  return r_vector(keys);
}

// [[Rcpp::export]]
NumericMatrix core_boxes(IntegerVector handles, List store) {
  const ShapeRows rows = shape_rows(handles, store);
  NumericMatrix out(4, rows.size());
  for (int i = 0; i < rows.size(); ++i) {
    const Box box = rows.box(i);
    const double edges[] = {box.xmin, box.ymin, box.xmax, box.ymax};
    for (int k = 0; k < 4; ++k) out(k, i) = box.empty() ? NA_REAL : edges[k];
  }
  return out;
}

namespace {

List r_derived(Derived& derived) {
  IntegerVector rows(derived.rows.begin(), derived.rows.end());
  return List::create(_["store"] = r_store(derived.store), _["x"] = rows + 1);
}

}  // namespace

// New shapes and the rows they come from: the parts of shapes, their boundaries, outer rings, convex hulls, or one of
// all. `on_globe`: coordinates are degrees.
// [[Rcpp::export]]
List core_derive(IntegerVector handles, List store, std::string what, bool on_globe = false) {
  const ShapeRows rows = shape_rows(handles, store);
  Derived derived = what == "parts"         ? parts_of(rows)
                    : what == "boundary"    ? boundaries_of(rows, on_globe)
                    : what == "hull"        ? hulls_of(rows)
                    : what == "hull of all" ? hull_of_all(rows)
                                            : outer_rings_of(rows);
  return r_derived(derived);
}

// Shapes as drawn in a window (xmin, ymin, xmax, ymax) on cells of a device; rows and rings from 1.
// [[Rcpp::export]]
List core_thinned(IntegerVector handles, List store, NumericVector window, double cell_width, double cell_height) {
  DrawnShapes drawn =
      thinned(shape_rows(handles, store), {window[0], window[1], window[2], window[3]}, cell_width, cell_height);
  for (int& row : drawn.row) ++row;
  return List::create(_["x"] = r_vector(drawn.x), _["y"] = r_vector(drawn.y), _["row"] = r_vector(drawn.row),
                      _["ring"] = r_vector(drawn.ring), _["dimension"] = r_vector(drawn.dimension));
}
