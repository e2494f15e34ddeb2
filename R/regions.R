#' Summarise features by region
#'
#' Evaluates summaries of the features that fall in each region, and adds them to the regions: counts and sums are 0
#' where nothing falls, means and extremes `NA`. A line accounts for the features: in one region, in several, in none.
#'
#' With `share = "area"` or `"length"` a feature gives each region the share of it that lies there: its numeric columns are multiplied by
#' that share, so that sums add up to what lies within all regions together. Columns that are no totals (rates, means, prices) are named
#' in `intensive` and stay as they are; `weighted.mean(rate, .shared)` weighs them by the area or length in common.
#'
#' @param regions,features Spatial frames on one CRS.
#' @param ... Named summaries of the features' columns, as in [dplyr::summarise()]: `rooms = n()`, `seats = sum(seats)`. Each
#'   sees the columns as they came, whatever the others are named. Without any, `count = n()`. With a share there are also `.share` (of
#'   the feature, from 0 to 1) and `.shared` (area or length in common, in coordinate units).
#' @param share `"none"`: a feature counts whole in each region it is related to; `"area"` of polygons or `"length"` of lines: it is
#'   apportioned by what of it lies in each region.
#' @param intensive With a share: columns not to be multiplied, as in [dplyr::select()].
#' @param borders A point on a border that several regions share counts in the `"first"` of them, in row order, or in `"all"`.
#' @param relation,distance,unit,crs See [related_pairs()]; the relation reads "region relation feature". With a share it is
#'   `"intersects"`.
#' @return `regions` with a column a summary, in the same rows and order.
#' @section Errors: `civicatlas_error_crs_mismatch` where the CRSs differ; `civicatlas_error_argument` for a summary
#'   without a name or that gives more than one value, and for a share of shapes that have no area or length.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' rooms <- read_layer(demo_file("rooms.geojson")) |> reproject_to(wards)
#' summarise_into(wards, rooms, rooms = dplyr::n(), seats = sum(seats))
#' cells <- read_layer(demo_file("cells.zip")) |> mend_numbers()
#' reach <- buffer_by(rooms, 400, merged = TRUE)
#' summarise_into(reach, cells, people = sum(pop_total, na.rm = TRUE), share = "area")
#' @export
summarise_into <- function(regions, features, ..., share = "none", intensive = NULL, borders = "first", relation = "intersects",
                           distance = NULL, unit = NULL, crs = "equal") {
  started <- clock()
  call <- rlang::current_env()
  need_frames(regions, features, call)
  one_of(share, c("none", "area", "length"), "share", call = call)
  one_of(borders, c("first", "all"), "borders", call = call)
  features <- meet(regions, features, crs, "regions", "features", call = call)
  summaries <- rlang::enquos(...)
  if (!length(summaries)) summaries <- rlang::quos(count = dplyr::n())
  if (any(!nzchar(rlang::names2(summaries)))) {
    fail("argument", c("Every summary needs a name.", i = "For example {.code summarise_into(regions, features, total = sum(value))}."), call = call)
  }
  columns <- attribute_table(features)
  intensive <- names(choose_columns(columns, rlang::enquo(intensive), "intensive", call))
  if (share == "none") {
    pairs <- find_pairs(as_shapes(regions), as_shapes(features), relation, distance, unit, c("regions", "features"), call = call)
    if (borders == "first") pairs <- first_on_borders(pairs, as_shapes(regions), as_shapes(features), call)
    falling <- vctrs::vec_slice(columns, pairs$y)
  } else {
    pairs <- shared_pairs(as_shapes(regions), as_shapes(features), share, call)
    falling <- apportioned(columns, pairs, intensive)
  }
  table <- summaries_by_region(falling, pairs$x, nrow(regions), summaries, call)
  out <- add_columns(regions, table, "_features")

  parts <- c(if (share == "none") account_of(pairs, nrow(features)) else account_of_shares(pairs, share), pairs$note)
  empty <- nrow(regions) - length(unique(pairs$x))
  of_regions <- paste0(counted(nrow(regions), "region"), if (empty) paste0(", ", format_count(empty), " of them empty"))
  say("{.fn summarise_into}: {counted(nrow(features), 'feature')}: {paste(parts, collapse = ', ')}; {of_regions}.")
  warn_if_apart(regions, features, !length(pairs$x))
  record(out, regions, "summarise_into", rlang::current_call(), nrow(regions), parts[-1], started)
}

account_of <- function(pairs, features) {
  times <- tabulate(pairs$y, features)
  c(paste(format_count(sum(times == 1)), "in one region"), if (any(times > 1)) paste(format_count(sum(times > 1)), "in several (counted in each)"),
    if (any(times == 0)) paste(format_count(sum(times == 0)), "in none"))
}

account_of_shares <- function(pairs, share) {
  within <- rowsum_of(pairs$share, pairs$y, length(pairs$whole))
  known <- pairs$whole > 0
  outside <- sum(pairs$whole[known] * pmax(0, 1 - within[known])) / sum(pairs$whole[known])
  over <- sum(within > 1 + 1e-9)
  c(paste0(format_count(sum(within > 0)), " apportioned by ", share), paste0(format(100 * outside, digits = 3), " % of their ", share, " lies in no region"),
    if (over) paste(format_count(over), "in regions that overlap (counted more than once)"))
}

# Points on borders that several regions share stay with the first; those inside regions that overlap stay with all.
first_on_borders <- function(pairs, regions, features, call) {
  several <- which(tabulate(pairs$y, length(features)) > 1 & geometry_type_of(features) %in% "point")
  if (!length(several)) return(pairs)
  touching <- find_pairs(regions, features[several], "touches", call = call)
  key <- function(x, y) paste(x, y)
  on_border <- key(pairs$x, pairs$y) %in% key(touching$x, several[touching$y])
  inside <- unique(pairs$y[!on_border])
  drop <- on_border & (pairs$y %in% inside | duplicated(ifelse(on_border, pairs$y, -seq_along(pairs$y))))
  moved <- length(unique(pairs$y[drop]))
  list(x = pairs$x[!drop], y = pairs$y[!drop], note = if (moved) paste(format_count(moved), "on a border (first region)"))
}

# What regions and features have in common, and the share of each feature that is.
shared_pairs <- function(regions, features, share, call) {
  kind <- if (share == "area") "polygon" else "line"
  odd <- which(!is.na(features) & !grepl(kind, geometry_type_of(features)))
  if (length(odd)) {
    fail("argument", c("{.arg share} is {.val {share}}, which feature {odd[1]}, a {geometry_type_of(features[odd[1]])}, does not have.",
                       i = "Points count whole: leave out {.arg share}."), call = call)
  }
  check_same_crs(regions, features, "regions", "features", call = call)
  regions <- valid_shapes(overlay_shapes(regions, call), "regions", call)
  features <- valid_shapes(features, "features", call)
  found <- core(core_shared_measures(handles_of(regions), store_of(regions), handles_of(features), store_of(features)), call = call)
  shared <- found[[share]]
  some <- shared > 0
  whole <- core_planar_measure(handles_of(features), store_of(features), share)
  whole[is.na(whole)] <- 0
  y <- found$y[some]
  list(x = found$x[some], y = y, shared = shared[some], share = shared[some] / whole[y], whole = whole)
}

apportioned <- function(columns, pairs, intensive) {
  out <- vctrs::vec_slice(columns, pairs$y)
  for (name in setdiff(names(out)[vapply(out, is.numeric, NA)], intensive)) out[[name]] <- out[[name]] * pairs$share
  out$.share <- pairs$share
  out$.shared <- pairs$shared
  out
}

#' @rdname summarise_into
#' @export
summarize_into <- summarise_into

# One row a region: the summaries of the features that fall in each, and those of no features where none does.
summaries_by_region <- function(falling, region, regions, summaries, call) {
  names <- names(summaries)
  known <- falling[0, ]
  grouped <- falling
  grouped$.region <- region
  # Under names of their own, so that a summary never sees another one in place of the column it asks for.
  names(summaries) <- paste0(".summary_", seq_along(names))
  of_none <- suppressWarnings(summarise_checked(known, summaries, known, call))  # extremes of nothing
  of_none[] <- lapply(of_none, nothing_to_na)
  of_some <- summarise_checked(dplyr::group_by(grouped, .data$.region), summaries, known, call)
  at <- match(seq_len(regions), of_some$.region)
  table <- lapply(names(summaries), function(name) {
    both <- vctrs::vec_c(of_some[[name]], of_none[[name]])
    both[ifelse(is.na(at), length(both), at)]
  })
  tibble::new_tibble(stats::setNames(table, names), nrow = regions)
}

summarise_checked <- function(data, summaries, features, call) {
  for (summary in summaries) need_variables(summary, features, "...", call)
  tryCatch(
    dplyr::summarise(data, !!!summaries, .groups = "drop"),
    error = function(e) fail("argument", c("A summary failed.", x = "{conditionMessage(e$parent %||% e)}"), call = call)
  )
}

# What a mean or an extreme of nothing gives is no value.
nothing_to_na <- function(value) if (is.double(value) && !is.finite(value)) NA_real_ else value

#' Rates and shares
#'
#' `rate_of()` gives counts per so many of a base; `share_of_total()` each value's share of the sum; `cross_table()` the area that
#' categories of two layers have in common.
#'
#' @param count,base Numeric vectors of one length, such as cases and residents.
#' @param per Per how many of the base.
#' @param small Bases below this are counted in a warning: their rates swing by chance.
#' @return `rate_of()`: a double vector, `NA` where the base is 0 or missing. `share_of_total()`: a double vector that adds up to 1.
#' @section Errors: `civicatlas_error_argument` for what is no number, a base below 0, or lengths that differ.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' rate_of(wards$over_65, wards$residents)
#' share_of_total(wards$residents)
#' @export
rate_of <- function(count, base, per = 1000, small = 100) {
  call <- rlang::current_env()
  if (!is.numeric(count) || !is.numeric(base)) {
    fail("argument", c("{.arg count} and {.arg base} must be numbers.", i = "Text that holds numbers: {.fn mend_numbers}."), call = call)
  }
  if (length(base) != length(count) && length(base) != 1) {
    fail("argument", "{.arg count} has {length(count)} value{?s} and {.arg base} {length(base)}.", call = call)
  }
  if (any(base < 0, na.rm = TRUE)) fail("argument", "{.arg base} is below 0 in place {which(base < 0)[1]}.", call = call)
  few <- sum(base < small, na.rm = TRUE)
  if (few) {
    caution("data", c("{few} base{?s} {?is/are} below {small}: {?its rate swings/their rates swing} by chance.",
                      i = "Larger regions, or several years together, are steadier."))
  }
  ifelse(base == 0, NA_real_, per * count / base)
}

#' @param x A numeric vector, or a spatial frame of polygons.
#' @param na.rm Leave out missing values, whose share is `NA`; otherwise all are.
#' @rdname rate_of
#' @export
share_of_total <- function(x, na.rm = FALSE) {
  if (!is.numeric(x)) fail("argument", c("{.arg x} must be numbers.", i = "Text that holds numbers: {.fn mend_numbers}."), call = rlang::current_env())
  x / sum(x, na.rm = na.rm)
}

#' @param y A spatial frame of polygons on the CRS of `x`.
#' @param x_column,y_column The columns of categories.
#' @param unit Of areas: see [area_of()]; square metres by default.
#' @param crs See [related_pairs()].
#' @return `cross_table()`: a tibble of `x_column`, `y_column` and `area`, one line for each pair of categories with ground in common, and
#'   with `NA` for what of `x` lies in nothing of `y`. Planar, in the CRS of `x`.
#' @rdname rate_of
#' @export
cross_table <- function(x, y, x_column, y_column, unit = NULL, crs = "equal") {
  call <- rlang::current_env()
  need_frames(x, y, call)
  y <- meet(x, y, crs, call = call)
  x_column <- rlang::as_name(rlang::ensym(x_column))
  y_column <- rlang::as_name(rlang::ensym(y_column))
  need_column(x, x_column, "x_column", call = call)
  need_column(y, y_column, "y_column", call = call)
  a <- valid_shapes(polygons_of(x, "x", call), "x", call)
  b <- valid_shapes(polygons_of(y, "y", call), "y", call)
  if (is_geographic(a)) {
    fail("crs", c("Areas in common are planar, and the layers are on longitude and latitude.",
                  i = "Reproject both first: {.code reproject_to(x, \"{utm_code(a)}\")}."), call = call)
  }
  scale <- measure_scale(a, unit, area_units, 2, FALSE, call)
  found <- core(core_shared_measures(handles_of(a), store_of(a), handles_of(b), store_of(b)), call = call)
  rest <- planar_areas(a) - rowsum_of(found$area, found$x, length(a))
  alone <- which(rest > 1e-9 * planar_areas(a))
  parts <- tibble::tibble(x = x[[x_column]][c(found$x, alone)], y = vctrs::vec_slice(y[[y_column]], c(found$y, rep(NA_integer_, length(alone)))),
                          area = c(found$area, rest[alone]) * scale)
  out <- dplyr::summarise(dplyr::group_by(parts, .data$x, .data$y), area = sum(.data$area), .groups = "drop")
  stats::setNames(out, make.unique(c(x_column, y_column, "area"), sep = "_"))
}
