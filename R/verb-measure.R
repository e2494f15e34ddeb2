#' Areas, lengths, perimeters and distances
#'
#' On longitude and latitude these are measured along the ellipsoid, in metres: edges are shortest lines (geodesics). On a
#' projected CRS they are planar measures of the projected coordinates, or with `ellipsoidal = TRUE` those of the ground.
#' A planar measure in degrees has no meaning and is refused. Where a projected CRS distorts what is measured by more than 1 %, and
#' where polygons cross themselves, a warning says so; the latter of layers of up to 200,000 vertices.
#'
#' On longitude and latitude an edge along which a polygon goes on across the antimeridian, and one along a pole, is no border and has no length;
#' one from -180 to 180 runs along its parallel.
#'
#' Geodesics follow Karney (2013), "Algorithms for geodesics", Journal of Geodesy 87: exact to some nanometres. The
#' distance between shapes other than points is that of their nearest places, 0 where they meet; there an edge is the line that is straight in
#' degrees, as for relations and overlays (RFC 7946, section 3.1.1; see the article on CRSs).
#'
#' @param x,y Spatial frames or shape vectors; for `distance_between()` on one CRS, of equal length or one of length 1.
#' @param unit For areas one of `"m2"`, `"ha"`, `"km2"`, `"ac"`, `"ft2"`, `"mi2"`; for lengths one of `"m"`, `"km"`, `"ft"`,
#'   `"us-ft"`, `"mi"`, `"nmi"`. `NULL` means square metres and metres, whatever the unit of the CRS; without a CRS it
#'   means coordinate units.
#' @param ellipsoidal `TRUE` to measure along the ellipsoid, `FALSE` in the plane, `NULL` for the first on longitude and
#'   latitude and the second on projected CRSs.
#' @param crs `"equal"` or `"match"` to reproject `y` to the CRS of `x` on the fly.
#' @param area,length,perimeter Unit of a column to add, or `NULL` for none.
#' @return A double vector of the length of `x`, `NA` where the shape is missing. `area_of()` and `perimeter_of()` count
#'   polygon parts and `length_of()` line parts; others count 0. `add_measures()`: `x` with columns whose names say the unit:
#'   `area_ha`, `length_km`.
#' @section Errors: `civicatlas_error_crs` where a unit is named, or the ellipsoid asked for, without a CRS, and for planar
#'   measures of longitude and latitude.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' wards |> add_measures(area = "km2") |> head(3)
#' rooms <- read_layer(demo_file("rooms.geojson"))
#' distance_between(rooms[1, ], rooms[2:4, ], "km")
#' @export
area_of <- function(x, unit = NULL, ellipsoidal = NULL) {
  warn_of_measures(x, "area", ellipsoidal, rlang::current_env())
  measured(x, "area", unit, area_units, 2, ellipsoidal)
}

#' @rdname area_of
#' @export
length_of <- function(x, unit = NULL, ellipsoidal = NULL) {
  warn_of_measures(x, "length", ellipsoidal, rlang::current_env())
  measured(x, "length", unit, length_units, 1, ellipsoidal)
}

#' @rdname area_of
#' @export
perimeter_of <- function(x, unit = NULL, ellipsoidal = NULL) {
  warn_of_measures(x, "perimeter", ellipsoidal, rlang::current_env())
  measured(x, "perimeter", unit, length_units, 1, ellipsoidal)
}

#' @rdname area_of
#' @export
distance_between <- function(x, y, unit = NULL, ellipsoidal = NULL, crs = "equal") {
  call <- rlang::current_env()
  a <- as_shapes(x, call = call)
  b <- as_shapes(meet(x, y, crs, call = call), call = call)
  if (length(a) != length(b) && length(a) != 1 && length(b) != 1) {
    fail("argument", c("{.arg x} has {counted(length(a), 'shape')} and {.arg y} {format_count(length(b))}, which do not pair off.",
                       i = "Give two of one length, or one shape against many."), call = call)
  }
  on_ellipsoid <- measures_on_ellipsoid(a, "distance", ellipsoidal, call)
  scale <- measure_scale(a, unit, length_units, 1, on_ellipsoid, call)
  if (on_ellipsoid) {
    a <- on_one_turn(in_degrees(a))
    b <- on_one_turn(in_degrees(b))
  } else {
    warn_of_distances(a)
  }
  ellipsoid <- if (on_ellipsoid) unclass(crs_of(a))
  core(core_distance(handles_of(a), store_of(a), handles_of(b), store_of(b), ellipsoid), call = call) * scale
}

#' @rdname area_of
#' @export
add_measures <- function(x, area = NULL, length = NULL, perimeter = NULL, ellipsoidal = NULL) UseMethod("add_measures", deciding_layer(x))

#' @export
add_measures.default <- function(x, area = NULL, length = NULL, perimeter = NULL, ellipsoidal = NULL) {
  verb <- begin_verb("add_measures")
  call <- rlang::current_env()
  if (!is_spatial_frame(x)) fail("argument", "{.fn add_measures} adds columns to a spatial frame.", call = call)
  wanted <- Filter(Negate(is.null), list(area = area, length = length, perimeter = perimeter))
  if (!base::length(wanted)) fail("argument", "Name the unit of at least one of {.arg area}, {.arg length} and {.arg perimeter}.", call = call)
  warn_of_measures(x, names(wanted), ellipsoidal, call)
  columns <- lapply(names(wanted), function(measure) {
    dimension <- if (measure == "area") 2 else 1
    measured(x, measure, wanted[[measure]], if (measure == "area") area_units else length_units, dimension, ellipsoidal, call = call)
  })
  names(columns) <- paste0(names(wanted), "_", gsub("-", "_", unlist(wanted)))
  out <- add_columns(x[setdiff(names(x), names(columns))], tibble::new_tibble(columns, nrow = nrow(x)), "_measured")
  how <- if (measures_on_ellipsoid(as_shapes(x), "area", ellipsoidal, call)) "along the ellipsoid" else "in the plane of the CRS"
  end_verb(verb, out, x, account(remark(how)), line = paste(names(columns), collapse = ", "))
}

# Metres in a unit of length, square metres in a unit of area.
length_units <- c(m = 1, km = 1000, ft = 0.3048, "us-ft" = 1200 / 3937, mi = 1609.344, nmi = 1852)
area_units <- c(m2 = 1, ha = 1e4, km2 = 1e6, ac = 4046.8564224, ft2 = 0.3048^2, mi2 = 1609.344^2)

measured <- function(x, measure, unit, units, dimension, ellipsoidal, call = rlang::caller_env()) {
  shapes <- as_shapes(x, call = call)
  on_ellipsoid <- measures_on_ellipsoid(shapes, measure, ellipsoidal, call)
  scale <- measure_scale(shapes, unit, units, dimension, on_ellipsoid, call)
  if (!on_ellipsoid) return(core(core_planar_measure(handles_of(shapes), store_of(shapes), measure), call = call) * scale)
  shapes <- in_degrees(shapes)
  core(core_ellipsoidal_measure(handles_of(shapes), store_of(shapes), measure, unclass(crs_of(shapes))), call = call) * scale
}

# One warning where measures in the plane are far from those on the ground, and one of polygons that cross themselves.
warn_of_measures <- function(x, measures, ellipsoidal, call) {
  shapes <- as_shapes(x, call = call)
  if (any(measures != "length")) tell_doubtful(shapes, call)
  crs <- crs_of(shapes)
  if (is.null(crs) || crs$kind != "projected" || isTRUE(ellipsoidal)) return(invisible())
  kind <- if ("area" %in% measures) "area" else "length"
  remedy <- "{.code ellipsoidal = TRUE} measures on the ground"
  warn_of_distortion(shapes, kind, measures, remedy)
}

measures_on_ellipsoid <- function(shapes, measure, ellipsoidal, call) {
  crs <- crs_of(shapes)
  if (isTRUE(ellipsoidal)) need_crs(shapes, "there is no ellipsoid to measure on", call = call)
  if (is.null(crs)) return(FALSE)
  if (crs$kind == "geographic" && isFALSE(ellipsoidal)) {
    fail("crs", c("The layer is on longitude and latitude ({crs_label(crs)}), where a planar {measure} has no meaning.",
                  i = "Leave out {.arg ellipsoidal}, or reproject it first: {.code reproject_to(x, \"{utm_code(shapes)}\")}."), call = call)
  }
  ellipsoidal %||% (crs$kind == "geographic")
}

# What to multiply a measure by to get it in the unit asked for.
measure_scale <- function(shapes, unit, units, dimension, on_ellipsoid, call) {
  crs <- crs_of(shapes)
  if (is.null(crs)) {
    if (!is.null(unit)) need_crs(shapes, no_unit_for(unit), call = call)
    return(1)
  }
  if (!is.null(unit)) one_of(unit, names(units), "unit", call = call)
  (if (on_ellipsoid) 1 else crs$unit_size^dimension) / if (is.null(unit)) 1 else units[[unit]]
}

no_unit_for <- function(unit) paste0("its coordinates have no unit to turn into \"", unit, "\"")

# Shapes on the geographic CRS of their own datum, in degrees, as lines on the ellipsoid are measured.
in_degrees <- function(shapes) {
  crs <- crs_of(shapes)
  if (crs$kind == "geographic" && crs$unit_size == 1) return(shapes)
  base <- geographic_base(crs)
  shapes_of_core(core(core_reproject(handles_of(shapes), store_of(shapes), unclass(crs), unclass(base), list(), 0)), base)
}

# In coordinate units, to compare shapes of one layer.
planar_areas <- function(shapes) core(core_planar_measure(handles_of(shapes), store_of(shapes), "area"))

# The UTM zone (on WGS 84) in the middle of the shapes.
utm_code <- function(shapes) {
  extent <- extent_on_globe(shapes)
  if (anyNA(extent)) return("EPSG:\u2026")
  paste0("EPSG:", utm_on_wgs84(mean(extent[c("xmin", "xmax")]), mean(extent[c("ymin", "ymax")])))
}

utm_zone <- function(longitude) floor((longitude + 180) / 6) %% 60 + 1

# The code of its CRS on WGS 84.
utm_on_wgs84 <- function(longitude, latitude) utm_zone(longitude) + if (latitude < 0) 32700 else 32600

#' Directions on the ellipsoid
#'
#' `azimuth_between()` gives the direction in which the shortest line to another point sets out, `destination_of()` the
#' point that lies so far in such a direction: the inverse and the direct geodesic problem (Karney 2013).
#'
#' @param x,y Spatial frames or shape vectors of points on one CRS, of equal length or one of length 1.
#' @param azimuth Degrees clockwise from true north, in \[-180, 180\] where it is returned.
#' @param distance How far, in `unit`.
#' @param unit See [length_of()].
#' @return `azimuth_between()`: a double vector. `destination_of()`: `x` with other points.
#' @section Errors: `civicatlas_error_crs` without a CRS; `civicatlas_error_argument` for shapes that are no points.
#' @examples
#' rooms <- read_layer(demo_file("rooms.geojson"))
#' azimuth_between(rooms[1, ], rooms[2:4, ])
#' destination_of(rooms[1, ], azimuth = 90, distance = 2, unit = "km")$geometry
#' @export
azimuth_between <- function(x, y) {
  call <- rlang::current_env()
  check_same_crs(x, y, call = call)
  a <- degrees_of_points(x, "x", call)
  b <- degrees_of_points(y, "y", call)
  sizes <- c(length(a$x), length(b$x))
  if (sizes[1] != sizes[2] && !1 %in% sizes) fail("argument", "{.arg x} and {.arg y} do not pair off: {sizes[1]} against {sizes[2]} points.", call = call)
  n <- if (0 %in% sizes) 0 else max(sizes)
  long <- function(values) rep_len(values, n)
  core(core_geodesic_inverse(long(a$x), long(a$y), long(b$x), long(b$y), unclass(a$crs)))$azimuth_from
}

#' @rdname azimuth_between
#' @export
destination_of <- function(x, azimuth, distance, unit = "m") {
  verb <- begin_verb("destination_of")
  call <- rlang::current_env()
  one_of(unit, names(length_units), "unit", call = call)
  from <- degrees_of_points(x, "x", call)
  n <- length(from$x)
  for (given in list(azimuth, distance)) {
    if (!is.numeric(given) || !length(given) %in% c(1, n)) fail("argument", "{.arg azimuth} and {.arg distance} must be numbers, one or {n}.", call = call)
  }
  to <- core(core_geodesic_direct(from$x, from$y, rep_len(as.double(azimuth), n), rep_len(distance * length_units[[unit]], n), unclass(from$crs)))
  at <- core(core_transform_points(to$x, to$y, unclass(from$crs), unclass(crs_of(x))), call = call)
  points <- point_shapes(at$x, at$y, crs_of(x))
  end_verb(verb, with_shapes(x, points), x, line = NULL)
}

degrees_of_points <- function(x, name, call) {
  shapes <- as_shapes(x, call = call)
  need_crs(shapes, "there is no ellipsoid to measure on", call = call)
  misfits <- which(!is.na(shapes) & geometry_type_of(shapes) != "point")
  if (length(misfits)) {
    fail("argument", c("{.arg {name}} must hold points; row {misfits[1]} does not.", i = "{.fn centroid_of} makes points of other shapes."), call = call)
  }
  shapes <- in_degrees(shapes)
  at <- coordinates_of(shapes)
  places <- list(x = rep(NA_real_, length(shapes)), y = rep(NA_real_, length(shapes)), crs = crs_of(shapes))
  places$x[at$shape] <- at$x
  places$y[at$shape] <- at$y
  places
}

#' Centroids
#'
#' The centre of mass of each shape's parts of the highest dimension (OGC 06-103r4, section 6.1.10). On longitude and latitude it is that on
#' the ellipsoid: the centroid of polygons on the equal-area projection around itself, and the mean place of lines, by length, and of points.
#' A centroid in degrees would be 100 km and more off for large countries in high latitudes. It may lie outside a curved or perforated shape.
#' @param x A spatial frame or shape vector.
#' @return `x` with a point in place of each shape; missing where the shape is missing or empty.
#' @examples
#' centroid_of(shapes_from_wkt("POLYGON ((0 0, 2 0, 2 2, 0 2, 0 0))"))
#' @export
centroid_of <- function(x) UseMethod("centroid_of", deciding_layer(x))

#' @export
centroid_of.default <- function(x) {
  verb <- begin_verb("centroid_of")
  shapes <- as_shapes(x)
  centres <- centres_of(shapes)
  end_verb(verb, with_shapes(x, point_shapes(centres$x, centres$y, crs_of(shapes))), x, line = NULL)
}

# Centroids, a list of x and y; on longitude and latitude those on the ellipsoid, or in degrees of what reaches around it.
centres_of <- function(shapes) {
  whole <- in_one_piece(shapes)
  at <- core(core_planar_centroids(handles_of(whole), store_of(whole)))
  if (!in_plain_degrees(shapes)) return(at)
  on_globe <- core(core_globe_centroids(handles_of(whole), store_of(whole), unclass(crs_of(shapes))))
  known <- !is.nan(on_globe$x) & !is.na(at$x)
  list(x = wrapped(ifelse(known, on_globe$x, at$x)), y = ifelse(known, on_globe$y, at$y))
}
