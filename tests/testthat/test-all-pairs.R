# Every relation between shapes of all types against the slow obvious way. The shapes run along the lines of a small grid, so that
# the places of the grid (corners, middles of sides, middles of cells) stand for all places of their kind.

set.seed(610)
side <- 6
place <- expand.grid(x = seq(0, side, 0.5), y = seq(0, side, 0.5))
place_dimension <- (place$x %% 1 != 0) + (place$y %% 1 != 0)

# A shape: its text, and where each place lies: 2 interior, 1 boundary, 0 exterior.
random_points <- function(n) {
  at <- matrix(sample(0:side, 2 * n, TRUE), ncol = 2)
  list(text = sprintf("MULTIPOINT (%s)", paste(at[, 1], at[, 2], collapse = ", ")), where = 2 * (paste(place$x, place$y) %in% paste(at[, 1], at[, 2])))
}

random_lines <- function(n) {
  walks <- lapply(seq_len(n), function(i) {
    step <- list(c(1, 0), c(-1, 0), c(0, 1), c(0, -1))[sample(4, sample(1:5, 1), TRUE)]
    walk <- Reduce(`+`, step, sample(0:side, 2, TRUE), accumulate = TRUE)
    do.call(rbind, lapply(walk, function(p) pmin(pmax(p, 0), side)))
  })
  walks <- Filter(function(walk) any(diff(walk) != 0), walks)
  if (!length(walks)) return(random_lines(n))
  met <- unlist(lapply(walks, function(walk) {
    ends <- walk[-1, , drop = FALSE]
    starts <- walk[-nrow(walk), , drop = FALSE]
    middles <- (ends + starts) / 2
    c(paste(walk[, 1], walk[, 2]), paste(middles[, 1], middles[, 2]))
  }))
  ends <- unlist(lapply(walks, function(walk) paste(walk[c(1, nrow(walk)), 1], walk[c(1, nrow(walk)), 2])))
  odd <- names(which(table(ends) %% 2 == 1))
  name <- paste(place$x, place$y)
  texts <- vapply(walks, function(walk) paste(walk[, 1], walk[, 2], collapse = ", "), "")
  list(text = sprintf("MULTILINESTRING ((%s))", paste(texts, collapse = "), (")), where = ifelse(name %in% odd, 1, 2 * (name %in% met)))
}

ring <- function(low, high) sprintf("(%1$g %2$g, %3$g %2$g, %3$g %4$g, %1$g %4$g, %1$g %2$g)", low[1], low[2], high[1], high[2])
in_rectangle <- function(low, high) {
  closed <- place$x >= low[1] & place$x <= high[1] & place$y >= low[2] & place$y <= high[2]
  open <- place$x > low[1] & place$x < high[1] & place$y > low[2] & place$y < high[2]
  closed + open
}

random_polygon <- function(with_hole) {
  low <- sample(0:2, 2, TRUE)
  high <- low + sample(if (with_hole) 3:4 else 1:4, 2, TRUE)
  where <- in_rectangle(low, high)
  if (!with_hole) return(list(text = sprintf("POLYGON (%s)", ring(low, high)), where = where))
  hole <- in_rectangle(low + 1, low + 2)
  list(text = sprintf("POLYGON (%s, %s)", ring(low, high), ring(low + 1, low + 2)), where = pmin(where, 2 - hole))
}

random_polygons <- function() {
  a <- c(sample(0:1, 1), sample(0:3, 1))
  b <- c(sample(3:4, 1), sample(0:3, 1))
  list(text = sprintf("MULTIPOLYGON ((%s), (%s))", ring(a, a + c(2, 3)), ring(b, b + c(2, 2))),
       where = pmax(in_rectangle(a, a + c(2, 3)), in_rectangle(b, b + c(2, 2))))
}

samples <- c(
  lapply(rep(1, 6), random_points), lapply(rep(3, 6), random_points), lapply(rep(1, 8), random_lines), lapply(rep(3, 8), random_lines),
  lapply(rep(c(FALSE, TRUE), 5), random_polygon), lapply(1:8, function(i) random_polygons())
)
shapes <- shapes_from_wkt(vapply(samples, `[[`, "", "text"))
dimension <- c(0, 1, 2)[match(sub("MULTI", "", sub(" .*", "", vapply(samples, `[[`, "", "text"))), c("POINT", "LINESTRING", "POLYGON"))]
# Two rectangles that share a stretch of a side are no valid multipolygon.
valid <- check_shapes(shapes)$valid
shapes <- shapes[valid]
samples <- samples[valid]
dimension <- dimension[valid]

cells_in_common <- function(a, b) {
  vapply(3:1, function(i) vapply(3:1, function(j) {
    here <- place_dimension[samples[[a]]$where == i - 1 & samples[[b]]$where == j - 1]
    if (length(here)) max(here) else -1
  }, 0), double(3))
}
pairs <- expand.grid(y = seq_along(samples), x = seq_along(samples))
# matrices[k, 3 * row + column] of interior, boundary, exterior.
matrices <- t(vapply(seq_len(nrow(pairs)), function(k) as.vector(cells_in_common(pairs$x[k], pairs$y[k])), double(9)))
# Beyond the grid all is exterior.
matrices[, 9] <- 2

test_that("relation_of is what the places of the grid say", {
  expected <- apply(matrices, 1, function(m) paste(ifelse(m < 0, "F", m), collapse = ""))
  expect_identical(relation_of(shapes[pairs$x], shapes[pairs$y]), expected)
})

test_that("each relation holds for the pairs its definition names, among all types", {
  m <- matrices
  meets <- m[, 1] >= 0 | m[, 2] >= 0 | m[, 4] >= 0 | m[, 5] >= 0
  within <- m[, 1] >= 0 & m[, 3] < 0 & m[, 6] < 0
  contains <- m[, 1] >= 0 & m[, 7] < 0 & m[, 8] < 0
  a <- dimension[pairs$x]
  b <- dimension[pairs$y]
  expected <- list(
    intersects = meets, disjoint = !meets, within = within, contains = contains, equals = within & contains,
    "covered by" = meets & m[, 3] < 0 & m[, 6] < 0, covers = meets & m[, 7] < 0 & m[, 8] < 0, touches = meets & m[, 1] < 0,
    crosses = ifelse(a == 1 & b == 1, m[, 1] == 0, ifelse(a < b, m[, 1] >= 0 & m[, 3] >= 0, a > b & m[, 1] >= 0 & m[, 7] >= 0)),
    overlaps = a == b & m[, 1] == a & m[, 3] >= 0 & m[, 7] >= 0
  )
  for (relation in names(expected)) {
    found <- related_pairs(shapes, shapes, relation)
    expect_identical(as.list(found), as.list(pairs[expected[[relation]], c("x", "y")]), info = relation)
    for (i in 0:2) for (j in 0:2) {
      some <- related_pairs(shapes[dimension == i], shapes[dimension == j], relation)
      here <- pairs[expected[[relation]] & a == i & b == j, ]
      expect_identical(list(which(dimension == i)[some$x], which(dimension == j)[some$y]), list(here$x, here$y), info = paste(relation, i, j))
    }
  }
})
