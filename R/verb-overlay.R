#' Combine layers
#'
#' `overlay_with()` cuts two layers where they meet; its pieces carry the columns of both. `clip_to()` keeps what lies
#' within a mask, `erase_by()` what does not. `split_by()` cuts a layer by another and takes one column from it, or
#' cuts polygons along lines.
#'
#' All lines and borders of both layers are brought together in one snap rounding (Hobby 1999) with exact predicates on cells
#' of the size of the coordinates' last bit: it does not fail, neighbours keep identical borders, results are valid by OGC
#' 06-103r4, and areas add up. Vertices keep their digits. Invalid polygons are taken by the even-odd rule, which is said. Lines
#' and points on the border of a polygon lie in it: those on a border that two polygons share lie in both. Vertices keep their Z and M,
#' and new ones on an edge have what lies between its ends; a piece with vertices elsewhere has neither, which is counted.
#'
#' @param x,y,mask Spatial frames on one CRS, of polygons, lines or points (for `clip_to()` and `erase_by()` also shape vectors).
#' @param keep Which pieces: `"intersection"` where both lie; `"union"` all; `"difference"` where only `x` lies; `"symmetric
#'   difference"` where only one lies; `"identity"` all of `x`, cut by `y`.
#' @param tolerance,unit Borders of `y` nearer than this to those of `x` are brought onto them first, and pieces whose mean width, area
#'   over half the perimeter, is still below it join the piece beside them with the longest common border, the thinnest first, so that
#'   no slivers and gaps come about. `x` stays as it is: pieces join within its shapes, and only one that is all its shape has there
#'   stays narrower. Shapes of `y` overlap only where they did. How far borders moved, and what areas changed, is told. In `unit`, metres
#'   by default.
#' @param touches Where two shapes meet in less than both could, polygons along a border, lines in a point: `"drop"` it and say
#'   how often, or `"keep"` it as a line or point.
#' @param column The column of `y` to take, by name. Lines have none to give: polygons are cut along them, where they run through or
#'   meet others.
#' @param apportion Columns that hold totals, as in [dplyr::select()]: each piece gets the share of them that it has of its row's area, else of its
#'   length or its points, so that the pieces of a row add up to it. How much of each total is in the result is told. Columns that aren't named stay as
#'   they are, and would be counted once for each piece. Not on layers in tiles.
#' @param suffix Put after names of `y`'s columns that `x` has too.
#' @param crs See [related_pairs()].
#' @return A spatial frame (`clip_to()` and `erase_by()`: as `x`). `overlay_with()` has a row for each piece, in the order of
#'   `x`, then of `y`; columns of `x`, then of `y`, `NA` on the side that does not cover the piece.
#' @section Errors: `civicatlas_error_crs_mismatch` where the CRSs differ; `civicatlas_error_argument` for an unknown `keep` or a
#'   tolerance that is no positive length; `civicatlas_error_format` for coordinates that are not finite.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' zone <- spatial_frame(zone = "north", geometry = shapes_from_wkt(
#'   "POLYGON ((583000 4751000, 605000 4751000, 605000 4760000, 583000 4760000, 583000 4751000))", crs = 32757))
#' overlay_with(wards, zone, keep = "identity")
#' clip_to(wards, zone)
#' @export
overlay_with <- function(x, y, keep = "intersection", tolerance = NULL, unit = NULL, touches = "drop", apportion = NULL, suffix = "_y", crs = "equal") {
  UseMethod("overlay_with", deciding_layer(x, y))
}

#' @export
overlay_with.default <- function(x, y, keep = "intersection", tolerance = NULL, unit = NULL, touches = "drop", apportion = NULL, suffix = "_y", crs = "equal") {
  verb <- begin_verb("overlay_with")
  call <- rlang::current_env()
  need_frames(x, y, call)
  one_of(keep, names(overlay_parts), "keep", call = call)
  one_of(touches, keep_or_drop, "touches", call = call)
  y <- meet(x, y, crs, call = call)
  a <- overlay_shapes(x, call)
  b <- overlay_shapes(y, call)
  reach <- if (!is.null(tolerance)) positive_length(a, tolerance, unit, "tolerance", call, metres_on_globe = TRUE)
  parts <- overlay_parts[[keep]]
  cut <- function(how, ...) {
    core(how(handles_of(a), store_of(a), handles_of(b), store_of(b), parts, touches == "keep", ..., on_globe = in_plain_degrees(a)), call = call)
  }
  found <- if (is.null(reach)) cut(core_overlay) else cut(core_overlay_onto, reach)
  tell_self_crossing(found$self_crossing_x, "x")
  tell_self_crossing(found$self_crossing_y, "y")
  if (!is.null(reach)) tell_brought(found, y, b)
  if (keep %in% c("union", "identity", "symmetric difference")) {
    tell_stacked(found$stacked[1:2], a, "x")
    tell_stacked(found$stacked[3:4], b, "y")
  }
  found <- pieces_in_order(found, a, b)
  if (any(are_deep(a), are_deep(b))) {
    found$shapes <- deepened(found$shapes, Map(function(x, y) stats::na.omit(c(x, y)), found$x, found$y + length(a)), vctrs::vec_c(a, b))
  }
  out <- with_shapes(vctrs::vec_slice(x, found$x), found$shapes)
  out <- add_columns(out, vctrs::vec_slice(attribute_table(y), found$y), suffix)
  totals <- totals_to_apportion(out, rlang::enquo(apportion), call)
  of_x <- intersect(totals, names(x))
  shared <- apportioned_pieces(out, list(
    list(names = of_x, rows = found$x, wholes = a, table = x),
    list(names = setdiff(totals, of_x), rows = found$y, wholes = b, table = stats::setNames(attribute_table(y), columns_added(out, y)))
  ))
  out <- shared$frame
  both <- sum(!is.na(found$x) & !is.na(found$y))
  counts <- account(entry(both, "where both lie", none = "both" %in% parts), entry(sum(is.na(found$y)), "of x alone"), entry(sum(is.na(found$x)), "of y alone"),
                    entry(found$touching, "only touch", "left out", of = "pair"), entry(sum(is.na(a)) + sum(is.na(b)), "without a shape", "left out"))
  counts <- c(counts, shared$account)
  held <- measure_columns(y)
  if (length(held)) names(held) <- paste0(names(held), ifelse(names(held) %in% names(x), suffix, ""))
  warn_if_apart(x, y, "both" %in% parts && !both && !found$touching)
  end_verb(verb, out, x, counts, line = paste(format_count(nrow(x)), "and", in_and_out(nrow(y), out)), stale = c(measure_columns(x), held))
}

# Which pieces each kind of overlay keeps.
overlay_parts <- list(
  intersection = "both", union = c("both", "x", "y"), difference = "x", "symmetric difference" = c("x", "y"), identity = c("both", "x")
)

#' @rdname overlay_with
#' @export
clip_to <- function(x, mask, apportion = NULL, crs = "equal") UseMethod("clip_to", deciding_layer(x, mask))

#' @export
clip_to.default <- function(x, mask, apportion = NULL, crs = "equal") {
  masked(x, mask, crs, inside = TRUE, rlang::enquo(apportion), "clip_to", call_of_verb(), rlang::current_env())
}

#' @rdname overlay_with
#' @export
erase_by <- function(x, mask, apportion = NULL, crs = "equal") UseMethod("erase_by", deciding_layer(x, mask))

#' @export
erase_by.default <- function(x, mask, apportion = NULL, crs = "equal") {
  masked(x, mask, crs, inside = FALSE, rlang::enquo(apportion), "erase_by", call_of_verb(), rlang::current_env())
}

masked <- function(x, mask, crs, inside, apportion, verb, verb_call, call) {
  verb <- begin_verb(verb, verb_call)
  mask <- meet(x, mask, crs, y_name = "mask", call = call)
  a <- overlay_shapes(x, call)
  b <- overlay_shapes(mask, call)
  found <- core(core_mask(handles_of(a), store_of(a), handles_of(b), store_of(b), inside), call = call)
  tell_self_crossing(found$self_crossing_x, "x")
  tell_self_crossing(found$self_crossing_y, "mask")
  left <- found$x
  shapes <- deepened(with_wholes(found, a), left, a)
  gone <- sum(!is.na(a)) - length(left)
  cut <- sum(differ_in_size(a[left], shapes))
  out <- if (is_spatial_frame(x)) with_shapes(x[left, ], shapes) else shapes
  shared <- apportioned_pieces(out, list(list(names = totals_to_apportion(out, apportion, call), rows = left, wholes = a, table = x)))
  out <- shared$frame
  counts <- account(entry(cut, "cut"), entry(gone, if (inside) "outside" else "covered", "left out"), entry(sum(is.na(a)), "without a shape", "left out"))
  counts <- c(counts, shared$account)
  warn_if_apart(a, b, inside && !length(left))
  end_verb(verb, out, x, counts, stale = if (cut) measure_columns(x))
}

#' @rdname overlay_with
#' @export
split_by <- function(x, y, column = NULL, apportion = NULL, suffix = "_y", crs = "equal") {
  call <- rlang::current_env()
  need_frames(x, y, call)
  column <- rlang::enexpr(column)
  if (is.null(column) || only_lines(as_shapes(y))) return(split_at_lines(x, y, rlang::enquo(apportion), crs, call_of_verb(), call))
  column <- rlang::as_name(column)
  need_column(y, column, "column", call = call)
  overlay_with(x, y[c(column, shape_column_name(y))], "identity", apportion = {{ apportion }}, suffix = suffix, crs = crs)
}

# The columns of totals that were asked for, by name.
totals_to_apportion <- function(out, columns, call) {
  if (rlang::quo_is_null(columns)) return(character())
  if (!is_spatial_frame(out)) fail("argument", "{.arg apportion} names columns, which a shape vector doesn't have.", call = call)
  chosen <- choose_columns(attribute_table(out), columns, "apportion", call)
  misfits <- setdiff(names(chosen), totals_in(chosen))
  if (length(misfits)) {
    fail("argument", c("{.arg apportion} takes columns of totals; {.val {misfits[1]}} holds {.cls {class(chosen[[misfits[1]]])[1]}}.",
                       i = "{.fn mend_numbers} turns text into numbers."), call = call)
  }
  names(chosen)
}

# The names that the columns of a table got in a frame that they were added to.
columns_added <- function(out, table) utils::tail(setdiff(names(out), shape_column_name(out)), ncol(attribute_table(table)))

# The frame with totals shared out among pieces, and an account of how much of each is in it. `sides`: `names` of columns of a `table`, and the `rows`
# of it, with its shapes `wholes`, that the pieces come from.
apportioned_pieces <- function(out, sides) {
  told <- list()
  for (side in Filter(function(side) length(side$names) > 0, sides)) {
    share <- shares_of_pieces(as_shapes(out), side$rows, side$wholes)
    for (name in side$names) {
      out[[name]] <- as_plain_number(out[[name]]) * share
      totals <- c(sum(out[[name]], na.rm = TRUE), sum(as_plain_number(side$table[[name]]), na.rm = TRUE))
      text <- paste(paste(format_count(signif(as.double(totals), 10)), collapse = " of "), "apportioned")
      told <- c(told, account(remark(paste0(name, ": ", text))))
    }
  }
  list(frame = out, account = told)
}

# What of its row each piece is: of the area where the row has one, else of the length, else of the points.
shares_of_pieces <- function(pieces, rows, wholes) {
  share <- rep(NA_real_, length(pieces))
  left <- which(!is.na(rows))
  points_of <- function(shapes) as.double(core(core_vertex_counts(handles_of(shapes), store_of(shapes))))
  for (measure in c("area", "length", "points")) {
    size <- function(shapes) if (measure == "points") points_of(shapes) else measure_of_cuts(shapes, measure)
    whole <- size(wholes)
    these <- left[which(whole[rows[left]] > 0)]
    left <- setdiff(left, these)
    if (!length(these)) next
    share[these] <- size(pieces[these]) / whole[rows[these]]
  }
  share
}

# Pieces on ground that several rows of a layer cover are there for each of them, so that areas add up to more.
tell_stacked <- function(stacked, shapes, name) {
  rounding <- 1e-9
  if (!stacked[1] || stacked[2] <= rounding * sum(true_measure(shapes, "area"), na.rm = TRUE)) return(invisible())
  say(c("!" = "{counted(stacked[1], 'row')} of {.arg {name}} overlap, on {format_area(stacked[2], crs_of(shapes))}: pieces there come once for each.",
        i = "{.code flatten_layer({name})} takes such rows apart first."))
}

only_lines <- function(shapes) all(geometry_type_of(shapes) %in% c("line", "multiline", NA))

# Polygons cut along lines, whose columns lie on neither side.
split_at_lines <- function(x, y, apportion, crs, verb_call, call) {
  verb <- begin_verb("split_by", verb_call)
  y <- meet(x, y, crs, call = call)
  if (!only_lines(as_shapes(y))) {
    fail("argument", c("{.arg column} is missing: which column of {.arg y} do the pieces take?", i = "Lines need none."), call = call)
  }
  a <- polygons_of(x, "x", call)
  b <- overlay_shapes(y, call)
  found <- core(core_split_by_lines(handles_of(a), store_of(a), handles_of(b), store_of(b)), call = call)
  shapes <- deepened(shapes_of_core(list(store = found$store, handles = seq_along(found$x)), crs_of(a)), found$x, a)
  out <- with_shapes(vctrs::vec_slice(x, found$x), shapes)
  shared <- apportioned_pieces(out, list(list(names = totals_to_apportion(out, apportion, call), rows = found$x, wholes = a, table = x)))
  out <- shared$frame
  cut <- length(unique(found$x[duplicated(found$x)]))
  counts <- c(account(entry(cut, "cut"), entry(sum(is.na(a)), "without a shape", "left out")), shared$account)
  end_verb(verb, out, x, counts, stale = if (cut) measure_columns(x))
}

#' Take a layer apart where its polygons overlap
#'
#' Cuts a layer into pieces none of which overlaps another: one for each set of rows that lie on the same ground.
#'
#' @param x A spatial frame of polygons.
#' @return A spatial frame: `rows`, a list of the row numbers of `x` that lie on the piece, `count`, how many they are, the columns of the
#'   first of them, and the piece.
#' @section Errors: `civicatlas_error_argument` for shapes that are no polygons.
#' @examples
#' rooms <- read_layer(demo_file("rooms.geojson"))[1:20, ] |> reproject_to(32757)
#' flatten_layer(buffer_by(rooms, 900))
#' @export
flatten_layer <- function(x) {
  verb <- begin_verb("flatten_layer")
  call <- rlang::current_env()
  need_frame(x, "flatten_layer", call)
  shapes <- polygons_of(x, "x", call)
  found <- core(core_flatten(handles_of(shapes), store_of(shapes)), call = call)
  counts <- lengths(found$rows)
  out <- vctrs::vec_slice(x, vapply(found$rows, `[`, 0L, 1))
  pieces <- shapes_of_core(list(store = found$store, handles = seq_along(counts)), crs_of(shapes))
  out <- with_shapes(out, deepened(pieces, found$rows, shapes))
  out <- add_columns(out, tibble::tibble(rows = found$rows, count = counts), "_flat")
  shared <- counts > 1
  overlaps <- if (any(shared)) entry(sum(shared), "of several rows", area_in_words(as_shapes(out)[shared])) else remark("no overlaps")
  end_verb(verb, out, x, account(overlaps), stale = measure_columns(x))
}

# Shapes for planar work on borders, on longitude and latitude cut at the antimeridian; what that means is said once.
overlay_shapes <- function(x, call) {
  shapes <- as_shapes(x, call = call)
  if (is_geographic(shapes)) {
    say_once("planar overlay", c(i = paste("Borders on longitude and latitude are taken as straight in degrees;",
                                           "areas are measured along the ellipsoid all the same.")))
  }
  without_outliers(on_one_turn(shapes))
}

# Fill values such as 1e15 among coordinates: all shapes of an overlay share one grid, which such a shape would make too coarse for the
# others, so that it is left out as if it were missing, and named.
without_outliers <- function(shapes) {
  largest <- max(abs(box_of(shapes)))
  if (is.na(largest) || largest <= least_suspect(crs_of(shapes))) return(shapes)
  boxes <- core(core_boxes(handles_of(shapes), store_of(shapes)))
  far <- pmax(abs(boxes[1, ]), abs(boxes[2, ]), abs(boxes[3, ]), abs(boxes[4, ]))
  middle <- stats::quantile(far, 0.5, na.rm = TRUE, names = FALSE, type = 1)
  limit <- if (!is.null(crs_of(shapes))) least_suspect(crs_of(shapes)) else if (middle > 0) 1e6 * middle else Inf
  rows <- which(far > limit)
  if (!length(rows)) return(shapes)
  some <- paste(counted(length(rows), "shape"), if (length(rows) == 1) "has" else "have")
  caution("data", c("{some} coordinates of up to {signif(max(far[rows]), 3)}, far from all places: left out, as the others would lose digits.",
                    i = "First rows: {utils::head(rows, 5)}."))
  new_shapes(replace(handles_of(shapes), rows, NA), store_of(shapes), crs_of(shapes))
}

# No place on Earth has larger coordinates. Without a CRS a row is an outlier beyond a million times the middle one.
least_suspect <- function(crs) {
  switch(crs$kind %||% "none", geographic = 1e4, projected = 1e9 / crs$unit_size, none = 540, Inf)
}

are_deep <- function(shapes) !is.na(shapes) & core(core_types(handles_of(shapes), store_of(shapes))) >= 1000L

# What works in the plane has no place for Z and M.
tell_flat <- function(shapes) tell_depth_lost(sum(are_deep(shapes)))

tell_depth_lost <- function(shapes) {
  if (shapes) say(c("!" = "Z and M of {counted(shapes, 'shape')} are left out: there are new vertices that have none."))
}

# Shapes that were made of others with the Z and M that those have: each of the rows of `from` in its element of `of`.
deepened <- function(made, of, from) {
  if (!any(are_deep(from))) return(made)
  start <- c(0L, cumsum(lengths(of)))
  found <- core(core_with_depth(handles_of(made), store_of(made), as.integer(start), as.integer(unlist(of)), handles_of(from), store_of(from)))
  tell_depth_lost(found$flat)
  shapes_of_core(found, crs_of(made))
}

polygons_of <- function(x, name, call) {
  shapes <- overlay_shapes(x, call)
  misfits <- which(!is.na(shapes) & !geometry_type_of(shapes) %in% c("polygon", "multipolygon"))
  if (length(misfits)) fail("argument", "{.arg {name}} must hold polygons; row {misfits[1]} is a {geometry_type_of(shapes[misfits[1]])}.", call = call)
  shapes
}

# The shapes of pieces, those that are all of a shape of lines or points being that shape itself.
with_wholes <- function(found, x, y = NULL) {
  shapes <- shapes_of_core(list(store = found$store, handles = seq_along(found$x)), crs_of(x))
  whole_x <- which(found$whole & !is.na(found$x))
  whole_y <- which(found$whole & is.na(found$x))
  if (length(whole_x)) shapes[whole_x] <- x[found$x[whole_x]]
  if (length(whole_y)) shapes[whole_y] <- y[found$y[whole_y]]
  shapes
}

pieces_in_order <- function(found, x, y) {
  order <- order(is.na(found$x), found$x, is.na(found$y), found$y)
  list(shapes = with_wholes(found, x, y)[order], x = found$x[order], y = found$y[order], touching = found$touching)
}

# How far the borders of y moved onto those of x, and what became of its areas.
tell_brought <- function(found, y, shapes) {
  gone <- which(found$had > 0 & found$covers == 0)
  if (length(gone)) {
    has <- if (length(gone) == 1) "has" else "have"
    caution("data", c("{counted(length(gone), 'shape')} of {.arg y} {has} nothing left, being narrower than the tolerance.",
                      i = "First rows: {utils::head(gone, 5)}; a smaller tolerance keeps them."))
  }
  unit <- if (in_plain_degrees(shapes)) "m" else "coordinate units"
  moved <- if (found$moved) paste0(counted(found$moved, "vertex", "vertices"), " moved, by ", signif(found$farthest, 2), " ", unit, " at most")
  thin <- if (found$thin) paste0(counted(found$thin, "piece"), " narrower than the tolerance left, all that ",
                                 if (found$thin == 1) "its shape has" else "their shapes have", " there")
  parts <- c(moved, change_in_words(change_of_areas(found$had, found$covers), y, crs_of(shapes)), thin)
  say("{.fn overlay_with}: {.arg y} brought onto the borders of {.arg x}: {paste(parts, collapse = '; ')}.")
}

# A length in coordinate units, or metres on longitude and latitude where the core takes these there.
positive_length <- function(shapes, length, unit, name, call, metres_on_globe = FALSE) {
  if (!is_positive(length)) fail("argument", "{.arg {name}} must be one number above 0.", call = call)
  if (metres_on_globe && in_plain_degrees(shapes)) return(length * length_units[[one_of(unit %||% "m", names(length_units), "unit", call = call)]])
  if (!is.null(crs_of(shapes)) && !is_geographic(shapes)) return(length * coordinate_units(shapes, unit, call))
  if (!is.null(unit)) {
    fail("crs", c("{.arg {name}} is in the units of the coordinates, which are {if (is_geographic(shapes)) 'degrees' else 'not known'}.",
                  i = "Leave out {.arg unit}, or reproject the layer first."), call = call)
  }
  if (is_geographic(shapes) && length > 1) {
    fail("crs", c("{.arg {name}} is in the units of the coordinates, which are degrees: {length} of them are more than 100 km.",
                  i = "Reproject the layer first for metres; 0.001 degrees of latitude are about 100 m."), call = call)
  }
  length
}

is_positive <- function(x) is.numeric(x) && length(x) == 1 && is.finite(x) && x > 0

# How many units of a projected layer's coordinates a unit of length is, metres by default.
coordinate_units <- function(shapes, unit, call) {
  length_units[[one_of(unit %||% "m", names(length_units), "unit", call = call)]] / crs_of(shapes)$unit_size
}

# Whether two shapes differ in area, length or number of points.
differ_in_size <- function(a, b) {
  size <- function(x, what) core(core_planar_measure(handles_of(x), store_of(x), what))
  differs <- function(p, q) abs(p - q) > 1e-12 * pmax(p, q)
  points <- function(x) core(core_vertex_counts(handles_of(x), store_of(x)))
  only_points <- geometry_type_of(a) %in% c("point", "multipoint")
  differs(size(a, "area"), size(b, "area")) | differs(size(a, "length"), size(b, "length")) | (only_points & points(a) != points(b))
}

tell_self_crossing <- function(rows, name) {
  if (!length(rows)) return(invisible())
  what <- if (length(rows) == 1) "crosses or overlaps itself and was" else "cross or overlap themselves and were"
  caution("data", c("{counted(length(rows), 'shape')} of {.arg {name}} {what} taken by the even-odd rule.",
                    i = "First rows: {utils::head(rows, 5)}; {.fn repair_shapes} mends them."))
}
