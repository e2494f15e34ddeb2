# Made-up layers of any size for the benchmarks.

# Star-shaped polygons on a grid of unit cells, which they nearly fill; `vertices` corners each (recycled, shuffled).
star_polygons <- function(n, vertices, crs = 32757, seed = 1) {
  set.seed(seed)
  side <- ceiling(sqrt(n))
  corners <- as.integer(sample(rep_len(vertices, n)))
  ends <- cumsum(corners + 1L)
  shape <- rep.int(seq_len(n), corners + 1L)
  within <- sequence(corners + 1L) - 1L
  angle <- 2 * pi * within / corners[shape]
  radius <- runif(length(shape), 0.3, 0.5)
  first <- c(1L, ends[-n] + 1L)
  radius[ends] <- radius[first]
  angle[ends] <- 0
  x <- 500000 + 100 * ((shape - 1L) %% side + 0.5 + radius * cos(angle))
  y <- 4700000 + 100 * ((shape - 1L) %/% side + 0.5 + radius * sin(angle))
  least <- function(v) vapply(split(v, shape), min, 0, USE.NAMES = FALSE)
  greatest <- function(v) vapply(split(v, shape), max, 0, USE.NAMES = FALSE)
  store <- list(
    types = rep(3L, n), part_types = rep(3L, n), shape_parts = 0:n + 0L, part_rings = 0:n + 0L, ring_vertices = c(0L, as.integer(ends)),
    x = x, y = y, z = NULL, m = NULL, boxes = c(rbind(least(x), least(y), greatest(x), greatest(y)))
  )
  shapes <- civicatlas:::new_shapes(seq_len(n), store, crs(crs))
  spatial_frame(id = seq_len(n), geometry = shapes)
}

# Points at random over the same grid, with a name and a population.
random_points <- function(n, side, crs = 32757, seed = 2) {
  set.seed(seed)
  spatial_frame(
    name = paste("place", seq_len(n)), population = round(rexp(n, 1 / 900)),
    geometry = point_shapes(500000 + 100 * side * runif(n), 4700000 + 100 * side * runif(n), crs = crs)
  )
}
