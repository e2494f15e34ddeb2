#' Rates and shares
#'
#' `rate_of()` gives counts per so many of a base; `share_of_total()` each value's share of the sum.
#'
#' @param count,base Numeric vectors of one length, such as cases and residents.
#' @param per Per how many of the base.
#' @param small Bases below this are counted in a warning: their rates swing by chance.
#' @param smooth `"none"`, or empirical Bayes smoothing (Marshall 1991, "Mapping disease and mortality rates using empirical Bayes estimators", Applied
#'   Statistics 40), which draws rates of small bases towards the `"global"` rate of all, or towards the `"local"` one of a row and its `neighbours`.
#' @param neighbours For local smoothing: from [neighbours_of()].
#' @param interval For an exact Poisson interval of each rate (Garwood 1936, "Fiducial limits for the Poisson distribution", Biometrika 28): its
#'   coverage, such as 0.95.
#' @return `rate_of()`: a double vector, `NA` where the base is 0 or missing; with an `interval` a tibble of `rate`, `low` and `high`, of which the
#'   limits are those of the rate that is not smoothed. `share_of_total()`: a double vector that adds up to 1.
#' @section Errors: `civicatlas_error_argument` for what is no number, a base below 0, or lengths that differ.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' rate_of(wards$over_65, wards$residents)
#' share_of_total(wards$residents)
#' @export
rate_of <- function(count, base, per = 1000, small = 100, smooth = "none", neighbours = NULL, interval = NULL) {
  call <- rlang::current_env()
  one_of(smooth, c("none", "global", "local"), "smooth", call = call)
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
  base <- rep_len(as.double(base), length(count))
  base[which(base == 0)] <- NA
  rate <- switch(smooth, none = count / base, global = smoothed(count, base, rep(1L, length(count))), local = smoothed_locally(count, base, neighbours, call))
  if (is.null(interval)) return(per * rate)
  if (!is_positive(interval) || interval >= 1) fail("argument", "{.arg interval} must be a coverage between 0 and 1, such as 0.95.", call = call)
  if (any(count < 0 | count != round(count), na.rm = TRUE)) fail("argument", "An interval needs {.arg count} in whole numbers of 0 or more.", call = call)
  tail <- (1 - interval) / 2
  low <- stats::qchisq(tail, 2 * count) / 2
  high <- stats::qchisq(1 - tail, 2 * count + 2) / 2
  tibble::tibble(rate = per * rate, low = per * low / base, high = per * high / base)
}

# Rates drawn towards that of a set of rows, as far as the spread between them does not tell them from chance: the method of moments of Marshall (1991),
# section 3. `count`, `base` and `set` of the rows that make up the sets; the result is of those named by `at`, one for each set, or of all.
smoothed <- function(count, base, set, at = seq_along(count)) {
  n <- max(set)
  known <- !is.na(count) & !is.na(base)
  total <- function(values) rowsum_of(ifelse(known, values, 0), set, n)
  bases <- total(base)
  mean <- total(count) / bases
  spread <- total(base * (count / base - mean[set])^2) / bases
  between <- pmax(0, spread - mean / (bases / total(rep(1, length(count)))))
  of <- set[at]
  weight <- between[of] / (between[of] + mean[of] / base[at])
  ifelse(mean[of] == 0, count[at] / base[at], mean[of] + weight * (count[at] / base[at] - mean[of]))
}

smoothed_locally <- function(count, base, neighbours, call) {
  need_neighbours(count, neighbours, call)
  rows <- seq_along(count)
  member <- c(rows, neighbours$neighbour)
  smoothed(count[member], base[member], c(rows, neighbours$row), at = rows)
}

#' How sure a class is
#'
#' The probability that the true rate of each row lies in the class that its rate falls in, which a map shows beside that of the rates: what looks like
#' a pattern may be chance. By the Poisson distribution of counts, with the prior of Jeffreys (gamma with shape 1/2).
#'
#' @inheritParams rate_of
#' @param breaks From [class_breaks()] of the rates, or ascending numbers.
#' @return A double vector from 0 to 1, `NA` where there is no rate.
#' @section Errors: `civicatlas_error_argument` for counts or breaks that are none.
#' @seealso [rate_of()] for rates and their intervals, [choropleth_map()].
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' rates <- rate_of(wards$over_65, wards$residents)
#' summary(class_probability(wards$over_65, wards$residents, class_breaks(rates, 4)))
#' @export
class_probability <- function(count, base, breaks, per = 1000) {
  call <- rlang::current_env()
  if (!is.numeric(count) || !is.numeric(base) || any(count < 0 | base < 0, na.rm = TRUE)) {
    fail("argument", "{.arg count} and {.arg base} must be numbers of 0 or more.", call = call)
  }
  cuts <- as.double(breaks)
  if (length(cuts) < 2 || anyNA(cuts) || is.unsorted(cuts)) fail("argument", "{.arg breaks} must be two or more ascending numbers.", call = call)
  base <- rep_len(as.double(base), length(count))
  class <- core(core_class_of(per * count / base, cuts))
  # The outer classes hold what lies beyond their ends too.
  low <- replace(cuts, 1, 0)[class]
  high <- replace(cuts, length(cuts), Inf)[class + 1]
  up_to <- function(rate) stats::pgamma(rate / per, count + 0.5, rate = base)
  ifelse(base > 0, up_to(high) - up_to(low), NA_real_)
}

#' @param x A numeric vector, or a spatial frame of polygons.
#' @param na.rm Leave out missing values, whose share is `NA`; otherwise all are.
#' @rdname rate_of
#' @export
share_of_total <- function(x, na.rm = FALSE) {
  if (!is.numeric(x)) fail("argument", c("{.arg x} must be numbers.", i = "Text that holds numbers: {.fn mend_numbers}."), call = rlang::current_env())
  x / sum(x, na.rm = na.rm)
}
