#' Layers of a map
#'
#' Added to a map with `+`: outlines over fills, and points. A layer on another CRS than the map is reprojected for drawing,
#' and a message says so; shapes outside the map's extent are not shown, and are counted.
#'
#' @param x A spatial frame.
#' @param colour Colour of lines.
#' @param linewidth Width of lines in millimetres.
#' @param size Diameter of points in millimetres.
#' @param fill Fill of points.
#' @return A layer to add to a map with `+`.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' rooms <- read_layer(demo_file("rooms.geojson"))
#' choropleth_map(wards, residents) + map_outlines(wards, linewidth = 0.5) + map_points(rooms)
#' @name map_layers
NULL

#' @rdname map_layers
#' @export
map_outlines <- function(x, colour = "#26323c", linewidth = 0.4) {
  new_map_layer("map_outlines", x, list(fill = NA, colour = colour, linewidth = linewidth))
}

#' @rdname map_layers
#' @export
map_points <- function(x, size = 1.8, colour = "#26323c", fill = "#ffffff") {
  new_map_layer("map_points", x, list(fill = fill, colour = colour, size = size))
}

new_map_layer <- function(verb, x, style, call = rlang::caller_env()) {
  if (!is_spatial_frame(x)) fail("argument", "{.fn {verb}} needs a spatial frame.", call = call)
  structure(list(verb = verb, frame = x, style = style), class = "map_layer")
}

#' @rawNamespace S3method(ggplot2::ggplot_add, map_layer)
ggplot_add.map_layer <- function(object, plot, ...) {
  frame <- on_map_crs(object$frame, plot$coordinates$crs, object$verb, plot$coordinates$limits)
  count_outside(frame, plot$coordinates$limits, object$verb)
  plot + shapes_layer(frame, style = object$style, show_key = FALSE)
}

on_map_crs <- function(frame, crs, verb, limits = NULL) {
  if (is.null(crs) || same_crs(crs_of(frame), crs)) return(in_one_window(frame, limits$x))
  need_crs(frame, "it cannot be put on the map", call = NULL)
  say("{.fn {verb}}: reprojected for drawing, {crs_label(crs_of(frame))} \u2192 {crs_label(crs)}.")
  in_one_window(quietly(reproject_to(frame, crs)), limits$x)
}

count_outside <- function(frame, limits, verb) {
  if (is.null(limits$x) || is.null(limits$y)) return(invisible())
  boxes <- core(core_boxes(handles_of(as_shapes(frame)), store_of(as_shapes(frame))))
  outside <- sum(boxes[3, ] < limits$x[1] | boxes[1, ] > limits$x[2] | boxes[4, ] < limits$y[1] | boxes[2, ] > limits$y[2], na.rm = TRUE)
  if (outside) say("{.fn {verb}}: {counted(outside, 'shape')} outside the map not shown.")
}
