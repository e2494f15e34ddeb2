#' Distances between all rows of two layers
#'
#' @param x,y Spatial frames, shape vectors or tiled layers on one CRS; small ones, as the matrix holds every pair.
#' @param unit See [length_of()]; metres by default, coordinate units where the CRS is missing.
#' @param names_x,names_y Columns that name the rows and columns of the matrix; by default their numbers.
#' @param crs See [related_pairs()].
#' @return A matrix with a row for each row of `x` and a column for each of `y`: the least distance between them, 0 where they meet, along the
#'   ellipsoid on longitude and latitude; `NA` for missing shapes.
#' @section Errors: `civicatlas_error_crs_mismatch` where the CRSs differ; `civicatlas_error_argument` for more than 25 million pairs.
#' @examples
#' rooms <- read_layer(demo_file("rooms.geojson"))
#' distance_matrix(rooms[1:3, ], rooms[4:6, ], unit = "km", names_x = name, names_y = name)
#' @export
distance_matrix <- function(x, y, unit = NULL, names_x = NULL, names_y = NULL, crs = "equal") {
  call <- rlang::current_env()
  need_few_pairs(x, y, call)
  if (is_tiled(x)) x <- dplyr::collect(x)
  if (is_tiled(y)) y <- dplyr::collect(y)
  y <- meet(x, y, crs, call = call)
  a <- as_shapes(x, call = call)
  b <- as_shapes(y, call = call)
  pairs <- expand.grid(x = seq_along(a), y = seq_along(b))
  distances <- if (nrow(pairs)) distance_between(a[pairs$x], b[pairs$y], unit) else double()
  named <- function(frame, column, what) if (!rlang::quo_is_null(column)) as.character(frame[[named_column(frame, column, what, call)]])
  matrix(distances, length(a), length(b), dimnames = list(named(x, rlang::enquo(names_x), "names_x"), named(y, rlang::enquo(names_y), "names_y")))
}

# So few rows that are in tiles fit into memory too.
need_few_pairs <- function(x, y, call) {
  if (missing(y)) layer_is_missing("y", call)
  rows <- vapply(list(x, y), function(layer) as.double(if (is_tiled(layer)) sum(layer$source$tiles$rows) else vctrs::vec_size(layer)), 0)
  if (prod(rows) <= 25e6) return(invisible())
  fail("argument", c("{format_count(rows[1])} by {format_count(rows[2])} distances are too many for a matrix.",
                     i = "The near ones come from {.fn join_nearest} with {.arg within}."), call = call)
}
