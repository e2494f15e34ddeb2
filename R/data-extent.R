# Extents.

#' Extent of a layer
#'
#' @param x A spatial frame or shape vector, or a tiled layer, whose tiles tell.
#' @return A named double vector `xmin, ymin, xmax, ymax` in the units of the CRS; `NA` where there is no vertex. A layer on longitude
#'   and latitude that lies on both sides of the antimeridian, within half the world, has its west (`xmin`) east of its east
#'   (`xmax`; RFC 7946, section 5.2); [read_layer()] takes it so.
#' @examples
#' extent_of(point_shapes(c(1, 3), c(2, 5)))
#' @export
extent_of <- function(x) {
  if (is_tiled(x)) return(if (length(x$steps)) tile_work$extent(x) else extent_of_tiled(x))
  shapes <- as_shapes(x)
  wrapped_extent(extent_on_globe(shapes), shapes)
}

# Longitudes between -180 and 180.
wrapped_extent <- function(extent, shapes) {
  if (!in_plain_degrees(shapes) || !isTRUE(extent[["xmax"]] - extent[["xmin"]] <= 180)) return(extent)
  replace(extent, c("xmin", "xmax"), wrapped(extent[c("xmin", "xmax")]))
}

# As the boxes of the tiles have it: one tile that has shapes on both sides of the antimeridian makes it as wide as the world.
extent_of_tiled <- function(x) {
  plain <- extent_of_tiles(x$source)
  if (!is_spatial_frame(x$prototype)) return(plain)
  boxes <- t(as.matrix(x$source$tiles[c("xmin", "ymin", "xmax", "ymax")]))
  wrapped_extent(across_antimeridian(plain, as_shapes(x$prototype), boxes[, !is.na(boxes[1, ]), drop = FALSE]), as_shapes(x$prototype))
}

# The box around all tiles of a source.
extent_of_tiles <- function(source) {
  tiles <- source$tiles
  ends <- c(min(Inf, tiles$xmin, na.rm = TRUE), min(Inf, tiles$ymin, na.rm = TRUE), max(-Inf, tiles$xmax, na.rm = TRUE), max(-Inf, tiles$ymax, na.rm = TRUE))
  stats::setNames(ifelse(is.finite(ends), ends, NA_real_), c("xmin", "ymin", "xmax", "ymax"))
}

# The box around all coordinates.
box_of <- function(x) {
  shapes <- as_shapes(x)
  stats::setNames(core(core_extent(handles_of(shapes), store_of(shapes))), c("xmin", "ymin", "xmax", "ymax"))
}

# The same on the globe: on longitude and latitude, xmax goes on beyond 180 where shapes lie nearer to one another across the
# antimeridian.
extent_on_globe <- function(shapes) {
  across_antimeridian(box_of(shapes), shapes, boxes_of(in_one_piece(shapes)))
}

# `boxes`, one a column, are worked out only where the plain box is wider than half the world.
across_antimeridian <- function(plain, shapes, boxes) {
  if (!in_plain_degrees(shapes) || anyNA(plain) || plain[["xmax"]] - plain[["xmin"]] <= 180) return(plain)
  span <- span_of_longitudes(boxes)
  if (diff(span) > 180) plain else replace(plain, c("xmin", "xmax"), span)
}

# The boxes of the shapes that have any vertex, one a column.
boxes_of <- function(shapes) {
  boxes <- core(core_boxes(handles_of(shapes), store_of(shapes)))
  boxes[, !is.na(boxes[1, ]), drop = FALSE]
}
