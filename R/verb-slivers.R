#' Slivers and gaps
#'
#' For layers whose polygons are meant to lie side by side. `find_gaps()` lists what no polygon covers although polygons are all
#' around; `find_slivers()` what two polygons cover both, and thin parts; `close_gaps()` brings borders that nearly meet onto one
#' another, without rounding corners as buffers out and back do; `absorb_slivers()` gives thin shapes to a neighbour.
#'
#' The width of a piece is its area over half its perimeter, near enough the breadth of a strip; its thinness is `4 pi` area over
#' perimeter squared, 1 for a circle, near 0 for a strip (Polsby and Popper 1991).
#'
#' `close_gaps()` takes shapes in order: the first stays, those after it follow. A vertex nearer than the tolerance to an earlier
#' shape's vertex, or else edge, moves onto it, and edges take in the vertices they pass; gaps and overlaps that are left with a
#' width below the tolerance go to the neighbour with the longest border along them, and to the earlier shape. No vertex moves
#' farther than the tolerance at a time.
#'
#' @param x A spatial frame or shape vector of polygons.
#' @param narrower_than Only pieces whose width is below this, in `unit`.
#' @param area Only pieces whose area is below this, in square `unit`; for thin parts a hundredth of the mean area of a shape
#'   where nothing is given.
#' @param thinness Only parts thinner than this count as slivers, from 0 to 1.
#' @param unit `"m"`, `"km"`, `"ft"`, … as in [length_of()]; metres by default, on longitude and latitude too, where pieces are measured along the
#'   ellipsoid; coordinate units where the CRS is missing.
#' @param tolerance How far apart borders may be to be brought together, in `unit`.
#' @param force `TRUE` to close gaps even where shapes change by more area than gaps and overlaps had.
#' @param first Which shapes stay as they are where two differ: `"row"` the earlier row, `"largest"` the larger.
#' @return `find_gaps()`: a frame of `neighbour` (the row with the longest border along the gap), `area`, `width`, `thinness` and the
#'   gap. `find_slivers()`: `kind` (`"overlap"` or `"thin part"`), `row`, `other` (the second row of an overlap), `area`, `width`, `thinness`
#'   and the piece. Areas are in square `unit`. `close_gaps()`: `x` with its borders brought together. `absorb_slivers()`: `x` without
#'   the rows that were absorbed.
#' @section Errors: `civicatlas_error_argument` for shapes that are no polygons and for tolerances that are no positive numbers.
#' @examples
#' districts <- read_layer(demo_file("districts.shp"))
#' find_gaps(districts)
#' find_slivers(districts)
#' mended <- close_gaps(districts, 30)
#' find_gaps(mended)
#' @export
find_gaps <- function(x, narrower_than = NULL, area = NULL, unit = NULL) {
  call <- rlang::current_env()
  shapes <- polygons_of(x, "x", call)
  found <- core(core_gaps(handles_of(shapes), store_of(shapes), in_plain_degrees(shapes)), call = call)
  pieces <- shapes_of_core(list(store = found$store, handles = seq_along(found$x)), crs_of(shapes))
  out <- pieces_frame(list(neighbour = found$x), pieces, unit, call)
  out <- narrowed(out, narrower_than, area)
  say("{.fn find_gaps}: {counted(nrow(out), 'gap')} among {counted(length(shapes), 'shape')}{shown_total(out)}.")
  out
}

#' @rdname find_gaps
#' @export
find_slivers <- function(x, narrower_than = NULL, area = NULL, thinness = 0.1, unit = NULL) {
  call <- rlang::current_env()
  shapes <- polygons_of(x, "x", call)
  found <- core(core_overlaps(handles_of(shapes), store_of(shapes)), call = call)
  overlaps <- single_parts(shapes_of_core(list(store = found$store, handles = seq_along(found$x)), crs_of(shapes)))
  parts <- single_parts(shapes)
  rows <- list(
    kind = rep(c("overlap", "thin part"), c(length(overlaps$rows), length(parts$rows))),
    row = c(found$x[overlaps$rows], parts$rows), other = c(found$y[overlaps$rows], rep(NA_integer_, length(parts$rows)))
  )
  out <- pieces_frame(rows, vctrs::vec_c(overlaps$shapes, parts$shapes), unit, call)
  small <- area %||% (sum(out$area[out$kind == "thin part"]) / length(shapes) / 100)
  out <- out[out$kind == "overlap" | (out$thinness < thinness & out$area < small), ]
  out <- narrowed(out, narrower_than, area)
  kinds <- c(overlap = sum(out$kind == "overlap"), "thin part" = sum(out$kind == "thin part"))
  found <- paste(counted(kinds[[1]], "overlap"), "and", counted(kinds[[2]], "thin part"))
  say("{.fn find_slivers}: {found} among {counted(length(shapes), 'shape')}{shown_total(out)}.")
  out
}

#' @rdname find_gaps
#' @export
close_gaps <- function(x, tolerance, unit = NULL, first = "row", force = FALSE) {
  verb <- begin_verb("close_gaps")
  call <- rlang::current_env()
  one_of(first, c("row", "largest"), "first", call = call)
  shapes <- polygons_of(x, "x", call)
  reach <- positive_length(shapes, tolerance, unit, "tolerance", call, metres_on_globe = TRUE)
  if (!isTRUE(force)) need_wider_shapes(shapes, reach, call)
  ranks <- if (first == "row") seq_along(shapes) else rank(-true_measure(shapes, "area"), ties.method = "first", na.last = TRUE)
  found <- core(core_close_gaps(handles_of(shapes), store_of(shapes), as.integer(ranks), reach, in_plain_degrees(shapes)), call = call)
  out <- deepened(shapes_of_rows(found, length(shapes), crs_of(shapes)), seq_along(shapes), shapes)
  gone <- which(is.na(out) & !is.na(shapes))
  if (length(gone)) {
    caution("data", c("{counted(length(gone), 'shape')} {cli::qty(length(gone))}{?is/are} thinner than the tolerance and {?has/have} nothing left.",
                      i = "First rows: {utils::head(gone, 5)}; a smaller tolerance keeps them."))
  }
  crs <- crs_of(shapes)
  change <- change_of_areas(found$before, found$after)
  if (!isTRUE(force)) need_small_change(change, found$gap_area + found$overlap_area, out, reach, x, call)
  counts <- account(entry(found$gaps, "closed", format_area(found$gap_area, crs), of = "gap"),
                    entry(found$overlaps, "closed", format_area(found$overlap_area, crs), of = "overlap"), entry(found$moved, "moved", of = "vertex"))
  if (!length(counts)) counts <- account(remark("no gaps or overlaps"))
  end_verb(verb, with_shapes(x, out), x, c(counts, account(remark(change_in_words(change, x, crs)))), line = counted(length(shapes), "shape"),
           stale = measure_columns(x))
}

# How the area of each shape changed, less what comes of rounding.
change_of_areas <- function(before, after) ifelse(abs(after - before) <= 1e-9 * before, 0, after - before)

# "area 1.2 ha more in all, most of one shape 0.4 ha less (row 3, Kelp)"
change_in_words <- function(change, x, crs) {
  amount <- function(area) paste(format_area(abs(area), crs), if (area < 0) "less" else "more")
  if (all(change == 0)) return("areas as they were")
  most <- which.max(abs(change))
  paste0("area ", amount(sum(change)), " in all, of one shape at most ", amount(change[most]), " (", row_in_words(x, most), ")")
}

# "row 3", and what names it where its columns do.
row_in_words <- function(x, row) {
  columns <- if (is_spatial_frame(x)) attribute_table(dplyr::ungroup(x))
  named <- grep("name", names(columns), ignore.case = TRUE, value = TRUE)[1]
  words <- if (!is.na(named) && is.character(columns[[named]])) columns[[named]][row]
  paste0("row ", format_count(row), if (!is.null(words) && !is.na(words)) paste0(", ", words))
}

# A tolerance as wide as the shapes themselves would take them for slivers, and take long.
need_wider_shapes <- function(shapes, reach, call) {
  width <- 2 * true_measure(shapes, "area") / true_measure(shapes, "perimeter")
  thin <- sum(width < reach, na.rm = TRUE)
  if (thin <= sum(!is.na(width)) / 2) return(invisible())
  fail("argument", c("{format_count(thin)} of {counted(length(shapes), 'shape')} are thinner than the tolerance, which would move more than it closes.",
                     i = "A smaller {.arg tolerance} moves less; {.code force = TRUE} closes them all the same."), call = call)
}

# Borders that are brought together change areas by the strips between them and those that both had: by what was found closed, or, where a
# strip is open at an end, by less than the tolerance along the border that two shapes now share. More means that the tolerance is too
# large for the shapes.
need_small_change <- function(change, closed, out, reach, x, call) {
  moved <- max(sum(abs(change)) / 2, abs(sum(change)))
  if (moved <= closed * (1 + 1e-6)) return(invisible())
  perimeter <- function(shapes) sum(true_measure(shapes, "perimeter"), na.rm = TRUE)
  closed <- max(closed, reach * (perimeter(out) - perimeter(dissolved(out, call))) / 2)
  if (moved <= closed) return(invisible())
  crs <- crs_of(out)
  amounts <- paste0("gaps and overlaps are at most ", format_area(closed, crs), ", and shapes change by ", format_area(moved, crs))
  fail("argument", c("The tolerance would move more than it closes: {amounts}.",
                     x = "{change_in_words(change, x, crs)}.",
                     i = "A smaller {.arg tolerance} moves less; {.code force = TRUE} closes them all the same."), call = call)
}

#' @param into The neighbour that takes a sliver: the one with the `"longest border"` along it, or the `"largest"`.
#' @param same A column of `x`: slivers go only to neighbours with the same value.
#' @param add Columns of numbers of `x` whose values in slivers are added to those of the neighbours that take them, missing ones as 0;
#'   the other columns of slivers go with them.
#' @rdname find_gaps
#' @export
absorb_slivers <- function(x, area = NULL, thinness = NULL, narrower_than = NULL, unit = NULL, into = "longest border", same = NULL,
                           add = NULL) {
  verb <- begin_verb("absorb_slivers")
  call <- rlang::current_env()
  need_frame(x, "absorb_slivers", call)
  one_of(into, absorbing_neighbours, "into", call = call)
  if (is.null(area) && is.null(thinness) && is.null(narrower_than)) {
    fail("argument", c("Nothing says which shapes are slivers.", i = "Give {.arg area}, {.arg narrower_than} or {.arg thinness}."), call = call)
  }
  shapes <- polygons_of(x, "x", call)
  same <- rlang::enquo(same)
  classes <- if (rlang::quo_is_null(same)) integer() else as.integer(vctrs::vec_group_id(choose_columns(attribute_table(x), same, "same", call)))
  add <- rlang::enquo(add)
  added <- if (!rlang::quo_is_null(add)) number_columns(attribute_table(x), add, "add", call)
  measured <- pieces_frame(list(), shapes, unit, call)
  below <- function(value, limit) if (is.null(limit)) rep(TRUE, length(value)) else !is.na(value) & value < limit
  sliver <- below(measured$area, area) & below(measured$thinness, thinness) & below(measured$width, narrower_than) & !is.na(shapes)
  found <- core(core_absorb(handles_of(shapes), store_of(shapes), sliver, classes, into == "largest", in_plain_degrees(shapes)), call = call)
  absorbed <- !is.na(found$into)
  counts <- account(
    if (any(absorbed)) entry(sum(absorbed), "absorbed", area_in_words(shapes[absorbed])) else remark("none absorbed"),
    entry(sum(sliver & !absorbed), "without a neighbour to take them", "left"), if (length(added)) remark(paste(paste(added, collapse = ", "), "added up"))
  )
  taker <- ifelse(absorbed, found$into, seq_along(shapes))
  x[added] <- lapply(unclass(x)[added], sum_by, taker)
  made <- shapes_of_rows(found, length(shapes), crs_of(shapes))
  made <- deepened(made, split(seq_along(shapes), factor(taker, seq_along(shapes))), shapes)
  end_verb(verb, with_shapes(x, made)[!absorbed, ], x, counts, stale = if (any(absorbed)) measure_columns(x))
}

# Of each row the sum of the values whose taker it is; missing where all of them are.
sum_by <- function(values, taker) {
  some <- !is.na(values)
  sums <- rowsum(as.double(values[some]), taker[some])
  replace(rep(NA_real_, length(values)), as.integer(rownames(sums)), sums[, 1])
}

number_columns <- function(attributes, columns, argument, call) {
  names <- names(choose_columns(attributes, columns, argument, call))
  text <- names[!vapply(attributes[names], is.numeric, NA)]
  if (length(text)) {
    fail("argument", c("{.arg {argument}} takes columns of numbers; {.val {text[1]}} holds {.cls {class(attributes[[text[1]]])[1]}}.",
                       i = "{.fn mend_numbers} turns text into numbers."), call = call)
  }
  names
}

# A frame of pieces with their measures in a unit.
pieces_frame <- function(columns, pieces, unit, call) {
  scale <- 1 / positive_length(pieces, 1, unit, "unit", call, metres_on_globe = TRUE)
  warn_of_areas(pieces)
  area <- true_measure(pieces, "area") * scale^2
  perimeter <- true_measure(pieces, "perimeter") * scale
  over <- function(x, y) replace(x / y, y == 0, 0)  # a place has neither
  measures <- list(area = area, width = over(2 * area, perimeter), thinness = over(4 * pi * area, perimeter^2), geometry = pieces)
  frame_of_columns(!!!columns, !!!measures)
}

narrowed <- function(pieces, narrower_than, area) {
  keep <- rep(TRUE, nrow(pieces))
  if (!is.null(narrower_than)) keep <- keep & pieces$width < narrower_than
  if (!is.null(area)) keep <- keep & pieces$area < area
  pieces <- pieces[keep, ]
  pieces[order(pieces$area, decreasing = TRUE), ]
}

shown_total <- function(pieces) if (nrow(pieces)) paste0(", ", area_in_words(as_shapes(pieces)), " in all") else ""

single_parts <- function(shapes) {
  found <- core(core_derive(handles_of(shapes), store_of(shapes), "parts"))
  list(shapes = shapes_of_core(list(store = found$store, handles = seq_along(found$x)), crs_of(shapes)), rows = found$x)
}

absorbing_neighbours <- c("longest border", "largest")
