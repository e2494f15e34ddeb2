#' Areas, lengths and perimeters
#'
#' On a projected CRS these are planar measures of the projected coordinates. On longitude and latitude a planar measure
#' would be in "square degrees", so these stop with an error that names a CRS to reproject to.
#'
#' @param x A spatial frame or shape vector.
#' @param unit For areas one of `"m2"`, `"ha"`, `"km2"`, `"ac"`, `"ft2"`, `"mi2"`; for lengths one of `"m"`, `"km"`, `"ft"`,
#'   `"us-ft"`, `"mi"`, `"nmi"`. `NULL` means square metres and metres, whatever the unit of the CRS; without a CRS it
#'   means coordinate units.
#' @return A double vector of the length of `x`, `NA` where the shape is missing. `area_of()` and `perimeter_of()` count
#'   polygon parts and `length_of()` line parts; others count 0.
#' @section Errors: `civicatlas_error_crs` on longitude and latitude, and where a unit is named without a CRS.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' wards |> transform(km2 = area_of(wards, "km2")) |> head(3)
#' @export
area_of <- function(x, unit = NULL) planar_measure(x, "area", unit, area_units, 2)

#' @rdname area_of
#' @export
length_of <- function(x, unit = NULL) planar_measure(x, "length", unit, length_units, 1)

#' @rdname area_of
#' @export
perimeter_of <- function(x, unit = NULL) planar_measure(x, "perimeter", unit, length_units, 1)

# Metres in a unit of length, square metres in a unit of area.
length_units <- c(m = 1, km = 1000, ft = 0.3048, "us-ft" = 1200 / 3937, mi = 1609.344, nmi = 1852)
area_units <- c(m2 = 1, ha = 1e4, km2 = 1e6, ac = 4046.8564224, ft2 = 0.3048^2, mi2 = 1609.344^2)

planar_measure <- function(x, measure, unit, units, dimension, call = rlang::caller_env()) {
  shapes <- as_shapes(x, call = call)
  crs <- crs_of(shapes)
  scale <- 1
  if (is.null(crs)) {
    if (!is.null(unit)) need_crs(shapes, "its coordinates have no unit to turn into {.val {unit}}", call = call)
  } else {
    if (!is.null(unit)) one_of(unit, names(units), "unit", call = call)
    if (crs$kind == "geographic") {
      fail("crs", c("The layer is on longitude and latitude ({crs_label(crs)}), where a planar {measure} has no meaning.",
                    i = "Reproject it first: {.code reproject_to(x, \"{utm_code(shapes)}\")}."), call = call)
    }
    scale <- crs$unit_size^dimension / if (is.null(unit)) 1 else units[[unit]]
  }
  core(core_planar_measure(handles_of(shapes), store_of(shapes), measure), call = call) * scale
}

# In coordinate units, to compare shapes of one layer.
planar_areas <- function(shapes) core_planar_measure(handles_of(shapes), store_of(shapes), "area")

# The UTM zone (on WGS 84) in the middle of the shapes.
utm_code <- function(shapes) {
  extent <- extent_of(shapes)
  if (anyNA(extent)) return("EPSG:\u2026")
  zone <- min(60, max(1, floor((mean(extent[c("xmin", "xmax")]) + 180) / 6) + 1))
  paste0("EPSG:", if (mean(extent[c("ymin", "ymax")]) < 0) 32700 + zone else 32600 + zone)
}

#' Extent of a layer
#'
#' @param x A spatial frame or shape vector.
#' @return A named double vector `xmin, ymin, xmax, ymax` in the units of the CRS; `NA` where there is no vertex.
#' @examples
#' extent_of(point_shapes(c(1, 3), c(2, 5)))
#' @export
extent_of <- function(x) {
  shapes <- as_shapes(x)
  boxes <- core_boxes(handles_of(shapes), store_of(shapes))
  names <- c("xmin", "ymin", "xmax", "ymax")
  boxes <- boxes[, !is.na(boxes[1, ]), drop = FALSE]
  if (!ncol(boxes)) return(stats::setNames(rep(NA_real_, 4), names))
  stats::setNames(c(min(boxes[1, ]), min(boxes[2, ]), max(boxes[3, ]), max(boxes[4, ])), names)
}

#' Centroids
#'
#' The centre of mass of each shape's parts of the highest dimension (OGC 06-103r4, section 6.1.10), planar. It may lie
#' outside a curved or perforated shape.
#' @param x A spatial frame or shape vector.
#' @return `x` with a point in place of each shape; missing where the shape is missing or empty.
#' @examples
#' centroid_of(shapes_from_wkt("POLYGON ((0 0, 2 0, 2 2, 0 2, 0 0))"))
#' @export
centroid_of <- function(x) {
  started <- clock()
  shapes <- as_shapes(x)
  centres <- core(core_planar_centroids(handles_of(shapes), store_of(shapes)))
  out <- with_shapes(x, point_shapes(centres$x, centres$y, crs_of(shapes)))
  record(out, x, "centroid_of", rlang::current_call(), vctrs::vec_size(x), started = started)
}
