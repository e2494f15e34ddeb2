#' Pairs of rows that are related
#'
#' Finds with a spatial index all pairs of rows of two layers for which a named relation of OGC 06-103r4 (section 6.1.15)
#' holds, decided exactly between shapes of any types, whatever their coordinates.
#'
#' @param crs What to do where the CRSs differ: `"equal"` stops with an error, `"match"` reprojects `y` to that of `x` and says
#'   so.
#' @param x,y Spatial frames or shape vectors on one CRS.
#' @param relation `"intersects"`, `"within"`, `"contains"`, `"covers"`, `"covered by"`, `"touches"`, `"crosses"`,
#'   `"overlaps"`, `"equals"`, `"disjoint"` or `"within distance"`, read as "x relation y". A point on a border
#'   intersects and touches the polygon but is not within it.
#' @param distance,unit For `"within distance"`: how far, in `unit` (see [length_of()]), metres by default; along the ellipsoid on
#'   longitude and latitude.
#' @details Polygons that cross themselves are taken by the even-odd rule, which a warning says. Where points are concerned, and for
#'   `"intersects"`, `"disjoint"` and `"within distance"`, it is said of layers of up to 20,000 vertices, as checking more takes longer than the
#'   search; the pairs are the same.
#' @return A tibble of row numbers `x` and `y`, sorted.
#' @section Errors: `civicatlas_error_crs_mismatch` where the CRSs differ, `civicatlas_error_argument` for an unknown relation.
#' @examples
#' yard <- shapes_from_wkt("POLYGON ((0 0, 2 0, 2 2, 0 2, 0 0))")
#' related_pairs(point_shapes(c(1, 2, 3), 1), yard, "intersects")
#' @export
related_pairs <- function(x, y, relation = "intersects", distance = NULL, unit = NULL, crs = "equal") {
  y <- meet(x, y, crs, call = rlang::current_env())
  tibble::new_tibble(find_pairs(as_shapes(x), as_shapes(y), relation, distance, unit))
}

relations <- c("intersects", "within", "contains", "covers", "covered by", "touches", "crosses", "overlaps", "equals",
               "disjoint", "within distance")

find_pairs <- function(x, y, relation, distance = NULL, unit = NULL, names = c("x", "y"), call = rlang::caller_env()) {
  one_of(relation, relations, "relation", call = call)
  check_same_crs(x, y, names[1], names[2], call = call)
  x <- on_one_turn(x)
  y <- on_one_turn(y)
  if (relation == "within distance" && is_geographic(x)) return(pairs_on_ellipsoid(x, y, distance, unit, call))
  reach <- if (relation == "within distance") distance_in_units(x, distance, unit, call) else 0
  if (relation == "within distance") warn_of_distances(x)
  if (needs_valid(x, y, relation)) {
    x <- valid_shapes(x, names[1], call)
    y <- valid_shapes(y, names[2], call)
  } else {
    tell_invalid(x, names[1], call)
    tell_invalid(y, names[2], call)
  }
  core(core_related_pairs(handles_of(x), store_of(x), handles_of(y), store_of(y), relation, reach), call = call)
}

# Whether two shapes meet, and where points lie, follows from the even-odd rule alone; for the rest rings must have a left and a right.
needs_valid <- function(x, y, relation) {
  !relation %in% c("intersects", "disjoint", "within distance") && !only_points(x) && !only_points(y)
}

only_points <- function(shapes) all(core(core_types(handles_of(shapes), store_of(shapes))) %% 1000L %in% c(1L, 4L, NA))

is_geographic <- function(shapes) {
  crs <- crs_of(shapes)
  !is.null(crs) && crs$kind == "geographic"
}

# Pairs within a distance along the ellipsoid.
pairs_on_ellipsoid <- function(x, y, distance, unit, call) {
  need_distance(distance, call)
  metres <- distance * length_units[[one_of(unit %||% "m", names(length_units), "unit", call = call)]]
  x <- on_one_turn(in_degrees(x))
  y <- on_one_turn(in_degrees(y))
  core(core_pairs_within_on_globe(handles_of(x), store_of(x), handles_of(y), store_of(y), metres, unclass(crs_of(x))), call = call)
}

need_distance <- function(distance, call) {
  if (is.numeric(distance) && length(distance) == 1 && !is.na(distance) && distance >= 0) return(invisible())
  fail("argument", "The relation {.val within distance} needs {.arg distance}, one number of 0 or more.", call = call)
}

# A distance in the units of a planar layer's coordinates.
distance_in_units <- function(shapes, distance, unit, call) {
  need_distance(distance, call)
  if (!is.null(crs_of(shapes))) return(distance * coordinate_units(shapes, unit, call))
  if (!is.null(unit)) need_crs(shapes, no_unit_for(unit), call = call)
  distance
}

#' How two shapes are related
#'
#' `relation_of()` gives the dimensionally extended nine-intersection matrix (OGC 06-103r4, section 6.1.15.2): the dimensions of
#' what interior, boundary and exterior of `x` share with interior, boundary and exterior of `y`, row by row, `F` for nothing. It
#' is exact for the coordinates as they are. `nearly_equal()` says whether the points, lines and borders of each lie
#' within a tolerance of those of the other.
#'
#' The ends of lines that an odd number of lines share are boundary, others interior; points and closed lines have no boundary.
#'
#' @param x,y Spatial frames or shape vectors on one CRS, of equal length, or one of them of length 1.
#' @param tolerance How far from those of the other any place of the points, lines and borders of each may lie, in `unit`.
#' @param unit See [length_of()]; metres by default, coordinate units where the CRS is missing or geographic.
#' @return `relation_of()`: nine characters a pair, `NA` where a shape is missing. `nearly_equal()`: `TRUE`, `FALSE` or `NA`.
#' @section Errors: `civicatlas_error_crs_mismatch` where the CRSs differ; `civicatlas_error_argument` where lengths do not fit.
#' @examples
#' a <- shapes_from_wkt("POLYGON ((0 0, 4 0, 4 4, 0 4, 0 0))")
#' b <- shapes_from_wkt("POLYGON ((2 0, 6 0, 6 4, 2 4, 2 0))")
#' relation_of(a, b)
#' nearly_equal(a, b, 2)
#' @export
relation_of <- function(x, y) {
  call <- rlang::current_env()
  pair <- paired_shapes(x, y, call)
  core(core_relations(handles_of(pair$x), store_of(pair$x), handles_of(pair$y), store_of(pair$y)), call = call)
}

#' @rdname relation_of
#' @export
nearly_equal <- function(x, y, tolerance, unit = NULL) {
  call <- rlang::current_env()
  pair <- paired_shapes(x, y, call)
  reach <- positive_length(pair$x, tolerance, unit, "tolerance", call)
  n <- if (0 %in% lengths(pair)) 0L else max(lengths(pair))
  a <- pair$x[rep_len(seq_along(pair$x), n)]
  b <- pair$y[rep_len(seq_along(pair$y), n)]
  core(core_nearly_equal(handles_of(a), store_of(a), handles_of(b), store_of(b), reach), call = call)
}

# The shapes of two layers that go element by element.
paired_shapes <- function(x, y, call) {
  check_same_crs(x, y, call = call)
  pair <- lapply(list(x = x, y = y), function(layer) on_one_turn(as_shapes(layer, call = call)))
  sizes <- lengths(pair)
  if (sizes[1] != sizes[2] && !1 %in% sizes) fail("argument", "{.arg x} and {.arg y} do not pair off: {sizes[1]} against {sizes[2]} shapes.", call = call)
  pair
}

# Pairs that meet, or also share more than points.
touching_pairs <- function(shapes, edge, call) {
  pairs <- find_pairs(shapes, shapes, "intersects", call = call)
  if (!edge) return(pairs)
  keep <- pairs$x < pairs$y
  matrices <- core(core_relations(handles_of(shapes)[pairs$x[keep]], store_of(shapes), handles_of(shapes)[pairs$y[keep]], store_of(shapes)), call = call)
  share <- substr(matrices, 5, 5) == "1" | substr(matrices, 1, 1) == "2"
  x <- pairs$x[keep][share]
  y <- pairs$y[keep][share]
  order <- order(c(x, y), c(y, x))
  list(x = c(x, y)[order], y = c(y, x)[order])
}

#' Give back what spatial indexes take
#'
#' A layer of 1,000 rows or more that is joined, cut or searched by location gets an index, which is kept for the next question about the same
#' shapes: `options(civicatlas.index_bytes = 1.6e8)` says how many bytes all may take, those used longest ago going first, and 0 keeps none.
#' @return The bytes that they took, invisibly.
#' @examples
#' forget_indexes()
#' @export
forget_indexes <- function() {
  bytes <- core(core_forget_indexes())
  say("{.fn forget_indexes}: {format_size(bytes)} given back.")
  invisible(bytes)
}
