#' Maps of proportional and graduated symbols
#'
#' `symbol_map()` draws a circle for each shape, its area in proportion to a value, over the shapes themselves, with a key of nested circles;
#' `map_symbols()` adds such circles to another map. Circles stand on points and well inside polygons, larger ones below smaller ones.
#' With `classes` there are as many sizes, the key showing what each stands for. `map_lines()` does the same with the widths of lines.
#'
#' @inheritParams choropleth_map
#' @param size The column, or expression on columns, that the areas of the circles follow; 0 and missing values have none, and are counted.
#' @param width The column, or expression on columns, that the widths of the lines follow.
#' @param largest,widest Diameter of the circle and width of the line of the greatest value, in millimetres.
#' @param classes,method `NULL` for sizes in proportion, or how many sizes, with limits as of [class_breaks()].
#' @param base A frame to draw below the circles; by default `x` itself where it has polygons.
#' @param colour Fill of the circles, colour of the lines.
#' @return A ggplot; for `map_symbols()` and `map_lines()` a layer to add to a map with `+`.
#' @section Errors: `civicatlas_error_column` where the column is not there or holds no numbers, `civicatlas_error_argument` where a value is below 0.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' symbol_map(wards, residents, key_title = "Residents")
#' choropleth_map(wards, over_65 / residents) + map_symbols(wards, residents, classes = 3)
#' @export
symbol_map <- function(x, size, largest = 14, base = NULL, ..., colour = "#d07a3c", classes = NULL, method = "natural", key_title = NULL, unit = NULL,
                       title = NULL, subtitle = NULL, source = NULL) {
  need_no_more(rlang::enquos(...))
  call <- rlang::current_env()
  x <- for_map(x)
  need_mappable(x, call)
  size <- rlang::enquo(size)
  base <- base %||% if (!all_points(x)) x
  map <- start_map(base %||% x, title, subtitle, source)
  if (!is.null(base)) map <- map + shapes_layer(base, style = list(fill = map_inks$light$land, colour = "#a9b3b8", linewidth = 0.25), show_key = FALSE)
  map + symbols_of(x, size, largest, colour, key_title, unit, classes, method, call)
}

#' @rdname symbol_map
#' @export
map_symbols <- function(x, size, largest = 14, colour = "#d07a3c", key_title = NULL, unit = NULL, classes = NULL, method = "natural") {
  call <- rlang::current_env()
  need_mappable(x, call)
  symbols_of(x, rlang::enquo(size), largest, colour, key_title, unit, classes, method, call)
}

#' @rdname symbol_map
#' @export
map_lines <- function(x, width, widest = 2.5, colour = "#43585f", key_title = NULL, unit = NULL, classes = NULL, method = "natural") {
  call <- rlang::current_env()
  need_mappable(x, call)
  width <- rlang::enquo(width)
  if (!all(shape_dimension(as_shapes(x)) == 1, na.rm = TRUE)) fail("argument", "{.arg x} must hold lines alone.", call = call)
  scaled <- scaled_shapes(x, width, "width", widest, 1, classes, method, call)
  layer_of_sizes("map_lines", scaled, colour, key_title %||% rlang::as_label(width), unit)
}

# The circles as a layer that is put on the map's CRS when it is added.
symbols_of <- function(x, size, largest, colour, key_title, unit, classes, method, call) {
  scaled <- scaled_shapes(x, size, "size", largest, 0.5, classes, method, call)
  layer_of_sizes("map_symbols", scaled, colour, key_title %||% rlang::as_label(size), unit)
}

layer_of_sizes <- function(verb, scaled, colour, key_title, unit) {
  frame <- scaled$frame
  left <- scaled$left
  without <- if (left) paste0("; ", format_count(left), " without one (0 or missing)")
  what <- if (verb == "map_lines") "line" else "circle"
  fn <- if (verb == "map_lines") verb else "symbol_map"
  say("{.fn {fn}}: {counted(nrow(frame), what)}, the largest for {map_numbers(max(frame$.size))}{without}.")
  structure(list(verb = verb, frame = frame, key = scaled$key, colour = colour, unit = unit, key_title = key_title), class = "map_symbol_layer")
}

# Rows with a value above 0, the greatest first, with `.extent`: the greatest times the value's share of it, to a power (for areas a half); of
# classes that of their upper limit. `key` has the extents and values, or labels, of the key.
scaled_shapes <- function(x, quosure, what, greatest, power, classes, method, call) {
  values <- sizes_of(x, quosure, what, call)
  if (!is_positive(greatest)) fail("argument", "The greatest size must be a number of millimetres above 0.", call = call)
  shown <- which(values > 0)
  if (!length(shown)) fail("argument", "There is nothing to draw: no value is above 0.", call = call)
  frame <- x[shown, ]
  frame$.size <- values[shown]
  most <- max(frame$.size)
  extent_of_value <- function(value) greatest * (value / most)^power
  if (is.null(classes)) {
    frame$.extent <- extent_of_value(frame$.size)
    key <- list(extents = extent_of_value(key_values(most)), values = key_values(most))
  } else {
    if (!is_count(classes, 2, 7)) fail("argument", "{.arg classes} must be a whole number from 2 to 7, not {.val {classes}}.", call = call)
    breaks <- class_breaks(frame$.size, classes, method)
    extents <- extent_of_value(as.double(breaks)[-1])
    frame$.extent <- extents[core(core_class_of(frame$.size, breaks))]
    key <- list(extents = extents, labels = class_labels(breaks))
  }
  list(frame = frame[order(-frame$.size), ], left = length(values) - length(shown), key = key)
}

sizes_of <- function(x, quosure, what, call) {
  values <- as.double(map_values(x, quosure, call, what))
  if (any(values < 0, na.rm = TRUE)) fail("argument", "{.arg {what}} is below 0 in row {which(values < 0)[1]}; areas and widths cannot be.", call = call)
  values[!is.finite(values)] <- NA
  values
}

#' @rawNamespace S3method(ggplot2::ggplot_add, map_symbol_layer)
ggplot_add.map_symbol_layer <- function(object, plot, ...) {
  frame <- on_map_crs(object$frame, plot$coordinates$crs, object$verb, plot$coordinates$limits)
  labels <- object$key$labels %||% short_numbers(object$key$values)
  labels <- paste0(labels, if (!is.null(object$unit)) paste0(" ", object$unit))
  if (object$verb == "map_lines") {
    count_outside(frame, plot$coordinates$limits, object$verb)
    layer <- shapes_layer(frame, ggplot2::aes(linewidth = I(.data$.extent / 0.75)), list(colour = object$colour), show_key = FALSE)
    return(plot + layer + bars_key(object$key$extents, labels, object$colour, object$key_title))
  }
  places <- if (all_points(frame)) as_shapes(frame) else inner_point_of(as_shapes(frame))
  frame <- with_shapes(frame, places)
  count_outside(frame, plot$coordinates$limits, object$verb)
  style <- list(fill = object$colour, colour = "#ffffff", alpha = 0.85)
  plot + shapes_layer(frame, ggplot2::aes(diameter = .data$.extent), style, show_key = FALSE, geom = GeomSymbols) +
    nested_key(object$key$extents / 2, labels, object$colour, object$key_title)
}

# Circles of a diameter in millimetres.
GeomSymbols <- ggplot2::ggproto(
  "GeomSymbols", GeomShapes,
  required_aes = c("row", "xmin", "xmax", "ymin", "ymax", "diameter"),
  draw_panel = function(data, panel_params, coord, shapes) {
    need_map_coord(coord)
    at <- coord$transform(data.frame(x = data$xmin, y = data$ymin), panel_params)
    arguments <- list(x = at$x, y = at$y, r = grid::unit(data$diameter / 2, "mm"),
                      gp = grid::gpar(fill = scales::alpha(data$fill, data$alpha), col = data$colour, lwd = 0.8))
    do.call(grob_of, c(list("circle", hover_columns(data, seq_len(nrow(data)))), arguments))
  }
)

# Circles one within the other, each with its label on a line from its top; radii in millimetres.
nested_key <- function(radius, labels, colour, title) {
  ink <- map_inks$light$ink
  top <- spread_apart(2 * radius, 4)
  grob <- grid::grobTree(
    grid::circleGrob(grid::unit(max(radius), "mm"), grid::unit(radius, "mm"), grid::unit(radius, "mm"),
                     gp = grid::gpar(fill = scales::alpha(colour, 0.35), col = ink, lwd = 0.6)),
    grid::polylineGrob(grid::unit(rep(c(1, 2, 2) * max(radius) + c(0, 1, 3), length(radius)), "mm"), grid::unit(c(rbind(2 * radius, 2 * radius, top)), "mm"),
                       id = rep(seq_along(radius), each = 3), gp = grid::gpar(col = ink, lwd = 0.4)),
    grid::textGrob(labels, grid::unit(2 * max(radius) + 4, "mm"), grid::unit(top, "mm"), hjust = 0, vjust = 0.5, gp = grid::gpar(col = ink, fontsize = 9.5))
  )
  width <- grid::unit(2 * max(radius) + 5, "mm") + max(grid::stringWidth(labels))
  key_of_grob(grob, width, grid::unit(max(top, 2 * max(radius)) + 2, "mm"), title)
}

# Bars as wide as lines and flows, from the narrowest below to the widest on top.
bars_key <- function(widths, labels, colour, title) {
  step <- pmax(widths, 4) + 1.5
  at <- cumsum(step) - step / 2
  ink <- map_inks$light$ink
  grob <- grid::grobTree(
    grid::rectGrob(grid::unit(0, "mm"), grid::unit(at, "mm"), grid::unit(12, "mm"), grid::unit(pmax(widths, 0.15), "mm"), hjust = 0, vjust = 0.5,
                   gp = grid::gpar(fill = scales::alpha(colour, 0.72), col = NA)),
    grid::textGrob(labels, grid::unit(14, "mm"), grid::unit(at, "mm"), hjust = 0, vjust = 0.5, gp = grid::gpar(col = ink, fontsize = 9.5))
  )
  key_of_grob(grob, grid::unit(15, "mm") + max(grid::stringWidth(labels)), grid::unit(sum(step) + 1, "mm"), title)
}

# Places of labels from the top down, each at least so far from the next.
spread_apart <- function(at, least) {
  for (i in rev(seq_along(at))[-1]) if (at[i] > at[i + 1] - least) at[i] <- at[i + 1] - least
  at + max(0, -min(at))
}

# About a tenth, a third and the whole of the greatest value, rounded to 1, 2 or 5 times a power of ten.
key_values <- function(most) {
  round_down <- function(v) {
    power <- 10^floor(log10(v))
    max(c(1, 2, 5)[c(1, 2, 5) * power <= v * (1 + 1e-12)]) * power
  }
  sort(unique(vapply(most * c(0.1, 0.35, 1), round_down, 0)))
}

# A key that is a drawing of its own; each has a name of its own, so that several stand one below the other.
key_of_grob <- function(grob, width, height, title) {
  guide <- ggplot2::guide_custom(grob, width = width, height = height, title = title)
  do.call(ggplot2::guides, stats::setNames(list(guide), paste0("key_", gsub("[^A-Za-z0-9]", "_", title %||% "of_map"))))
}
