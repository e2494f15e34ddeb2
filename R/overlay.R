#' Combine layers of polygons
#'
#' `overlay_with()` cuts two layers where they meet; its pieces carry the columns of both. `clip_to()` keeps what lies
#' within a mask, `erase_by()` what does not. `split_by()` cuts a layer by another and takes one column from it.
#'
#' All borders of both layers are brought together in one snap rounding (Hobby 1999) on a grid of the size of the coordinates'
#' last bit, with exact predicates: it does not fail, neighbours keep identical borders, results are valid by OGC 06-103r4,
#' and areas add up. Invalid polygons are taken by the even-odd rule, which is said.
#'
#' @param x,y,mask Spatial frames of polygons on one CRS (for `clip_to()` and `erase_by()` also shape vectors).
#' @param keep Which pieces: `"intersection"` where both lie; `"union"` all; `"difference"` where only `x` lies; `"symmetric
#'   difference"` where only one lies; `"identity"` all of `x`, cut by `y`.
#' @param column The column of `y` to take, by name.
#' @param suffix Put after names of `y`'s columns that `x` has too.
#' @param crs See [related_pairs()].
#' @return A spatial frame (`clip_to()` and `erase_by()`: as `x`). `overlay_with()` has a row for each piece, in the order of
#'   `x`, then of `y`; columns of `x`, then of `y`, `NA` on the side that does not cover the piece. Pieces that are lines or
#'   points, where polygons only touch, are left out.
#' @section Errors: `civicatlas_error_crs_mismatch` where the CRSs differ; `civicatlas_error_argument` for shapes that are no
#'   polygons or an unknown `keep`.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' zone <- spatial_frame(zone = "north", geometry = shapes_from_wkt(
#'   "POLYGON ((583000 4751000, 605000 4751000, 605000 4760000, 583000 4760000, 583000 4751000))", crs = 32757))
#' overlay_with(wards, zone, keep = "identity")
#' clip_to(wards, zone)
#' @export
overlay_with <- function(x, y, keep = "intersection", suffix = "_y", crs = "equal") {
  started <- clock()
  call <- rlang::current_env()
  need_frames(x, y, call)
  one_of(keep, names(overlay_parts), "keep", call = call)
  y <- meet(x, y, crs, call = call)
  a <- polygons_of(x, "x", call)
  b <- polygons_of(y, "y", call)
  parts <- overlay_parts[[keep]]
  found <- core(core_overlay(handles_of(a), store_of(a), handles_of(b), store_of(b), "both" %in% parts, "x" %in% parts, "y" %in% parts), call = call)
  tell_odd(found, c("x", "y"))
  order <- order(is.na(found$x), found$x, is.na(found$y), found$y)
  shapes <- shapes_of_core(found, crs_of(a))[order]
  rows <- list(x = found$x[order], y = found$y[order])
  out <- with_shapes(vctrs::vec_slice(x, ifelse(is.na(rows$x), NA_integer_, rows$x)), shapes)
  out <- add_columns(out, vctrs::vec_slice(attribute_table(y), rows$y), suffix)
  counts <- c("where both lie" = sum(!is.na(rows$x) & !is.na(rows$y)), "of x alone" = sum(is.na(rows$y)), "of y alone" = sum(is.na(rows$x)))
  account <- paste(format_count(counts), names(counts))[counts > 0 | c("both", "x", "y") %in% parts]
  say("{.fn overlay_with}: {format_count(nrow(x))} and {counted(nrow(y), 'row')} in, {format_count(nrow(out))} out: {paste(account, collapse = ', ')}.")
  tell_stale(out)
  warn_if_apart(x, y, !nrow(out))
  record(out, x, "overlay_with", rlang::current_call(), nrow(x), account, started)
}

# Which pieces each kind of overlay keeps.
overlay_parts <- list(
  intersection = "both", union = c("both", "x", "y"), difference = "x", "symmetric difference" = c("x", "y"), identity = c("both", "x")
)

#' @rdname overlay_with
#' @export
clip_to <- function(x, mask, crs = "equal") masked(x, mask, crs, inside = TRUE, "clip_to", rlang::current_call(), rlang::current_env())

#' @rdname overlay_with
#' @export
erase_by <- function(x, mask, crs = "equal") masked(x, mask, crs, inside = FALSE, "erase_by", rlang::current_call(), rlang::current_env())

masked <- function(x, mask, crs, inside, verb, verb_call, call) {
  started <- clock()
  mask <- meet(x, mask, crs, y_name = "mask", call = call)
  a <- polygons_of(x, "x", call)
  b <- polygons_of(mask, "mask", call)
  found <- core(core_mask(handles_of(a), store_of(a), handles_of(b), store_of(b), inside), call = call)
  tell_odd(found, c("x", "mask"))
  shapes <- shapes_of_core(found, crs_of(a))
  left <- which(!is.na(shapes))
  gone <- sum(!is.na(a)) - length(left)
  cut <- sum(abs(planar_areas(a[left]) - planar_areas(shapes[left])) > 1e-12 * planar_areas(a[left]))
  out <- if (is_spatial_frame(x)) with_shapes(x, shapes)[left, ] else shapes[left]
  parts <- c(if (cut) paste(format_count(cut), "cut"), if (gone) paste(format_count(gone), if (inside) "outside and left out" else "covered and left out"))
  say("{.fn {verb}}: {counted(length(a), 'row')} in, {format_count(length(left))} out{paste0(': ', paste(parts, collapse = ', '))[length(parts) > 0]}.")
  if (cut) tell_stale(out)
  warn_if_apart(a, b, inside && !length(left))
  record(out, x, verb, verb_call, length(a), parts, started)
}

#' @rdname overlay_with
#' @export
split_by <- function(x, y, column, suffix = "_y", crs = "equal") {
  call <- rlang::current_env()
  need_frames(x, y, call)
  column <- rlang::as_name(rlang::ensym(column))
  need_column(y, column, "column", call = call)
  overlay_with(x, y[c(column, shape_column_name(y))], "identity", suffix, crs)
}

#' Dissolve polygons
#'
#' Joins the polygons of each group into one shape: shared borders go, islands stay as parts of it, overlaps count once.
#'
#' @param x A spatial frame of polygons.
#' @param ... Columns to group by, unnamed, and named summaries of the others, as in [dplyr::summarise()]. Without columns all
#'   become one.
#' @return A spatial frame of one row a group, in the order of the groups' first rows: the group columns, the summaries, the
#'   shape.
#' @section Errors: `civicatlas_error_column` for a column that is not there; `civicatlas_error_argument` for shapes that are
#'   no polygons and for summaries that fail.
#' @examples
#' cells <- read_layer(demo_file("cells.zip")) |> mend_numbers()
#' cells |> dissolve_by(ward_id, people = sum(pop_total, na.rm = TRUE))
#' @export
dissolve_by <- function(x, ...) {
  started <- clock()
  call <- rlang::current_env()
  if (!is_spatial_frame(x)) fail("argument", "{.fn dissolve_by} takes a spatial frame.", call = call)
  given <- rlang::enquos(...)
  named <- nzchar(rlang::names2(given))
  shapes <- polygons_of(x, "x", call)
  attributes <- attribute_table(x)
  keys <- names(choose_columns(attributes, rlang::quo(c(!!!given[!named])), "...", call))
  groups <- if (length(keys)) vctrs::vec_group_id(attributes[keys]) else rep(1L, nrow(x))
  count <- if (length(groups)) max(groups) else 0L
  found <- core(core_dissolve(handles_of(shapes), store_of(shapes), as.integer(groups), as.integer(count)), call = call)
  tell_odd(found, "x")
  table <- vctrs::vec_slice(attributes[keys], match(seq_len(count), groups))
  if (any(named)) table <- add_columns(table, summaries_by_group(attributes, groups, given[named], call), "_summary")
  out <- spatial_frame(!!!as.list(table), !!shape_column_name(x) := shapes_of_core(found, crs_of(shapes)))
  parts <- sum(grepl("^multi", geometry_type_of(out)))
  account <- if (parts) paste(format_count(parts), "of several parts")
  say("{.fn dissolve_by}: {counted(nrow(x), 'row')} in, {format_count(nrow(out))} out{paste0(', ', account)[length(account) > 0]}.")
  attr(out, "history") <- NULL
  record(out, x, "dissolve_by", rlang::current_call(), nrow(x), account, started)
}

summaries_by_group <- function(attributes, groups, summaries, call) {
  attributes$.group <- groups
  names <- names(summaries)
  names(summaries) <- paste0(".summary_", seq_along(names))
  found <- summarise_checked(dplyr::group_by(attributes, .data$.group), summaries, attributes, call)
  stats::setNames(found[-1], names)
}

#' Make polygons valid
#'
#' Cuts rings where they cross and puts them together again by a rule, shape by shape, so that the result is valid by OGC
#' 06-103r4; says what changed in area.
#'
#' @param x A spatial frame or shape vector of polygons.
#' @param rule `"even-odd"`: what an odd number of rings encloses is inside, so that a bow tie has two halves and a ring
#'   within a ring is a hole, whatever their directions. `"winding"`: what rings run around is inside, so that overlapping
#'   parts become one.
#' @return `x` with valid shapes.
#' @section Errors: `civicatlas_error_format` for coordinates that are not finite, `civicatlas_error_argument` for shapes that
#'   are no polygons.
#' @examples
#' bow_tie <- shapes_from_wkt("POLYGON ((0 0, 4 4, 4 0, 0 4, 0 0))")
#' repair_shapes(bow_tie)
#' @export
repair_shapes <- function(x, rule = "even-odd") {
  started <- clock()
  call <- rlang::current_env()
  one_of(rule, c("even-odd", "winding"), "rule", call = call)
  shapes <- polygons_of(x, "x", call)
  found <- core(core_repair(handles_of(shapes), store_of(shapes), rule == "winding"), call = call)
  repaired <- shapes_of_core(found, crs_of(shapes))
  before <- planar_areas(shapes)
  after <- planar_areas(repaired)
  change <- abs(after - before)
  changed <- which(change > 1e-9 * pmax(before, after))
  gone <- sum(is.na(repaired) & !is.na(shapes))
  parts <- c(if (length(changed)) paste("area changed in", counted(length(changed), "shape")), if (gone) paste(format_count(gone), "without area, now missing"))
  say("{.fn repair_shapes}: {counted(length(shapes), 'shape')}{paste0(': ', paste(parts, collapse = ', '))[length(parts) > 0]}.")
  record(with_shapes(x, repaired), x, "repair_shapes", rlang::current_call(), length(shapes), parts, started)
}

polygons_of <- function(x, name, call) {
  shapes <- as_shapes(x, call = call)
  odd <- which(!is.na(shapes) & !geometry_type_of(shapes) %in% c("polygon", "multipolygon"))
  if (length(odd)) {
    fail("argument", c("{.arg {name}} must hold polygons; row {odd[1]} is a {geometry_type_of(shapes[odd[1]])}.",
                       i = "For points and polygons use {.fn join_where}."), call = call)
  }
  crs <- crs_of(shapes)
  if (!is.null(crs) && crs$kind == "geographic") {
    say_once("planar overlay", c(i = "Borders on longitude and latitude are taken as straight in degrees; areas are measured along the ellipsoid all the same."))
  }
  shapes
}

tell_odd <- function(found, names) {
  for (name in names) {
    rows <- found[[if (name == "mask" || name == "y") "odd_y" else "odd_x"]]
    if (length(rows)) {
      caution("data", c("{counted(length(rows), 'shape')} of {.arg {name}} {cli::qty(length(rows))}{?crosses or overlaps itself/cross or overlap themselves} and {?was/were} taken by the even-odd rule.",
                        i = "First rows: {utils::head(rows, 5)}; {.fn repair_shapes} mends them."))
    }
  }
}

# Columns of measures taken before a cut.
tell_stale <- function(x) {
  if (!is_spatial_frame(x)) return(invisible())
  stale <- grep("^(shape_?)?(area|length|leng|perimeter)(_|$)", names(x), value = TRUE, ignore.case = TRUE)
  if (length(stale)) say(c("!" = "Measured before the cut: {.val {stale}}; {.fn add_measures} measures anew."))
}
