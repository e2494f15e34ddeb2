#' Neighbours and weights
#'
#' Which rows of a layer lie beside which, with a weight for each pair: what [autocorrelation_of()], [local_clusters()] and
#' [lag_of()] work on.
#'
#' @param x A spatial frame or shape vector.
#' @param by `"edge"`: polygons that share a border of some length; `"point"`: or touch in a point; `"nearest"`: the `count` rows whose
#'   centroids are nearest; `"distance"`: rows no farther apart than `distance`.
#' @param count How many nearest rows; ties go to the earlier row.
#' @param distance,unit For `by = "distance"`; see [related_pairs()].
#' @param weights `"row"`: those of a row add up to 1; `"binary"`: each is 1.
#' @return A tibble of class `neighbours` with a line for each pair: `row`, `neighbour`, `weight`; a row is no neighbour of itself. Rows
#'   without any neighbour are counted.
#' @section Errors: `civicatlas_error_choice` for an unknown `by` or `weights`.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' beside <- neighbours_of(wards)
#' autocorrelation_of(wards$over_65 / wards$residents, beside)
#' @export
neighbours_of <- function(x, by = "edge", count = 4, distance = NULL, unit = NULL, weights = "row") {
  call <- rlang::current_env()
  one_of(by, neighbour_kinds, "by", call = call)
  one_of(weights, c("row", "binary"), "weights", call = call)
  shapes <- as_shapes(x, call = call)
  pairs <- switch(by,
    edge = touching_pairs(shapes, TRUE, call), point = touching_pairs(shapes, FALSE, call),
    nearest = nearest_pairs(shapes, count, call),
    distance = find_pairs(shapes, shapes, "within distance", distance, unit, call = call)
  )
  apart <- pairs$x != pairs$y
  row <- pairs$x[apart]
  links <- tabulate(row, length(shapes))
  alone <- sum(links == 0)
  lonely <- if (alone) paste0("; ", format_count(alone), " without a neighbour")
  say("{.fn neighbours_of}: {counted(length(shapes), 'row')}, {format_count(length(row))} pairs, {signif(mean(links), 3)} a row{lonely}.")
  out <- list(row = row, neighbour = pairs$y[apart], weight = if (weights == "row") 1 / links[row] else rep(1, length(row)))
  tibble::new_tibble(out, nrow = length(row), rows = length(shapes), class = "neighbours")
}

neighbour_kinds <- c("edge", "point", "nearest", "distance")

nearest_pairs <- function(shapes, count, call) {
  need_count(count, call)
  centres <- centres_of(shapes)
  points <- point_shapes(centres$x, centres$y, crs_of(shapes))
  found <- nearest_rows(points, points, count + 1, Inf, call)
  apart <- which(found$x != found$y)
  first <- apart[sequence_in_groups(found$x[apart]) <= count]
  list(x = found$x[first], y = found$y[first])
}

# 1, 2, … within each run of equal values.
sequence_in_groups <- function(groups) sequence(rle(groups)$lengths)

#' Spatial lag
#'
#' The weighted sum of each row's neighbours' values: with row weights their mean.
#' @param x A numeric vector, one value a row.
#' @param neighbours From [neighbours_of()].
#' @return A double vector; 0 without neighbours, `NA` where one of them is missing.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' lag_of(wards$residents, neighbours_of(wards))
#' @export
lag_of <- function(x, neighbours) {
  need_neighbours(x, neighbours, rlang::current_env())
  weighted_sums(neighbours, x)
}

# Of each row the sum of its neighbours' values by their weights.
weighted_sums <- function(links, values) rowsum_of(links$weight * values[links$neighbour], links$row, length(values))

need_neighbours <- function(x, neighbours, call) {
  if (!inherits(neighbours, "neighbours")) fail("argument", "{.arg neighbours} must come from {.fn neighbours_of}.", call = call)
  if (!is.numeric(x)) fail("argument", c("{.arg x} must be numbers.", i = "Text that holds numbers: {.fn mend_numbers}."), call = call)
  rows <- attr(neighbours, "rows")
  if (length(x) != rows) fail("argument", "{.arg x} has {length(x)} value{?s}, the neighbours are of {rows} rows.", call = call)
  if (any(neighbours$weight < 0)) fail("argument", "Weights must not be negative.", call = call)
}

# Do the weights of each row with neighbours add up to 1?
has_row_weights <- function(links, rows) {
  sums <- rowsum_of(links$weight, links$row, rows)
  isTRUE(all.equal(sums[sums != 0], rep(1, sum(sums != 0))))
}

# Values without missing ones, and the links between rows that have them; row weights add up to 1 again over what is left.
complete_links <- function(x, neighbours, call) {
  need_neighbours(x, neighbours, call)
  known <- is.finite(x)
  if (any(!known)) caution("data", "{sum(!known)} row{?s} without a value {?is/are} left out.")
  keep <- known[neighbours$row] & known[neighbours$neighbour]
  weight <- neighbours$weight[keep]
  if (any(!keep) && has_row_weights(neighbours, length(x))) weight <- weight / rowsum_of(weight, neighbours$row[keep], length(x))[neighbours$row[keep]]
  place <- cumsum(known)
  links <- list(row = place[neighbours$row[keep]], neighbour = place[neighbours$neighbour[keep]], weight = weight)
  values <- x[known]
  alone <- length(values) - length(unique(links$row))
  if (alone) caution("data", "{counted(alone, 'row')} {cli::qty(alone)}{?has/have} no neighbour with a value, and count{?s/} towards the mean alone.")
  if (length(values) < 4) fail("argument", "At least four values are needed; there are {length(values)}.", call = call)
  if (length(unique(values)) == 1) fail("argument", "All values are equal, so that there is no pattern to test.", call = call)
  if (!length(links$row)) fail("argument", "No two rows are neighbours.", call = call)
  list(values = values, links = links)
}
