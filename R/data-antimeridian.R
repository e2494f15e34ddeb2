#' Cut shapes at the antimeridian
#'
#' Layers of the world write what lies on both sides of longitude 180 in one of three ways: cut there into two parts, with longitudes
#' that go on beyond 180, or with an edge that jumps from 180 to -180. All of them mean the same here. Where a layer comes in (read,
#' built, labelled or stacked), rings that jump are taken as crossing the antimeridian, which is said, and their longitudes go on beyond
#' 180. Verbs on single shapes (centroids, hulls, extents, [crs_for()]) put the parts side by side, verbs on two layers (joins, overlays)
#' compare them between -180 and 180.
#'
#' `cut_at_antimeridian()` cuts shapes there, for writing and for maps of the whole world (RFC 7946, section 3.1.9): longitudes lie
#' between -180 and 180, and shapes around a pole follow the antimeridian to it. GeoJSON and KML are written so unasked. An edge from
#' -180 to 180 closes a map of the world or of a pole, and stays, unless the ring goes on beyond it as it came.
#'
#' @param x A spatial frame or shape vector on longitude and latitude.
#' @return `x` with shapes in parts on either side; what does not cross stays as it is.
#' @section Errors: `civicatlas_error_crs` where `x` is not on longitude and latitude in degrees.
#' @examples
#' strait <- shapes_from_wkt("POLYGON ((179 -47, -179 -47, -179 -48, 179 -48, 179 -47))", 4326)
#' wkt_of(cut_at_antimeridian(strait))
#' wkt_of(centroid_of(strait))
#' @export
cut_at_antimeridian <- function(x) UseMethod("cut_at_antimeridian", deciding_layer(x))

#' @export
cut_at_antimeridian.default <- function(x) {
  verb <- begin_verb("cut_at_antimeridian")
  call <- rlang::current_env()
  shapes <- as_shapes(x, call = call)
  need_crs(shapes, "where the antimeridian lies is not known", call = call)
  if (!in_plain_degrees(shapes)) {
    fail("crs", c("The layer is on {crs_label(crs_of(shapes))}, not on longitude and latitude in degrees.",
                  i = "{.fn reproject_to} cuts shapes where the map of its target ends."), call = call)
  }
  end_verb(verb, with_shapes(x, cut_shapes(shapes, call)), x, line = NULL)
}

cut_shapes <- function(shapes, call) {
  found <- core(core_cut_at_antimeridian(handles_of(shapes), store_of(shapes)), call = call)
  if (is.null(found)) return(shapes)
  if (found$cut) say("{counted(found$cut, 'shape')} cut at the antimeridian.")
  if (found$around_pole) say("{counted(found$around_pole, 'shape')} around a pole now {cli::qty(found$around_pole)}follow{?s/} the antimeridian to it.")
  shapes_of_cut(found, crs_of(shapes))
}

# What was cut; the pieces of polygons that are wider than the globe become one, as they overlap.
shapes_of_cut <- function(found, crs) {
  out <- shapes_of_core(found, crs)
  rows <- found$wrapped
  if (length(rows)) out[rows] <- shapes_of_rows(core(core_repair(handles_of(out)[rows], store_of(out), TRUE)), length(rows), crs)
  out
}

# Whether coordinates are degrees of longitude and latitude.
in_plain_degrees <- function(shapes) {
  crs <- crs_of(shapes)
  !is.null(crs) && crs$kind == "geographic" && crs$unit_size == 1
}

# Shapes as they come in, by a file, a table or a label: it is said where they do not fit their CRS, and rings that jump from 180 to
# -180 are unwound.
admitted <- function(shapes) {
  extent <- box_of(shapes)
  check_plausible(shapes, extent)
  is_wide <- isTRUE(extent[["xmax"]] - extent[["xmin"]] > 180)
  found <- if (is_wide && in_plain_degrees(shapes)) core(core_in_one_piece(handles_of(shapes), store_of(shapes), TRUE))
  if (is.null(found)) return(shapes)
  jumping <- paste(counted(length(found$joined), "shape"), if (length(found$joined) == 1) "jumps" else "jump")
  say(c("!" = "{jumping} from longitude 180 to -180: taken as crossing the antimeridian, with longitudes that go on beyond 180.",
        i = "{.fn cut_at_antimeridian} cuts them there."))
  shapes_of_core(found, crs_of(shapes))
}

# Each shape in one piece, as measures of single shapes take it.
in_one_piece <- function(shapes) {
  found <- if (in_plain_degrees(shapes)) core(core_in_one_piece(handles_of(shapes), store_of(shapes), FALSE))
  if (is.null(found)) shapes else shapes_of_core(found, crs_of(shapes))
}

# A layer on longitude and latitude as a map shows it: where it lies on both sides of the antimeridian, its shapes are put side by side, with longitudes
# that go on beyond 180. With the limits of a map, they come as near to its middle as they can.
in_one_window <- function(x, limits = NULL) {
  shapes <- as_shapes(x)
  extent <- box_of(shapes)
  if (!in_plain_degrees(shapes) || anyNA(extent)) return(x)
  wide <- extent[["xmax"]] - extent[["xmin"]]
  if (if (is.null(limits)) wide <= 180 else limits[1] >= -180 && limits[2] <= 180) return(x)
  whole <- in_one_piece(shapes)
  boxes <- core(core_boxes(handles_of(whole), store_of(whole)))
  turns <- if (is.null(limits)) turns_side_by_side(boxes, wide) else round((mean(limits) - (boxes[1, ] + boxes[3, ]) / 2) / 360)
  if (is.null(turns)) return(x)
  turned <- turned_shapes(whole, turns)
  if (is_spatial_frame(x)) with_shapes(x, turned) else turned
}

# How many turns each box goes further, so that all lie in less than half a turn; NULL where they cannot.
turns_side_by_side <- function(boxes, wide) {
  span <- span_of_longitudes(boxes[, !is.na(boxes[1, ]), drop = FALSE])
  if (diff(span) < 180 && diff(span) < wide - 1e-9) ceiling((span[1] - 1e-9 - boxes[1, ]) / 360)
}

# Shapes with longitudes so many turns further, one number for each.
turned_shapes <- function(shapes, turns) {
  for (turn in setdiff(turns, c(0, NA))) {
    rows <- which(turns == turn)
    some <- compacted(shapes[rows])
    store <- unclass(store_of(some))
    store$x <- store$x + 360 * turn
    store$boxes <- store$boxes + rep_len(c(360 * turn, 0), length(store$boxes))
    # Shapes of both sides are bound on purpose here.
    shapes <- silently(replace(shapes, rows, new_shapes(handles_of(some), store, crs_of(shapes))))
  }
  shapes
}

# All shapes between -180 and 180, as two layers are compared.
on_one_turn <- function(shapes) {
  found <- if (in_plain_degrees(shapes)) core(core_cut_at_antimeridian(handles_of(shapes), store_of(shapes)))
  if (is.null(found)) shapes else shapes_of_cut(found, crs_of(shapes))
}

# Longitudes from -180 to 180.
wrapped <- function(longitude) {
  beyond <- which(abs(longitude) > 180)
  longitude[beyond] <- (longitude[beyond] + 180) %% 360 - 180
  longitude
}

# West and east of boxes (xmin, ymin, xmax, ymax by column) on the globe. East is beyond 180 where they lie nearer to one another
# across the antimeridian.
span_of_longitudes <- function(boxes) {
  west <- boxes[1, ]
  east <- boxes[3, ]
  plain <- c(min(west), max(east))
  if (diff(plain) <= 180 && all(abs(plain) <= 180)) return(plain)
  turn <- 360 * floor((west + 180) / 360)
  order <- order(west - turn)
  west <- (west - turn)[order]
  reach <- cummax((east - turn)[order])
  gaps <- c(west[-1] - reach[-length(reach)], west[1] + 360 - reach[length(reach)])
  behind <- which.max(gaps)
  if (gaps[behind] <= 0) return(c(-180, 180))
  if (behind == length(gaps)) return(c(west[1], reach[length(reach)]))
  c(west[behind + 1], reach[behind] + 360)
}

# Two layers, one with longitudes of 0 to 360 and the other of -180 to 180, meet all the same; but that they differ is said.
tell_turns <- function(x, y, x_name, y_name) {
  x <- as_shapes(x)
  y <- as_shapes(y)
  if (!in_plain_degrees(x) || !in_plain_degrees(y)) return(invisible())
  far <- c(lies_beyond_180(x), lies_beyond_180(y))
  if (far[1] == far[2]) return(invisible())
  name <- c(x_name, y_name)[far]
  other <- setdiff(c(x_name, y_name), name)
  caution("crs", c("Longitudes of {.arg {name}} run beyond 180, as from 0 to 360, those of {.arg {other}} do not.",
                   "*" = "They are compared between -180 and 180.",
                   i = "{.code {name} <- cut_at_antimeridian({name})} writes them so."))
}

# Whether whole shapes do; those that only reach beyond cross the antimeridian.
lies_beyond_180 <- function(shapes) {
  if (!isTRUE(max(abs(box_of(shapes)[c("xmin", "xmax")])) > 180)) return(FALSE)
  boxes <- core(core_boxes(handles_of(shapes), store_of(shapes)))
  any(boxes[1, ] >= 180 & boxes[3, ] > 180 | boxes[3, ] <= -180 & boxes[1, ] < -180, na.rm = TRUE)
}

# The same where shapes are bound, once for the stores that they lie in, as binding asks repeatedly.
tell_turns_of_stores <- function(stores) {
  far <- vapply(stores, function(store) {
    boxes <- matrix(store$boxes, nrow = 4)
    any(boxes[1, ] >= 180 & boxes[3, ] > 180)
  }, NA)
  id <- paste(c("turns", sort(names(stores))), collapse = " ")
  if (all(far) || !any(far) || isTRUE(said[[id]])) return(invisible())
  said[[id]] <- TRUE
  caution("crs", c("Some of these layers have longitudes that run beyond 180, as from 0 to 360, others have not.",
                   i = "{.fn cut_at_antimeridian} brings them to -180 to 180 before they are bound."))
}

# --- windows ------------------------------------------------------------------------------------------------------

# A window c(xmin, ymin, xmax, ymax) whose west lies east of its east, or whose east lies beyond 180, runs over the antimeridian.
crosses_180 <- function(window) window[1] > window[3] || window[3] > 180 || window[1] < -180

# Which boxes meet a window on the globe.
meet_around <- function(boxes, window) {
  west <- window[1]
  width <- if (window[3] >= west) window[3] - west else (window[3] - west) %% 360
  from <- (boxes[1, ] - west) %% 360
  inside <- width >= 360 | from <= width | from + boxes[3, ] - boxes[1, ] >= 360
  inside & boxes[2, ] <= window[4] & boxes[4, ] >= window[2]
}
