#' Shapes made of shapes
#'
#' `boundary_of()` gives the rings of polygons as lines, and the ends of lines as points; `outer_ring_of()` polygons without their
#' holes; `hull_of()` convex hulls (Andrew 1979); `inner_point_of()` a point well inside each shape, for labels; `parts_of()` a row for
#' each part of a shape of several.
#'
#' The inner point of a polygon is the place farthest from its borders, in its largest part, to a hundredth of the part's
#' width (Garcia-Castellanos and Lombardo 2007); that of a line is the middle of the longest; that of points the first. Ends of
#' lines that an even number of lines share are no boundary (OGC 06-103r4, section 6.1.4). On longitude and latitude cuts along the
#' antimeridian, and edges along a pole, are none either; a polygon of the whole globe has no boundary.
#'
#' @param x A spatial frame or shape vector.
#' @param merged `TRUE` for one hull around all shapes.
#' @return `x` with other shapes; missing where there is none, as the boundary of points. `parts_of()`: the rows of `x`, repeated
#'   for each part. `hull_of(merged = TRUE)`: a frame or vector of one shape.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' parts_of(wards)
#' inner_point_of(wards)
#' hull_of(wards, merged = TRUE)
#' @export
boundary_of <- function(x) UseMethod("boundary_of", deciding_layer(x))

#' @export
boundary_of.default <- function(x) {
  derived(x, "boundary", "boundary_of", call_of_verb())
}

#' @rdname boundary_of
#' @export
outer_ring_of <- function(x) UseMethod("outer_ring_of", deciding_layer(x))

#' @export
outer_ring_of.default <- function(x) {
  out <- derived(x, "outer ring", "outer_ring_of", call_of_verb())
  shapes <- as_shapes(out)
  # An island in a lake of another part now lies within that part.
  nested <- which(nzchar(core(core_check_shapes(handles_of(shapes), store_of(shapes)))$problem) & geometry_type_of(shapes) %in% "multipolygon")
  if (!length(nested)) return(out)
  shapes[nested] <- shapes_of_rows(core(core_repair(handles_of(shapes)[nested], store_of(shapes), TRUE)), length(nested), crs_of(shapes))
  with_shapes(out, shapes)
}

#' @rdname boundary_of
#' @export
hull_of <- function(x, merged = FALSE) UseMethod("hull_of", deciding_layer(x))

#' @export
hull_of.default <- function(x, merged = FALSE) {
  if (!merged) return(derived(x, "hull", "hull_of", call_of_verb()))
  verb <- begin_verb("hull_of")
  shapes <- as_shapes(x)
  whole <- vertices_together(shapes)
  hull <- shapes_of_rows(core(core_derive(handles_of(whole), store_of(whole), "hull of all")), 1L, crs_of(shapes))
  end_verb(verb, single_shape(x, hull), x, line = NULL)
}

# All vertices as points, on longitude and latitude nearer to one another across the antimeridian where they lie so.
vertices_together <- function(shapes) {
  span <- extent_on_globe(shapes)
  at <- coordinates_of(in_one_piece(shapes))
  if (in_plain_degrees(shapes) && nrow(at)) at$x <- at$x + 360 * ceiling((span[["xmin"]] - 1e-9 - at$x) / 360)
  point_shapes(at$x, at$y, crs_of(shapes))
}

# One shape in place of all of x, without their columns.
single_shape <- function(x, shape) {
  if (!is_spatial_frame(x)) return(shape)
  rlang::inject(frame_of_columns(!!shape_column_name(x) := shape))
}

#' @rdname boundary_of
#' @export
inner_point_of <- function(x) UseMethod("inner_point_of", deciding_layer(x))

#' @export
inner_point_of.default <- function(x) {
  verb <- begin_verb("inner_point_of")
  shapes <- as_shapes(x)
  whole <- in_one_piece(shapes)
  at <- core(core_inner_points(handles_of(whole), store_of(whole)))
  if (in_plain_degrees(shapes)) at$x <- wrapped(at$x)
  end_verb(verb, with_shapes(x, point_shapes(at$x, at$y, crs_of(shapes))), x, line = NULL)
}

#' @rdname boundary_of
#' @export
parts_of <- function(x) UseMethod("parts_of", deciding_layer(x))

#' @export
parts_of.default <- function(x) {
  verb <- begin_verb("parts_of")
  shapes <- as_shapes(x)
  parts <- single_parts(shapes)
  # Shapes that are missing or empty stay as they are.
  alone <- setdiff(seq_along(shapes), parts$rows)
  rows <- c(parts$rows, alone)
  order <- order(rows)
  out <- if (length(alone)) vctrs::vec_c(parts$shapes, shapes[alone])[order] else parts$shapes
  if (is_spatial_frame(x)) out <- with_shapes(x[rows[order], ], out)
  end_verb(verb, out, x, line = in_and_out(length(shapes), out, "shape"))
}

derived <- function(x, what, verb, verb_call) {
  verb <- begin_verb(verb, verb_call)
  shapes <- as_shapes(x)
  whole <- if (what == "hull") in_one_piece(shapes) else shapes
  found <- core(core_derive(handles_of(whole), store_of(whole), what, in_plain_degrees(shapes)))
  end_verb(verb, with_shapes(x, shapes_of_rows(found, length(shapes), crs_of(shapes))), x, line = NULL)
}

#' Simplify shapes
#'
#' Takes out vertices, smallest triangle with the two neighbours first (Visvalingam and Whyatt 1993), as long as nothing comes to
#' cross or to lie elsewhere: the result is valid, and borders that rows share stay shared.
#'
#' @param x A spatial frame or shape vector of lines or polygons.
#' @param tolerance The size of a bulge that may go, in `unit`: vertices whose triangle is smaller than half its square.
#' @param unit See [length_of()]; metres by default, on longitude and latitude too; coordinate units where the CRS is missing.
#' @param keep_borders `FALSE` to simplify each row by itself, which is faster, but opens gaps between neighbours.
#' @return `x` with simpler shapes, none of which vanishes.
#' @section Errors: `civicatlas_error_argument` for a tolerance that is no positive number.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' simplify_by(wards, 100)
#' @export
simplify_by <- function(x, tolerance, unit = NULL, keep_borders = TRUE) UseMethod("simplify_by", deciding_layer(x))

#' @export
simplify_by.default <- function(x, tolerance, unit = NULL, keep_borders = TRUE) {
  verb <- begin_verb("simplify_by")
  call <- rlang::current_env()
  shapes <- overlay_shapes(x, call)
  reach <- positive_length(shapes, tolerance, unit, "tolerance", call, metres_on_globe = TRUE)
  found <- core(core_simplify(handles_of(shapes), store_of(shapes), reach^2 / 2, !keep_borders, in_plain_degrees(shapes)), call = call)
  tell_self_crossing(found$self_crossing_x, "x")
  out <- deepened(shapes_of_rows(found, length(shapes), crs_of(shapes)), seq_along(shapes), shapes)
  tell_parts_lost(shapes, out)
  untouched <- is.na(shapes) & !is.na(as_shapes(x))  # left out, as they lie too far away
  if (any(untouched)) out[untouched] <- as_shapes(x)[untouched]
  vertices <- function(shapes) sum(core(core_vertex_counts(handles_of(shapes), store_of(shapes))), na.rm = TRUE)
  before <- vertices(shapes)
  after <- vertices(out)
  more <- if (after > before) "more than before, as borders were noded" else NA_character_
  left <- account(entry(after, paste("left of", format_count(before)), more, of = "vertex"))
  end_verb(verb, with_shapes(x, out), x, left, line = counted(length(shapes), "shape"), stale = measure_columns(x))
}

# Lines and points of a collection that lie within its polygons are theirs already.
tell_parts_lost <- function(before, after) {
  collections <- which(geometry_type_of(before) == "collection")
  if (!length(collections)) return(invisible())
  held <- function(shapes) {
    parts <- single_parts(shapes[collections])
    kinds <- geometry_type_of(parts$shapes)
    c(lines = length(unique(parts$rows[kinds == "line"])), points = sum(kinds == "point"))
  }
  lost <- sum(pmax(held(before) - held(after), 0))
  if (lost) say(c("!" = "{counted(lost, 'line or point', 'lines and points')} of collections lie within polygons of theirs and are left out."))
}
