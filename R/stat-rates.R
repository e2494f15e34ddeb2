#' Rates and shares
#'
#' `rate_of()` gives counts per so many of a base; `share_of_total()` each value's share of the sum; `cross_table()` the area that
#' categories of two layers have in common.
#'
#' @param count,base Numeric vectors of one length, such as cases and residents.
#' @param per Per how many of the base.
#' @param small Bases below this are counted in a warning: their rates swing by chance.
#' @return `rate_of()`: a double vector, `NA` where the base is 0 or missing. `share_of_total()`: a double vector that adds up to 1.
#' @section Errors: `civicatlas_error_argument` for what is no number, a base below 0, or lengths that differ.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' rate_of(wards$over_65, wards$residents)
#' share_of_total(wards$residents)
#' @export
rate_of <- function(count, base, per = 1000, small = 100) {
  call <- rlang::current_env()
  if (!is.numeric(count) || !is.numeric(base)) {
    fail("argument", c("{.arg count} and {.arg base} must be numbers.", i = "Text that holds numbers: {.fn mend_numbers}."), call = call)
  }
  if (length(base) != length(count) && length(base) != 1) {
    fail("argument", "{.arg count} has {length(count)} value{?s} and {.arg base} {length(base)}.", call = call)
  }
  if (any(base < 0, na.rm = TRUE)) fail("argument", "{.arg base} is below 0 in place {which(base < 0)[1]}.", call = call)
  few <- sum(base < small, na.rm = TRUE)
  if (few) {
    caution("data", c("{few} base{?s} {?is/are} below {small}: {?its rate swings/their rates swing} by chance.",
                      i = "Larger regions, or several years together, are steadier."))
  }
  ifelse(base == 0, NA_real_, per * count / base)
}

#' @param x A numeric vector, or a spatial frame of polygons.
#' @param na.rm Leave out missing values, whose share is `NA`; otherwise all are.
#' @rdname rate_of
#' @export
share_of_total <- function(x, na.rm = FALSE) {
  if (!is.numeric(x)) fail("argument", c("{.arg x} must be numbers.", i = "Text that holds numbers: {.fn mend_numbers}."), call = rlang::current_env())
  x / sum(x, na.rm = na.rm)
}

#' @param y A spatial frame of polygons on the CRS of `x`.
#' @param x_column,y_column The columns of categories.
#' @param unit Of areas: see [area_of()]; square metres by default.
#' @param crs See [related_pairs()].
#' @return `cross_table()`: a tibble of `x_column`, `y_column` and `area`, one line for each pair of categories with ground in common, and
#'   with `NA` for what of `x` lies in nothing of `y`. Planar in the CRS of `x`, with a warning where that is more than 1 % off; along the
#'   ellipsoid on longitude and latitude.
#' @rdname rate_of
#' @export
cross_table <- function(x, y, x_column, y_column, unit = NULL, crs = "equal") {
  if (is_tiled(x) || is_tiled(y)) return(put_off("cross_table"))
  call <- rlang::current_env()
  need_frames(x, y, call)
  y <- meet(x, y, crs, call = call)
  x_column <- named_column(x, rlang::enquo(x_column), "x_column", call)
  y_column <- named_column(y, rlang::enquo(y_column), "y_column", call)
  a <- valid_shapes(polygons_of(x, "x", call), "x", call)
  b <- valid_shapes(polygons_of(y, "y", call), "y", call)
  scale <- measure_scale(a, unit, area_units, 2, is_geographic(a), call)
  found <- shared_measures(a, b, call)
  warn_of_areas(a)
  whole <- true_measure(a, "area")
  found$area <- whole[found$x] * shares_of_cuts(found$cut$area, found$area, measure_of_cuts(a, "area"), found$x)
  rest <- whole - rowsum_of(found$area, found$x, length(a))
  alone <- which(rest > 1e-9 * whole)
  parts <- tibble::tibble(x[[x_column]][c(found$x, alone)], vctrs::vec_slice(y[[y_column]], c(found$y, rep(NA_integer_, length(alone)))),
                          c(found$area, rest[alone]) * scale, .name_repair = "minimal")
  areas_of_pairs(stats::setNames(parts, make.unique(c(x_column, y_column, "area"), sep = "_")))
}

# The areas, the last column, summed by the categories, the first two.
areas_of_pairs <- function(parts) {
  by_pair <- dplyr::group_by(stats::setNames(parts, c("x", "y", "area")), .data$x, .data$y)
  stats::setNames(dplyr::summarise(by_pair, area = sum(.data$area), .groups = "drop"), names(parts))
}
