#' @include map-geom.R
NULL

#' Maps of proportional symbols
#'
#' `symbol_map()` draws a circle for each shape, its area in proportion to a value, over the shapes themselves, with a key of nested circles;
#' `map_symbols()` adds such circles to another map. Circles stand on points and well inside polygons, larger ones below smaller ones.
#'
#' @inheritParams choropleth_map
#' @param size The column, or expression on columns, that the areas of the circles follow; 0 and missing values have none, and are counted.
#' @param largest Diameter of the circle of the greatest value, in millimetres.
#' @param base A frame to draw below the circles; by default `x` itself where it has polygons.
#' @param colour Fill of the circles.
#' @return A ggplot; for `map_symbols()` a layer to add to a map with `+`.
#' @section Errors: `civicatlas_error_column` where the column is not there or holds no numbers, `civicatlas_error_argument` where a value is below 0.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' symbol_map(wards, residents, key_title = "Residents")
#' @export
symbol_map <- function(x, size, largest = 14, base = NULL, colour = "#d07a3c", title = NULL, subtitle = NULL, key_title = NULL, unit = NULL, source = NULL) {
  call <- rlang::current_env()
  need_mappable(x, call)
  size <- rlang::enquo(size)
  base <- base %||% if (!all_points(x)) x
  map <- start_map(base %||% x, title, subtitle, source)
  if (!is.null(base)) map <- map + shapes_layer(base, style = list(fill = map_inks$light$land, colour = "#a9b3b8", linewidth = 0.25), show_key = FALSE)
  map + symbols_of(x, size, largest, colour, key_title, unit, call)
}

#' @rdname symbol_map
#' @export
map_symbols <- function(x, size, largest = 14, colour = "#d07a3c", key_title = NULL, unit = NULL) {
  call <- rlang::current_env()
  need_mappable(x, call)
  symbols_of(x, rlang::enquo(size), largest, colour, key_title, unit, call)
}

# The circles as a layer that is put on the map's CRS when it is added.
symbols_of <- function(x, size, largest, colour, key_title, unit, call) {
  values <- sizes_of(x, size, "size", call)
  shown <- which(values > 0)
  if (!length(shown)) fail("argument", "There is nothing to draw: no value is above 0.", call = call)
  left <- length(values) - length(shown)
  x <- x[shown, ]
  x$.size <- values[shown]
  x$.diameter <- largest * sqrt(values[shown] / max(values[shown]))
  x <- x[order(-x$.size), ]
  without <- if (left) paste0("; ", format_count(left), " without one (0 or missing)")
  say("{.fn symbol_map}: {counted(length(shown), 'circle')}, the largest for {map_numbers(max(x$.size))}{without}.")
  key_title <- key_title %||% rlang::as_label(size)
  structure(list(verb = "map_symbols", frame = x, colour = colour, largest = largest, unit = unit, key_title = key_title), class = "map_symbol_layer")
}

sizes_of <- function(x, quosure, what, call) {
  values <- as.double(map_values(x, quosure, call, what))
  if (any(values < 0, na.rm = TRUE)) fail("argument", "{.arg {what}} is below 0 in row {which(values < 0)[1]}; areas and widths cannot be.", call = call)
  values[!is.finite(values)] <- NA
  values
}

#' @rawNamespace S3method(ggplot2::ggplot_add, map_symbol_layer)
ggplot_add.map_symbol_layer <- function(object, plot, ...) {
  frame <- on_map_crs(object$frame, plot$coordinates$crs, object$verb)
  places <- if (all_points(frame)) as_shapes(frame) else inner_point_of(as_shapes(frame))
  frame <- with_shapes(frame, places)
  count_outside(frame, plot$coordinates$limits, object$verb)
  style <- list(fill = object$colour, colour = "#ffffff", alpha = 0.85)
  plot + shapes_layer(frame, ggplot2::aes(diameter = .data$.diameter), style, show_key = FALSE, geom = GeomSymbols) +
    nested_key(max(object$frame$.size), object$largest, object$colour, object$key_title, object$unit)
}

# Circles of a diameter in millimetres.
GeomSymbols <- ggplot2::ggproto(
  "GeomSymbols", GeomShapes,
  required_aes = c("row", "xmin", "xmax", "ymin", "ymax", "diameter"),
  draw_panel = function(data, panel_params, coord, shapes) {
    at <- coord$transform(data.frame(x = data$xmin, y = data$ymin), panel_params)
    arguments <- list(x = at$x, y = at$y, r = grid::unit(data$diameter / 2, "mm"),
                      gp = grid::gpar(fill = scales::alpha(data$fill, data$alpha), col = data$colour, lwd = 0.8))
    do.call(grob_of, c(list("circle", hover_columns(data, seq_len(nrow(data)))), arguments))
  }
)

# Circles of three round values, one within the other, each with its value on a line from its top.
nested_key <- function(most, largest, colour, title, unit) {
  values <- key_values(most)
  radius <- largest / 2 * sqrt(values / most)
  ink <- map_inks$light$ink
  labels <- paste0(short_numbers(values), if (!is.null(unit)) paste0(" ", unit))
  top <- spread_apart(2 * radius, 4)
  grob <- grid::grobTree(
    grid::circleGrob(grid::unit(max(radius), "mm"), grid::unit(radius, "mm"), grid::unit(radius, "mm"),
                     gp = grid::gpar(fill = scales::alpha(colour, 0.35), col = ink, lwd = 0.6)),
    grid::polylineGrob(grid::unit(rep(c(1, 2, 2) * max(radius) + c(0, 1, 3), length(values)), "mm"), grid::unit(c(rbind(2 * radius, 2 * radius, top)), "mm"),
                       id = rep(seq_along(values), each = 3), gp = grid::gpar(col = ink, lwd = 0.4)),
    grid::textGrob(labels, grid::unit(2 * max(radius) + 4, "mm"), grid::unit(top, "mm"), hjust = 0, vjust = 0.5, gp = grid::gpar(col = ink, fontsize = 9.5))
  )
  width <- grid::unit(2 * max(radius) + 5, "mm") + max(grid::stringWidth(labels))
  key_of_grob(grob, width, grid::unit(max(top, 2 * max(radius)) + 2, "mm"), title)
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
