#' Pairs of rows that are related
#'
#' Finds with a spatial index all pairs of rows of two layers for which a named relation of OGC 06-103r4 (section 6.1.15)
#' holds. Points are placed against polygons exactly, whatever their coordinates.
#'
#' @param crs What to do where the CRSs differ: `"equal"` stops with an error, `"match"` reprojects `y` to that of `x` and says
#'   so.
#' @param x,y Spatial frames or shape vectors on one CRS. One of them holds points, the other points or polygons.
#' @param relation `"intersects"`, `"within"`, `"contains"`, `"covers"`, `"covered by"`, `"touches"`, `"crosses"`,
#'   `"overlaps"`, `"equals"`, `"disjoint"` or `"within distance"`, read as "x relation y". A point on a border
#'   intersects and touches the polygon but is not within it.
#' @param distance,unit For `"within distance"`: how far, in `unit` (see [length_of()]), metres by default.
#' @return A tibble of row numbers `x` and `y`, sorted.
#' @section Errors: `civicatlas_error_crs_mismatch` where the CRSs differ, `civicatlas_error_argument` for an unknown
#'   relation or layers between which it is not computed.
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
  reach <- if (relation == "within distance") distance_in_units(x, distance, unit, call) else 0
  core(core_related_pairs(handles_of(x), store_of(x), handles_of(y), store_of(y), relation, reach), call = call)
}

# A distance in the units of the layer's coordinates.
distance_in_units <- function(shapes, distance, unit, call) {
  if (!is.numeric(distance) || length(distance) != 1 || is.na(distance) || distance < 0) {
    fail("argument", "The relation {.val within distance} needs {.arg distance}, one number of 0 or more.", call = call)
  }
  crs <- crs_of(shapes)
  if (is.null(crs)) {
    if (!is.null(unit)) need_crs(shapes, "its coordinates have no unit to turn {.val {unit}} into", call = call)
    return(distance)
  }
  if (crs$kind == "geographic") {
    fail("crs", c("The layers are on longitude and latitude, where a distance in degrees has no meaning.",
                  i = "Reproject both first: {.code reproject_to(x, \"{utm_code(shapes)}\")}."), call = call)
  }
  distance * length_units[[one_of(unit %||% "m", names(length_units), "unit", call = call)]] / crs$unit_size
}
