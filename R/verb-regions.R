#' Summarise features by region
#'
#' Evaluates summaries of the features that fall in each region, and adds them to the regions: counts and sums are 0
#' where nothing falls, means and extremes `NA`. A line accounts for the features: in one region, in several, in none;
#' [drop_where()] gives those in none.
#'
#' With `.share = "area"` or `"length"` a feature gives each region the share of it that lies there: its numeric columns and durations are
#' multiplied by that share, so that sums add up to what lies within all regions together. Such columns can only be summed, as shares of totals
#' have no mean or maximum. Columns that hold rates, means or prices are named in `.intensive` and stay as they are;
#' `weighted.mean(rate, .shared)` weights them by the area or length in common. On longitude and latitude, shares are taken of polygons and
#' lines whose edges are straight in degrees, so that they add up exactly.
#'
#' Polygons and lines that only touch a region, at its border, do not count there, which the account reports; `.relation = "intersects"`
#' counts them too.
#'
#' @param .regions,.features Spatial frames on one CRS. All arguments have a point before their names, so that new columns may have any.
#' @param ... Named summaries of the features' columns, as in [dplyr::summarise()]: `rooms = n()`, `seats = sum(seats)`, or
#'   several at once by [dplyr::across()]. Each sees the columns as they came, whatever the others are named. Without any,
#'   `count = n()`. With a share there are also `.share` (of the feature, from 0 to 1) and `.shared` (area or length in common, in
#'   coordinate units; on longitude and latitude along the ellipsoid, in square metres or metres).
#' @param .by Columns of the features to group by within each region, as in [dplyr::select()].
#' @param .form With `.by`: `"long"`, a row for each region and group, or `"wide"`, a column for each summary and group,
#'   `rooms_library`.
#' @param .once Columns of the features that stand once a region and must not be summed, as a capacity of the region that is repeated in the
#'   row of each of its features: taken as they are, under their own names.
#' @param .share `"none"`: a feature counts whole in each region it is related to; `"area"` of polygons or `"length"` of lines: it is
#'   apportioned by what of it lies in each region.
#' @param .intensive With a share: columns not to be multiplied, as in [dplyr::select()].
#' @param .borders A point on a border that several regions share counts in the `"first"` of them, in row order, or in `"all"`.
#' @param .relation,.distance,.unit,.crs See [related_pairs()]; the relation reads "region relation feature". By default features count
#'   that intersect a region and do more than touch it; points on borders see `.borders`.
#' @return `.regions` with a column a summary, in the same rows and order; in the long form the rows repeated for each group. A summary
#'   of the name of a column of the regions takes its place, which is said.
#' @section Errors: `civicatlas_error_crs_mismatch` where the CRSs differ; `civicatlas_error_argument` for a summary
#'   without a name or that gives more than one value, for a share of shapes that have no area or length, for a column that differs
#'   within a region where it should stand once, or is summed all the same. A warning (`civicatlas_warning_data`) says how many regions
#'   overlap each other where features lie in several.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' rooms <- read_layer(demo_file("rooms.geojson")) |> reproject_to(wards)
#' summarise_into(wards, rooms, rooms = n(), seats = sum(seats))
#' summarise_into(wards, rooms, rooms = n(), .by = kind, .form = "wide")
#' cells <- read_layer(demo_file("cells.zip")) |> mend_numbers()
#' reach <- buffer_by(rooms, 400, merged = TRUE)
#' summarise_into(reach, cells, people = sum(pop_total, na.rm = TRUE), .share = "area")
#' @export
summarise_into <- function(.regions, .features, ..., .by = NULL, .form = "long", .once = NULL, .share = "none", .intensive = NULL, .borders = "first",
                           .relation = NULL, .distance = NULL, .unit = NULL, .crs = "equal") {
  UseMethod("summarise_into", deciding_layer(.regions, .features))
}

#' @export
summarise_into.default <- function(.regions, .features, ..., .by = NULL, .form = "long", .once = NULL, .share = "none", .intensive = NULL, .borders = "first",
                                   .relation = NULL, .distance = NULL, .unit = NULL, .crs = "equal") {
  verb <- begin_verb("summarise_into")
  call <- rlang::current_env()
  asked <- settled_summarise(arguments_asked("summarise_into", call), call)
  regions <- asked$regions
  share <- asked$share
  shapes <- shapes_to_summarise(asked)
  found <- summaries_at_once(shapes, asked, call) %||% summaries_by_pairs(shapes, asked, call)
  pairs <- found$pairs
  out <- with_summaries(regions, found$once_values, found$table, asked$groups, asked$form)

  tell_if_swapped(shapes, asked$relation)
  warn_if_overlapping(pairs, regions, share, call)
  if (share != "none") warn_of_no_size(pairs, share)
  warn_if_apart(regions, asked$features, !any(found$filled))
  found_in <- pairs$occurrences
  counts <- if (share == "none") account_of_occurrences(found_in$once, length(found_in$several), found_in$none, pairs$moved, pairs$touching)
  else account_of_shares(pairs, share)
  counts <- c(counts, account(empty_regions(found$filled)))
  end_verb(verb, out, regions, counts, line = paste(counted(nrow(asked$features), "feature"), "into", counted(nrow(regions), "region")))
}

# What summarise_into() was asked, checked and completed, of all features or of those of a tile.
settled_summarise <- function(args, call) {
  regions <- args$.regions
  need_frames(regions, args$.features, call)
  share <- one_of(args$.share, share_measures, ".share", call = call)
  borders <- one_of(args$.borders, c("first", "all"), ".borders", call = call)
  form <- one_of(args$.form, summary_forms, ".form", call = call)
  features <- meet(regions, args$.features, args$.crs, "regions", "features", ".crs", call)
  columns <- attribute_table(features)
  chosen <- function(name) if (is_asked(args[[name]])) names(choose_columns(columns, args[[name]], name, call))
  options <- c("by", "form", "once", "share", "intensive", "borders", "relation", "distance", "unit", "crs")
  summaries <- summaries_of(dots_among(args, summarise_into), options, call)
  by <- as.character(chosen(".by"))
  once <- chosen(".once")
  need_no_sum_of(once, summaries, call)
  intensive <- if (share != "none") chosen(".intensive")
  if (share != "none") need_totals_of(columns[setdiff(totals_in(columns), intensive)], summaries, call)
  list(regions = regions, features = features, columns = dplyr::ungroup(plain(features)), summaries = summaries, by = by, groups = groups_of(columns[by]),
       once = once, share = share, intensive = intensive, borders = borders, relation = args$.relation, distance = args$.distance, unit = args$.unit,
       form = form)
}

shapes_to_summarise <- function(asked) list(regions = on_one_turn(as_shapes(asked$regions)), features = on_one_turn(as_shapes(asked$features)))

# Points as regions of polygons: mostly the layers stand the wrong way round.
tell_if_swapped <- function(shapes, relation) {
  polygons <- function(x) any(grepl("polygon", geometry_type_of(x)))
  if (!is.null(relation) || !only_points(shapes$regions) || !polygons(shapes$features)) return(invisible())
  caution("data", c("The regions are points, and the features polygons: each point got what the polygons around it hold.",
                    i = "To count points in polygons give the polygons first."))
}

empty_regions <- function(filled) entry(sum(!filled), "empty", of = "region")

#' @rdname summarise_into
#' @export
summarize_into <- summarise_into

# The groups of rows by some columns, in order: their number `n`, `keys`, and the group `of` each row; without columns only `n`, 1.
groups_of <- function(columns) {
  if (!length(columns)) return(list(n = 1L))
  keys <- vctrs::vec_sort(vctrs::vec_unique(columns))
  list(n = nrow(keys), keys = keys, of = vctrs::vec_match(columns, keys))
}

# The regions with the columns of summaries, a row of `table` for each region and, within it, each group.
with_summaries <- function(regions, once_values, table, groups, form) {
  if (!is.null(once_values)) regions <- replace_columns(regions, once_values)
  if (is.null(groups$keys)) return(replace_columns(regions, table))
  if (form == "long") {
    rows <- rep(seq_len(nrow(regions)), each = groups$n)
    keys <- vctrs::vec_slice(groups$keys, rep(seq_len(groups$n), nrow(regions)))
    return(replace_columns(regions[rows, ], tibble::new_tibble(c(as.list(keys), as.list(table)), nrow = length(rows))))
  }
  labels <- do.call(paste, c(lapply(groups$keys, function(key) ifelse(is.na(key), "NA", as.character(key))), sep = "_"))
  wide <- list()
  for (name in names(table)) for (group in seq_len(groups$n)) {
    wide[[paste(name, labels[group], sep = "_")]] <- vctrs::vec_slice(table[[name]], seq(group, nrow(table), by = groups$n))
  }
  replace_columns(regions, tibble::new_tibble(wide, nrow = nrow(regions)))
}

# x with the columns of a table, which take the place of its own of the same names.
replace_columns <- function(x, table) {
  there <- setdiff(intersect(names(table), names(x)), shape_column_name(x))
  if (length(there)) say(c("!" = "New columns take the place of {.val {there}}, which {.arg x} had."))
  add_columns(x[setdiff(names(x), there)], table, "_summary")
}

# Of totals each feature gives a share, and shares can only be summed: any other summary of them would be a wrong number.
need_totals_of <- function(totals, summaries, call) {
  for (i in seq_along(summaries)) {
    used <- uses_beside_sums(rlang::quo_get_expr(summaries[[i]]), totals)
    if (!length(used)) next
    verb <- names(used)[1]
    name <- rlang::names2(summaries)[i]
    summary <- if (nzchar(name)) name else rlang::as_label(summaries[[i]])
    what <- "The summary {.val {summary}} takes the {.fn {verb}} of {.val {used[[1]]}}"
    fail("argument", c(paste0(what, ", of which each feature gives a share: shares can only be summed."),
                       i = "A value that isn't a total: {.code .intensive = {used[[1]]}}, and {.code weighted.mean({used[[1]]}, .shared)}.",
                       i = "A total: {.code sum({used[[1]]})}."), call = call)
  }
}

totals_in <- function(columns) names(columns)[vapply(columns, is_total, NA)]

is_total <- function(column) is.numeric(column) || inherits(column, "difftime")

# The totals that an expression uses other than in a sum or as weights, each named by the function that takes it.
uses_beside_sums <- function(expression, totals, verb = "identity") {
  if (is.symbol(expression)) {
    name <- rlang::as_string(expression)
    return(if (name %in% names(totals)) stats::setNames(list(name), verb))
  }
  if (!is.call(expression) || rlang::is_call(expression, c("sum", "n", "length", "~", "function"))) return(NULL)
  if (rlang::is_call(expression, "across")) return(uses_in_across(expression, totals))
  own <- rlang::as_label(expression[[1]])
  unlist(lapply(taken_values(expression), uses_beside_sums, totals, if (own %in% calculations) verb else own), recursive = FALSE)
}

# The arguments of a call that are values: a column of .data, what weighted.mean() weights, or all.
taken_values <- function(expression) {
  if (rlang::is_call(expression, c("$", "[[")) && identical(expression[[2]], quote(.data))) return(list(as.symbol(expression[[3]])))
  if (rlang::is_call(expression, "weighted.mean")) return(unname(as.list(match.call(stats::weighted.mean, expression))["x"]))
  unname(as.list(expression)[-1])
}

calculations <- c("(", "+", "-", "*", "/", "^")

# across() of totals may do nothing but sum them.
uses_in_across <- function(expression, totals) {
  asked <- as.list(match.call(dplyr::across, expression))
  functions <- if (rlang::is_call(asked$.fns, c("list", "c"))) as.list(asked$.fns)[-1] else list(asked$.fns)
  other <- Filter(function(verb) !only_sums(verb), functions)
  columns <- tryCatch(names(dplyr::select(totals, !!asked$.cols)), error = function(e) intersect(all.names(asked$.cols), names(totals)))
  if (length(other) && length(columns)) stats::setNames(list(columns[1]), rlang::as_label(other[[1]]))
}

only_sums <- function(verb) {
  if (is.symbol(verb) || rlang::is_call(verb, "::")) return(utils::tail(all.names(verb), 1) == "sum")
  if (rlang::is_call(verb, "~")) return(!length(uses_beside_sums(verb[[2]], data.frame(.x = 1, . = 1, .y = 1))))
  if (!rlang::is_call(verb, "function")) return(FALSE)
  arguments <- lapply(as.list(verb[[2]]), function(default) 1)
  !length(uses_beside_sums(verb[[3]], arguments))
}

need_no_sum_of <- function(once, summaries, call, what = "region") {
  for (i in seq_along(summaries)) {
    used <- intersect(once, names(uses_in(tree_of_code(summaries[[i]]))))
    if (length(used)) {
      name <- if (nzchar(rlang::names2(summaries)[i])) names(summaries)[i] else rlang::as_label(summaries[[i]])
      fail("argument", c("The summary {.val {name}} uses {.val {used[1]}}, which stands once a {what}: each row would count it again.",
                         i = "The column comes as it is, under its own name."), call = call)
    }
  }
}

# The one value a region or group that columns have which stand once a region; NA where nothing falls.
values_once <- function(columns, pairs, regions, call, what = "region") {
  first <- match(seq_len(regions), pairs$x)
  for (name in names(columns)) {
    value <- columns[[name]][pairs$y]
    differs <- which(!vctrs::vec_equal(value, value[match(pairs$x, pairs$x)], na_equal = TRUE))
    if (length(differs)) {
      region <- pairs$x[differs[1]]
      values <- unique(value[pairs$x == region])
      fail("argument", c("{.arg .once} names {.val {name}}, which does not stand once a {what}.",
                         x = "In {what} {region} it is {.val {values[1:2]}}."), call = call)
    }
  }
  vctrs::vec_slice(columns, pairs$y[first])
}

# Plain summaries of points by polygon, by one pass of the core; NULL for other summaries and shapes.
summaries_at_once <- function(shapes, asked, call) {
  found <- sums_at_once(shapes, asked, call)
  if (is.null(found)) return(NULL)
  table <- lapply(found$sums, function(one) if (one$verb == "n") found$counts else summary_of_sums(one, one))
  list(table = tibble::new_tibble(table, nrow = length(shapes$regions)), pairs = found$pairs, filled = found$counts > 0)
}

# Counts, and sums with what summary_of_sums() asks of them. Points are listed with their regions only where they lie in several.
sums_at_once <- function(shapes, asked, call) {
  if (!is_one_pass(asked)) return(NULL)
  plain <- lapply(asked$summaries, plain_summary, asked$columns)
  if (any(vapply(plain, is.null, NA))) return(NULL)
  check_same_crs(shapes$regions, shapes$features, "regions", "features", call = call)
  summed <- which(vapply(plain, function(summary) summary$verb != "n", NA))
  values <- lapply(plain[summed], function(summary) as.double(summary$column))
  skip <- vapply(plain[summed], function(summary) summary$skip, NA)
  found <- core(core_sums_in_polygons(handles_of(shapes$regions), store_of(shapes$regions), handles_of(shapes$features), store_of(shapes$features),
                                      values, skip), call = call)
  if (is.null(found)) return(NULL)
  tell_invalid(shapes$regions, "regions", call)
  pairs <- pairs_of_several(shapes, found$in_several, asked$borders, call)
  regions <- length(shapes$regions)
  sums <- lapply(plain, function(summary) summary["verb"])
  sums[summed] <- Map(function(summary, values, of_one) {
    of_several <- core(core_grouped_sums(values, pairs$y, pairs$x, regions, summary$skip), call = call)
    c(utils::modifyList(summary, list(column = summary$column[0])), list(sum = of_one$sum + of_several$sum, count = of_one$count + of_several$count))
  }, plain[summed], values, found$sums)
  in_one <- sum(found$points) + pairs$occurrences$once
  pairs$occurrences$none <- length(shapes$features) - in_one - length(pairs$occurrences$several)
  pairs$occurrences$once <- in_one
  list(counts = found$points + tabulate(pairs$x, regions), sums = sums, pairs = pairs)
}

# The pairs of some points, those that lie in several regions, as whole_pairs() gives those of all.
pairs_of_several <- function(shapes, several, borders, call) {
  if (!length(several)) return(list(x = integer(), y = integer(), occurrences = list(once = 0L, several = integer())))
  found <- core(core_related_pairs(handles_of(shapes$regions), store_of(shapes$regions), handles_of(shapes$features)[several], store_of(shapes$features),
                                   "intersects", 0), call = call)
  pairs <- list(x = found$x, y = several[found$y], occurrences = list(several = several))
  pairs <- points_in_several(pairs, shapes$regions, shapes$features, borders, call)
  pairs$occurrences <- core(core_occurrences(match(pairs$y, several), length(several)))
  pairs
}

is_one_pass <- function(asked) asked$share == "none" && (asked$relation %||% "intersects") == "intersects" && is.null(asked$groups$keys) && !length(asked$once)

# The same by a list of pairs of regions and features, for all that may be asked.
summaries_by_pairs <- function(shapes, asked, call) {
  n <- length(shapes$regions)
  assigned <- assigned_to_regions(shapes, asked, call)
  pairs <- assigned$pairs
  table <- summaries_by_cell(assigned, n * asked$groups$n, asked$summaries, call)
  once_values <- if (length(asked$once)) values_once(asked$columns[asked$once], pairs, n, call)
  list(table = table, once_values = once_values, pairs = pairs, filled = tabulate(pairs$x, n) > 0)
}

# Which rows are of which cell, a region or a region and a group, as summaries_by_cell() takes it; with the pairs.
assigned_to_regions <- function(shapes, asked, call) {
  groups <- asked$groups
  whole <- asked$share == "none"
  pairs <- if (whole) whole_pairs(shapes, asked, call) else shared_pairs(shapes$regions, shapes$features, asked$share, call)
  list(columns = if (whole) asked$columns else apportioned(asked$columns, pairs, asked$intensive), rows = if (whole) pairs$y else seq_along(pairs$y),
       cell = if (is.null(groups$keys)) pairs$x else (pairs$x - 1L) * groups$n + groups$of[pairs$y], pairs = pairs)
}

# The pairs of regions and features that count whole, and how the features fall.
whole_pairs <- function(shapes, asked, call) {
  features <- length(shapes$features)
  pairs <- find_pairs(shapes$regions, shapes$features, asked$relation %||% "intersects", asked$distance, asked$unit, names(shapes), call = call)
  if (is.null(asked$relation)) pairs <- without_touching(pairs, shapes, call)
  touching <- pairs$touching
  pairs$occurrences <- core(core_occurrences(pairs$y, features))
  if (length(pairs$occurrences$several)) {
    pairs <- points_in_several(pairs, shapes$regions, shapes$features, asked$borders, call)
    pairs$occurrences <- core(core_occurrences(pairs$y, features))
  }
  pairs$touching <- touching
  pairs
}

# Pairs of regions and lines or polygons without those that share nothing but border; `touching` is the number of features in these.
without_touching <- function(pairs, shapes, call) {
  among <- which(!geometry_type_of(shapes$features)[pairs$y] %in% c("point", "multipoint"))
  if (!length(among) || only_points(shapes$regions)) return(pairs)
  features <- unique(pairs$y[among])
  found <- core(core_related_pairs(handles_of(shapes$regions), store_of(shapes$regions), handles_of(shapes$features)[features], store_of(shapes$features),
                                   "touches", 0), call = call)
  drop <- among[paste(pairs$x, pairs$y)[among] %in% paste(found$x, features[found$y])]
  if (!length(drop)) return(pairs)
  list(x = pairs$x[-drop], y = pairs$y[-drop], touching = length(unique(pairs$y[drop])))
}

account_of_occurrences <- function(once, several, none, moved, touching = NULL) {
  account(entry(once, "in one region", none = TRUE), entry(several, "in several", "counted in each"), entry(none, "in none"),
          entry(moved %||% 0, "on a border", "first region"), entry(touching %||% 0, "touching other regions", "not counted there"))
}

account_of_shares <- function(pairs, share) {
  within <- pairs$within
  known <- pairs$whole > 0
  outside <- sum(pairs$whole[known] * pmax(0, 1 - within[known])) / sum(pairs$whole[known])
  over <- sum(within > 1 + pairs$slack)
  account(entry(sum(within > 0), paste("apportioned by", share), none = TRUE), entry(sum(known & within == 0), "in none"),
          entry(sum(!known), paste("without", share), "left out"),
          remark(paste0(if (is.finite(outside)) format(100 * outside, digits = 3) else 0, " % of their ", share, " lies in no region")),
          entry(over, "in regions that overlap", "counted more than once"))
}

# Features that have no shape, or one that is degenerate, give no region anything.
warn_of_no_size <- function(pairs, share) {
  gone <- which(!(pairs$whole > 0))
  if (!length(gone)) return(invisible())
  caution("data", c("{counted(length(gone), 'feature')} without {share} to apportion by {cli::qty(length(gone))}{?is/are} in no total.",
                    i = "First rows: {utils::head(gone, 5)}; {.fn check_shapes} tells what is wrong with them."))
}

# Points on borders that several regions share stay with the first, if asked; those inside regions that overlap stay with all.
# `overlapping` are the regions of these.
points_in_several <- function(pairs, regions, features, borders, call) {
  several <- pairs$occurrences$several
  several <- several[geometry_type_of(features[several]) %in% "point"]
  if (!length(several)) return(pairs)
  # Straight from the core, as find_pairs() would tell of invalid regions again.
  touching <- core(core_related_pairs(handles_of(regions), store_of(regions), handles_of(features)[several], store_of(features), "touches", 0), call = call)
  key <- function(x, y) paste(x, y)
  among <- which(pairs$y %in% several)
  x <- pairs$x[among]
  y <- pairs$y[among]
  on_border <- key(x, y) %in% key(touching$x, several[touching$y])
  inside <- y[!on_border]
  overlapping <- unique(x[!on_border & y %in% inside[duplicated(inside)]])
  if (borders == "all") return(c(pairs[c("x", "y")], list(overlapping = overlapping)))
  drop <- on_border & (y %in% inside | duplicated(ifelse(on_border, y, -seq_along(y))))
  moved <- length(unique(y[drop]))
  kept <- rep(TRUE, length(pairs$y))
  kept[among[drop]] <- FALSE
  list(x = pairs$x[kept], y = pairs$y[kept], overlapping = overlapping, moved = moved)
}

# Features that lie in several regions because these overlap count in each of them.
warn_if_overlapping <- function(pairs, regions, share, call) {
  overlapping <- pairs$overlapping
  if (share == "area" && any(pairs$within > 1 + pairs$slack)) {
    shapes <- as_shapes(regions)
    beside <- touching_pairs(shapes, TRUE, call)
    common <- startsWith(core(core_relations(handles_of(shapes)[beside$x], store_of(shapes), handles_of(shapes)[beside$y], store_of(shapes))), "2")
    overlapping <- unique(beside$x[common])
  }
  if (!length(overlapping)) return(invisible())
  caution("data", c("{length(overlapping)} region{?s} overlap each other, and what lies in several counts in each of them.",
                    i = "First rows: {utils::head(sort(overlapping), 5)}; {.fn find_slivers} shows where."))
}

# What regions and features have in common, and the share of each feature that is.
shared_pairs <- function(regions, features, share, call) {
  kind <- if (share == "area") "polygon" else "line"
  misfits <- which(!is.na(features) & !grepl(kind, geometry_type_of(features)))
  if (length(misfits)) {
    fail("argument", c("{.arg .share} is {.val {share}}, which feature {misfits[1]}, a {geometry_type_of(features[misfits[1]])}, does not have.",
                       i = "Points count whole: leave out {.arg .share}."), call = call)
  }
  check_same_crs(regions, features, "regions", "features", call = call)
  regions <- valid_shapes(overlay_shapes(regions, call), "regions", call)
  features <- valid_shapes(features, "features", call)
  found <- shared_measures(regions, features, call)
  shared <- found[[share]]
  some <- shared > 0
  whole <- true_measure(features, share)
  whole[is.na(whole)] <- 0
  y <- found$y[some]
  share <- found$cut[[share]][some] / measure_of_cuts(features, share)[y]
  list(x = found$x[some], y = y, shared = shared[some], share = share, whole = whole, within = rowsum_of(share, y, length(whole)), slack = 1e-9)
}

# The area and length that each pair of shapes has in common: in coordinate units, on longitude and latitude along the ellipsoid in square metres
# and metres, with those by `cut`.
shared_measures <- function(x, y, call) {
  if (!is_geographic(x)) {
    found <- core(core_shared_measures(handles_of(x), store_of(x), handles_of(y), store_of(y)), call = call)
    return(c(found, list(cut = found[c("area", "length")])))
  }
  found <- core(core_overlay(handles_of(x), store_of(x), handles_of(y), store_of(y), "both", FALSE, in_plain_degrees(x)), call = call)
  pieces <- pieces_in_order(found, x, y)
  list(x = pieces$x, y = pieces$y, area = true_measure(pieces$shapes, "area"), length = true_measure(pieces$shapes, "length"),
       cut = list(area = measure_of_cuts(pieces$shapes, "area"), length = measure_of_cuts(pieces$shapes, "length")))
}

# As true_measure(), but of edges that are straight in degrees, as they are cut: pieces add up to their whole.
measure_of_cuts <- function(shapes, measure) {
  if (!is_geographic(shapes)) return(true_measure(shapes, measure))
  shapes <- in_degrees(shapes)
  core(core_straight_measure(handles_of(shapes), store_of(shapes), measure, unclass(crs_of(shapes))))
}

# Planar in coordinate units, or on longitude and latitude along the ellipsoid in metres.
true_measure <- function(shapes, measure) {
  if (!is_geographic(shapes)) return(core(core_planar_measure(handles_of(shapes), store_of(shapes), measure)))
  shapes <- in_degrees(shapes)
  core(core_ellipsoidal_measure(handles_of(shapes), store_of(shapes), measure, unclass(crs_of(shapes))))
}

apportioned <- function(columns, pairs, intensive) {
  out <- vctrs::vec_slice(columns, pairs$y)
  for (name in setdiff(totals_in(out), intensive)) out[[name]] <- as_plain_number(out[[name]]) * pairs$share
  out$.share <- pairs$share
  out$.shared <- pairs$shared
  out
}

# Shares of integers of 64 bits are no integers.
as_plain_number <- function(values) {
  if (!inherits(values, "integer64")) return(values)
  requireNamespace("RSQLite", quietly = TRUE)  # brings the class's methods
  as.double(values)
}

rowsum_of <- function(values, groups, n) {
  core(core_grouped_sums(as.double(values), seq_along(values), as.integer(groups), n, FALSE))$sum
}

share_measures <- c("none", "area", "length")
summary_forms <- c("long", "wide")
