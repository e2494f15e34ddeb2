# How each verb works on tiles. A step's `how` is a list of its `kind`:
# * "rows": of each tile by itself; the other layer as it is, or where it is tiled (`other`) those rows of it that lie near the tile: within `distance`, or
#   where it `grows`, so far as the nearest are found.
# * "whole": of all tiles together: `part` of each and `merge` of these; see R/tile-sums.R and R/tile-dissolve.R.
# `changes` says that shapes are others afterwards; where they are `cut` together with the rows beside them, which may lie in other tiles, these are read
# too, so that the same vertices come about.

rows_alone <- function(changes = FALSE, refuse = function(args) NULL) {
  function(args, slot) {
    not_by_tile(refuse(args))
    list(kind = "rows", changes = changes)
  }
}

# With a second layer, which may be tiled too.
rows_beside <- function(refuse = function(args) NULL, distance = function(args) NULL, changes = FALSE, cut = function(args) changes) {
  function(args, slot) {
    not_by_tile(refuse(args))
    other <- intersect(c("y", "mask"), names(args))[1]
    list(kind = "rows", other = if (is_tiled(args[[other]])) other, distance = distance(args), changes = changes, cut = cut(args))
  }
}

not_by_tile <- function(why) {
  if (!is.null(why)) fail("argument", c("This cannot be done tile by tile: {why}.", in_memory_remedy()), call = NULL)
}

far_apart <- function(args) if (identical(args$relation, "disjoint")) "what is disjoint lies in every tile"

# As distance_in_units() takes it.
distance_of_relation <- function(args) if (!is.null(args$distance)) list(length = args$distance, unit = args$unit)

for (verb in c("keep_rows", "drop_rows")) register_tiled_verb(verb, rows_alone(), masked = "where")
for (verb in c("add_measures", "join_table")) register_tiled_verb(verb, rows_alone())
for (verb in c("reproject_to", "declare_crs", "repair_shapes", "centroid_of", "inner_point_of", "boundary_of", "outer_ring_of", "parts_of",
               "cut_at_antimeridian")) {
  register_tiled_verb(verb, rows_alone(changes = TRUE))
}
register_tiled_verb("hull_of", rows_alone(changes = TRUE, refuse = function(args) if (isTRUE(args$merged)) "one hull is of all rows"))
register_tiled_verb("simplify_by", rows_alone(changes = TRUE, refuse = function(args) {
  if (!isFALSE(args$keep_borders)) "borders are kept common with neighbours that lie in other tiles; keep_borders = FALSE simplifies each shape by itself"
}))
for (verb in c("keep_where", "drop_where")) register_tiled_verb(verb, rows_beside(far_apart, distance_of_relation), layers = c("x", "y"))
register_tiled_verb("join_where", rows_beside(far_apart, distance_of_relation, cut = function(args) identical(args$multiple, "largest")), layers = c("x", "y"))
apportioned_in_tiles <- function(args) {
  if (rlang::is_quosure(args$apportion) && !rlang::quo_is_null(args$apportion)) "the pieces of a row of y may lie in several tiles, which share its totals"
}
for (verb in c("clip_to", "erase_by")) {
  register_tiled_verb(verb, rows_beside(apportioned_in_tiles, changes = TRUE), layers = c("x", "mask"), masked = "apportion")
}
register_tiled_verb("overlay_with", rows_beside(function(args) {
  if (!is.null(apportioned_in_tiles(args))) {
    apportioned_in_tiles(args)
  } else if (isTRUE(args$keep %in% c("union", "symmetric difference"))) {
    paste0("keep = \"", args$keep, "\" asks for what no tile covers; \"identity\" keeps all of x")
  } else if (!is.null(args$tolerance)) {
    "borders that are brought together move in both of the tiles that meet there"
  }
}, changes = TRUE), layers = c("x", "y"), masked = "apportion")
register_tiled_verb("join_nearest", function(args, slot) {
  distance <- if (!is.null(args$within)) list(length = args$within, unit = args$unit)
  list(kind = "rows", other = if (is_tiled(args$y)) "y", distance = distance, grows = is.null(distance))
}, layers = c("x", "y"), masked = "rank_by")
rm(verb)

# --- what lies near a tile -----------------------------------------------------------------------------------------------

# The rows of a tile, or of a piece of it, after the steps that go by rows.
frame_of_steps <- function(x, k, steps = x$steps, piece = NULL) {
  frame <- rows_of_piece(read_tile(x$source, k), piece)
  for (i in seq_along(steps)) {
    step <- steps[[i]]
    frame <- if (isTRUE(step$how$cut)) cut_with_neighbours(frame, step, x$source, k, steps[seq_len(i - 1)]) else perform_on_tile(frame, step)
  }
  frame
}

rows_of_piece <- function(x, piece) {
  if (is.null(piece)) return(x)
  first <- first_of_piece(nrow(x), piece)
  x[seq.int(first, length.out = first_of_piece(nrow(x), list(piece = piece$piece + 1, of = piece$of)) - first), ]
}

first_of_piece <- function(rows, piece) if (is.null(piece)) 1 else round(rows * (piece$piece - 1) / piece$of) + 1

# A step on the rows of one tile. `own` are the shapes near which the other layer counts.
perform_on_tile <- function(x, step, own = as_shapes(x)) {
  other <- step$how$other
  if (is.null(other) || !is_tiled(step$args[[other]])) return(perform_step_on(x, step))
  tiled <- step$args[[other]]$source
  near <- function(x, reach) {
    step$args[[other]] <- rows_near(tiled, own, reach)
    perform_step_on(x, step)
  }
  if (isTRUE(step$how$grows)) nearest_by_growing(x, tiled, step, near) else near(x, reach_of_step(own, step$how$distance))
}

# A step that cuts, on a tile's rows and those of other tiles that they may meet, in the order of all; the latter are left out afterwards. Steps before it
# leave shapes as they are (see settled_stages()).
cut_with_neighbours <- function(frame, step, source, k, before) {
  own <- as_shapes(frame)
  window <- grown_window(own, 0)
  near <- tiles_near(source, window, in_plain_degrees(own))
  if (!length(setdiff(near, k)) || only_points(own)) return(perform_on_tile(frame, step))
  frames <- lapply(sort(union(near, k)), function(j) {
    of_tile <- if (j == k) frame else Reduce(perform_on_tile, before, read_tile(source, j, if (!in_plain_degrees(own)) window))
    of_tile[[own_column]] <- rep(j == k, nrow(of_tile))
    of_tile
  })
  out <- perform_on_tile(vctrs::vec_rbind(!!!frames), step, own)
  out[out[[own_column]], setdiff(names(out), own_column)]
}

own_column <- ".own_of_tile"

# In coordinate units, on longitude and latitude in metres.
reach_of_step <- function(shapes, distance) {
  if (is.null(distance)) return(0)
  if (is_geographic(shapes)) return(distance$length * if (is.null(distance$unit)) 1 else length_units[[distance$unit]])
  distance_in_units(shapes, distance$length, distance$unit, NULL)
}

# The rows of a tiled layer whose boxes lie within reach of the box around some shapes, in their order.
rows_near <- function(source, shapes, reach) {
  window <- grown_window(shapes, reach)
  on_globe <- in_plain_degrees(shapes)
  found <- lapply(tiles_near(source, window, on_globe), function(k) read_tile(source, k, if (!on_globe) window))
  if (length(found)) vctrs::vec_rbind(!!!found) else frame_of_source(source)
}

# On the globe longitudes may differ by turns.
tiles_near <- function(source, window, on_globe) {
  if (!on_globe) return(tiles_within(source, window))
  tiles <- source$tiles
  which(meet_around(rbind(tiles$xmin, tiles$ymin, tiles$xmax, tiles$ymax), window) | is.na(tiles$xmin))
}

# A tiled source's frame of no rows.
frame_of_source <- function(source) {
  if (is.null(source$folder)) return(source$frame[0, ])
  frame_of_tile(source, lapply(source$columns, vctrs::vec_ptype), new_shapes(crs = source$crs))
}

grown_window <- function(shapes, reach) {
  box <- unname(box_of(shapes))
  if (anyNA(box)) return(c(Inf, Inf, -Inf, -Inf))
  if (!is_geographic(shapes)) {
    slack <- reach * (1 + 1e-9) + 1e-9 * max(abs(box)) * (reach > 0)
    return(box + slack * c(-1, -1, 1, 1))
  }
  # On the ellipsoid a degree of latitude is 110.57 km or more.
  north <- 1.01 * reach / 110574
  farthest <- max(abs(box[c(2, 4)])) + north
  east <- if (farthest >= 89) 360 else north / cos(farthest * pi / 180)
  box + c(-east, -north, east, north)
}

# The nearest rows of a tiled layer: of those within a reach, which doubles until none that lies farther can be nearer.
nearest_by_growing <- function(x, source, step, near) {
  shapes <- as_shapes(x)
  numbered <- x
  numbered[[at_column]] <- seq_len(nrow(x))
  count <- step$args$count %||% 1
  scale <- nearest_scale(shapes, step$args$unit, NULL)
  extent <- extent_of_tiles(source)
  spread <- max(extent[3] - extent[1], extent[4] - extent[2], 0, na.rm = TRUE) * if (is_geographic(shapes)) 111320 else 1
  reach <- spread * sqrt(count / max(rows_in(source), 1))
  repeat {
    everything <- !length(source$tiles$rows) || !is.finite(reach) || reach <= 0 || covers(grown_window(shapes, reach), extent, shapes)
    out <- quietly_unless(!everything, near(numbered, if (everything) 1e300 else reach))
    if (everything || are_near_enough(out, x, count, reach * scale)) return(out[setdiff(names(out), at_column)])
    reach <- 2 * reach
  }
}

# Warnings of a try that may have to be done again are not told.
quietly_unless <- function(again, expr) if (again) suppressWarnings(expr) else expr

covers <- function(window, extent, shapes) {
  if (is_geographic(shapes)) return(window[3] - window[1] >= 360 && window[2] <= -90 && window[4] >= 90)
  isTRUE(all(window[1:2] <= extent[1:2], window[3:4] >= extent[3:4]))
}

# Has each row with a shape its `count` partners within the reach?
are_near_enough <- function(out, x, count, reach) {
  distance <- out[[distance_column(out)]]
  partners <- tabulate(out[[at_column]][!is.na(distance)], nrow(x))
  shapes <- as_shapes(x)
  all(partners >= count | is.na(shapes) | is_empty_shape(shapes)) && max(distance, 0, na.rm = TRUE) <= reach
}

at_column <- ".at_in_tile"

# The last but one of the columns that join_nearest() adds.
distance_column <- function(out) utils::tail(setdiff(names(out), shape_column_name(out)), 2)[1]

is_empty_shape <- function(shapes) !is.na(shapes) & core(core_vertex_counts(handles_of(shapes), store_of(shapes))) == 0
