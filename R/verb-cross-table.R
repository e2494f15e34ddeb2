#' How much ground the categories of two layers share
#'
#' @param x,y Spatial frames of polygons, on one CRS.
#' @param x_column,y_column The columns of categories.
#' @param unit Of areas: see [area_of()]; square metres by default.
#' @param crs See [related_pairs()].
#' @return A tibble of `x_column`, `y_column` and the area, whose name has the unit (`area_ha`), one line for each pair of categories with ground in common, and
#'   with `NA` for what of `x` lies in nothing of `y`. Planar in the CRS of `x`, with a warning where that is more than 1 % off; along the
#'   ellipsoid on longitude and latitude.
#' @section Errors: `civicatlas_error_column` for a column that is not there, `civicatlas_error_argument` for layers that are not polygons,
#'   `civicatlas_error_crs_mismatch` where the CRSs differ.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' districts <- read_layer(demo_file("districts.shp")) |> reproject_to(wards)
#' cross_table(wards, districts, ward_id, district, unit = "ha")
#' @export
cross_table <- function(x, y, x_column, y_column, unit = NULL, crs = "equal") UseMethod("cross_table", deciding_layer(x, y))

#' @export
cross_table.default <- function(x, y, x_column, y_column, unit = NULL, crs = "equal") {
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
  found$area <- areas_that_add_up(found, whole, measure_of_cuts(a, "area"))
  rest <- whole - rowsum_of(found$area, found$x, length(a))
  alone <- which(rest > 1e-9 * whole)
  parts <- tibble::tibble(x[[x_column]][c(found$x, alone)], vctrs::vec_slice(y[[y_column]], c(found$y, rep(NA_integer_, length(alone)))),
                          c(found$area, rest[alone]) * scale, .name_repair = "minimal")
  area <- paste(c("area", if (!is.null(crs_of(a))) unit %||% "m2"), collapse = "_")
  areas_of_pairs(stats::setNames(parts, make.unique(c(x_column, y_column, area), sep = "_")))
}

# On longitude and latitude, edges are straight in degrees where they are cut and geodesics where they are measured: what all pieces of a whole are of it
# follows from how they are cut, what each is of them from its measure on the ellipsoid.
areas_that_add_up <- function(found, whole, straight) {
  total <- function(values) rowsum_of(values, found$x, length(whole))
  found$area * (whole * (total(found$cut$area) / straight) / total(found$area))[found$x]
}

# The areas, the last column, summed by the categories, the first two.
areas_of_pairs <- function(parts) {
  by_pair <- dplyr::group_by(stats::setNames(parts, c("x", "y", "area")), .data$x, .data$y)
  stats::setNames(dplyr::summarise(by_pair, area = sum(.data$area), .groups = "drop"), names(parts))
}
