lattices <- jsonlite::fromJSON(test_data("autocorrelation_vectors.json"), simplifyDataFrame = FALSE)$lattices

# The cells of a lattice as squares, row by row.
lattice_cells <- function(lattice) {
  column <- rep(seq_len(lattice$cols), lattice$rows)
  row <- rep(seq_len(lattice$rows), each = lattice$cols)
  shapes_from_wkt(sprintf("POLYGON ((%d %d, %d %d, %d %d, %d %d, %d %d))", column, row, column + 1L, row, column + 1L, row + 1L, column, row + 1L, column, row))
}
links_of <- function(lattice) {
  neighbours_of(lattice_cells(lattice), if (lattice$contiguity == "rook") "edge" else "point", weights = if (lattice$style == "W") "row" else "binary")
}
near <- function(found, expected, name) {
  if (is.null(expected)) return(expect_true(is.na(found), label = name))
  expect_equal(found, expected, tolerance = 1e-9, label = name)
}

test_that("Moran's I and Geary's C have the values and moments of exact arithmetic", {
  for (lattice in lattices) {
    links <- links_of(lattice)
    expect_equal(sum(links$weight), lattice$S0, tolerance = 1e-12)
    for (assumption in c("normality", "randomisation")) {
      moran <- autocorrelation_of(lattice$values, links, assumption = assumption)
      near(moran$statistic, lattice$moran$I, lattice$name)
      near(moran$expectation, lattice$moran$expectation, lattice$name)
      near(moran$variance, lattice$moran[[paste0("variance_", assumption)]], lattice$name)
      near(moran$z, lattice$moran[[paste0("z_", assumption)]], lattice$name)
      geary <- autocorrelation_of(lattice$values, links, "geary", assumption)
      near(geary$statistic, lattice$geary$C, lattice$name)
      near(geary$variance, lattice$geary[[paste0("variance_", assumption)]], lattice$name)
      near(geary$z, lattice$geary[[paste0("z_", assumption)]], lattice$name)
    }
  }
})

test_that("local Moran and G* agree cell by cell", {
  for (lattice in lattices) {
    links <- links_of(lattice)
    local <- local_clusters(lattice$values, links, seed = 1)
    expect_equal(local$statistic, as.double(lattice$local_moran), tolerance = 1e-9, label = lattice$name)
    expect_equal(sum(local$statistic), lattice$S0 * lattice$moran$I, tolerance = 1e-9)
    g <- local_clusters(lattice$values, links, "G*")
    expected <- vapply(lattice$gstar_z, function(z) if (is.null(z)) NA_real_ else as.double(z), 0)
    expect_equal(g$z, expected, tolerance = 1e-9, label = lattice$name)
    if (length(unlist(lattice$gstar)) == lattice$n) expect_equal(g$statistic, as.double(unlist(lattice$gstar)), tolerance = 1e-9, label = lattice$name)
  }
})

test_that("permutations repeat with a seed, and leave the session's random numbers alone", {
  lattice <- lattices[[length(lattices)]]
  links <- links_of(lattice)
  set.seed(5)
  before <- .Random.seed
  one <- autocorrelation_of(lattice$values, links, assumption = "permutation", permutations = 199, seed = 3)
  expect_identical(.Random.seed, before)
  expect_identical(one, autocorrelation_of(lattice$values, links, assumption = "permutation", permutations = 199, seed = 3))
  expect_equal(one$expectation, -1 / (lattice$n - 1), tolerance = 0.5)
  cells <- lattice_cells(list(rows = 8, cols = 8))
  half <- rep(c(0, 10), each = 32) + rep(c(0, 1), 32)
  beside <- neighbours_of(cells)
  expect_lt(autocorrelation_of(half, beside, assumption = "permutation", seed = 1)$p_value, 0.01)
  expect_lt(autocorrelation_of(half, beside)$p_value, 1e-6)
  around <- neighbours_of(cells, "point")
  clusters <- local_clusters(half, around, seed = 1, adjust = "none")
  expect_true(all(clusters$cluster[1:16] %in% c("low among low", "none")))
  expect_gt(sum(clusters$cluster == "low among low"), 8)
  expect_gt(sum(clusters$cluster == "high among high"), 8)
  expect_lte(sum(local_clusters(half, around, seed = 1, adjust = "bonferroni")$cluster != "none"), sum(clusters$cluster != "none"))
  expect_gt(sum(local_clusters(half, around, "G*", adjust = "none")$cluster == "high"), 8)
})

test_that("rows without a value leave their weight to the other neighbours, and what counts is said", {
  cells <- lattice_cells(list(rows = 3, cols = 3))
  beside <- neighbours_of(cells)
  values <- c(1, 8, 3, 4, 5, 6, 2, NA, 9)
  expect_warning(clusters <- local_clusters(values, beside, permutations = 99, seed = 1), "1 row without a value")
  expect_equal(clusters$lag[5], mean(c(8, 4, 6)))
  expect_equal(clusters$lag[9], 6)
  expect_true(is.na(clusters$lag[8]) && is.na(clusters$cluster[8]))
  # As if the row had never been there.
  expect_warning(kept <- autocorrelation_of(values, beside), "1 row without a value")
  expect_equal(kept, autocorrelation_of(values[-8], neighbours_of(cells[-8])))
  # Where all neighbours are missing, a row stays alone.
  said <- testthat::capture_warnings(alone <- local_clusters(c(1, NA, 3, NA, 5, 6, 7, 8, 9), beside, permutations = 99, seed = 1))
  expect_match(said, "2 rows without a value", all = FALSE)
  expect_match(said, "1 row has no neighbour with a value", all = FALSE)
  expect_true(is.na(alone$lag[1]) && alone$cluster[1] == "none")
})

test_that("chances of local clusters agree with all orders there are, repeat with a seed, and take as many draws as it needs", {
  # Each row of a path of seven has one or two neighbours: all that may stand there are counted.
  cells <- lattice_cells(list(rows = 1, cols = 7))
  beside <- neighbours_of(cells)
  values <- c(1, 2, 4, 8, 16, 32, 64)
  z <- values - mean(values)
  exact <- vapply(1:7, function(i) {
    own <- mean(z[intersect(c(i - 1, i + 1), 1:7)])
    others <- z[-i]
    sums <- if (i %in% c(1, 7)) others else utils::combn(others, 2, mean)
    min(1, 2 * min(mean(sums >= own - 1e-9), mean(sums <= own + 1e-9)))
  }, 0)
  found <- local_clusters(values, beside, permutations = 200000, seed = 4)
  expect_equal(found$p_value, exact, tolerance = 0.1)
  expect_identical(found, local_clusters(values, beside, permutations = 200000, seed = 4))
  before <- options(civicatlas.threads = 1)
  expect_identical(found, local_clusters(values, beside, permutations = 200000, seed = 4))
  options(before)
  # Few draws hide what many show.
  wide <- lattice_cells(list(rows = 30, cols = 30))
  hot <- rep(c(0, 1, 3), 300) + 100 * c(outer(1:30, 1:30, function(i, j) i %in% 10:14 & j %in% 10:14))
  around <- neighbours_of(wide, "point")
  expect_warning(hidden <- local_clusters(hot, around, permutations = 99, seed = 1, adjust = "bonferroni"), "too few")
  expect_error(local_clusters(hot, around, permutations = 0.5), "permutations", class = "civicatlas_error_argument")
  expect_error(local_clusters(hot, around, level = 2), "between 0 and 1", class = "civicatlas_error_argument")
  shown <- local_clusters(hot, around, seed = 1, adjust = "bonferroni")
  expect_gt(sum(shown$cluster != "none"), sum(hidden$cluster != "none"))
})

test_that("neighbours are found by edge, point, number and distance", {
  cells <- lattice_cells(list(rows = 3, cols = 3))
  expect_identical(neighbours_of(cells)$neighbour[neighbours_of(cells)$row == 5], c(2L, 4L, 6L, 8L))
  expect_identical(neighbours_of(cells, "point")$neighbour[neighbours_of(cells, "point")$row == 1], c(2L, 4L, 5L))
  two <- neighbours_of(cells, "nearest", count = 2)
  expect_identical(as.vector(table(two$row)), rep(2L, 9))
  expect_identical(two$neighbour[two$row == 1], c(2L, 4L))
  by_distance <- neighbours_of(centroid_of(cells), "distance", distance = 1, weights = "binary")
  expect_identical(by_distance$neighbour, neighbours_of(cells)$neighbour)
  expect_identical(by_distance$weight, rep(1, 24))
  expect_equal(lag_of(1:9, neighbours_of(cells))[5], 5)
  expect_error(lag_of(1:8, neighbours_of(cells)), "9 rows", class = "civicatlas_error_argument")
  expect_error(autocorrelation_of(rep(1, 9), neighbours_of(cells)), "equal", class = "civicatlas_error_argument")
  expect_error(autocorrelation_of(letters[1:9], neighbours_of(cells)), "mend_numbers", class = "civicatlas_error_argument")
  expect_warning(autocorrelation_of(c(NA, 1:8), neighbours_of(cells)), "1 row", class = "civicatlas_warning_data")
})
