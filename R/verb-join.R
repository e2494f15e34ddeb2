#' Join layers by location
#'
#' `join_where()` adds to each row of `x` the columns of the rows of `y` it is related to; `pick_where()` adds columns of
#' the one related row of `y` that ranks highest (or lowest). Both keep the shapes of `x`, and say in a line how many
#' rows went in and out, how many found no partner, and how many were repeated or tied.
#'
#' @param x,y Spatial frames on one CRS.
#' @param relation,distance,unit,crs See [related_pairs()]; the relation reads "x relation y".
#' @param unmatched `"keep"` rows of `x` without a partner, with `NA`, or `"drop"` them.
#' @param multiple Where a row has several partners: `"all"` repeats the row, `"first"` takes the first row of `y`,
#'   `"largest"` the one with which it shares the most area or length; points take the polygon with the largest area.
#' @param suffix Put after names of `y`'s columns that `x` has too.
#' @param take Columns of `y` to take, as in [dplyr::select()].
#' @param rank_by A column of `y`, or an expression on them, that ranks its rows.
#' @param highest `FALSE` to take the lowest-ranking row.
#' @return A spatial frame in the row order of `x`. `pick_where()` has exactly the rows of `x`; ties go to the first row
#'   of `y` and are counted; a missing rank ranks last.
#' @section Errors: `civicatlas_error_crs_mismatch` where the CRSs differ: the error says which line mends it.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' rooms <- read_layer(demo_file("rooms.geojson")) |> reproject_to(wards)
#' join_where(rooms, wards, unmatched = "drop")
#' pick_where(wards, rooms, take = c(largest_room = name), rank_by = seats)
#' @export
join_where <- function(x, y, relation = "intersects", unmatched = "keep", multiple = "all", distance = NULL, unit = NULL,
                       suffix = "_y", crs = "equal") {
  UseMethod("join_where", deciding_layer(x, y))
}

#' @export
join_where.default <- function(x, y, relation = "intersects", unmatched = "keep", multiple = "all", distance = NULL, unit = NULL,
                               suffix = "_y", crs = "equal") {
  verb <- begin_verb("join_where")
  call <- rlang::current_env()
  need_frames(x, y, call)
  y <- meet(x, y, crs, call = call)
  one_of(unmatched, keep_or_drop, "unmatched", call = call)
  one_of(multiple, partners_taken, "multiple", call = call)
  shapes <- list(x = on_one_turn(as_shapes(x)), y = on_one_turn(as_shapes(y)))
  pairs <- find_pairs(shapes$x, shapes$y, relation, distance, unit, call = call)
  repeated <- length(core(core_occurrences(pairs$x, nrow(x)))$several)
  if (multiple != "all") pairs <- one_partner(pairs, if (multiple == "largest") largest_first(pairs, shapes$x, shapes$y, call))

  alone <- setdiff(seq_len(nrow(x)), pairs$x)
  rows <- data.frame(x = pairs$x, y = pairs$y)
  if (unmatched == "keep" && length(alone)) {
    rows <- rbind(rows, data.frame(x = alone, y = NA_integer_))
    rows <- rows[order(rows$x), ]
  }
  out <- add_columns(x[rows$x, ], vctrs::vec_slice(attribute_table(y), rows$y), suffix)
  counts <- account(
    entry(nrow(x) - length(alone), "matched", none = TRUE), entry(length(alone), "unmatched", if (unmatched == "keep") "kept with NA" else "dropped"),
    entry(repeated, "with several partners", c(all = "repeated", first = "first taken", largest = "largest taken")[[multiple]])
  )
  warn_if_apart(x, y, length(alone) == nrow(x))
  end_verb(verb, out, x, counts)
}

#' @rdname join_where
#' @export
pick_where <- function(x, y, take, rank_by, highest = TRUE, relation = "intersects", distance = NULL, unit = NULL, suffix = "_y",
                       crs = "equal") {
  UseMethod("pick_where", deciding_layer(x, y))
}

#' @export
pick_where.default <- function(x, y, take, rank_by, highest = TRUE, relation = "intersects", distance = NULL, unit = NULL, suffix = "_y",
                               crs = "equal") {
  verb <- begin_verb("pick_where")
  call <- rlang::current_env()
  asked <- settled_pick(arguments_asked("pick_where", call), call)
  key <- asked$key
  pairs <- find_pairs(as_shapes(x), as_shapes(asked$y), relation, distance, unit, call = call)
  best <- one_partner(pairs, key[pairs$y])
  ties <- tied_rows(pairs, best, key)
  unranked <- sum(is.na(key[best$y]))
  at <- rep(NA_integer_, nrow(x))
  at[best$x] <- best$y
  out <- add_columns(x, vctrs::vec_slice(asked$taken, at), suffix)
  warn_if_apart(x, asked$y, nrow(x) > 0 && all(is.na(at)))
  end_verb(verb, out, x, account_of_picks(length(best$x), at, ties, unranked), line = counted(nrow(x), "row"))
}

# What pick_where() was asked, checked and completed: `key` is least for the row that is picked, `taken` are the columns of `y` that are.
settled_pick <- function(args, call) {
  need_frames(args$x, args$y, call)
  y <- meet(args$x, args$y, args$crs, call = call)
  rank <- rank_values(plain(y), args$rank_by, call)
  taken <- choose_columns(attribute_table(y), args$take, "take", call)
  c(list(y = y, key = if (args$highest) -rank else rank, taken = taken), args[c("x", "relation", "distance", "unit", "suffix")])
}

account_of_picks <- function(picked, at, tied, unranked) {
  account(entry(picked, "picked", none = TRUE), entry(sum(is.na(at)), "without a partner", "NA"), entry(tied, "tied", "first taken"),
          entry(unranked, "with missing ranks alone", "first taken"))
}

need_frames <- function(x, y, call) {
  if (missing(y)) layer_is_missing("y", call)
  if (is_spatial_frame(x) && is_spatial_frame(y)) return(invisible())
  need_no_tiles(x, call)
  need_no_tiles(y, call)
  fail("argument", c("Both layers must be spatial frames, which {.arg {if (is_spatial_frame(x)) 'y' else 'x'}} is not.",
                     if (is_spatial_frame(x)) sub("(x)", "(y)", frame_again(y), fixed = TRUE) else frame_again(x),
                     i = "{.code x[\"name\"]} leaves the shape column out; {.code dplyr::select(x, name)} keeps it."), call = call)
}

# A key of each pair that is least for the partner with the most area, else length, in common. What differs by rounding alone is equal.
largest_first <- function(pairs, x, y, call) {
  if (only_points(x)) return(-true_measure(y, "area")[pairs$y])
  found <- shared_measures(x, y, call)
  at <- match(paste(pairs$x, pairs$y), paste(found$x, found$y))
  area <- ifelse(is.na(at), 0, found$area[at])
  length <- ifelse(is.na(at), 0, found$length[at])
  -signif(ifelse(area > 0, area, length), 10)
}

# Of the pairs of each x the one with the least key, the first y where keys are equal or there is no key. Pairs come
# sorted by x, then y.
one_partner <- function(pairs, key = NULL) {
  order <- if (is.null(key)) seq_along(pairs$x) else order(pairs$x, key, pairs$y, method = "radix")
  first <- order[!duplicated(pairs$x[order])]
  list(x = pairs$x[first], y = pairs$y[first])
}

# Rows of x whose best key is shared by another partner.
tied_rows <- function(pairs, best, key) {
  best_key <- key[best$y][match(pairs$x, best$x)]
  equal <- pairs$x[which(key[pairs$y] == best_key)]
  length(core(core_occurrences(equal, max(equal, 0L)))$several)
}

rank_values <- function(columns, rank_by, call) {
  need_variables(rank_by, columns, "rank_by", call)
  rank <- rlang::eval_tidy(rank_by, columns)
  if (is.character(rank) && length(rank) == 1 && rank %in% names(columns)) rank <- columns[[rank]]
  if (!is.numeric(rank) && !inherits(rank, "Date")) {
    fail("column", c("{.arg rank_by} is {.cls {class(rank)[1]}}, which does not rank.", i = "Turn it into numbers first."), call = call)
  }
  as.double(rank)
}

# x with the columns of a table of as many rows, before its shapes if it has any; clashing names get the suffix, also those that differ in case alone,
# which no database holds side by side.
add_columns <- function(x, table, suffix) {
  clash <- tolower(names(table)) %in% tolower(names(x))
  names(table)[clash] <- paste0(names(table)[clash], suffix)
  names(table) <- utils::tail(make.unique(c(names(x), names(table)), sep = "_"), length(table))
  name <- shape_column_name(x)
  columns <- as.list(plain(x))
  rest <- columns[setdiff(names(columns), name)]
  data <- tibble::new_tibble(c(rest, as.list(table), columns[name]), nrow = nrow(x))
  if (is.null(name)) data else new_spatial_frame(data, name, attr(x, "history", exact = TRUE))
}

# All rows without a partner is mostly a sign of wrong coordinates.
warn_if_apart <- function(x, y, none_matched) {
  if (!none_matched || !vctrs::vec_size(x) || !vctrs::vec_size(y)) return(invisible())
  a <- box_of(x)
  b <- box_of(y)
  if (anyNA(a) || anyNA(b)) return(invisible())
  gap <- c(max(a["xmin"] - b["xmax"], b["xmin"] - a["xmax"], 0), max(a["ymin"] - b["ymax"], b["ymin"] - a["ymax"], 0))
  apart <- sqrt(sum(gap^2))
  unit <- crs_of(x)$unit %||% "coordinate unit"
  where <- if (apart > 0) "The layers lie {format_count(signif(apart, 3))} {unit}s apart" else "The extents of the layers overlap"
  caution("join", c("No row found a partner.", i = paste0(where, "; check their CRS labels with ", typed("{.fn crs_of}", "{.code civicatlas describe}"), ".")))
}

#' Join each row to the nearest rows
#'
#' Adds the columns of the nearest row of `y`, or of several, with their distance and direction.
#'
#' @inheritParams join_where
#' @param count How many nearest rows; those as far away as the last of them come too unless `ties` says otherwise.
#' @param within How far at most, in `unit`; rows without a partner so near are kept with `NA`.
#' @param unit Of `within` and of the `distance` column: see [length_of()]; metres by default, coordinate units where the CRS is missing.
#' @param crs See [related_pairs()].
#' @param ties `"all"` rows that are equally far, or the `"first"` of `y`.
#' @param most_ties With `ties = "all"`: how many rows that are equally far are kept for a row beyond `count`, the first of `y`; that there
#'   are more is told in a warning. `Inf` for all, which are n times n where n points lie in one place.
#' @param rank_by With `ties = "first"`: a column of `y`, or an expression on them, whose `highest` (or lowest) comes first among rows that
#'   are equally far.
#' @return A spatial frame in the row order of `x`, nearest first: the columns of `x` and `y`, then `distance` and `direction` (degrees clockwise
#'   from grid north, from true north on longitude and latitude, from centre to centre; `NA` where shapes meet).
#' @section Errors: `civicatlas_error_crs_mismatch` where the CRSs differ; `civicatlas_error_argument` for a `count` or `within` that is no
#'   number above 0.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' rooms <- read_layer(demo_file("rooms.geojson")) |> reproject_to(wards)
#' join_nearest(centroid_of(wards), rooms)
#' @export
join_nearest <- function(x, y, count = 1, within = NULL, unit = NULL, ties = "all", most_ties = 100, rank_by = NULL, highest = TRUE, suffix = "_y",
                         crs = "equal") {
  UseMethod("join_nearest", deciding_layer(x, y))
}

#' @export
join_nearest.default <- function(x, y, count = 1, within = NULL, unit = NULL, ties = "all", most_ties = 100, rank_by = NULL, highest = TRUE, suffix = "_y",
                                 crs = "equal") {
  verb <- begin_verb("join_nearest")
  call <- rlang::current_env()
  need_frames(x, y, call)
  y <- meet(x, y, crs, call = call)
  one_of(ties, c("all", "first"), "ties", call = call)
  need_count(count, call)
  need_most_ties(most_ties, call)
  a <- as_shapes(x)
  b <- as_shapes(y)
  scale <- nearest_scale(a, unit, call)
  warn_of_distances(a)
  rank_by <- rlang::enquo(rank_by)
  first <- order_of_ties(y, if (ties == "first" && !rlang::quo_is_null(rank_by)) rank_values(plain(y), rank_by, call), highest)
  found <- nearest_rows(a, b[first], count, reach_of_nearest(within, call) / scale, call, ties = if (ties == "all") most_ties else 0)
  found$y <- first[found$y]
  if (ties == "all") tell_cut_ties(found$cut, most_ties)
  alone <- setdiff(seq_len(nrow(x)), found$x)
  rows <- data.frame(x = c(found$x, alone), y = c(found$y, rep(NA_integer_, length(alone))), distance = c(found$distance * scale, rep(NA_real_, length(alone))))
  rows <- rows[order(rows$x), ]
  out <- add_columns(x[rows$x, ], vctrs::vec_slice(attribute_table(y), rows$y), suffix)
  towards <- tibble::new_tibble(list(distance = rows$distance, direction = directions(a, b, rows)), nrow = nrow(rows))
  out <- add_columns(out, towards, suffix)
  end_verb(verb, out, x, account(entry(length(alone), "without a partner", "NA"), entry_of_ties(found, ties, nrow(x), count)))
}

# The rows of y in the order in which they are taken where they are equally far: the best ranked, then the first.
order_of_ties <- function(y, rank, highest) if (is.null(rank)) seq_len(nrow(y)) else order(if (highest) -rank else rank)

need_most_ties <- function(most, call) {
  if (is.numeric(most) && length(most) == 1 && isTRUE(most >= 0)) return(invisible())
  fail("argument", "{.arg most_ties} must be one number of 0 or more.", call = call)
}

entry_of_ties <- function(found, ties, rows, count) {
  tied <- length(found$x) - sum(pmin(tabulate(found$x, rows), count))
  if (tied) return(entry(tied, "equally far", "kept too"))
  if (ties == "first") entry(found$cut, "with others equally far", "left out")
}

tell_cut_ties <- function(cut, most) {
  if (cut == 0) return(invisible())
  all <- typed("most_ties = Inf", "--most-ties 1000000000")
  rows <- counted(most, "row")
  caution("join", c("{counted(cut, 'row')} with more than {rows} equally far beyond those asked for; the first {cli::qty(most)}{?was/were} kept.",
                    i = "{.code {all}} keeps all."))
}

need_count <- function(count, call, what = "count") {
  if (is_count(count, 1)) return(invisible())
  fail("argument", "{.arg {what}} must be a whole number of 1 or more.", call = call)
}

reach_of_nearest <- function(within, call) {
  if (is.null(within)) return(Inf)
  if (is_positive(within)) return(within)
  fail("argument", "{.arg within} must be one number above 0.", call = call)
}

# Coordinate units, or metres on longitude and latitude, in the unit of distances.
nearest_scale <- function(shapes, unit, call) {
  measure_scale(shapes, unit, length_units, 1, is_geographic(shapes), call)
}

# Pairs of the nearest rows, with distances in coordinate units, in metres on longitude and latitude.
nearest_rows <- function(x, y, count, within, call, ties = 0) {
  geographic <- is_geographic(x)
  if (geographic) {
    x <- on_one_turn(in_degrees(x))
    y <- on_one_turn(in_degrees(y))
  }
  core(core_nearest_rows(handles_of(x), store_of(x), handles_of(y), store_of(y), as.integer(count),
                         as.integer(min(ties, .Machine$integer.max)), within, if (geographic) unclass(crs_of(x))), call = call)
}

directions <- function(x, y, rows) {
  crs <- crs_of(x)
  a <- lapply(centres_of(x), `[`, rows$x)
  b <- lapply(centres_of(y), `[`, rows$y)
  out <- rep(NA_real_, nrow(rows))
  some <- which(!is.na(rows$y) & rows$distance > 0)
  if (!length(some)) return(out)
  out[some] <- if (is_geographic(x)) {
    azimuth_between(point_shapes(a$x[some], a$y[some], crs), point_shapes(b$x[some], b$y[some], crs))
  } else {
    atan2(b$x[some] - a$x[some], b$y[some] - a$y[some]) * 180 / pi
  }
  out %% 360
}

keep_or_drop <- c("keep", "drop")
partners_taken <- c("all", "first", "largest")
