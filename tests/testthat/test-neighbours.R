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
      moran <- moran_test(lattice$values, links, assumption)
      near(moran$statistic, lattice$moran$I, lattice$name)
      near(moran$expectation, lattice$moran$expectation, lattice$name)
      near(moran$variance, lattice$moran[[paste0("variance_", assumption)]], lattice$name)
      near(moran$z, lattice$moran[[paste0("z_", assumption)]], lattice$name)
      geary <- geary_test(lattice$values, links, assumption)
      near(geary$statistic, lattice$geary$C, lattice$name)
      near(geary$variance, lattice$geary[[paste0("variance_", assumption)]], lattice$name)
      near(geary$z, lattice$geary[[paste0("z_", assumption)]], lattice$name)
    }
  }
})

test_that("local Moran and G* agree cell by cell", {
  for (lattice in lattices) {
    links <- links_of(lattice)
    local <- local_clusters(lattice$values, links, permutations = 9, seed = 1)
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
  one <- moran_test(lattice$values, links, "permutation", permutations = 199, seed = 3)
  expect_identical(.Random.seed, before)
  expect_identical(one, moran_test(lattice$values, links, "permutation", permutations = 199, seed = 3))
  expect_equal(one$expectation, -1 / (lattice$n - 1), tolerance = 0.5)
  cells <- lattice_cells(list(rows = 8, cols = 8))
  half <- rep(c(0, 10), each = 32) + rep(c(0, 1), 32)
  beside <- neighbours_of(cells)
  expect_lt(moran_test(half, beside, "permutation", seed = 1)$p_value, 0.01)
  expect_lt(moran_test(half, beside)$p_value, 1e-6)
  around <- neighbours_of(cells, "point")
  clusters <- local_clusters(half, around, seed = 1, adjust = "none")
  expect_true(all(clusters$cluster[1:16] %in% c("low among low", "none")))
  expect_gt(sum(clusters$cluster == "low among low"), 8)
  expect_gt(sum(clusters$cluster == "high among high"), 8)
  expect_lte(sum(local_clusters(half, around, seed = 1, adjust = "bonferroni")$cluster != "none"), sum(clusters$cluster != "none"))
  expect_gt(sum(local_clusters(half, around, "G*", adjust = "none")$cluster == "high"), 8)
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
  expect_error(moran_test(rep(1, 9), neighbours_of(cells)), "equal", class = "civicatlas_error_argument")
  expect_error(moran_test(letters[1:9], neighbours_of(cells)), "mend_numbers", class = "civicatlas_error_argument")
  expect_warning(moran_test(c(NA, 1:8), neighbours_of(cells)), "1 row", class = "civicatlas_warning_data")
})
