#' @include map-geom.R
NULL

#' Labels on a map
#'
#' Writes a text at each shape: well inside polygons, beside points, at the middle of lines. Labels that would cover one another or
#' leave the map are moved a little, or left out where nothing helps, the less important first; how many fit depends on the size
#' the map is drawn at.
#'
#' @param x A spatial frame.
#' @param label The column of texts, or an expression on columns.
#' @param important A column, or expression on columns: rows with a higher value are placed first. By default the larger areas.
#' @param size Size of the text in points.
#' @param colour Colour of the text.
#' @param halo Colour behind the letters, `NA` for none.
#' @return A layer to add to a map with `+`.
#' @section Errors: `civicatlas_error_column` where a column is not there.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' choropleth_map(wards, residents) + map_labels(wards, name)
#' @export
map_labels <- function(x, label, important = NULL, size = 8.5, colour = "#26323c", halo = "#ffffff") {
  call <- rlang::current_env()
  need_mappable(x, call)
  label <- rlang::enquo(label)
  important <- rlang::enquo(important)
  x$.label <- as.character(column_values(x, label, "label", call))
  x$.rank <- if (rlang::quo_is_null(important)) planar_areas(as_shapes(x)) else as.double(column_values(x, important, "important", call))
  structure(list(frame = x[!is.na(x$.label) & nzchar(x$.label), ], style = list(size = size, colour = colour, halo = halo)), class = "map_label_layer")
}

#' @rawNamespace S3method(ggplot2::ggplot_add, map_label_layer)
ggplot_add.map_label_layer <- function(object, plot, ...) {
  frame <- on_map_crs(object$frame, plot$coordinates$crs, "map_labels")
  points <- shape_dimension(as_shapes(frame)) == 0
  frame <- with_shapes(frame, inner_point_of(as_shapes(frame)))
  frame$.beside <- points
  plot + shapes_layer(frame, ggplot2::aes(label = .data$.label, rank = .data$.rank, beside = .data$.beside), c(object$style, list(fill = NA)),
                      show_key = FALSE, geom = GeomMapLabels)
}

GeomMapLabels <- ggplot2::ggproto(
  "GeomMapLabels", GeomShapes,
  required_aes = c("row", "xmin", "xmax", "ymin", "ymax", "label", "rank", "beside"),
  extra_params = c("na.rm", "shapes", "halo"),
  draw_panel = function(data, panel_params, coord, shapes, halo = "#ffffff") {
    at <- coord$transform(data.frame(x = data$xmin, y = data$ymin), panel_params)
    keep <- at$x >= 0 & at$x <= 1 & at$y >= 0 & at$y <= 1
    grid::gTree(at = at[keep, ], style = data[keep, ], halo = halo, cl = "drawn_labels")
  }
)

# Places are chosen when the map is drawn, as only then the sizes of texts and of the panel are known.
#' @rawNamespace S3method(grid::makeContent, drawn_labels)
makeContent.drawn_labels <- function(x) {
  style <- x$style
  if (!nrow(style)) return(x)
  wide <- grid::convertWidth(grid::unit(1, "npc"), "mm", valueOnly = TRUE)
  high <- grid::convertHeight(grid::unit(1, "npc"), "mm", valueOnly = TRUE)
  gp <- grid::gpar(fontsize = style$size[1], fontface = "plain")
  extent <- function(convert, of) vapply(style$label, function(text) convert(of(grid::textGrob(text, gp = gp)), "mm", valueOnly = TRUE), 0, USE.NAMES = FALSE)
  placed <- place_labels(x$at$x * wide, x$at$y * high, extent(grid::convertWidth, grid::grobWidth), extent(grid::convertHeight, grid::grobHeight),
                         style$rank, style$beside, wide, high)
  shown <- which(!is.na(placed$x))
  if (!length(shown)) return(x)
  text <- function(dx, dy, colour) {
    grid::textGrob(style$label[shown], grid::unit(placed$x[shown] + dx, "mm"), grid::unit(placed$y[shown] + dy, "mm"),
                   gp = grid::gpar(fontsize = style$size[1], col = colour))
  }
  around <- seq(0, 2 * pi, length.out = 13)[-1]
  halo <- if (!is.na(x$halo)) lapply(around, function(a) text(0.35 * cos(a), 0.35 * sin(a), scales::alpha(x$halo, 0.8)))
  grid::setChildren(x, do.call(grid::gList, c(halo, list(text(0, 0, style$colour[1])))))
}

# Middle of each label in millimetres, NA where none of the tried places is free: the most important first, each at the nearest of
# some places around its own.
place_labels <- function(x, y, width, height, rank, beside, wide, high) {
  out <- list(x = rep(NA_real_, length(x)), y = rep(NA_real_, length(x)))
  taken <- matrix(double(), 0, 4)
  for (i in order(-rank, na.last = TRUE)) {
    around <- if (beside[i]) places_beside(width[i], height[i]) else places_over(height[i])
    for (k in seq_len(nrow(around))) {
      cx <- x[i] + around[k, 1]
      cy <- y[i] + around[k, 2]
      box <- c(cx - width[i] / 2 - 0.5, cy - height[i] / 2 - 0.5, cx + width[i] / 2 + 0.5, cy + height[i] / 2 + 0.5)
      if (!is_free(box, taken, wide, high)) next
      taken <- rbind(taken, box)
      out$x[i] <- cx
      out$y[i] <- cy
      break
    }
  }
  out
}

# Whether a box lies on the map and over none that is taken.
is_free <- function(box, taken, wide, high) {
  inside <- all(box[1:2] >= 0) && box[3] <= wide && box[4] <= high
  inside && !any(taken[, 1] < box[3] & taken[, 3] > box[1] & taken[, 2] < box[4] & taken[, 4] > box[2])
}

# Right, left, above, below, and the corners.
places_beside <- function(width, height) {
  dx <- width / 2 + 1.6
  dy <- height / 2 + 1.6
  rbind(c(dx, 0), c(-dx, 0), c(0, dy), c(0, -dy), c(dx, dy), c(dx, -dy), c(-dx, dy), c(-dx, -dy))
}

# At the place itself, then up and down by parts of a line, then aside.
places_over <- function(height) {
  steps <- c(0, 0.6, -0.6, 1.2, -1.2, 1.8, -1.8) * height
  rbind(cbind(0, steps), cbind(rep(c(-2, 2) * height, each = length(steps)), rep(steps, 2)))
}
