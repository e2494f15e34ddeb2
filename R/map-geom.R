# The geometry of maps: one ggplot2 geom that draws shapes of any kind, and the coordinate system that carries a map's
# CRS, so that layers added later can be put on it.

# `shapes` travels as a parameter; each row of the data names its shape by `row` and trains the scales by its box. Rows that carry
# `tooltip` and `data_id` can be hovered on an interactive map. With `lines_by_fill` lines take the colour of areas.
GeomShapes <- ggplot2::ggproto(
  "GeomShapes", ggplot2::Geom,
  required_aes = c("row", "xmin", "xmax", "ymin", "ymax"),
  optional_aes = c("tooltip", "data_id"),
  default_aes = ggplot2::aes(fill = "grey80", colour = NA, linewidth = 0.3, linetype = 1, alpha = NA, size = 1.8, shape = 21, stroke = 0.4),
  extra_params = c("na.rm", "shapes", "lines_by_fill"),
  draw_panel = function(data, panel_params, coord, shapes, lines_by_fill = FALSE) {
    grid::gTree(shapes = shapes[data$row], style = data, view = panel_view(coord, panel_params), lines_by_fill = lines_by_fill, cl = "drawn_shapes")
  },
  draw_key = ggplot2::draw_key_polygon
)

# What a panel shows: the window in the coordinates of shapes, and whether its axes run backwards. Shapes can be drawn where x and y are
# coordinates on equal scales.
panel_view <- function(coord, panel_params) {
  need_map_coord(coord)
  axis <- function(view, range) {
    transformation <- view$get_transformation()$name
    if (!transformation %in% c("identity", "reverse")) {
      fail("argument", "The x and y of a map are coordinates, which a scale cannot take by {.val {transformation}}.", call = NULL)
    }
    if (transformation == "reverse") list(from = -range[1], to = -range[2]) else list(from = range[1], to = range[2])
  }
  x <- axis(panel_params$x, panel_params$x.range)
  y <- axis(panel_params$y, panel_params$y.range)
  list(from = c(x$from, y$from), to = c(x$to, y$to), crs = coord$crs)
}

need_map_coord <- function(coord) {
  kind <- class(coord)[1]
  if (kind == "CoordFlip") fail("argument", "{.fn coord_flip} would draw a map with x as y: leave it out.", call = NULL)
  if (!inherits(coord, "CoordCartesian")) fail("argument", "Shapes cannot be drawn with {.cls {kind}}, which bends x and y.", call = NULL)
  if (!inherits(coord, c("CoordShapes", "CoordFixed")) && is.null(coord$ratio)) {
    fail("argument", c("{.fn coord_cartesian} would stretch the map.", i = "{.fn coord_shapes} keeps its scale; {.fn map_view} narrows the view."), call = NULL)
  }
}

# xmin, ymin, xmax, ymax of the window.
view_box <- function(view) c(pmin(view$from, view$to), pmax(view$from, view$to))

# Places in the panel, from 0 to 1.
in_panel <- function(view, x, y) {
  list(x = (x - view$from[1]) / (view$to[1] - view$from[1]), y = (y - view$from[2]) / (view$to[2] - view$from[2]))
}

# Shapes are thinned when they are drawn, as only then the size and resolution of the panel are known: to half a dot of the device.
#' @rawNamespace S3method(grid::makeContent, drawn_shapes)
makeContent.drawn_shapes <- function(x) {
  window <- view_box(x$view)
  dots <- 2 * dots_per_inch()
  cell_width <- (window[3] - window[1]) / max(1, grid::convertWidth(grid::unit(1, "npc"), "inches", valueOnly = TRUE) * dots)
  cell_height <- (window[4] - window[2]) / max(1, grid::convertHeight(grid::unit(1, "npc"), "inches", valueOnly = TRUE) * dots)
  drawn <- core(core_thinned(handles_of(x$shapes), store_of(x$shapes), window, cell_width, cell_height))
  drawn[c("x", "y")] <- in_panel(x$view, drawn$x, drawn$y)
  of_dimension <- function(d) {
    some <- drawn$dimension == d
    vctrs::new_data_frame(if (all(some)) drawn else lapply(drawn, `[`, some))
  }
  lines <- x$style
  if (x$lines_by_fill) lines$colour <- lines$fill
  grobs <- list(area_grob(of_dimension(2L), x$style), line_grob(of_dimension(1L), lines), point_grob(of_dimension(0L), x$style))
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
  boxes <- core(core_boxes(handles_of(shapes), store_of(shapes)))
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

#' Shapes in a ggplot
#'
#' `geom_shapes()` draws the shapes of spatial frames of any kind in a ggplot, with the aesthetics `fill`, `colour`, `linewidth`, `linetype`,
#' `alpha`, `size`, `shape` and `stroke`; `geom_flows()` draws lines as curved bands of the `width` in millimetres that a column
#' gives; `geom_shape_labels()` writes the `label` of each shape, of equals those with the higher `rank` first. Each
#' puts its shapes on the CRS of the first, which the plot's coordinates carry. [map_scale_bar()], [map_graticule()] and the other layers
#' of maps can be added.
#'
#' `coord_shapes()` keeps the scale equal along x and y, on longitude and latitude at the middle latitude; the first layer of shapes
#' sets it. Other coordinate systems than it and [ggplot2::coord_fixed()] stop with the reason.
#'
#' @param mapping Aesthetics of the layer, of [ggplot2::aes()]; those of the plot count too.
#' @param data A spatial frame; by default that of the plot.
#' @param ... Constant aesthetics; for `geom_flows()` also `bend`, for `geom_shape_labels()` `halo`, as in [map_flows()] and [map_labels()].
#' @param show.legend See [ggplot2::layer()].
#' @param crs CRS of the coordinates: anything that [crs()] takes.
#' @param xlim,ylim Limits in the units of the CRS; by default what the layers cover.
#' @param expand `TRUE` for a margin around what is shown.
#' @return A layer, or a coordinate system, to add to a ggplot with `+`.
#' @section Errors: `civicatlas_error_argument` where neither the layer nor the plot has a spatial frame, and at drawing for coordinates that
#'   would bend or stretch a map.
#' @examples
#' library(ggplot2)
#' wards <- read_layer(demo_file("wards.shp"))
#' ggplot(wards, aes(fill = over_65 / residents)) + geom_shapes() + geom_shape_labels(aes(label = name))
#' @export
geom_shapes <- function(mapping = NULL, data = NULL, ..., show.legend = NA) new_shapes_geom(mapping, data, list(...), show.legend, "shapes")

#' @rdname geom_shapes
#' @export
geom_flows <- function(mapping = NULL, data = NULL, ..., show.legend = FALSE) new_shapes_geom(mapping, data, list(...), show.legend, "flows")

#' @rdname geom_shapes
#' @export
geom_shape_labels <- function(mapping = NULL, data = NULL, ..., show.legend = FALSE) new_shapes_geom(mapping, data, list(...), show.legend, "labels")

new_shapes_geom <- function(mapping, data, style, show_key, kind) {
  structure(list(mapping = mapping, data = data, style = style, show_key = show_key, kind = kind), class = "shapes_geom")
}

# The frame is known when the layer meets the plot.
#' @rawNamespace S3method(ggplot2::ggplot_add, shapes_geom)
ggplot_add.shapes_geom <- function(object, plot, ...) {
  frame <- object$data %||% plot$data
  if (is.function(frame)) frame <- frame(plot$data)
  if (!is_spatial_frame(frame)) {
    fail("argument", c("Shapes are drawn from a spatial frame; the plot and the layer have none.",
                       i = "Give one as {.arg data}, or to {.fn ggplot2::ggplot}."), call = NULL)
  }
  if (isTRUE(plot$coordinates$default) && !inherits(plot$coordinates, "CoordShapes")) plot$coordinates <- coord_shapes(crs_of(frame))
  frame <- on_map_crs(frame, plot$coordinates$crs, paste0("geom_", object$kind), plot$coordinates$limits)
  mapping <- utils::modifyList(if (is.null(object$data)) plot$mapping else list(), object$mapping %||% list())
  as_civic_map(plot + geom_layer(frame, mapping, object))
}

geom_layer <- function(frame, mapping, object) {
  if (object$kind == "shapes") return(shapes_layer(frame, mapping, object$style, show_key = object$show_key))
  if (object$kind == "flows") return(shapes_layer(frame, mapping, object$style, show_key = object$show_key, geom = GeomFlows))
  label_layer(frame, mapping, object$style)
}

#' @rdname geom_shapes
#' @export
coord_shapes <- function(crs = NULL, xlim = NULL, ylim = NULL, expand = TRUE) new_coord(as_crs(crs), xlim, ylim, expand)

new_coord <- function(crs, xlim, ylim, expand, ratio = NULL) {
  ggplot2::ggproto("CoordShapes", ggplot2::coord_cartesian(xlim = unname(xlim), ylim = unname(ylim), expand = expand, default = TRUE), crs = crs, ratio = ratio,
    is_free = function() FALSE,
    setup_panel_params = function(self, scale_x, scale_y, params = list()) {
      limits <- list(x = in_direction(self$limits$x, scale_x), y = in_direction(self$limits$y, scale_y))
      ggplot2::ggproto_parent(ggplot2::CoordCartesian, ggplot2::ggproto(NULL, self, limits = limits))$setup_panel_params(scale_x, scale_y, params)
    },
    aspect = function(self, ranges) {
      ratio <- self$ratio %||% scale_ratio(self$crs, ranges$y.range)
      diff(ranges$y.range) / diff(ranges$x.range) * ratio
    }
  )
}

# Limits as a scale runs: before version 4, ggplot2 takes those of a reversed scale as they stand.
in_direction <- function(limits, scale) if (identical(scale$get_transformation()$name, "reverse")) rev(limits) else limits

# How much longer a unit of y is than one of x: 1, on longitude and latitude what is so at the middle.
scale_ratio <- function(crs, y) {
  if (!identical(crs$kind, "geographic")) return(1)
  1 / max(0.05, cos(mean(y) * crs$unit_size * pi / 180))
}

# The frame's extent or a box, with a margin, on the map's CRS.
map_coordinates <- function(x, extent = box_of(x)) {
  crs <- crs_of(x)
  ratio <- scale_ratio(crs, extent[c("ymin", "ymax")])
  margin <- 0.03 * max(extent["xmax"] - extent["xmin"], (extent["ymax"] - extent["ymin"]) * ratio, 1e-9)
  new_coord(crs, extent[c("xmin", "xmax")] + c(-1, 1) * margin, extent[c("ymin", "ymax")] + c(-1, 1) * margin / ratio, expand = FALSE, ratio)
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
  on_map <- function(frame) in_one_window(on_map_crs(frame, crs, "map_view", plot$coordinates$limits))
  extent <- if (is_spatial_frame(object$to)) box_of(on_map(object$to)) else turned_window(object$to, crs)
  carrier <- point_shapes(extent[c("xmin", "xmax")], extent[c("ymin", "ymax")], crs)
  plot$coordinates <- map_coordinates(carrier, extent)
  plot
}
