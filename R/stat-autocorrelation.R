#' Is the pattern more than chance?
#'
#' Whether neighbours are more alike than rows at random: Moran's I (Moran 1950) is above its expectation where they are, Geary's C
#' (Geary 1954) below 1. Moments are those of Cliff and Ord (1981).
#'
#' @param x A numeric vector, one value a row; rows without a value are left out, which is said, and row weights add up to 1 again
#'   over the neighbours that are left.
#' @param neighbours From [neighbours_of()].
#' @param statistic `"moran"` or `"geary"`.
#' @param assumption `"randomisation"`: the values stand in any order; `"normality"`: they come from a normal distribution;
#'   `"permutation"`: as often as asked they are put in an order drawn at random.
#' @param permutations How often. Where it is given and `assumption` is not, that is `"permutation"`.
#' @param seed Of the random numbers, for the same result again; the session's own stay as they are.
#' @param alternative `"greater"`: neighbours are alike; `"less"`: they differ; `"two-sided"`.
#' @return A tibble of one row: `statistic`, `expectation`, `variance`, `z` (positive where neighbours are alike), `p_value`, `assumption`.
#' @section Errors: `civicatlas_error_argument` for values that are no numbers, all equal or fewer than four, and where no rows are
#'   neighbours; `civicatlas_error_choice` for a statistic or an assumption that is none.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' share <- wards$over_65 / wards$residents
#' autocorrelation_of(share, neighbours_of(wards))
#' autocorrelation_of(share, neighbours_of(wards, "nearest", count = 3), "geary", "permutation", seed = 1)
#' @export
autocorrelation_of <- function(x, neighbours, statistic = "moran", assumption = "randomisation", permutations = 999, seed = NULL,
                               alternative = "greater") {
  call <- rlang::current_env()
  one_of(statistic, autocorrelation_statistics, "statistic", call = call)
  if (!missing(permutations) && missing(assumption)) assumption <- "permutation"
  one_of(assumption, c("randomisation", "normality", "permutation"), "assumption", call = call)
  if (!is_count(permutations, 1)) fail("argument", "{.arg permutations} must be a whole number of 1 or more.", call = call)
  if (!missing(permutations) && assumption != "permutation") {
    fail("argument", c("{.arg permutations} is only used with {.code assumption = \"permutation\"}, not {.val {assumption}}.",
                       i = "Leave one of them out."), call = call)
  }
  one_of(alternative, c("greater", "less", "two-sided"), "alternative", call = call)
  known <- complete_links(x, neighbours, call)
  found <- switch(statistic, moran = moran_moments, geary = geary_moments)(known$values, known$links)
  alike <- found$sign  # +1 where a larger statistic means that neighbours are alike
  if (assumption == "permutation") {
    drawn <- with_seed(seed, vapply(seq_len(permutations), function(i) found$of(sample(known$values)), 0))
    expectation <- mean(drawn)
    variance <- stats::var(drawn)
    at_least <- function(side) (1 + sum(side * alike * (drawn - found$statistic) >= 0)) / (1 + permutations)
    p <- switch(alternative, greater = at_least(1), less = at_least(-1), "two-sided" = min(1, 2 * min(at_least(1), at_least(-1))))
  } else {
    expectation <- found$expectation
    variance <- found[[assumption]]
  }
  z <- if (variance > 0) alike * (found$statistic - expectation) / sqrt(variance) else NA_real_
  if (assumption != "permutation") {
    p <- switch(alternative, greater = stats::pnorm(z, lower.tail = FALSE), less = stats::pnorm(z), "two-sided" = 2 * stats::pnorm(-abs(z)))
  }
  tibble::new_tibble(list(statistic = found$statistic, expectation = expectation, variance = variance, z = z, p_value = p, assumption = assumption), nrow = 1)
}

# What the moments take: the number of values, their kurtosis, and sums of weights.
moment_sums <- function(values, links) {
  n <- length(values)
  z <- values - mean(values)
  out <- rowsum_of(links$weight, links$row, n)
  into <- rowsum_of(links$weight, links$neighbour, n)
  key <- links$row * (n + 1) + links$neighbour
  back <- links$weight[match(links$neighbour * (n + 1) + links$row, key)]
  back[is.na(back)] <- 0
  one_way <- back == 0
  s1 <- sum((links$weight + back)^2) / 2 + sum(links$weight[one_way]^2) / 2
  list(n = n, b2 = n * sum(z^4) / sum(z^2)^2, s0 = sum(links$weight), s1 = s1, s2 = sum((out + into)^2))
}

moran_moments <- function(values, links) {
  s <- moment_sums(values, links)
  n <- s$n
  b2 <- s$b2
  statistic <- function(values) {
    z <- values - mean(values)
    n * sum(links$weight * z[links$row] * z[links$neighbour]) / (s$s0 * sum(z^2))
  }
  expectation <- -1 / (n - 1)
  list(
    statistic = statistic(values), of = statistic, sign = 1, expectation = expectation,
    normality = (n^2 * s$s1 - n * s$s2 + 3 * s$s0^2) / ((n^2 - 1) * s$s0^2) - expectation^2,
    randomisation = (n * ((n^2 - 3 * n + 3) * s$s1 - n * s$s2 + 3 * s$s0^2) - b2 * ((n^2 - n) * s$s1 - 2 * n * s$s2 + 6 * s$s0^2)) /
      ((n - 1) * (n - 2) * (n - 3) * s$s0^2) - expectation^2
  )
}

geary_moments <- function(values, links) {
  s <- moment_sums(values, links)
  n <- s$n
  b2 <- s$b2
  statistic <- function(values) {
    (n - 1) * sum(links$weight * (values[links$row] - values[links$neighbour])^2) / (2 * s$s0 * sum((values - mean(values))^2))
  }
  list(
    statistic = statistic(values), of = statistic, sign = -1, expectation = 1,
    normality = ((2 * s$s1 + s$s2) * (n - 1) - 4 * s$s0^2) / (2 * (n + 1) * s$s0^2),
    randomisation = ((n - 1) * s$s1 * (n^2 - 3 * n + 3 - (n - 1) * b2) - (n - 1) * s$s2 * (n^2 + 3 * n - 6 - (n^2 - n + 2) * b2) / 4 +
                       s$s0^2 * (n^2 - 3 - (n - 1)^2 * b2)) / (n * (n - 2) * (n - 3) * s$s0^2)
  )
}

#' Clusters of high and low values
#'
#' Where neighbours are alike or differ: local Moran statistics (Anselin 1995), whose chance is found by conditional permutation, or
#' G* (Getis and Ord 1992; Ord and Getis 1995), which counts the row itself among its neighbours.
#'
#' @inheritParams autocorrelation_of
#' @param permutations How often each row's neighbours are drawn anew for local Moran; `NULL` for as often as the adjustment takes to find
#'   a single cluster, at most a million times. Rows whose chance is plain after the first 999 take no more.
#' @param method `"local moran"` or `"G*"`.
#' @param level Rows whose adjusted chance is below this are clusters.
#' @param adjust How chances are adjusted for the many tests, as in [stats::p.adjust()]: `"fdr"`, `"bonferroni"`, …, or `"none"`.
#' @return A tibble of one line a row: `value`, `lag`, `statistic`, `z`, `p_value` (two-sided), `p_adjusted`, `cluster`: `"high"` or `"low"` among
#'   the like for G*; `"high among high"`, `"low among low"`, `"high among low"`, `"low among high"` for local Moran; `"none"`. `NA` for rows
#'   without a value.
#' @section Errors: As [autocorrelation_of()].
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' wards$cluster <- local_clusters(wards$over_65 / wards$residents, neighbours_of(wards), seed = 1)$cluster
#' table(wards$cluster)
#' @export
local_clusters <- function(x, neighbours, method = "local moran", permutations = NULL, seed = NULL, level = 0.05, adjust = "fdr") {
  call <- rlang::current_env()
  one_of(method, c("local moran", "G*"), "method", call = call)
  one_of(adjust, stats::p.adjust.methods, "adjust", call = call)
  if (!is.null(permutations)) need_count(permutations, call, "permutations")
  if (!is_positive(level) || level >= 1) fail("argument", "{.arg level} must be a number between 0 and 1.", call = call)
  known <- complete_links(x, neighbours, call)
  most <- permutations %||% min(1e6 - 1, max(999, ceiling(4 * length(known$values) / level) - 1))
  found <- if (method == "G*") g_star(known) else local_moran(known, most, seed, call)
  adjusted <- stats::p.adjust(found$p_value, adjust)
  hidden <- sum(found$beyond_all & adjusted >= level, na.rm = TRUE)
  if (hidden) {
    beyond <- "{counted(hidden, 'row')} lie{cli::qty(hidden)}{?s/} beyond all {format_count(most)} permutations"
    caution("data", c(paste0(beyond, ", which are too few to pass the adjustment."),
                      i = if (!is.null(permutations)) "Leave {.arg permutations} out for as many as it takes.",
                      i = "{.code method = \"G*\"} takes none."))
  }
  cluster <- ifelse(!is.na(adjusted) & adjusted < level, found$kind, "none")
  tell_clusters(found$p_value, adjusted, cluster, level, adjust)
  at <- which(is.finite(x))
  whole <- function(values, blank) {
    out <- rep(blank, length(x))
    out[at] <- values
    out
  }
  tibble::new_tibble(list(
    value = as.double(x), lag = whole(lags_of(known), NA_real_),
    statistic = whole(found$statistic, NA_real_), z = whole(found$z, NA_real_),
    p_value = whole(found$p_value, NA_real_), p_adjusted = whole(adjusted, NA_real_), cluster = whole(cluster, NA_character_)
  ), nrow = length(x))
}

# How many rows are clusters, and how many would be without the adjustment.
tell_clusters <- function(chances, adjusted, cluster, level, adjust) {
  kinds <- table(cluster[cluster != "none"])
  listed <- paste(format_count(as.vector(kinds)), names(kinds), collapse = ", ")
  found <- paste0(if (length(kinds)) paste0(listed, ": ") else "no clusters: none ", "below ", level, " after adjustment by ", adjust)
  alone <- sum(chances < level, na.rm = TRUE)
  without <- if (adjust != "none") paste0("; ", format_count(alone), " below it before")
  say("{.fn local_clusters}: {counted(length(chances), 'row')}: {found}{without}.")
}

# Weighted sums of the neighbours' values, missing where there are none.
lags_of <- function(known) {
  lag <- weighted_sums(known$links, known$values)
  lag[tabulate(known$links$row, length(lag)) == 0] <- NA
  lag
}

local_moran <- function(known, most, seed, call) {
  z <- known$values - mean(known$values)
  lag <- weighted_sums(known$links, z)
  seed <- seed %||% sample.int(.Machine$integer.max, 1)
  drawn <- core(core_drawn_sums(z, known$links$row, known$links$weight, lag, most, seed), call = call)
  kind <- paste(ifelse(z > 0, "high", "low"), "among", ifelse(lag > 0, "high", "low"))
  list(statistic = z / mean(z^2) * lag, z = sign(z) * (lag - drawn$mean) / drawn$deviation, p_value = drawn$p_value, kind = kind,
       beyond_all = drawn$beyond_all)
}

g_star <- function(known) {
  values <- known$values
  links <- known$links
  n <- length(values)
  # With the row itself, whose weight is the mean of its others; row weights add up to 1 again.
  degree <- tabulate(links$row, n)
  row_weights <- has_row_weights(links, n)
  own <- if (row_weights) 1 / (degree + 1) else rep(1, n)
  weight <- if (row_weights) links$weight * degree[links$row] / (degree[links$row] + 1) else links$weight
  sum_w <- rowsum_of(weight, links$row, n) + own
  sum_w2 <- rowsum_of(weight^2, links$row, n) + own^2
  sum_wx <- rowsum_of(weight * values[links$neighbour], links$row, n) + own * values
  s <- sqrt(mean((values - mean(values))^2))
  spread <- s * sqrt(pmax(0, n * sum_w2 - sum_w^2) / (n - 1))
  z <- ifelse(spread > 1e-12 * s, (sum_wx - mean(values) * sum_w) / spread, NA_real_)
  list(statistic = sum_wx / sum(values), z = z, p_value = 2 * stats::pnorm(-abs(z)), kind = ifelse(z > 0, "high", "low"),
       beyond_all = logical(n))
}

# Random numbers from a seed, after which the session's own go on as they were.
with_seed <- function(seed, expr) {
  if (is.null(seed)) return(expr)
  before <- globalenv()$.Random.seed
  on.exit(if (is.null(before)) rm(".Random.seed", envir = globalenv()) else assign(".Random.seed", before, globalenv()))
  set.seed(seed)
  expr
}

autocorrelation_statistics <- c("moran", "geary")
