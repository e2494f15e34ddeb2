# The geometry of maps: one ggplot2 geom that draws shapes of any kind, and the coordinate system that carries a map's
# CRS, so that layers added later can be put on it.

# `shapes` travels as a parameter; each row of the data names its shape by `row` and trains the scales by its box. Rows that carry
# `tooltip` and `data_id` can be hovered on an interactive map.
GeomShapes <- ggplot2::ggproto(
  "GeomShapes", ggplot2::Geom,
  required_aes = c("row", "xmin", "xmax", "ymin", "ymax"),
  optional_aes = c("tooltip", "data_id"),
  default_aes = ggplot2::aes(fill = "grey80", colour = NA, linewidth = 0.3, linetype = 1, alpha = NA, size = 1.8, shape = 21, stroke = 0.4),
  extra_params = c("na.rm", "shapes"),
  draw_panel = function(data, panel_params, coord, shapes) {
    window <- c(panel_params$x.range, panel_params$y.range)[c(1, 3, 2, 4)]
    grid::gTree(shapes = shapes[data$row], style = data, window = window, cl = "drawn_shapes")
  },
  draw_key = ggplot2::draw_key_polygon
)

# Shapes are thinned when they are drawn, as only then the size and resolution of the panel are known: to half a dot of the device.
#' @rawNamespace S3method(grid::makeContent, drawn_shapes)
makeContent.drawn_shapes <- function(x) {
  window <- x$window
  dots <- 2 * dots_per_inch()
  cell_width <- (window[3] - window[1]) / max(1, grid::convertWidth(grid::unit(1, "npc"), "inches", valueOnly = TRUE) * dots)
  cell_height <- (window[4] - window[2]) / max(1, grid::convertHeight(grid::unit(1, "npc"), "inches", valueOnly = TRUE) * dots)
  drawn <- core_thinned(handles_of(x$shapes), store_of(x$shapes), window, cell_width, cell_height)
  drawn$x <- (drawn$x - window[1]) / (window[3] - window[1])
  drawn$y <- (drawn$y - window[2]) / (window[4] - window[2])
  of_dimension <- function(d) {
    some <- drawn$dimension == d
    vctrs::new_data_frame(if (all(some)) drawn else lapply(drawn, `[`, some))
  }
  grobs <- list(area_grob(of_dimension(2L), x$style), line_grob(of_dimension(1L), x$style), point_grob(of_dimension(0L), x$style))
  grid::setChildren(x, do.call(grid::gList, grobs))
}

# Of the device that is drawn on; a file of lines and fills is taken as a good print.
dots_per_inch <- function() {
  if (grepl("pdf|svg|postscript|xfig|pictex", names(grDevices::dev.cur()), ignore.case = TRUE)) return(600)
  dots <- grDevices::dev.size("px")[1] / grDevices::dev.size("in")[1]
  if (is.finite(dots) && dots > 0) dots else 300
}

# The grob of grid, or ggiraph's of the same name where its elements are to be hovered: `hovered` holds their tooltips and ids, a
# row for each vertex, or for each point or circle.
grob_of <- function(kind, hovered, ...) {
  if (is.null(hovered$tooltip)) return(getExportedValue("grid", paste0(kind, "Grob"))(...))
  getExportedValue("ggiraph", paste0("interactive_", kind, "_grob"))(..., tooltip = hovered$tooltip, data_id = hovered$data_id)
}

hover_columns <- function(style, rows) if (is.null(style$tooltip)) NULL else style[rows, c("tooltip", "data_id")]

# Shapes of one ring each are polygons to grid, which draws them faster than paths of several rings.
area_grob <- function(drawn, style) {
  if (!nrow(drawn)) return(grid::nullGrob())
  rows <- drawn$row[!duplicated(drawn$ring)]
  of_path <- style[unique(rows), ]
  gp <- grid::gpar(fill = scales::alpha(of_path$fill, of_path$alpha), col = of_path$colour, lwd = of_path$linewidth * ggplot2::.pt,
                   lty = of_path$linetype, linejoin = "round")
  hovered <- hover_columns(style, drawn$row)
  if (!anyDuplicated(rows)) return(grob_of("polygon", hovered, x = drawn$x, y = drawn$y, id = drawn$ring, default.units = "npc", gp = gp))
  grob_of("path", hovered, x = drawn$x, y = drawn$y, id = drawn$ring, pathId = drawn$row, rule = "evenodd", default.units = "npc", gp = gp)
}

line_grob <- function(drawn, style) {
  if (!nrow(drawn)) return(grid::nullGrob())
  of_line <- style[drawn$row[!duplicated(drawn$ring)], ]
  colour <- ifelse(is.na(of_line$colour), of_line$fill, of_line$colour)
  grob_of(
    "polyline", hover_columns(style, drawn$row), x = drawn$x, y = drawn$y, id = drawn$ring, default.units = "npc",
    gp = grid::gpar(col = scales::alpha(colour, of_line$alpha), lwd = of_line$linewidth * ggplot2::.pt, lty = of_line$linetype, lineend = "round",
                    linejoin = "round")
  )
}

point_grob <- function(drawn, style) {
  if (!nrow(drawn)) return(grid::nullGrob())
  of_point <- style[drawn$row, ]
  grob_of(
    "points", hover_columns(style, drawn$row), x = drawn$x, y = drawn$y, pch = of_point$shape, default.units = "npc",
    gp = grid::gpar(col = of_point$colour, fill = scales::alpha(of_point$fill, of_point$alpha), fontsize = of_point$size * ggplot2::.pt + of_point$stroke,
                    lwd = of_point$stroke * ggplot2::.pt)
  )
}

# A ggplot2 layer of a frame's shapes; `mapping` holds further aesthetics of its columns, `style` constant ones.
shapes_layer <- function(x, mapping = NULL, style = list(), key = ggplot2::draw_key_polygon, show_key = NA, geom = GeomShapes) {
  shapes <- as_shapes(x)
  boxes <- core_boxes(handles_of(shapes), store_of(shapes))
  data <- attribute_table(dplyr::ungroup(x))
  data$.row <- seq_len(nrow(x))
  data[c(".xmin", ".ymin", ".xmax", ".ymax")] <- as.data.frame(t(boxes))
  data <- data[!is.na(data$.xmin), ]
  position <- ggplot2::aes(row = .data$.row, xmin = .data$.xmin, xmax = .data$.xmax, ymin = .data$.ymin, ymax = .data$.ymax)
  ggplot2::layer(
    geom = geom, stat = "identity", position = "identity", data = data, mapping = utils::modifyList(position, mapping %||% list()),
    inherit.aes = FALSE, show.legend = show_key, key_glyph = key, params = c(list(shapes = shapes), style)
  )
}

# Equal scales (on longitude and latitude, at the middle latitude), the frame's extent or a box, and the map's CRS.
map_coordinates <- function(x, extent = box_of(x)) {
  crs <- crs_of(x)
  geographic <- identical(crs$kind, "geographic")
  ratio <- if (geographic) 1 / max(0.05, cos(mean(extent[c("ymin", "ymax")]) * crs$unit_size * pi / 180)) else 1
  margin <- 0.03 * max(extent["xmax"] - extent["xmin"], (extent["ymax"] - extent["ymin"]) * ratio, 1e-9)
  coord <- ggplot2::coord_fixed(
    ratio = ratio, expand = FALSE, xlim = extent[c("xmin", "xmax")] + c(-1, 1) * margin,
    ylim = extent[c("ymin", "ymax")] + c(-1, 1) * margin / ratio
  )
  coord$crs <- crs
  coord
}

#' Narrow or widen the view of a map
#'
#' @param to A spatial frame, or an extent of named `xmin, ymin, xmax, ymax` in the units of the map's CRS.
#' @return A change of the map, to add to it with `+`.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' choropleth_map(wards, residents) + map_view(wards[1:3, ])
#' @export
map_view <- function(to) {
  call <- rlang::current_env()
  if (!is_spatial_frame(to) && !(is.numeric(to) && all(c("xmin", "ymin", "xmax", "ymax") %in% names(to)))) {
    fail("argument", "{.arg to} must be a spatial frame or an extent of named xmin, ymin, xmax and ymax.", call = call)
  }
  structure(list(to = to), class = "map_view")
}

# A window whose west lies east of its east runs over the antimeridian, on longitude and latitude alone.
turned_window <- function(window, crs) {
  if (window[["ymin"]] > window[["ymax"]]) fail("argument", "{.arg to} has ymin {window[['ymin']]} above ymax {window[['ymax']]}.", call = NULL)
  if (window[["xmin"]] <= window[["xmax"]]) return(window)
  if (!in_plain_degrees(new_shapes(crs = crs))) {
    fail("argument", "{.arg to} has xmin above xmax, which means a window over the antimeridian on longitude and latitude alone.", call = NULL)
  }
  replace(window, "xmax", window[["xmax"]] + 360)
}

#' @rawNamespace S3method(ggplot2::ggplot_add, map_view)
ggplot_add.map_view <- function(object, plot, ...) {
  crs <- plot$coordinates$crs
  extent <- if (is_spatial_frame(object$to)) box_of(on_map_crs(object$to, crs, "map_view")) else turned_window(object$to, crs)
  carrier <- point_shapes(extent[c("xmin", "xmax")], extent[c("ymin", "ymax")], crs)
  plot$coordinates <- map_coordinates(carrier, extent)
  plot
}
