#' Keep or drop rows by location
#'
#' `keep_where()` keeps the rows of `x` that are related to any row of `y`, `drop_where()` the others: what lies outside every region is
#' `drop_where(rooms, wards)`. Rows stay as they are, in their order, each once.
#'
#' @inheritParams join_where
#' @return A spatial frame: rows of `x`. Rows without a shape are related to nothing.
#' @section Errors: `civicatlas_error_crs_mismatch` where the CRSs differ: the error says which line mends it.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' rooms <- read_layer(demo_file("rooms.geojson")) |> reproject_to(wards)
#' drop_where(rooms, wards)
#' @export
keep_where <- function(x, y, relation = "intersects", distance = NULL, unit = NULL, crs = "equal") UseMethod("keep_where", deciding_layer(x, y))

#' @export
keep_where.default <- function(x, y, relation = "intersects", distance = NULL, unit = NULL, crs = "equal") {
  rows_by_place("keep_where", TRUE, x, y, relation, distance, unit, crs, call_of_verb(), rlang::current_env())
}

#' @rdname keep_where
#' @export
drop_where <- function(x, y, relation = "intersects", distance = NULL, unit = NULL, crs = "equal") UseMethod("drop_where", deciding_layer(x, y))

#' @export
drop_where.default <- function(x, y, relation = "intersects", distance = NULL, unit = NULL, crs = "equal") {
  rows_by_place("drop_where", FALSE, x, y, relation, distance, unit, crs, call_of_verb(), rlang::current_env())
}

rows_by_place <- function(verb, related, x, y, relation, distance, unit, crs, asked, call) {
  verb <- begin_verb(verb, asked)
  need_frames(x, y, call)
  y <- meet(x, y, crs, call = call)
  pairs <- find_pairs(as_shapes(x), as_shapes(y), relation, distance, unit, call = call)
  out <- x[(seq_len(nrow(x)) %in% pairs$x) == related, ]
  warn_if_apart(x, y, !length(pairs$x))
  end_verb(verb, out, x)
}
