# side x side cells of some width whose common borders are wavy lines of points; turned by an angle about the middle.
coverage <- function(side, angle = 0, points = 15, spacing = 100) {
  steps <- (seq_len(points) - 1) / points
  cell <- expand.grid(i = seq_len(side), j = seq_len(side))
  along <- function(x0, y0, dx, dy) {
    t <- rep(steps, each = length(x0))
    x <- rep(x0, points) + t * dx
    y <- rep(y0, points) + t * dy
    wave <- 0.12 * sin(pi * t) * sin(12.9898 * rep(pmin(x0, x0 + dx), points) + 78.233 * rep(pmin(y0, y0 + dy), points))
    list(x = x + wave * abs(dy), y = y + wave * abs(dx))
  }
  n <- nrow(cell)
  # Each side from its lower or left end, so that both cells that share it have the same points.
  bottom <- along(cell$i, cell$j, 1, 0)
  top <- along(cell$i, cell$j + 1, 1, 0)
  left <- along(cell$i, cell$j, 0, 1)
  right <- along(cell$i + 1, cell$j, 0, 1)
  as_rows <- function(side) lapply(side, matrix, nrow = n)
  sides <- lapply(list(bottom, right, top, left), as_rows)
  backwards <- function(m, end) cbind(end, m[, points:2, drop = FALSE])
  x <- cbind(sides[[1]]$x, sides[[2]]$x, backwards(sides[[3]]$x, cell$i + 1), backwards(sides[[4]]$x, cell$i), cell$i)
  y <- cbind(sides[[1]]$y, sides[[2]]$y, backwards(sides[[3]]$y, cell$j + 1), backwards(sides[[4]]$y, cell$j + 1), cell$j)
  middle <- side / 2 + 1
  turned_x <- middle + (x - middle) * cos(angle) - (y - middle) * sin(angle)
  turned_y <- middle + (x - middle) * sin(angle) + (y - middle) * cos(angle)
  per <- ncol(x)
  store <- list(
    types = rep(3L, n), part_types = rep(3L, n), shape_parts = 0:n, part_rings = 0:n, ring_vertices = (0:n) * per,
    x = 500000 + spacing * as.vector(t(turned_x)), y = 4750000 + spacing * as.vector(t(turned_y)), z = NULL, m = NULL,
    boxes = as.vector(rbind(500000 + spacing * apply(turned_x, 1, min), 4750000 + spacing * apply(turned_y, 1, min),
                            500000 + spacing * apply(turned_x, 1, max), 4750000 + spacing * apply(turned_y, 1, max)))
  )
  spatial_frame(id = seq_len(n), region = (cell$i * 10L) %/% (side + 1L) * 10L + (cell$j * 10L) %/% (side + 1L),
                geometry = civicatlas:::new_shapes(seq_len(n), store, crs(32757)))
}
