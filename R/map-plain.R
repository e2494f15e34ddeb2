#' Maps without a variable
#'
#' Draws one or several layers, each in a colour of its own: polygons below, lines over them, points on top. Layers on other
#' CRSs than the first are reprojected for drawing, which is said. Several layers named in the call have a key.
#'
#' `plot()` and `autoplot()` of a frame give such a map at once; with a column they give a [choropleth_map()] of numbers or a
#' [category_map()] of anything else. Longitude and latitude are drawn on a projection that fits the layer's extent, which is said, as by
#' [crs_for()]; a layer of the world has the outline of the globe and a graticule.
#'
#' @param ... Spatial frames, best named: `wards = wards, rooms = rooms`.
#' @param title,subtitle,source See [choropleth_map()].
#' @return A ggplot.
#' @section Errors: `civicatlas_error_argument` where there is no frame, or one without shapes.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' tramways <- read_layer(demo_file("tramways.kml"))
#' rooms <- read_layer(demo_file("rooms.geojson"))
#' plain_map(Rooms = rooms, Wards = wards, Tramways = tramways)
#' @export
plain_map <- function(..., title = NULL, subtitle = NULL, source = NULL) {
  call <- rlang::current_env()
  layers <- lapply(rlang::list2(...), for_map)
  if (!length(layers)) fail("argument", "There is nothing to map: give one or more spatial frames.", call = call)
  for (layer in layers) need_mappable(layer, call)
  dimension <- vapply(layers, function(layer) max(shape_dimension(as_shapes(layer)), na.rm = TRUE), 0)
  names <- rlang::names2(layers)
  base <- layers[[which.max(dimension)]]
  map <- start_map(base, title, subtitle, source)
  map$coordinates <- map_coordinates(base, joint_extent(layers[dimension == max(dimension)], crs_of(base)))
  named <- nzchar(names)
  colours <- stats::setNames(plain_colours(dimension), names)
  for (i in order(-dimension, seq_along(layers))) {
    x <- on_map_crs(layers[[i]], crs_of(base), "plain_map", map$coordinates$limits)
    style <- plain_style(dimension[i], colours[[i]])
    mapping <- NULL
    if (named[i]) {
      x$.layer <- names[i]
      mapping <- ggplot2::aes(fill = .data$.layer)
      style$fill <- NULL
    }
    map <- map + shapes_layer(x, mapping, style, show_key = if (named[i]) stats::setNames(TRUE, "fill") else FALSE, key = key_of_layers(colours, dimension))
  }
  if (!any(named)) return(map)
  shown <- names[order(dimension, seq_along(layers))]
  map + ggplot2::scale_fill_manual(values = colours[named], breaks = shown[nzchar(shown)], name = NULL)
}

# All layers of the most extended kind, on one CRS.
joint_extent <- function(layers, crs) {
  on_crs <- function(layer) if (is.null(crs) || same_crs(crs_of(layer), crs)) layer else quietly(reproject_to(layer, crs))
  extents <- vapply(layers, function(layer) box_of(on_crs(layer)), double(4))
  c(xmin = min(extents[1, ]), ymin = min(extents[2, ]), xmax = max(extents[3, ]), ymax = max(extents[4, ]))
}

# Pale fills for polygons, firm colours for lines and points; each layer another.
plain_colours <- function(dimension) {
  choices <- list(point = c("#b3443f", "#5f569b", "#2b7391"), line = c("#43585f", "#8a5a2b", "#43804f"), polygon = c("#f3ecd8", "#c7d59a", "#cbbcdc"))
  colours <- character(length(dimension))
  for (d in 0:2) {
    these <- which(dimension == d)
    colours[these] <- rep_len(choices[[d + 1]], length(these))
  }
  colours
}

plain_style <- function(dimension, colour) {
  switch(dimension + 1, list(fill = colour, colour = "#ffffff", size = 2.2), list(fill = colour, colour = NA, linewidth = 0.6),
         list(fill = colour, colour = "#7b878e", linewidth = 0.25))
}

# In the key a layer looks as on the map; layers share one key, so each entry is known by its colour.
key_of_layers <- function(colours, dimension) {
  function(data, params, size) {
    switch(
      dimension[match(data$fill, colours)] + 1,
      grid::pointsGrob(0.5, 0.5, pch = 21, gp = grid::gpar(fill = data$fill, col = "#ffffff", fontsize = 9)),
      grid::segmentsGrob(0.05, 0.5, 0.95, 0.5, gp = grid::gpar(col = data$fill, lwd = 2)),
      grid::rectGrob(0.5, 0.5, 0.9, 0.7, gp = grid::gpar(fill = data$fill, col = "#7b878e", lwd = 0.6))
    )
  }
}

#' @param object,x A spatial frame, or a tiled layer.
#' @param column A column to map, or nothing.
#' @rdname plain_map
#' @method autoplot spatial_frame
#' @rawNamespace S3method(ggplot2::autoplot, spatial_frame)
autoplot.spatial_frame <- function(object, column = NULL, ...) {
  column <- rlang::enquo(column)
  object <- on_fitting_projection(object)
  map <- drawn_column(object, column, ...)
  if (is_world_wide(object)) on_globe(map) else map
}

drawn_column <- function(object, column, ...) {
  if (rlang::quo_is_null(column)) return(plain_map(object, ...))
  values <- rlang::eval_tidy(column, plain(object))
  if (is.numeric(values)) choropleth_map(object, !!column, ...) else category_map(object, !!column, ...)
}

#' @rdname plain_map
#' @export
plot.spatial_frame <- function(x, column = NULL, ...) {
  map <- autoplot.spatial_frame(x, {{ column }}, ...)
  print(map)
  invisible(map)
}

#' @rdname plain_map
#' @export
plot.tiled_layer <- function(x, column = NULL, ...) plot(for_map(x), {{ column }}, ...)

#' @rdname plain_map
#' @export
plot.shapes <- function(x, ...) plot(frame_of_columns(geometry = x), ...)

# A layer on longitude and latitude in a projection for its extent, unless shapes would be lost by it.
on_fitting_projection <- function(x) {
  if (!is_geographic(as_shapes(x)) || anyNA(box_of(x))) return(x)
  fitting <- function(measuring) quietly(tryCatch(crs_for(x, measuring), civicatlas_error = function(e) NULL))
  degrees <- degrees_extent(x, NULL)
  to <- fitting(if (degrees[3] - degrees[1] <= 6) "distance" else "area")
  if (is.null(to)) return(x)
  drawn <- silently(reproject_to(x, to))
  if (anyNA(as_shapes(drawn)[!is.na(as_shapes(x))])) return(x)
  say("Drawn on {crs_label(to)}; {.fn plain_map} and {.fn choropleth_map} keep the layer's own CRS.")
  drawn
}

# Methods that show the whole world: within the meridians 180 degrees from their own, or around a place to its antipode (or to its
# horizon).
methods_of_globe <- c("Equal Earth", "Robinson", "Mollweide", "Sinusoidal", "Lambert Cylindrical Equal Area", "Equidistant Cylindrical")
reach_of_globe <- c("Lambert Azimuthal Equal Area" = 180, "Azimuthal Equidistant" = 180, "Orthographic" = 90)

is_world_wide <- function(x) {
  crs <- crs_of(x)
  if (is.null(crs) || !isTRUE(crs$method %in% c(methods_of_globe, names(reach_of_globe)))) return(FALSE)
  extent <- box_of(x)
  diff(extent[c("xmin", "xmax")]) > 0.6 * diff(range(coordinates_of(outline_of_globe(crs))$x))
}

# Where the globe ends on the CRS, as a polygon.
outline_of_globe <- function(crs) {
  edge <- if (crs$method %in% methods_of_globe) edge_of_meridians(crs) else edge_around(crs)
  at <- core(core_transform_points((edge$longitude + 180) %% 360 - 180, edge$latitude, unclass(geographic_base(crs)), unclass(crs)))
  keep <- which(is.finite(at$x) & is.finite(at$y))
  ring <- c(keep, keep[1])
  shapes_from_wkt(sprintf("POLYGON ((%s))", paste(at$x[ring], at$y[ring], collapse = ", ")), crs)
}

parameter_of <- function(crs, name) if (name %in% names(crs$parameters)) crs$parameters[[name]] else 0

# The meridians at the sides and the poles.
edge_of_meridians <- function(crs) {
  side <- seq(-89.999, 89.999, length.out = 181)
  across <- seq(-179.9999, 179.9999, length.out = 181)
  list(longitude = parameter_of(crs, "central_meridian") + c(rep(-179.9999, 181), across, rep(179.9999, 181), rev(across)),
       latitude = c(side, rep(89.999, 181), rev(side), rep(-89.999, 181)))
}

# The places all but as far from the middle as the method reaches, on the sphere (Snyder 1987, eq. 5-5 and 5-6).
edge_around <- function(crs) {
  radians <- pi / 180
  far <- (reach_of_globe[[crs$method]] - 0.01) * radians
  bearing <- seq(0, 359) * radians
  middle <- parameter_of(crs, "latitude_of_origin") * radians
  latitude <- asin(pmax(-1, pmin(1, sin(middle) * cos(far) + cos(middle) * sin(far) * cos(bearing))))
  longitude <- atan2(sin(far) * sin(bearing), cos(middle) * cos(far) - sin(middle) * sin(far) * cos(bearing))
  list(longitude = parameter_of(crs, "central_meridian") + longitude / radians, latitude = latitude / radians)
}

# The map on the globe's outline, with a graticule between.
on_globe <- function(map) {
  crs <- map$coordinates$crs
  ink <- map_inks$light
  globe <- frame_of_columns(geometry = outline_of_globe(crs))
  map$coordinates <- map_coordinates(globe)
  map <- map + map_graticule() + shapes_layer(globe, style = list(fill = ink$water, colour = ink$faint, linewidth = 0.3), show_key = FALSE) +
    ggplot2::theme(panel.background = ggplot2::element_blank())
  n <- length(map$layers)
  map$layers <- map$layers[c(n, seq_len(n - 1))]
  map
}
