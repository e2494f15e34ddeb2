#' Scale bar, north arrow and graticule
#'
#' Added to a map with `+`. The scale bar has the true length on the ground at the middle of the map, rounded to 1, 2 or 5 times a power of
#' ten; the arrow points to true north where it stands, which grid north is not on most projections; the graticule draws
#' meridians and parallels on the map's CRS, with their degrees at the left and lower edge.
#'
#' @param position `"bottom left"`, `"bottom right"`, `"top left"` or `"top right"`; by default a corner where the map shows little and nothing else
#'   stands.
#' @param unit Of the bar: `"m"`, `"km"`, `"mi"` or `"ft"`; by default m or km, as the length asks for.
#' @param step Degrees between the lines of the graticule; by default a round number that gives about five.
#' @param colour Colour of what is drawn; by default it stands out from the ground of the theme, whenever that is added.
#' @param size How many times as large as usual.
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
map_scale_bar <- function(position = NULL, unit = NULL, colour = NULL, size = 1) {
  call <- rlang::current_env()
  if (!is.null(unit)) one_of(unit, c("m", "km", "mi", "ft"), "unit", call = call)
  structure(c(furniture_style(position, colour, size, call), list(unit = unit)), class = "map_scale_bar")
}

furniture_style <- function(position, colour, size, call) {
  if (!is.null(position)) one_of(position, corners, "position", call = call)
  if (!is.null(colour) && !is_colour(colour)) fail("argument", "{.arg colour} is {.val {colour}}, which is not a colour.", call = call)
  if (!is_positive(size) || size > 5) fail("argument", "{.arg size} must be one number above 0, of 5 at most.", call = call)
  list(position = position, colour = colour, size = size)
}

#' @rdname map_furniture
#' @export
map_north_arrow <- function(position = NULL, colour = NULL, size = 1) {
  structure(furniture_style(position, colour, size, rlang::current_env()), class = "map_north_arrow")
}

#' @rdname map_furniture
#' @export
map_graticule <- function(step = NULL, colour = NULL, size = 1) {
  style <- furniture_style(NULL, colour, size, rlang::current_env())
  if (!is.null(step) && !is_positive(step)) fail("argument", "{.arg step} must be one number of degrees above 0.", call = rlang::current_env())
  structure(c(style, list(step = step)), class = "map_graticule")
}

# Furniture is drawn from what each panel shows, on the map's CRS: `draw(frame, ink, position)` gives a grob.
GeomFurniture <- ggplot2::ggproto(
  "GeomFurniture", ggplot2::Geom,
  extra_params = c("na.rm", "what", "draw", "corner", "ink"),
  handle_na = function(data, params) data,
  draw_panel = function(data, panel_params, coord, what, draw, corner = NULL, ink = NULL) {
    view <- panel_view(coord, panel_params)
    if (is.null(view$crs)) need_map_crs(NULL, what)
    grob <- draw(list(x = c(view$from[1], view$to[1]), y = c(view$from[2], view$to[2]), crs = view$crs), ink, corner)
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

furniture <- function(plot, what, draw, style) {
  need_map_crs(plot$coordinates$crs, what)
  plot + ggplot2::layer(
    geom = GeomFurniture, stat = "identity", position = "identity", data = data.frame(.furniture = what), mapping = NULL, inherit.aes = FALSE,
    show.legend = FALSE, check.aes = FALSE, params = list(what = what, draw = draw, corner = style$position, ink = style$colour)
  )
}

# A map's furniture with the colour that its theme asks for and, where no corner was asked for, in one that is free.
furnished <- function(plot) {
  usual <- c(map_scale_bar = "bottom left", map_north_arrow = "top right")
  taken <- taken_corners(plot)
  for (i in seq_along(plot$layers)) {
    layer <- plot$layers[[i]]
    if (!inherits(layer$geom, "GeomFurniture")) next
    params <- layer$geom_params
    params$ink <- params$ink %||% ink_on(plot)
    if (is.null(params$corner) && params$what %in% names(usual)) {
      params$corner <- free_corner(plot, usual[[params$what]], taken)
      taken <- c(taken, params$corner)
    }
    plot$layers[[i]] <- with_geom_params(layer, params)
  }
  plot
}

# A function of its own, as an object of ggplot2 looks its parent up by the name that it had.
with_geom_params <- function(layer, params) ggplot2::ggproto(NULL, layer, geom_params = params)

# The usual corner if the map shows little there, else the emptiest that is not taken.
free_corner <- function(plot, usual, taken) {
  limits <- plot$coordinates$limits
  positions <- c(usual, setdiff(corners, usual))
  if (!all(positions %in% taken)) positions <- setdiff(positions, taken)
  if (is.null(limits$x) || is.null(plot$coordinates$crs)) return(positions[1])
  covered <- covered_corners(c(0.22 * diff(limits$x), 0.12 * diff(limits$y)), plot, positions)
  positions[which.min(covered > pmin(0.1, min(covered)) + 0.02)]
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
  furniture(plot, "map_scale_bar", function(frame, ink, position) scale_bar(object, frame, ink, position), object)
}

scale_bar <- function(object, frame, ink, position) {
  metres <- metres_across(frame)
  if (!is.finite(metres)) fail("crs", "The middle of the map lies outside the domain of its CRS: no scale there.", call = NULL)
  width <- abs(diff(frame$x))
  wanted <- 0.22 * width * metres * object$size
  unit <- object$unit %||% if (wanted >= 1000) "km" else "m"
  length <- max(key_values(wanted / length_units[[unit]]))
  across <- length * length_units[[unit]] / metres / width
  left <- if (grepl("left", position)) 0.03 else 0.96 - across
  up <- if (grepl("bottom", position)) grid::unit(0.035, "npc") else grid::unit(0.965, "npc") - grid::unit(6 * object$size, "mm")
  number <- function(v) map_numbers(v, if (v == round(v)) 0 else 1)
  scale_bar_grob(left, up, across, ink, paste(number(length), unit), number(length / 2), object$size)
}

scale_bar_grob <- function(left, up, across, ink, label, half, size) {
  npc <- function(v) grid::unit(v, "npc")
  thick <- grid::unit(1.6 * size, "mm")
  text <- grid::gpar(col = ink, fontsize = 8.5 * size)
  grid::grobTree(
    grid::rectGrob(npc(left + c(0, across / 2)), up, npc(across / 2), thick, hjust = 0, vjust = 0,
                   gp = grid::gpar(fill = c(ink, under_ink(ink)), col = ink, lwd = 0.7)),
    grid::textGrob(c("0", half, label), npc(left + c(0, across / 2, across)), up + grid::unit(2.4 * size, "mm"), vjust = 0, gp = text)
  )
}

#' @rawNamespace S3method(ggplot2::ggplot_add, map_north_arrow)
ggplot_add.map_north_arrow <- function(object, plot, ...) {
  furniture(plot, "map_north_arrow", function(frame, ink, position) {
    right <- if (grepl("left", position)) 0.055 else 0.945
    up <- if (grepl("bottom", position)) 0.1 else 0.9
    north_arrow_grob(position, grid_bearing_of_north(frame, right, up), ink, object$size)
  }, object)
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

# Its middle is so far from the corner's edges that the letter is on the map, however the arrow turns.
north_arrow_grob <- function(position, degrees, ink, size) {
  room <- 11.5 * size
  at <- function(far) if (far) grid::unit(1, "npc") - grid::unit(room, "mm") else grid::unit(room, "mm")
  right <- at(grepl("right", position))
  up <- at(grepl("top", position))
  turn <- function(x, y) {
    a <- -degrees * pi / 180
    list(x = right + grid::unit(size * (x * cos(a) - y * sin(a)), "mm"), y = up + grid::unit(size * (x * sin(a) + y * cos(a)), "mm"))
  }
  left <- turn(c(0, -2.4, 0), c(5.5, -4, -2))
  rest <- turn(c(0, 2.4, 0), c(5.5, -4, -2))
  letter <- turn(0, 8)
  grid::grobTree(
    grid::polygonGrob(left$x, left$y, gp = grid::gpar(fill = ink, col = ink, lwd = 0.7)),
    grid::polygonGrob(rest$x, rest$y, gp = grid::gpar(fill = under_ink(ink), col = ink, lwd = 0.7)),
    grid::textGrob("N", letter$x, letter$y, rot = -degrees, gp = grid::gpar(col = ink, fontsize = 10 * size, fontface = "bold"))
  )
}

#' @rawNamespace S3method(ggplot2::ggplot_add, map_graticule)
ggplot_add.map_graticule <- function(object, plot, ...) {
  colour <- object$colour %||% "#8fa3ad"
  plot <- furniture(plot, "map_graticule", function(frame, ...) graticule_grob(graticule_on(frame, object$step), frame, colour, object$size), object)
  plot <- furniture(plot, "map_graticule", function(frame, ink, ...) degree_labels(frame, graticule_on(frame, object$step), ink, object$size), object)
  n <- length(plot$layers)
  plot$layers <- plot$layers[c(n - 1, seq_len(n - 2), n)]  # below the shapes
  plot
}

graticule_on <- function(frame, step) {
  extent <- degrees_of_window(frame)
  wide <- min(extent["xmax"] - extent["xmin"], 180)
  graticule_lines(extent, step %||% round_step(max(wide, extent["ymax"] - extent["ymin"]) / 5), frame$crs)
}

graticule_grob <- function(lines, frame, colour, size) {
  style <- data.frame(fill = NA, colour = colour, linewidth = 0.25 * size, linetype = 1, alpha = NA)
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
degree_labels <- function(frame, lines, ink, size) {
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
  on_any_fill(text, x, y, ink, 7.5 * size)
}

# Text with a rim of the colour that it stands out from, so that it reads on any fill.
on_any_fill <- function(text, x, y, ink, fontsize) {
  rim <- grid::unit(0.045 * fontsize, "pt") * 1.4
  around <- 2 * pi * seq_len(12) / 12
  rims <- lapply(around, function(turn) {
    grid::textGrob(text, x + cos(turn) * rim, y + sin(turn) * rim, hjust = 0, vjust = 0, gp = grid::gpar(col = under_ink(ink), fontsize = fontsize))
  })
  children <- c(rims, list(grid::textGrob(text, x, y, hjust = 0, vjust = 0, gp = grid::gpar(col = ink, fontsize = fontsize))))
  grid::gTree(children = do.call(grid::gList, children))
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
