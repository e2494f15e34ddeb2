# The geometry of maps: one ggplot2 geom that draws shapes of any kind, and the coordinate system that carries a map's
# CRS, so that layers added later can be put on it.

# `shapes` travels as a parameter; each row of the data names its shape by `row` and trains the scales by its box.
GeomShapes <- ggplot2::ggproto(
  "GeomShapes", ggplot2::Geom,
  required_aes = c("row", "xmin", "xmax", "ymin", "ymax"),
  default_aes = ggplot2::aes(fill = "grey80", colour = NA, linewidth = 0.3, linetype = 1, alpha = NA, size = 1.8, shape = 21, stroke = 0.4),
  extra_params = c("na.rm", "shapes"),
  draw_panel = function(data, panel_params, coord, shapes) {
    coordinates <- coordinates_of(shapes[data$row])
    if (!nrow(coordinates)) return(grid::nullGrob())
    placed <- coord$transform(data.frame(x = coordinates$x, y = coordinates$y), panel_params)
    coordinates$x <- placed$x
    coordinates$y <- placed$y
    dimension <- shape_dimension(shapes[data$row])[coordinates$shape]
    do.call(grid::gList, c(
      path_grobs(coordinates[dimension == 2, ], data),
      line_grobs(coordinates[dimension == 1, ], data),
      point_grobs(coordinates[dimension == 0, ], data)
    ))
  },
  draw_key = ggplot2::draw_key_polygon
)

# 0 for points, 1 for lines, 2 for polygons and collections.
shape_dimension <- function(shapes) {
  c(point = 0, multipoint = 0, line = 1, multiline = 1, polygon = 2, multipolygon = 2, collection = 2)[geometry_type_of(shapes)]
}

# Ring numbers that run through all shapes.
ring_ids <- function(coordinates) {
  vctrs::vec_group_id(coordinates[c("shape", "part", "ring")])
}

path_grobs <- function(coordinates, data) {
  if (!nrow(coordinates)) return(list())
  style <- data[unique(coordinates$shape), ]
  list(grid::pathGrob(
    coordinates$x, coordinates$y, id = ring_ids(coordinates), pathId = coordinates$shape, rule = "evenodd", default.units = "native",
    gp = grid::gpar(fill = scales::alpha(style$fill, style$alpha), col = style$colour, lwd = style$linewidth * ggplot2::.pt,
                    lty = style$linetype, linejoin = "round")
  ))
}

line_grobs <- function(coordinates, data) {
  if (!nrow(coordinates)) return(list())
  ids <- ring_ids(coordinates)
  style <- data[coordinates$shape[!duplicated(ids)], ]
  list(grid::polylineGrob(
    coordinates$x, coordinates$y, id = ids, default.units = "native",
    gp = grid::gpar(col = scales::alpha(style$colour, style$alpha), lwd = style$linewidth * ggplot2::.pt, lty = style$linetype)
  ))
}

point_grobs <- function(coordinates, data) {
  if (!nrow(coordinates)) return(list())
  style <- data[coordinates$shape, ]
  list(grid::pointsGrob(
    coordinates$x, coordinates$y, pch = style$shape, default.units = "native",
    gp = grid::gpar(col = style$colour, fill = scales::alpha(style$fill, style$alpha), fontsize = style$size * ggplot2::.pt + style$stroke,
                    lwd = style$stroke * ggplot2::.pt)
  ))
}

# A ggplot2 layer of a frame's shapes; `mapping` holds further aesthetics of its columns, `style` constant ones.
shapes_layer <- function(x, mapping = NULL, style = list(), key = ggplot2::draw_key_polygon, show_key = NA) {
  shapes <- as_shapes(x)
  boxes <- core_boxes(handles_of(shapes), store_of(shapes))
  data <- attribute_table(dplyr::ungroup(x))
  data$.row <- seq_len(nrow(x))
  data[c(".xmin", ".ymin", ".xmax", ".ymax")] <- as.data.frame(t(boxes))
  data <- data[!is.na(data$.xmin), ]
  position <- ggplot2::aes(row = .data$.row, xmin = .data$.xmin, xmax = .data$.xmax, ymin = .data$.ymin, ymax = .data$.ymax)
  ggplot2::layer(
    geom = GeomShapes, stat = "identity", position = "identity", data = data, mapping = utils::modifyList(position, mapping %||% list()),
    inherit.aes = FALSE, show.legend = show_key, key_glyph = key, params = c(list(shapes = shapes), style)
  )
}

# Equal scales (on longitude and latitude, at the middle latitude), the frame's extent, and the map's CRS.
map_coordinates <- function(x) {
  extent <- extent_of(x)
  crs <- crs_of(x)
  geographic <- identical(crs$kind, "geographic")
  ratio <- if (geographic) 1 / cos(mean(extent[c("ymin", "ymax")]) * crs$unit_size * pi / 180) else 1
  margin <- 0.03 * max(extent["xmax"] - extent["xmin"], (extent["ymax"] - extent["ymin"]) * ratio, 1e-9)
  coord <- ggplot2::coord_fixed(
    ratio = ratio, expand = FALSE, xlim = extent[c("xmin", "xmax")] + c(-1, 1) * margin,
    ylim = extent[c("ymin", "ymax")] + c(-1, 1) * margin / ratio
  )
  coord$crs <- crs
  coord
}
