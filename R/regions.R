#' Summarise features by region
#'
#' Evaluates summaries of the features that fall in each region, and adds them to the regions: counts and sums are 0
#' where nothing falls, means and extremes `NA`. A line accounts for the features: in one region, in several, in none.
#'
#' @param regions,features Spatial frames on one CRS.
#' @param ... Named summaries of the features' columns, as in [dplyr::summarise()]: `rooms = n()`, `seats = sum(seats)`. Each
#'   sees the columns as they came, whatever the others are named. Without any, `count = n()`.
#' @param relation,distance,unit,crs See [related_pairs()]; the relation reads "region relation feature". With the default,
#'   a feature on a border shared by two regions counts in both, and the account says so.
#' @return `regions` with a column a summary, in the same rows and order.
#' @section Errors: `civicatlas_error_crs_mismatch` where the CRSs differ; `civicatlas_error_argument` for a summary
#'   without a name or that gives more than one value.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' rooms <- read_layer(demo_file("rooms.geojson")) |> reproject_to(wards)
#' summarise_into(wards, rooms, rooms = dplyr::n(), seats = sum(seats))
#' @export
summarise_into <- function(regions, features, ..., relation = "intersects", distance = NULL, unit = NULL, crs = "equal") {
  started <- clock()
  call <- rlang::current_env()
  need_frames(regions, features, call)
  features <- meet(regions, features, crs, "regions", "features", call = call)
  summaries <- rlang::enquos(...)
  if (!length(summaries)) summaries <- rlang::quos(count = dplyr::n())
  if (any(!nzchar(rlang::names2(summaries)))) {
    fail("argument", c("Every summary needs a name.", i = "For example {.code summarise_into(regions, features, total = sum(value))}."), call = call)
  }
  pairs <- find_pairs(as_shapes(regions), as_shapes(features), relation, distance, unit, c("regions", "features"), call = call)
  table <- summaries_by_region(attribute_table(features), pairs, nrow(regions), summaries, call)
  out <- add_columns(regions, table, "_features")

  times <- tabulate(pairs$y, nrow(features))
  parts <- c(paste(format_count(sum(times == 1)), "in one region"),
             if (any(times > 1)) paste(format_count(sum(times > 1)), "in several (counted in each)"),
             if (any(times == 0)) paste(format_count(sum(times == 0)), "in none"))
  empty <- nrow(regions) - length(unique(pairs$x))
  of_regions <- paste0(counted(nrow(regions), "region"), if (empty) paste0(", ", format_count(empty), " of them empty"))
  say("{.fn summarise_into}: {counted(nrow(features), 'feature')}: {paste(parts, collapse = ', ')}; {of_regions}.")
  warn_if_apart(regions, features, !length(pairs$x))
  record(out, regions, "summarise_into", rlang::current_call(), nrow(regions), parts[-1], started)
}

#' @rdname summarise_into
#' @export
summarize_into <- summarise_into

# One row a region: the summaries of its features, and those of no features where it has none.
summaries_by_region <- function(features, pairs, regions, summaries, call) {
  names <- names(summaries)
  grouped <- vctrs::vec_slice(features, pairs$y)
  grouped$.region <- pairs$x
  # Under names of their own, so that a summary never sees another one in place of the column it asks for.
  names(summaries) <- paste0(".summary_", seq_along(names))
  of_none <- suppressWarnings(summarise_checked(vctrs::vec_slice(features, 0L), summaries, features, call))  # extremes of nothing
  of_none[] <- lapply(of_none, nothing_to_na)
  of_some <- summarise_checked(dplyr::group_by(grouped, .data$.region), summaries, features, call)
  at <- match(seq_len(regions), of_some$.region)
  columns <- lapply(names(summaries), function(name) {
    both <- vctrs::vec_c(of_some[[name]], of_none[[name]])
    both[ifelse(is.na(at), length(both), at)]
  })
  tibble::new_tibble(stats::setNames(columns, names), nrow = regions)
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
