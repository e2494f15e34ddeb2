vectors <- jsonlite::fromJSON(test_data("classify_vectors.json"), simplifyVector = FALSE)$samples

numbers <- function(values) vapply(values, function(v) if (is.null(v)) NA_real_ else as.double(v), 0)

test_that("natural breaks reach the published optimum", {
  compared <- 0
  for (sample in vectors) {
    values <- numbers(sample$values)
    for (case in sample$natural_breaks) {
      if (is.null(case$upper_breaks)) {
        expect_warning(class_breaks(values, case$k), "distinct", class = "civicatlas_warning_classes")
        next
      }
      breaks <- class_breaks(values, case$k)
      ends <- unclass(breaks)[-1]
      within <- sum(tapply(values, findInterval(values, ends, left.open = TRUE), function(v) sum((v - mean(v))^2)), na.rm = TRUE)
      expect_equal(within, case$within_ss, tolerance = 1e-9, info = sample$name)
      if (isTRUE(case$unique) && !isTRUE(case$near_tie)) expect_identical(as.double(ends), numbers(case$upper_breaks), info = sample$name)
      compared <- compared + 1
    }
  }
  expect_gt(compared, 40)
})

test_that("equal intervals and quantiles agree with the reference", {
  for (sample in vectors) {
    values <- numbers(sample$values)
    for (case in sample$equal_interval) {
      if (length(unique(unlist(case$breaks))) < case$k + 1) next
      expect_equal(as.double(suppressWarnings(class_breaks(values, case$k, "equal"))), numbers(case$breaks), tolerance = 1e-12)
    }
    for (case in sample$quantile7) {
      expected <- unique(numbers(case$breaks))
      if (length(expected) < 2) next
      expect_equal(as.double(suppressWarnings(class_breaks(values, case$k, "quantile"))), expected, tolerance = 1e-12)
    }
  }
})

test_that("attributes tell counts, method and fit", {
  expect_warning(breaks <- class_breaks(c(1, 2, 4, 7, 11, 16, NA, Inf), 3), "1 infinite")
  expect_identical(attr(breaks, "counts"), c(3L, 2L, 1L))
  expect_identical(attr(breaks, "method"), "natural")
  expect_equal(attr(breaks, "fit"), 1 - (12 + 2 / 3) / sum((c(1, 2, 4, 7, 11, 16) - 41 / 6)^2))
  expect_identical(attr(class_breaks(1:10, at = c(1, 5, 10)), "counts"), c(5L, 5L))
})

test_that("what cannot be classified is refused, and fewer classes are said", {
  expect_error(suppressWarnings(class_breaks(c(NA, NaN, Inf))), "no values to classify", class = "civicatlas_error_argument")
  expect_error(class_breaks(c("1", "2")), "numbers", class = "civicatlas_error_argument")
  expect_error(class_breaks(1:9, 0), "1 or more", class = "civicatlas_error_argument")
  expect_error(class_breaks(1:9, 3, "naturel"), "natural", class = "civicatlas_error_choice")
  expect_error(class_breaks(1:9, at = c(3, 1)), "ascending", class = "civicatlas_error_argument")
  expect_warning(breaks <- class_breaks(c(2, 2, 5), 4), "2 classes instead of 4", class = "civicatlas_warning_classes")
  expect_identical(as.double(breaks), c(2, 2, 5))
  expect_warning(class_breaks(c(1, 1, 1, 1, 9), 3, "quantile"), class = "civicatlas_warning_classes")
  expect_warning(expect_identical(as.double(class_breaks(c(4, 4), 2)), c(4, 4)), class = "civicatlas_warning_classes")
})

test_that("the other methods follow their definition", {
  set.seed(12)
  values <- rlnorm(400, 3, 0.8)
  inner <- function(...) {
    breaks <- as.double(suppressWarnings(class_breaks(values, ...)))
    expect_identical(breaks[c(1, length(breaks))], range(values))
    breaks[-c(1, length(breaks))]
  }
  kept <- function(at) at[at > min(values) & at < max(values)]
  expect_equal(inner(4, "standard deviation"), kept(mean(values) + (-1:1) * sd(values)))
  expect_equal(inner(5, "standard deviation"), kept(mean(values) + c(-1.5, -0.5, 0.5, 1.5) * sd(values)))
  expect_equal(inner(6, "geometric"), min(values) * (max(values) / min(values))^((1:5) / 6))
  gaps <- diff(sort(values))
  widest <- sort(order(-gaps)[1:3])
  expect_equal(inner(4, "maximum gaps"), (sort(values)[widest] + sort(values)[widest + 1]) / 2)
  # Head/tail: what lies above each break is at most 40 % of what lay above the one before, and each break is a mean.
  rest <- values
  for (at in inner(method = "head-tail")) {
    expect_equal(at, mean(rest))
    head <- rest[rest > at]
    expect_lte(length(head), 0.4 * length(rest))
    rest <- head
  }
  expect_true(length(rest) < 2 || mean(rest > mean(rest)) > 0.4)
  expect_length(inner(2, "head-tail"), 1)
})

test_that("round breaks are multiples of 1, 2 or 5 that hold all values", {
  for (values in list(c(3, 97), c(0.012, 0.087), c(-37, 412), c(1200, 98000))) {
    breaks <- as.double(class_breaks(c(values, mean(values)), 5, "pretty"))
    step <- breaks[2] - breaks[1]
    lead <- step / 10^floor(log10(step) + 1e-9)
    expect_true(any(abs(lead - c(1, 2, 5)) < 1e-6))
    expect_true(breaks[1] <= values[1] && breaks[length(breaks)] >= values[2] && breaks[2] > values[1])
    expect_true(length(breaks) >= 4 && length(breaks) <= 9)
  }
  expect_identical(as.double(class_breaks(c(0.1, 0.65), 3, "pretty")), c(0, 0.2, 0.4, 0.6, 0.8))
})

test_that("geometric classes need values above 0, and text is shown", {
  expect_error(class_breaks(c(0, 1, 2), 2, "geometric"), "above 0", class = "civicatlas_error_argument")
  expect_error(class_breaks(c("12", "n/a")), "n/a.*mend_numbers", class = "civicatlas_error_argument")
})

test_that("natural breaks of many values are the optimum too, on any number of threads", {
  set.seed(30)
  values <- c(rnorm(150000), rlnorm(20000, 2, 1))
  breaks <- class_breaks(values, 5)
  within <- function(breaks) sum(tapply(values, findInterval(values, breaks[-1], left.open = TRUE), function(v) sum((v - mean(v))^2)))
  least <- within(as.double(breaks))
  sorted <- sort(values)
  # Any break moved to a neighbouring value is worse.
  for (k in 2:5) for (step in c(-40, -1, 1, 40)) {
    other <- as.double(breaks)
    other[k] <- sorted[match(other[k], sorted) + step]
    expect_gte(within(other), least * (1 - 1e-12))
  }
  # Of two classes every cut can be tried.
  n <- length(sorted)
  sums <- cumsum(sorted)[-n]
  among <- -(sums^2 / seq_len(n - 1) + (sum(sorted) - sums)^2 / ((n - 1):1))
  expect_identical(as.double(class_breaks(values, 2))[2], sorted[which.min(among)])
  withr::local_options(civicatlas.threads = 1)
  expect_identical(as.double(class_breaks(values, 5)), as.double(breaks))
  # Two narrow lumps far apart: squares within drown in those of the whole.
  lumps <- c(rep(seq(0, 1e-6, length.out = 11000), 1), 1e6 + seq(0, 1e-6, length.out = 11000))
  expect_identical(attr(class_breaks(lumps, 2), "counts"), c(11000L, 11000L))
})
