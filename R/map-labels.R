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
#' @param halo Colour of the strip behind a text, `NA` for none.
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
  frame <- on_map_crs(object$frame, plot$coordinates$crs, "map_labels", plot$coordinates$limits)
  plot + label_layer(frame, ggplot2::aes(label = .data$.label, rank = .data$.rank), object$style)
}

# The shapes give way to the points that their labels stand at.
label_layer <- function(frame, mapping, style) {
  if (!is.null(frame[[".label"]])) tell_missing_letters(frame$.label)
  points <- shape_dimension(as_shapes(frame)) == 0
  if (is.null(mapping$rank)) {
    frame$.rank <- planar_areas(as_shapes(frame))
    mapping$rank <- rlang::quo(.data$.rank)
  }
  frame <- with_shapes(frame, inner_point_of(as_shapes(frame)))
  frame$.beside <- points
  mapping <- utils::modifyList(ggplot2::aes(beside = .data$.beside), mapping)
  shapes_layer(frame, mapping, style, show_key = FALSE, geom = GeomMapLabels)
}

GeomMapLabels <- ggplot2::ggproto(
  "GeomMapLabels", GeomShapes,
  required_aes = c("row", "xmin", "xmax", "ymin", "ymax", "label", "rank", "beside"),
  default_aes = utils::modifyList(GeomShapes$default_aes, ggplot2::aes(size = 8.5, colour = "#26323c", fill = NA)),
  extra_params = c("na.rm", "shapes", "halo"),
  draw_panel = function(data, panel_params, coord, shapes, halo = "#ffffff") {
    need_map_coord(coord)
    at <- coord$transform(data.frame(x = data$xmin, y = data$ymin), panel_params)
    keep <- which(at$x >= 0 & at$x <= 1 & at$y >= 0 & at$y <= 1 & !is.na(data$label) & nzchar(data$label))
    keep <- keep[order(-data$rank[keep], na.last = TRUE)]
    style <- data[keep, ]
    grid::gTree(at = at[keep, ], style = style, halo = halo, gp = grid::gpar(fontsize = style$size[1]), cl = "drawn_labels")
  }
)

# Places are chosen when the map is drawn, as only then the sizes of texts and of the panel are known: the most important first, each
# at the nearest free one of some places around its own. A strip of the ground behind each makes it read on any fill.
#' @rawNamespace S3method(grid::makeContent, drawn_labels)
makeContent.drawn_labels <- function(x) {
  style <- x$style
  if (!nrow(style)) return(x)
  wide <- grid::convertWidth(grid::unit(1, "npc"), "mm", valueOnly = TRUE)
  high <- grid::convertHeight(grid::unit(1, "npc"), "mm", valueOnly = TRUE)
  width <- grid::convertWidth(grid::stringWidth(style$label), "mm", valueOnly = TRUE)
  height <- grid::convertHeight(grid::stringHeight(style$label), "mm", valueOnly = TRUE)
  placed <- core(core_label_places(x$at$x * wide, x$at$y * high, width, height, style$beside, wide, high, 0.5))
  shown <- which(!is.nan(placed$x))
  if (!length(shown)) return(x)
  at_x <- grid::unit(placed$x[shown], "mm")
  at_y <- grid::unit(placed$y[shown], "mm")
  ground <- if (!is.na(x$halo)) {
    grid::rectGrob(at_x, at_y, grid::unit(width[shown] + 1, "mm"), grid::unit(height[shown] + 1, "mm"),
                   gp = grid::gpar(fill = scales::alpha(x$halo, 0.6), col = NA))
  }
  text <- grid::textGrob(style$label[shown], at_x, at_y, gp = grid::gpar(col = style$colour[shown]))
  grid::setChildren(x, do.call(grid::gList, c(list(ground), list(text))))
}
