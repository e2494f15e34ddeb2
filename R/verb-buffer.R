#' Buffers
#'
#' `buffer_by()` gives all that lies within a distance of each shape; with a negative distance what lies deeper inside a
#' polygon than that. `bands_around()` gives rings between several distances that do not overlap.
#'
#' The curve beside each ring and line, wedges at its corners included, is filled where it winds around more often
#' counter-clockwise than clockwise, after snap rounding: exactly the buffer with arcs as chords. A full circle of `n` segments a
#' quarter is too small by the share `1 - sin(pi / 2n) / (pi / 2n)`: 0.16 % with the default of 16.
#'
#' On longitude and latitude distances are true metres, to 0.1 %, whatever the size of shape and distance: each shape is worked on in
#' the azimuthal equidistant projection around its middle, its edges as geodesics, and one that reaches farther than 200 km from there
#' stretch by stretch (other ends and corners than round ones take one projection). What crosses the antimeridian is cut there, and the
#' cut is no border from which a negative distance would reach inwards; what holds a pole runs around the world; half the Earth's
#' circumference and more gives the whole globe.
#'
#' @param x A spatial frame or shape vector of any type.
#' @param distance How far: a number, a column of `x`, or a vector of one number a shape, in `unit`. Lines and points have
#'   nothing left at 0 or below.
#' @param unit See [length_of()]; metres by default, coordinate units where the CRS is missing.
#' @param merged `TRUE` for the union of all buffers in one row, without the columns.
#' @param ends Of lines: `"round"`, `"flat"`, or `"square"`, which goes on by the distance. Points always have round buffers.
#' @param corners `"round"`, `"mitred"` up to five distances, beyond which a corner is bevelled, or `"bevelled"`.
#' @param segments Of a quarter circle, from 1 to 1024.
#' @param side Of lines: `"both"` or only the `"left"` or `"right"` one, seen along the line.
#' @return `buffer_by()`: `x` with polygons; empty where nothing is left, missing without a distance, both counted. With `merged` a frame or vector of
#'   one shape. `bands_around()`: a frame of one row a band, `from` and `to` in `unit`.
#' @section Errors: `civicatlas_error_argument` for distances that are no finite numbers, `civicatlas_error_crs` where a unit is named
#'   without a CRS.
#' @examples
#' rooms <- read_layer(demo_file("rooms.geojson"))
#' buffer_by(rooms, 400)
#' wards <- read_layer(demo_file("wards.shp"))
#' bands_around(reproject_to(rooms, wards), c(250, 500, 750), "m", within = wards)
#' @export
buffer_by <- function(x, distance, unit = NULL, merged = FALSE, ends = "round", corners = "round", segments = 16, side = "both") {
  UseMethod("buffer_by", deciding_layer(x))
}

#' @export
buffer_by.default <- function(x, distance, unit = NULL, merged = FALSE, ends = "round", corners = "round", segments = 16, side = "both") {
  verb <- begin_verb("buffer_by")
  call <- rlang::current_env()
  shapes <- as_shapes(x, call = call)
  style <- buffer_style(ends, corners, segments, side, call)
  if (missing(distance)) fail("argument", c("{.arg distance} is missing.", i = "For example {.code buffer_by(x, 400, \"m\")}."), call = call)
  given <- rlang::eval_tidy(rlang::enquo(distance), if (is_spatial_frame(x)) plain(x))
  metres <- buffer_distances(shapes, given, unit, call)
  warn_of_distances(shapes)
  tell_flat(shapes)
  tell_crossed(shapes, call)
  made <- buffers(shapes, metres, style, call)
  gone <- is.na(made) & !is.na(shapes) & !is.na(metres)
  if (any(gone)) made[gone] <- shapes_from_wkt("POLYGON EMPTY", crs_of(shapes))
  if (merged) made <- dissolved(made, call)
  found <- account(if (merged) remark("merged"), entry(sum(gone), "with nothing left", "empty"),
                   entry(sum(is.na(metres) & !is.na(shapes)), "without a distance", "missing"))
  out <- if (merged) single_shape(x, made) else with_shapes(x, made)
  line <- paste(counted(length(shapes), "shape"), distances_in_words(given, unit, crs_of(shapes)))
  end_verb(verb, out, x, found, line = line, stale = measure_columns(x))
}

# "by 400 m", "by 1 to 2 m"
distances_in_words <- function(distances, unit, crs) {
  ends <- unique(range(distances, na.rm = TRUE))
  paste("by", paste(format_count(ends), collapse = " to "), unit %||% if (is.null(crs)) "coordinate units" else "m")
}

#' @param distances Two or more ascending distances from `x`, or one: the outer edges of the bands, the first of which begins
#'   at 0.
#' @param within A frame or shape vector to clip the bands to, on the CRS of `x`.
#' @rdname buffer_by
#' @export
bands_around <- function(x, distances, unit = NULL, within = NULL, segments = 16) UseMethod("bands_around", deciding_layer(x))

#' @export
bands_around.default <- function(x, distances, unit = NULL, within = NULL, segments = 16) {
  verb <- begin_verb("bands_around")
  call <- rlang::current_env()
  shapes <- as_shapes(x, call = call)
  if (!are_ascending(distances)) fail("argument", "{.arg distances} must be ascending numbers above 0.", call = call)
  if (!is.null(within)) check_same_crs(x, within, "x", "within", call = call)
  style <- buffer_style("round", "round", segments, "both", call)
  warn_of_distances(shapes)
  tell_crossed(shapes, call)
  out <- frame_of_bands(reach_of_bands(shapes, distances, unit, style, call), distances, within, call)
  end_verb(verb, out, x, line = paste(counted(length(shapes), "shape"), "in,", counted(nrow(out), "band"), "out"))
}

# The ground of polygons, NULL where there are none, then what lies within each distance: a single shape each.
reach_of_bands <- function(shapes, distances, unit, style, call) {
  ground <- if (any(grepl("polygon", geometry_type_of(shapes)))) dissolved(shapes, call)
  within <- lapply(distances, function(distance) dissolved(buffers(shapes, buffer_distances(shapes, distance, unit, call), style, call), call))
  c(list(ground), within)
}

frame_of_bands <- function(reach, distances, within, call) {
  bands <- lapply(seq_along(reach)[-1], function(i) {
    band <- if (is.null(reach[[i - 1]])) reach[[i]] else cut_out(reach[[i]], reach[[i - 1]], FALSE, call)
    if (is.null(within)) band else cut_out(band, as_shapes(within), TRUE, call)
  })
  frame_of_columns(from = c(0, distances[-length(distances)]), to = distances, geometry = do.call(vctrs::vec_c, bands))
}

are_ascending <- function(x) is.numeric(x) && length(x) && !anyNA(x) && all(diff(c(0, x)) > 0)

buffer_style <- function(ends, corners, segments, side, call) {
  one_of(ends, line_ends, "ends", call = call)
  one_of(corners, outline_corners, "corners", call = call)
  one_of(side, line_sides, "side", call = call)
  if (!rlang::is_integerish(segments, 1, finite = TRUE) || segments < 1 || segments > 1024) {
    fail("argument", "{.arg segments} must be a whole number from 1 to 1024.", call = call)
  }
  list(ends = ends, corners = corners, side = side, segments = as.integer(segments), mitre_limit = 5)
}

# One distance a shape: in coordinate units, in metres on longitude and latitude.
buffer_distances <- function(shapes, distance, unit, call) {
  if (!is.numeric(distance) || !length(distance) %in% c(1, length(shapes)) || any(is.infinite(distance) | is.nan(distance))) {
    fail("argument", c("{.arg distance} must be one finite number, or one for each of the {length(shapes)} shapes.",
                       x = "It is {.cls {class(distance)[1]}} of length {length(distance)}."), call = call)
  }
  distance <- rep_len(as.double(distance), length(shapes))
  crs <- crs_of(shapes)
  if (is.null(crs)) {
    if (!is.null(unit)) need_crs(shapes, no_unit_for(unit), call = call)
    return(distance)
  }
  metres <- distance * length_units[[one_of(unit %||% "m", names(length_units), "unit", call = call)]]
  if (crs$kind == "geographic") metres else metres / crs$unit_size
}

buffers <- function(shapes, distances, style, call) {
  crs <- crs_of(shapes)
  geographic <- is_geographic(shapes)
  flat <- if (geographic) in_degrees(shapes) else shapes
  found <- core(core_buffer(handles_of(flat), store_of(flat), distances, style, if (geographic) unclass(crs_of(flat))), call = call)
  made <- shapes_of_rows(found, length(shapes), crs_of(flat))
  if (same_crs(crs_of(flat), crs)) return(made)
  shapes_of_core(core(core_reproject(handles_of(made), store_of(made), unclass(crs_of(flat)), unclass(crs), list(), 0)), crs)
}

# Polygons that cross or overlap themselves, of which buffers are those of what the even-odd rule puts inside.
tell_crossed <- function(shapes, call) {
  tell_self_crossing(invalid_rows(on_one_turn(shapes), c("polygon", "multipolygon", "collection"), call), "x")
}

# All shapes as one, of length 1.
dissolved <- function(shapes, call) {
  found <- core(core_dissolve(handles_of(shapes), store_of(shapes), rep(1L, length(shapes))), call = call)
  shapes_of_rows(found, 1L, crs_of(shapes))
}

# A single shape without or within others.
cut_out <- function(shape, mask, inside, call) {
  found <- core(core_mask(handles_of(shape), store_of(shape), handles_of(mask), store_of(mask), inside), call = call)
  shapes_of_rows(found, 1L, crs_of(shape))
}

# What arguments may be; the commands read it too.
line_ends <- c("round", "flat", "square")
outline_corners <- c("round", "mitred", "bevelled")
line_sides <- c("both", "left", "right")
