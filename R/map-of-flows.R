#' Maps of flows
#'
#' `flow_map()` draws flows as curved lines from origin to destination, their width in proportion to a value, the two
#' directions of a pair apart: each bends to the left of its way and ends in an arrowhead. `map_flows()` adds them to another map.
#'
#' @inheritParams choropleth_map
#' @param flows A spatial frame of lines from origin to destination, as of [flows_between()]. Flows within one place are left out and counted.
#' @param width The column, or expression on columns, that widths follow.
#' @param base A frame to draw below.
#' @param most Draw so many of the largest flows; how much of the total that is, is said.
#' @param widest Width of the largest flow in millimetres.
#' @param bend How far a line leaves the straight one, as a share of its length; 0 for straight lines.
#' @param colour Colour of the flows.
#' @return A ggplot; for `map_flows()` a layer to add to a map with `+`.
#' @section Errors: `civicatlas_error_argument` where shapes are no lines, or nothing is left to draw.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' trips <- read_layer(demo_file("trips.csv"))
#' flows <- flows_between(wards, trips, from, to, ward_id, trips = sum(trips))
#' flow_map(flows, trips, base = wards, most = 60)
#' @export
flow_map <- function(flows, width, base = NULL, most = 150, ..., widest = 3, bend = 0.18, colour = "#2b7391", key_title = NULL, unit = NULL,
                     title = NULL, subtitle = NULL, source = NULL) {
  need_no_more(rlang::enquos(...))
  call <- rlang::current_env()
  need_mappable(flows, call)
  layer <- flows_of(flows, rlang::enquo(width), most, widest, bend, colour, key_title, unit, call)
  map <- start_map(base %||% flows, title, subtitle, source)
  if (!is.null(base)) map <- map + shapes_layer(base, style = list(fill = map_inks$light$land, colour = "#a9b3b8", linewidth = 0.25), show_key = FALSE)
  map + layer
}

#' @rdname flow_map
#' @export
map_flows <- function(flows, width, most = 150, widest = 3, bend = 0.18, colour = "#2b7391", key_title = NULL, unit = NULL) {
  call <- rlang::current_env()
  need_mappable(flows, call)
  flows_of(flows, rlang::enquo(width), most, widest, bend, colour, key_title, unit, call)
}

flows_of <- function(flows, width, most, widest, bend, colour, key_title, unit, call) {
  values <- sizes_of(flows, width, "width", call)
  lines <- geometry_type_of(flows) %in% "line"
  points <- geometry_type_of(flows) %in% "point"
  misfits <- which(!lines & !points & !is.na(as_shapes(flows)))
  if (length(misfits)) fail("argument", "{.arg flows} must be lines; row {misfits[1]} is a {geometry_type_of(flows[misfits[1], ])}.", call = call)
  drawn <- which(lines & values > 0)
  if (!length(drawn)) fail("argument", "There is no flow to draw: no line has a value above 0.", call = call)
  drawn <- utils::head(drawn[order(-values[drawn])], most)
  rest <- sum(lines & values > 0, na.rm = TRUE) - length(drawn)
  parts <- c(paste0(format(100 * sum(values[drawn]) / sum(values[lines], na.rm = TRUE), digits = 3), " % of the total between places"),
             if (rest) paste(format_count(rest), "smaller ones left out"), if (any(points)) paste(format_count(sum(points)), "within a place left out"))
  say("{.fn flow_map}: {counted(length(drawn), 'flow')}, {paste(parts, collapse = ', ')}.")
  x <- flows[rev(drawn), ]
  x$.size <- values[rev(drawn)]
  x$.width <- widest * x$.size / max(x$.size)
  key_title <- key_title %||% rlang::as_label(width)
  structure(list(frame = x, widest = widest, bend = bend, colour = colour, unit = unit, key_title = key_title), class = "map_flow_layer")
}

#' @rawNamespace S3method(ggplot2::ggplot_add, map_flow_layer)
ggplot_add.map_flow_layer <- function(object, plot, ...) {
  frame <- on_map_crs(object$frame, plot$coordinates$crs, "map_flows", plot$coordinates$limits)
  plot$coordinates <- with_room_for_arcs(plot$coordinates, frame, object$bend)
  count_outside(frame, plot$coordinates$limits, "map_flows")
  style <- list(colour = object$colour, alpha = 0.72, bend = object$bend)
  plot + shapes_layer(frame, ggplot2::aes(width = .data$.width), style, show_key = FALSE, geom = GeomFlows) +
    flow_key(max(frame$.size), object)
}

# The view widened where arcs between places within it bulge out of it: at its middle an arc is half its bend away from the straight line.
with_room_for_arcs <- function(coordinates, frame, bend) {
  limits <- coordinates$limits
  if (is.null(limits$x)) return(coordinates)
  ends <- ends_of_lines(as_shapes(frame))
  ratio <- coordinates$ratio %||% 1
  inside <- function(x, y) x >= limits$x[1] & x <= limits$x[2] & y >= limits$y[1] & y <= limits$y[2]
  keep <- which(inside(ends$x1, ends$y1) & inside(ends$x2, ends$y2))
  middle_x <- (ends$x1 + ends$x2)[keep] / 2 - bend / 2 * (ends$y2 - ends$y1)[keep] * ratio
  middle_y <- (ends$y1 + ends$y2)[keep] / 2 + bend / 2 * (ends$x2 - ends$x1)[keep] / ratio
  margin <- 0.02 * c(diff(limits$x), diff(limits$y))
  across <- range(limits$x, middle_x - margin[1], middle_x + margin[1])
  new_coord(coordinates$crs, across, range(limits$y, middle_y - margin[2], middle_y + margin[2]), FALSE, ratio)
}

# Curved bands with an arrowhead, from the first to the last vertex of each line, `width` in millimetres.
GeomFlows <- ggplot2::ggproto(
  "GeomFlows", GeomShapes,
  required_aes = c("row", "xmin", "xmax", "ymin", "ymax", "width"),
  default_aes = utils::modifyList(GeomShapes$default_aes, ggplot2::aes(colour = "#2b7391", alpha = 0.72)),
  extra_params = c("na.rm", "shapes", "bend"),
  draw_panel = function(data, panel_params, coord, shapes, bend = 0.18) {
    ends <- ends_of_lines(shapes[data$row])
    view <- panel_view(coord, panel_params)
    grid::gTree(from = in_panel(view, ends$x1, ends$y1), to = in_panel(view, ends$x2, ends$y2), style = data, bend = bend, cl = "drawn_flows")
  }
)

ends_of_lines <- function(lines) {
  at <- coordinates_of(lines)
  first <- !duplicated(at$shape)
  last <- !duplicated(at$shape, fromLast = TRUE)
  list(x1 = at$x[first], y1 = at$y[first], x2 = at$x[last], y2 = at$y[last])
}

# Curves are worked out in millimetres of the panel, so that they bend alike in all directions.
#' @rawNamespace S3method(grid::makeContent, drawn_flows)
makeContent.drawn_flows <- function(x) {
  wide <- grid::convertWidth(grid::unit(1, "npc"), "mm", valueOnly = TRUE)
  high <- grid::convertHeight(grid::unit(1, "npc"), "mm", valueOnly = TRUE)
  style <- x$style
  bands <- lapply(seq_len(nrow(style)), function(i) {
    flow_band(c(x$from$x[i] * wide, x$from$y[i] * high), c(x$to$x[i] * wide, x$to$y[i] * high), style$width[i], x$bend)
  })
  lengths <- vapply(bands, nrow, 0L)
  points <- do.call(rbind, bands)
  id <- rep(seq_along(bands), lengths)
  band <- grob_of(
    "polygon", hover_columns(style, id), x = grid::unit(points[, 1], "mm"), y = grid::unit(points[, 2], "mm"), id = id,
    gp = grid::gpar(fill = scales::alpha(style$colour, style$alpha), col = "#ffffff", lwd = 0.35)
  )
  grid::setChildren(x, grid::gList(band))
}

# The outline of a band along a quadratic curve, with a head at its end; both ends stop a little short of the places.
flow_band <- function(from, to, width, bend) {
  along <- to - from
  length <- sqrt(sum(along^2))
  control <- (from + to) / 2 + bend * c(-along[2], along[1])
  head <- min(max(2.2, 1.6 * width), 0.4 * length)
  t <- seq(0.04, 1, length.out = 25)
  curve <- outer((1 - t)^2, from) + outer(2 * t * (1 - t), control) + outer(t^2, to)
  left <- which(sqrt(rowSums(sweep(curve, 2, to)^2)) >= head + 0.3)
  body <- curve[seq_len(max(2, max(left, 2))), , drop = FALSE]
  tangent <- rbind(diff(body), body[nrow(body), ] - body[nrow(body) - 1, ])
  normal <- cbind(-tangent[, 2], tangent[, 1]) / pmax(sqrt(rowSums(tangent^2)), 1e-9)
  neck <- body[nrow(body), ]
  across <- normal[nrow(normal), ]
  tip <- neck + (to - neck) * min(1, head / max(sqrt(sum((to - neck)^2)), 1e-9))
  half <- width / 2
  wing <- max(half * 1.7, 0.7)
  rbind(body + half * normal, neck + wing * across, tip, neck - wing * across, (body - half * normal)[rev(seq_len(nrow(body))), , drop = FALSE])
}

# Bars as wide as the flows of round values.
flow_key <- function(most, flows) {
  values <- key_values(most)
  labels <- paste0(short_numbers(values), if (!is.null(flows$unit)) paste0(" ", flows$unit))
  bars_key(flows$widest * values / most, labels, flows$colour, flows$key_title)
}
