# Every relation between points and polygons against the slow obvious way: rectangles with corners on a small grid, so
# that borders and corners are met often.

set.seed(21)
corner <- matrix(sample(0:10, 80, TRUE), ncol = 2)
size <- matrix(sample(1:4, 80, TRUE), ncol = 2)
rectangles <- shapes_from_wkt(sprintf(
  "POLYGON ((%1$d %2$d, %3$d %2$d, %3$d %4$d, %1$d %4$d, %1$d %2$d))", corner[, 1], corner[, 2], corner[, 1] + size[, 1], corner[, 2] + size[, 2]
))
at <- matrix(sample(0:14, 120, TRUE), ncol = 2)
points <- point_shapes(at[, 1], at[, 2])

# 2 inside, 1 on the border, 0 outside; rows are points, columns rectangles.
where <- outer(seq_len(60), seq_len(40), Vectorize(function(p, r) {
  low <- corner[r, ]
  high <- low + size[r, ]
  if (all(at[p, ] > low & at[p, ] < high)) 2L else if (all(at[p, ] >= low & at[p, ] <= high)) 1L else 0L
}))

pairs_where <- function(holds) {
  found <- which(holds, arr.ind = TRUE)
  found <- found[order(found[, 1], found[, 2]), , drop = FALSE]
  tibble::tibble(x = unname(found[, 1]), y = unname(found[, 2]))
}

test_that("relations between points and polygons follow their definition", {
  expected <- list(
    intersects = where > 0, within = where == 2, "covered by" = where > 0, touches = where == 1, disjoint = where == 0,
    contains = where > 9, covers = where > 9, crosses = where > 9, overlaps = where > 9, equals = where > 9
  )
  for (relation in names(expected)) expect_identical(related_pairs(points, rectangles, relation), pairs_where(expected[[relation]]), info = relation)
  converse <- list(intersects = where > 0, contains = where == 2, covers = where > 0, touches = where == 1, disjoint = where == 0, within = where > 9)
  for (relation in names(converse)) expect_identical(related_pairs(rectangles, points, relation), pairs_where(t(converse[[relation]])), info = relation)
})

test_that("multipoints cross what they are partly in, and are within what holds them all", {
  square <- shapes_from_wkt("POLYGON ((0 0, 4 0, 4 4, 0 4, 0 0))")
  groups <- shapes_from_wkt(c("MULTIPOINT (1 1, 9 9)", "MULTIPOINT (1 1, 4 4)", "MULTIPOINT (4 4, 9 9)", "MULTIPOINT (0 0, 4 4)", "MULTIPOINT EMPTY", NA))
  rows <- function(relation) related_pairs(groups, square, relation)$x
  expect_identical(rows("intersects"), 1:4)
  expect_identical(rows("crosses"), 1L)
  expect_identical(rows("within"), 2L)
  expect_identical(rows("covered by"), c(2L, 4L))
  expect_identical(rows("touches"), 3:4)
  expect_identical(rows("disjoint"), integer())
})

test_that("relations between points follow their definition", {
  a <- shapes_from_wkt(c("POINT (1 1)", "MULTIPOINT (1 1, 2 2)", "MULTIPOINT (2 2, 1 1)", "POINT (5 5)"))
  rows <- function(relation) as.list(related_pairs(a[1:2], a, relation))
  expect_identical(rows("equals"), list(x = c(1L, 2L, 2L), y = c(1L, 2L, 3L)))
  expect_identical(rows("within"), list(x = c(1L, 1L, 1L, 2L, 2L), y = c(1L, 2L, 3L, 2L, 3L)))
  expect_identical(rows("overlaps"), list(x = integer(), y = integer()))
  expect_identical(as.list(related_pairs(a[2], shapes_from_wkt("MULTIPOINT (2 2, 3 3)"), "overlaps")), list(x = 1L, y = 1L))
})

test_that("distances agree with every pair, in the unit asked for", {
  apart <- outer(seq_len(60), seq_len(40), Vectorize(function(p, r) {
    beyond <- pmax(corner[r, ] - at[p, ], at[p, ] - corner[r, ] - size[r, ], 0)
    sqrt(sum(beyond^2))
  }))
  for (distance in c(0, 1, 2.5)) {
    expect_identical(related_pairs(points, rectangles, "within distance", distance), pairs_where(apart <= distance))
  }
  attr(points, "crs") <- attr(rectangles, "crs") <- crs(2263)
  expect_identical(related_pairs(points, rectangles, "within distance", 2.5, "us-ft"), pairs_where(apart <= 2.5))
  expect_identical(related_pairs(points, rectangles, "within distance", 2.5 * 1200 / 3937), pairs_where(apart <= 2.5))
})

test_that("results do not depend on threads", {
  polygons <- read_layer(demo_file("cells.zip"))
  rooms <- reproject_to(read_layer(demo_file("rooms.geojson")), polygons)
  one <- withr::with_options(list(civicatlas.threads = 1L), related_pairs(rooms, polygons))
  two <- withr::with_options(list(civicatlas.threads = 2L), related_pairs(rooms, polygons))
  expect_identical(one, two)
  expect_identical(nrow(one), 136L)
})

test_that("what is no layer and what is no distance are refused", {
  expect_error(related_pairs(points, 1), "spatial frame", class = "civicatlas_error_argument")
  expect_error(related_pairs(points, rectangles, "within distance", -1), "0 or more", class = "civicatlas_error_argument")
})
