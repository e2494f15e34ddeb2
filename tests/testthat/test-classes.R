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
  breaks <- class_breaks(c(1, 2, 4, 7, 11, 16, NA, Inf), 3)
  expect_identical(attr(breaks, "counts"), c(3L, 2L, 1L))
  expect_identical(attr(breaks, "method"), "natural")
  expect_equal(attr(breaks, "fit"), 1 - (12 + 2 / 3) / sum((c(1, 2, 4, 7, 11, 16) - 41 / 6)^2))
  expect_identical(attr(class_breaks(1:10, at = c(1, 5, 10)), "counts"), c(5L, 5L))
})

test_that("what cannot be classified is refused, and fewer classes are said", {
  expect_error(class_breaks(c(NA, NaN, Inf)), "no values to classify", class = "civicatlas_error_argument")
  expect_error(class_breaks(c("1", "2")), "numbers", class = "civicatlas_error_argument")
  expect_error(class_breaks(1:9, 0), "1 or more", class = "civicatlas_error_argument")
  expect_error(class_breaks(1:9, 3, "naturel"), "natural", class = "civicatlas_error_choice")
  expect_error(class_breaks(1:9, at = c(3, 1)), "ascending", class = "civicatlas_error_argument")
  expect_warning(breaks <- class_breaks(c(2, 2, 5), 4), "2 classes instead of 4", class = "civicatlas_warning_classes")
  expect_identical(as.double(breaks), c(2, 2, 5))
  expect_warning(class_breaks(c(1, 1, 1, 1, 9), 3, "quantile"), class = "civicatlas_warning_classes")
  expect_warning(expect_identical(as.double(class_breaks(c(4, 4), 2)), c(4, 4)), class = "civicatlas_warning_classes")
})
