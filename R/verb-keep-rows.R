#' Keep or drop rows by a condition
#'
#' `keep_rows()` keeps the rows for which a condition holds, `drop_rows()` those for which it does not. Rows for which it is unknown, as a value
#' is missing, are neither: `keep_rows()` leaves them out and `drop_rows()` keeps them, and both say how many there are.
#'
#' @param x A spatial frame or data frame.
#' @param where A condition: a text in [CQL2][conditions], `"seats > 100 AND kind = 'library'"`, or an R expression on the columns.
#' @param ... Layers by name, for texts that compare shapes with them: `keep_rows(rooms, "S_WITHIN(geometry, wards)", wards = wards)`.
#' @param crs The CRS of places that are written in the text; `NULL` for that of `x`.
#' @return Rows of `x`, in their order.
#' @section Errors: `civicatlas_error_argument` for a text that cannot be read, which points at the place; `civicatlas_error_column` for a column
#'   that is not there.
#' @examples
#' rooms <- read_layer(demo_file("rooms.geojson"))
#' keep_rows(rooms, "seats BETWEEN 100 AND 150 AND name LIKE 'Reef%'")
#' drop_rows(rooms, seats < 50)
#' @export
keep_rows <- function(x, where, ..., crs = NULL) UseMethod("keep_rows", deciding_layer(x))

#' @export
keep_rows.default <- function(x, where, ..., crs = NULL) {
  rows_by_condition("keep_rows", TRUE, x, rlang::enquo(where), list(...), crs, call_of_verb(), rlang::current_env())
}

#' @rdname keep_rows
#' @export
drop_rows <- function(x, where, ..., crs = NULL) UseMethod("drop_rows", deciding_layer(x))

#' @export
drop_rows.default <- function(x, where, ..., crs = NULL) {
  rows_by_condition("drop_rows", FALSE, x, rlang::enquo(where), list(...), crs, call_of_verb(), rlang::current_env())
}

rows_by_condition <- function(verb, keep, x, where, layers, crs, asked, call) {
  verb <- begin_verb(verb, asked)
  if (!is.data.frame(x)) fail("argument", "{.arg x} must be a spatial frame or a data frame.", call = call)
  if (rlang::quo_is_missing(where)) fail("argument", "{.arg where} is missing: which rows?", call = call)
  holds <- truth_of_tree(x, tree_asked(where, names(x), call), layers, as_crs(crs, call = call), call)
  out <- x[if (keep) which(holds) else which(!(holds %in% TRUE)), , drop = FALSE]
  end_verb(verb, out, x, account(entry(sum(is.na(holds)), "unknown, as a value is missing", if (keep) "left out" else "kept")))
}

# --- what conditions ask of shapes -----------------------------------------------------------------------------------------

for (measure in c("area", "length", "perimeter")) local({
  measure <- measure
  of <- as.name(paste0(measure, "_of"))
  register_word(measure, "shape", "text", "number", function(shapes, unit = NULL) rlang::expr((!!of)(!!shapes, !!unit)),
                paste0(measure, "('", if (measure == "area") "ha" else "km", "'): of the shape of each row."), least = 0,
                units = function() names(if (measure == "area") area_units else length_units))
})
rm(measure)
for (axis in c("x", "y")) local({
  axis <- axis
  register_word(axis, "shape", "any", "number", function(shapes) rlang::expr(centre_coordinate(!!shapes, !!axis)),
                paste0(axis, "(): of the centre of each shape, or of a point."), least = 0, most = 0)
})
rm(axis)

centre_coordinate <- function(shapes, axis) {
  centres <- as_shapes(centroid_of(shapes))
  core(core_boxes(handles_of(centres), store_of(centres)))[if (axis == "x") 1 else 2, ]
}

# Relations of the shapes of rows with one shape, with any of a layer's, or row by row with those of another column. What is disjoint is what
# does not intersect, empty shapes too.
shapes_related <- function(a, b, relation) {
  if (relation == "disjoint") return(!shapes_related(a, b, "intersects"))
  if (is_spatial_frame(b)) return(related_to_layer(as_shapes(a), as_shapes(b), relation))
  if (is_spatial_frame(a) || length(b) > length(a)) return(shapes_related(b, a, turned_relation[[relation]]))
  x <- on_crs_of(a, b)  # so that the edges of a place that is written stay straight
  pairs <- find_pairs(x, b, relation, call = NULL)
  out <- seq_along(x) %in% if (length(b) == 1) pairs$x else pairs$x[pairs$x == pairs$y]
  out[is.na(x) | is.na(b)] <- NA
  out
}

related_to_layer <- function(x, layer, relation) {
  out <- seq_along(x) %in% find_pairs(x, on_crs_of(layer, x), relation, call = NULL)$x
  out[is.na(x)] <- NA
  out
}

turned_relation <- c(intersects = "intersects", within = "contains", contains = "within", touches = "touches", crosses = "crosses",
                     overlaps = "overlaps", equals = "equals")

on_crs_of <- function(shapes, other) {
  if (is.null(crs_of(shapes)) || is.null(crs_of(other)) || same_crs(crs_of(shapes), crs_of(other))) return(shapes)
  quietly(reproject_to(shapes, crs_of(other)))
}
