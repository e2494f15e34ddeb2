#' Scale bar, north arrow and graticule
#'
#' Added to a map with `+`. The scale bar has the true length on the ground at the middle of the map, rounded to 1, 2 or 5 times a power of
#' ten; the arrow points to true north where it stands, which grid north is not on most projections; the graticule draws
#' meridians and parallels on the map's CRS, with their degrees at the left and lower edge.
#'
#' @param position `"bottom left"`, `"bottom right"`, `"top left"` or `"top right"`.
#' @param unit Of the bar: `"m"`, `"km"`, `"mi"` or `"ft"`; by default m or km, as the length asks for.
#' @param step Degrees between the lines of the graticule; by default a round number that gives about five.
#' @param colour Colour of the lines.
#' @return A layer to add to a map with `+`.
#' @section Errors: `civicatlas_error_crs` where the map has no CRS; `civicatlas_error_choice` for an unknown position or unit.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' plain_map(wards) + map_graticule() + map_scale_bar() + map_north_arrow()
#' @name map_furniture
NULL

corners <- c("bottom left", "bottom right", "top left", "top right")

#' @rdname map_furniture
#' @export
map_scale_bar <- function(position = "bottom left", unit = NULL) {
  call <- rlang::current_env()
  one_of(position, corners, "position", call = call)
  if (!is.null(unit)) one_of(unit, c("m", "km", "mi", "ft"), "unit", call = call)
  structure(list(position = position, unit = unit), class = "map_scale_bar")
}

#' @rdname map_furniture
#' @export
map_north_arrow <- function(position = "top right") {
  one_of(position, corners, "position", call = rlang::current_env())
  structure(list(position = position), class = "map_north_arrow")
}

#' @rdname map_furniture
#' @export
map_graticule <- function(step = NULL, colour = "#8fa3ad") {
  if (!is.null(step) && !is_positive(step)) fail("argument", "{.arg step} must be one number of degrees above 0.", call = rlang::current_env())
  structure(list(step = step, colour = colour), class = "map_graticule")
}

# Furniture is drawn from what each panel shows, on the map's CRS: `draw(frame)` gives a grob.
GeomFurniture <- ggplot2::ggproto(
  "GeomFurniture", ggplot2::Geom,
  extra_params = c("na.rm", "what", "draw"),
  handle_na = function(data, params) data,
  draw_panel = function(data, panel_params, coord, what, draw) {
    view <- panel_view(coord, panel_params)
    if (is.null(view$crs)) need_map_crs(NULL, what)
    grob <- draw(list(x = c(view$from[1], view$to[1]), y = c(view$from[2], view$to[2]), crs = view$crs))
    grid::gTree(children = grid::gList(grob), what = what, cl = "drawn_furniture")
  }
)

# On a panel of less than 6 cm there is room for the map alone.
#' @rawNamespace S3method(grid::makeContent, drawn_furniture)
makeContent.drawn_furniture <- function(x) {
  if (x$what == "map_graticule" || grid::convertWidth(grid::unit(1, "npc"), "cm", valueOnly = TRUE) >= 6) return(x)
  say("A map less than 6 cm wide has no room for {.fn {x$what}}.")
  grid::setChildren(x, grid::gList())
}

furniture <- function(plot, what, draw) {
  need_map_crs(plot$coordinates$crs, what)
  plot + ggplot2::layer(
    geom = GeomFurniture, stat = "identity", position = "identity", data = data.frame(.furniture = what), mapping = NULL, inherit.aes = FALSE,
    show.legend = FALSE, check.aes = FALSE, params = list(what = what, draw = draw)
  )
}

need_map_crs <- function(crs, what) {
  if (is.null(crs)) fail("crs", c("{.fn {what}} needs a map on a CRS; this one has none.", i = "Label the layer first with {.fn declare_crs}."), call = NULL)
}

# A place in the window, as shares of its width and height.
place_in <- function(frame, right, up) c(frame$x[1] + right * diff(frame$x), frame$y[1] + up * diff(frame$y))

# Metres on the ground for a unit of the map's x, along the ellipsoid in the middle of the map.
metres_across <- function(frame) {
  middle <- place_in(frame, 0.5, 0.5)
  reach <- 0.05 * abs(diff(frame$x))
  ends <- point_shapes(middle[1] + c(-reach, reach), rep(middle[2], 2), frame$crs)
  ends <- quietly(in_degrees(ends))
  distance_between(ends[1], ends[2]) / (2 * reach)
}

#' @rawNamespace S3method(ggplot2::ggplot_add, map_scale_bar)
ggplot_add.map_scale_bar <- function(object, plot, ...) {
  ink <- ink_on(plot)
  furniture(plot, "map_scale_bar", function(frame) scale_bar(object, frame, ink))
}

scale_bar <- function(object, frame, ink) {
  metres <- metres_across(frame)
  if (!is.finite(metres)) fail("crs", "The middle of the map lies outside the domain of its CRS: no scale there.", call = NULL)
  width <- abs(diff(frame$x))
  wanted <- 0.22 * width * metres
  unit <- object$unit %||% if (wanted >= 1000) "km" else "m"
  length <- max(key_values(wanted / length_units[[unit]]))
  across <- length * length_units[[unit]] / metres / width
  left <- if (grepl("left", object$position)) 0.03 else 0.97 - across
  up <- if (grepl("bottom", object$position)) 0.035 else 0.935
  number <- function(v) map_numbers(v, if (v == round(v)) 0 else 1)
  scale_bar_grob(left, up, across, ink, paste(number(length), unit), number(length / 2))
}

scale_bar_grob <- function(left, up, across, ink, label, half) {
  npc <- function(v) grid::unit(v, "npc")
  thick <- grid::unit(1.6, "mm")
  text <- grid::gpar(col = ink, fontsize = 8.5)
  grid::grobTree(
    grid::rectGrob(npc(left + c(0, across / 2)), npc(up), npc(across / 2), thick, hjust = 0, vjust = 0,
                   gp = grid::gpar(fill = c(ink, under_ink(ink)), col = ink, lwd = 0.7)),
    grid::textGrob(c("0", half, label), npc(left + c(0, across / 2, across)), npc(up) + grid::unit(2.4, "mm"), vjust = 0, gp = text)
  )
}

#' @rawNamespace S3method(ggplot2::ggplot_add, map_north_arrow)
ggplot_add.map_north_arrow <- function(object, plot, ...) {
  ink <- ink_on(plot)
  right <- if (grepl("left", object$position)) 0.055 else 0.945
  up <- if (grepl("bottom", object$position)) 0.1 else 0.9
  furniture(plot, "map_north_arrow", function(frame) north_arrow_grob(right, up, grid_bearing_of_north(frame, right, up), ink))
}

# Degrees clockwise from the top of the map to true north.
grid_bearing_of_north <- function(frame, right, up) {
  at <- place_in(frame, right, up)
  backwards <- sign(c(diff(frame$x), diff(frame$y)))
  here <- point_shapes(at[1], at[2], frame$crs)
  geographic <- quietly(reproject_to(here, geographic_base(frame$crs)))
  lonlat <- coordinates_of(geographic)
  if (!nrow(lonlat)) return(0)
  step <- if (lonlat$y > 89.9) -0.001 else 0.001
  north <- coordinates_of(quietly(reproject_to(point_shapes(lonlat$x, lonlat$y + step, crs_of(geographic)), frame$crs)))
  if (!nrow(north)) return(0)
  atan2((north$x - at[1]) * sign(step) * backwards[1], (north$y - at[2]) * sign(step) * backwards[2]) * 180 / pi
}

north_arrow_grob <- function(right, up, degrees, ink) {
  turn <- function(x, y) {
    a <- -degrees * pi / 180
    list(x = grid::unit(right, "npc") + grid::unit(x * cos(a) - y * sin(a), "mm"), y = grid::unit(up, "npc") + grid::unit(x * sin(a) + y * cos(a), "mm"))
  }
  left <- turn(c(0, -2.4, 0), c(5.5, -4, -2))
  rest <- turn(c(0, 2.4, 0), c(5.5, -4, -2))
  letter <- turn(0, 8)
  grid::grobTree(
    grid::polygonGrob(left$x, left$y, gp = grid::gpar(fill = ink, col = ink, lwd = 0.7)),
    grid::polygonGrob(rest$x, rest$y, gp = grid::gpar(fill = under_ink(ink), col = ink, lwd = 0.7)),
    grid::textGrob("N", letter$x, letter$y, rot = -degrees, gp = grid::gpar(col = ink, fontsize = 10, fontface = "bold"))
  )
}

#' @rawNamespace S3method(ggplot2::ggplot_add, map_graticule)
ggplot_add.map_graticule <- function(object, plot, ...) {
  plot <- furniture(plot, "map_graticule", function(frame) graticule_grob(graticule_on(frame, object$step), frame, object$colour))
  plot <- furniture(plot, "map_graticule", function(frame) degree_labels(frame, graticule_on(frame, object$step)))
  n <- length(plot$layers)
  plot$layers <- plot$layers[c(n - 1, seq_len(n - 2), n)]  # below the shapes
  plot
}

graticule_on <- function(frame, step) {
  extent <- degrees_of_window(frame)
  wide <- min(extent["xmax"] - extent["xmin"], 180)
  graticule_lines(extent, step %||% round_step(max(wide, extent["ymax"] - extent["ymin"]) / 5), frame$crs)
}

graticule_grob <- function(lines, frame, colour) {
  style <- data.frame(fill = NA, colour = colour, linewidth = 0.25, linetype = 1, alpha = NA)
  view <- list(from = c(frame$x[1], frame$y[1]), to = c(frame$x[2], frame$y[2]))
  grid::gTree(shapes = as_shapes(lines), style = style[rep(1, nrow(lines)), ], view = view, lines_by_fill = FALSE, cl = "drawn_shapes")
}

# What the window covers, in degrees, from points along its edges and within.
degrees_of_window <- function(frame) {
  at <- expand.grid(x = seq(frame$x[1], frame$x[2], length.out = 15), y = seq(frame$y[1], frame$y[2], length.out = 15))
  box_of(silently(reproject_to(point_shapes(at$x, at$y, frame$crs), geographic_base(frame$crs))))
}

# The nearest of 1, 2, 5, 10, 15, 30 degrees or a decimal part of one.
round_step <- function(wanted) {
  steps <- c(outer(c(1, 2, 5), 10^(-6:0)), 15, 30, 45)
  steps[which.min(abs(log(steps / wanted)))]
}

graticule_lines <- function(extent, step, crs) {
  multiples <- function(low, high) {
    first <- ceiling(low / step - 1e-9)
    last <- floor(high / step + 1e-9)
    if (last < first) double() else seq(first, last) * step
  }
  meridians <- multiples(extent[["xmin"]], extent[["xmax"]])
  parallels <- multiples(extent[["ymin"]], extent[["ymax"]])
  parallels <- parallels[abs(parallels) < 90]
  most <- 89.99  # some maps have no place for a pole
  if (length(meridians) && max(meridians) - min(meridians) >= 360) meridians <- utils::head(meridians, 360 / step)
  along <- function(from, to) seq(from, to, length.out = 181)
  ends <- extent[c("xmin", "xmax")] + c(-step, step)
  if (diff(ends) > 360) ends <- extent[["xmin"]] + c(0, 360)
  text <- c(
    vapply(meridians, function(at) paste(at, along(max(-most, extent["ymin"] - step), min(most, extent["ymax"] + step)), collapse = ", "), ""),
    vapply(parallels, function(at) paste(along(ends[1], ends[2]), at, collapse = ", "), "")
  )
  lines <- frame_of_columns(
    degrees = c(meridians, parallels), meridian = rep(c(TRUE, FALSE), c(length(meridians), length(parallels))),
    geometry = shapes_from_wkt(sprintf("LINESTRING (%s)", text), geographic_base(crs))
  )
  silently(reproject_to(lines, crs))
}

# Degrees where meridians meet the lower edge and parallels the left one; where they do not, as on a map of the world, at their lower or
# left end.
degree_labels <- function(frame, lines) {
  at <- coordinates_of(lines)
  crossing <- function(row) {
    p <- at[at$shape == row, ]
    meridian <- lines$meridian[row]
    along <- if (meridian) (p$y - frame$y[1]) / diff(frame$y) else (p$x - frame$x[1]) / diff(frame$x)
    across <- if (meridian) (p$x - frame$x[1]) / diff(frame$x) else (p$y - frame$y[1]) / diff(frame$y)
    if (length(along) < 2 || min(along) > 0 || max(along) < 0) return(NA_real_)
    stats::approx(along, across, 0, ties = "ordered")$y
  }
  place <- vapply(seq_len(nrow(lines)), crossing, 0)
  right <- ifelse(lines$meridian, place, 0)
  up <- ifelse(lines$meridian, 0, place)
  for (sort in c(TRUE, FALSE)) {
    rows <- which(is.na(place) & lines$meridian == sort)
    ends <- places_of_labels(frame, at, rows, sort)
    right[rows] <- ends$right
    up[rows] <- ends$up
  }
  keep <- which(right >= 0 & right < 0.97 & up >= 0 & up < 0.97 & (is.na(place) | (place > 0.03 & place < 0.97)))
  keep <- keep[apart_from_others(right[keep], up[keep])]
  if (!length(keep)) return(grid::nullGrob())
  text <- degrees_in_words(lines$degrees[keep], lines$meridian[keep])
  pad <- grid::unit(1, "mm")
  x <- grid::unit(right[keep], "npc") + pad
  y <- grid::unit(up[keep], "npc") + pad
  grid::textGrob(text, x, y, hjust = 0, vjust = 0, gp = grid::gpar(col = "#6b7f8a", fontsize = 7.5))
}

# Where in the frame, from 0 to 1, lines that do not leave it have their ends: parallels the leftmost place, meridians the lowest, or the
# farthest from the middle where their lowest places are one, the pole.
places_of_labels <- function(frame, places, rows, meridian) {
  end <- function(row, measure) {
    own <- places[places$shape == row, ]
    right <- (own$x - frame$x[1]) / diff(frame$x)
    up <- (own$y - frame$y[1]) / diff(frame$y)
    within <- which(right >= 0 & right <= 1 & up >= 0 & up <= 1)
    best <- within[which.min(measure(right[within], up[within]))]
    if (length(best)) c(right[best], up[best]) else c(NA_real_, NA_real_)
  }
  ends <- function(measure) {
    found <- vapply(rows, end, c(0, 0), measure = measure)
    list(right = found[1, ], up = found[2, ])
  }
  if (!meridian) return(ends(function(right, up) right))
  lowest <- ends(function(right, up) up)
  if (!length(rows) || diff(range(lowest$right, 0.5, na.rm = TRUE)) > 0.1) return(lowest)
  ends(function(right, up) -(right - 0.5)^2 - (up - 0.5)^2)
}

# Which labels have room beside those before them.
apart_from_others <- function(right, up) {
  kept <- integer()
  for (i in seq_along(right)) {
    if (!any(abs(right[kept] - right[i]) < 0.05 & abs(up[kept] - up[i]) < 0.035)) kept <- c(kept, i)
  }
  kept
}

degrees_in_words <- function(degrees, meridian) {
  sides <- ifelse(meridian, ifelse(degrees < 0, "W", "E"), ifelse(degrees < 0, "S", "N"))
  wrapped <- ifelse(meridian & abs(degrees) > 180, 360 - abs(degrees), abs(degrees))
  paste0(format(round(wrapped, 6), trim = TRUE, drop0trailing = TRUE), "\u00b0", ifelse(wrapped == 0, "", sides))
}
