#' @include map-plot.R
NULL

#' Several maps on one sheet
#'
#' `side_by_side()` sets maps beside one another in panels of equal size, in as many columns as fill the sheet, their captions once below;
#' themes and titles added to it with `+` hold for all. `before_and_after()` maps one variable of two states of a
#' layer on common breaks, so that equal colours are equal values. `map_inset()` puts a small map of a wider area in a corner, with
#' the extent of the map marked on it.
#'
#' @param ... Maps, that is ggplots; for `before_and_after()` further arguments of [choropleth_map()].
#' @param columns How many maps stand in a row; by default as many as give them the most room.
#' @param title Text above the sheet.
#' @return `side_by_side()`: a sheet, which prints and goes into [save_map()] and [interactive_map()]; `before_and_after()`: a ggplot;
#'   `map_inset()`: a layer to add with `+`.
#' @section Errors: `civicatlas_error_argument` for what is no map.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' side_by_side(choropleth_map(wards, residents), choropleth_map(wards, over_65 / residents, palette = "ember"))
#' before_and_after(wards, dplyr::mutate(wards, residents = residents * 1.2), residents)
#' @export
side_by_side <- function(..., columns = NULL, title = NULL) {
  call <- rlang::current_env()
  maps <- rlang::list2(...)
  if (!length(maps) || !all(vapply(maps, ggplot2::is_ggplot, NA))) fail("argument", "Every map of the sheet must be a ggplot.", call = call)
  if (!is.null(columns) && !is_count(columns, 1, 20)) fail("argument", "{.arg columns} must be a whole number from 1 to 20.", call = call)
  # The sheet is a ggplot itself, so that themes and titles can be added to it.
  sheet <- ggplot2::ggplot() + map_theme() + ggplot2::labs(title = title)
  structure(sheet, maps = maps, columns = columns, class = c("map_sheet", class(sheet)))
}

#' @export
print.map_sheet <- function(x, ...) {
  grid::grid.newpage()
  grid::grid.draw(sheet_grob(x))
  invisible(x)
}

#' @rawNamespace S3method(grid::grid.draw, map_sheet)
grid.draw.map_sheet <- function(x, recording = TRUE) print.map_sheet(x)

# The maps in rows of cells that fill the sheet, below its title and above their captions, each once.
sheet_grob <- function(sheet, size = sheet_size()) {
  maps <- lapply(attr(sheet, "maps"), function(map) map + added_theme(sheet))
  captions <- unique(unlist(lapply(maps, function(map) map$labels$caption)))
  captions <- if (length(captions)) unique(unlist(strsplit(captions, "\n|(?<=[.]) (?=CRS: )", perl = TRUE)))
  theme <- whole_theme(sheet)
  head <- words_of_sheet(list(plot.title = sheet$labels$title, plot.subtitle = sheet$labels$subtitle), theme, size)
  foot <- words_of_sheet(list(plot.caption = paste(c(captions, sheet$labels$caption), collapse = "\n")), theme, size)
  room <- size[2] - head$height - foot$height
  columns <- min(attr(sheet, "columns") %||% fitting_columns(maps, size[1], room), length(maps))
  rows <- ceiling(length(maps) / columns)
  cell <- c(size[1] / columns, room / rows)
  grobs <- equal_layouts(lapply(maps, function(map) grob_of_map(map + ggplot2::labs(caption = NULL), cell)))
  heights <- grid::unit.c(grid::unit(head$height, "in"), grid::unit(rep(1, rows), "null"), grid::unit(foot$height, "in"))
  table <- gtable::gtable(grid::unit(rep(1, columns), "null"), heights)
  ground <- grid::rectGrob(gp = grid::gpar(fill = ggplot2::calc_element("plot.background", theme)$fill, col = NA))
  table <- gtable::gtable_add_grob(table, ground, 1, 1, rows + 2, columns)
  table <- gtable::gtable_add_grob(table, list(head$grob, foot$grob), c(1, rows + 2), 1, c(1, rows + 2), columns)
  for (i in seq_along(grobs)) table <- gtable::gtable_add_grob(table, grobs[[i]], (i - 1) %/% columns + 2, (i - 1) %% columns + 1)
  table
}

sheet_size <- function() if (is.null(grDevices::dev.list())) c(11, 7) else grDevices::dev.size("in")

# What was added to the sheet's theme: its maps take it over their own.
added_theme <- function(sheet) {
  plain <- map_theme()
  changed <- names(sheet$theme)[!vapply(names(sheet$theme), function(name) identical(sheet$theme[[name]], plain[[name]]), NA)]
  do.call(ggplot2::theme, unclass(sheet$theme)[changed])
}

# Texts one below the other, in lines that fit, as a grob and its height in inches.
words_of_sheet <- function(texts, theme, size) {
  texts <- Filter(function(text) is.character(text) && any(nzchar(text)), texts)
  if (!length(texts)) return(list(grob = grid::nullGrob(), height = 0))
  elements <- lapply(names(texts), ggplot2::calc_element, theme)
  lines <- Map(in_lines, texts, elements, size[1] - 0.35)
  heights <- vapply(seq_along(lines), function(i) text_height(lines[[i]], elements[[i]]), 0)
  tops <- sum(heights) - cumsum(c(0, heights[-length(heights)]))
  grobs <- Map(function(text, element, top) {
    grid::textGrob(text, grid::unit(12, "pt"), grid::unit(top, "in") - grid::unit(6, "pt"), hjust = 0, vjust = 1,
                   gp = grid::gpar(fontsize = element$size, fontface = element$face, col = element$colour, lineheight = element$lineheight))
  }, lines, elements, tops)
  list(grob = do.call(grid::grobTree, unname(grobs)), height = sum(heights) + 0.08)
}

# As many columns as give the maps the most room for their proportions.
fitting_columns <- function(maps, width, height) {
  limits <- maps[[1]]$coordinates$limits
  ratio <- maps[[1]]$coordinates$ratio %||% 1
  tall <- if (is.null(limits$x)) 0.7 else ratio * diff(limits$y) / diff(limits$x)
  n <- length(maps)
  room <- vapply(seq_len(n), function(columns) min(0.8 * width / columns, height / ceiling(n / columns) / tall), 0)
  which.max(round(room, 6))
}

# A map as a grob, its texts fitted to a cell; working out its sizes takes a device, which is not to leave a file behind.
grob_of_map <- function(map, cell = NULL) {
  if (is.null(grDevices::dev.list())) {
    grDevices::pdf(NULL)
    on.exit(grDevices::dev.off())
  }
  drawing$cell <- cell
  on.exit(drawing$cell <- NULL, add = TRUE)
  ggplot2::ggplotGrob(map)
}

# The same room for titles and keys in every map, so that the panels are equal; where layouts differ they stay as they are.
equal_layouts <- function(grobs) {
  same <- function(part) length(unique(vapply(grobs, function(grob) length(grob[[part]]), 0L))) == 1
  if (same("widths")) {
    widths <- do.call(grid::unit.pmax, lapply(grobs, `[[`, "widths"))
    grobs <- lapply(grobs, function(grob) `[[<-`(grob, "widths", value = widths))
  }
  if (same("heights")) {
    heights <- do.call(grid::unit.pmax, lapply(grobs, `[[`, "heights"))
    grobs <- lapply(grobs, function(grob) `[[<-`(grob, "heights", value = heights))
  }
  grobs
}

#' @param before,after Spatial frames with the column `fill`.
#' @param fill The column to map, or an expression on columns.
#' @param labels Names of the two states.
#' @rdname side_by_side
#' @export
before_and_after <- function(before, after, fill, ..., labels = c("Before", "After")) {
  call <- rlang::current_env()
  need_mappable(before, call)
  need_mappable(after, call)
  fill <- rlang::enquo(fill)
  if (length(labels) != 2) fail("argument", "{.arg labels} must be two names.", call = call)
  check_same_crs(before, after, "before", "after", call = call)
  both <- frame_of_columns(
    .value = c(map_values(before, fill, call), map_values(after, fill, call)), .state = factor(rep(labels, c(nrow(before), nrow(after))), levels = labels),
    geometry = vctrs::vec_c(as_shapes(before), as_shapes(after))
  )
  arguments <- list(...)
  if (is.null(arguments$key_title)) arguments$key_title <- rlang::as_label(fill)
  rlang::inject(choropleth_map(both, .data$.value, panels = ".state", !!!arguments))
}

#' @param x A spatial frame of the wider area, or a map of what lies elsewhere, which is drawn as it is.
#' @param position See [map_scale_bar()]; by default the emptiest corner, or a margin to the right where none is empty.
#' @param size Width of the inset as a share of the map's.
#' @rdname side_by_side
#' @export
map_inset <- function(x, position = NULL, size = 0.25) {
  call <- rlang::current_env()
  if (!ggplot2::is_ggplot(x)) need_mappable(x, call)
  if (!is.null(position)) one_of(position, corners, "position", call = call)
  if (!is_positive(size) || size > 0.6) fail("argument", "{.arg size} must be a share above 0, of 0.6 at most.", call = call)
  structure(list(what = x, position = position, size = size), class = "map_inset")
}

#' @rawNamespace S3method(ggplot2::ggplot_add, map_inset)
ggplot_add.map_inset <- function(object, plot, ...) {
  limits <- plot$coordinates$limits
  if (is.null(limits$x)) fail("argument", "{.fn map_inset} needs a map of this package, whose extent is known.", call = NULL)
  inset <- if (ggplot2::is_ggplot(object$what)) bare_map(object$what) else overview_map(object$what, plot)
  box <- inset_box(inset, object$size, plot$coordinates)
  position <- object$position %||% emptiest_corner(box, plot)
  if (is.null(position)) {
    plot$coordinates <- widened(plot$coordinates, box[1])
    limits <- plot$coordinates$limits
    position <- "bottom right"
  }
  at <- corner_box(box, position, limits)
  plot + ggplot2::annotation_custom(grob_of_map(inset), at[1], at[3], at[2], at[4])
}

# The wider area in pale, with the extent of the map marked on it.
overview_map <- function(frame, plot) {
  before <- sum(is.na(as_shapes(frame)))
  frame <- silently(on_map_crs(frame, plot$coordinates$crs, "map_inset"))
  lost <- sum(is.na(as_shapes(frame))) - before
  if (lost > 0) {
    crs <- crs_label(plot$coordinates$crs)
    fail("argument", c("{counted(lost, 'shape')} of the wider area {cli::qty(lost)}{?lies/lie} outside the domain of the map's CRS, {crs}.",
                       i = "Give a map of it on a CRS of its own: {.code map_inset(plain_map(x))}."), call = NULL)
  }
  limits <- plot$coordinates$limits
  bare_map(
    ggplot2::ggplot() + map_coordinates(frame) + shapes_layer(frame, style = list(fill = "#d9d5c6", colour = NA), show_key = FALSE) +
      ggplot2::annotate("rect", xmin = limits$x[1], xmax = limits$x[2], ymin = limits$y[1], ymax = limits$y[2], fill = NA, colour = "#b3443f", linewidth = 0.5)
  )
}

# Without the words around it.
bare_map <- function(map) {
  ink <- map_inks$light
  map + ggplot2::labs(title = NULL, subtitle = NULL, caption = NULL) + ggplot2::theme_void() +
    ggplot2::theme(panel.background = ggplot2::element_rect(fill = ink$water, colour = ink$faint, linewidth = 0.4), legend.position = "none")
}

# Width and height of an inset in the units of the map, in its own proportions.
inset_box <- function(inset, size, coordinates) {
  own <- inset$coordinates$limits
  tall <- diff(own$y) * (inset$coordinates$ratio %||% 1) / diff(own$x)
  across <- size * diff(coordinates$limits$x)
  full <- across * tall / (coordinates$ratio %||% 1)
  up <- min(full, 1.6 * size * diff(coordinates$limits$y))
  c(across * up / full, up)
}

corner_box <- function(box, position, limits) {
  wide <- diff(limits$x)
  high <- diff(limits$y)
  left <- if (grepl("left", position)) limits$x[1] + 0.02 * wide else limits$x[2] - 0.02 * wide - box[1]
  low <- if (grepl("bottom", position)) limits$y[1] + 0.02 * high else limits$y[2] - 0.02 * high - box[2]
  unname(c(left, low, left + box[1], low + box[2]))
}

# The corner where the map shows least, NULL where each shows much.
emptiest_corner <- function(box, plot) {
  covered <- vapply(corners[c(2, 1, 4, 3)], function(position) {
    at <- corner_box(box, position, plot$coordinates$limits)
    places <- expand.grid(x = seq(at[1], at[3], length.out = 12), y = seq(at[2], at[4], length.out = 12))
    places <- point_shapes(places$x, places$y, plot$coordinates$crs)
    met <- lapply(plot$layers, function(layer) {
      shapes <- layer$geom_params$shapes
      if (is.null(shapes)) NULL else quietly(find_pairs(places, shapes, "intersects"))$x
    })
    length(unique(unlist(met))) / length(places)
  }, 0)
  if (min(covered) <= 0.02) names(covered)[which.min(covered)]
}

# The view with room for an inset at its right.
widened <- function(coordinates, by) {
  wide <- coordinates$limits$x
  new_coord(coordinates$crs, c(wide[1], wide[2] + 1.08 * by), coordinates$limits$y, FALSE, coordinates$ratio)
}
