#' Several maps on one sheet
#'
#' `side_by_side()` sets maps beside one another in panels of equal size. `before_and_after()` maps one variable of two states of a
#' layer on common breaks, so that equal colours are equal values. `map_inset()` puts a small map of a wider area in a corner, with
#' the extent of the map marked on it.
#'
#' @param ... Maps, that is ggplots; for `before_and_after()` further arguments of [choropleth_map()].
#' @param columns How many maps stand in a row.
#' @param title Text above the sheet.
#' @return `side_by_side()`: a sheet, which prints and goes into [save_map()]; `before_and_after()`: a ggplot; `map_inset()`: a layer to add with
#'   `+`.
#' @section Errors: `civicatlas_error_argument` for what is no map.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' side_by_side(choropleth_map(wards, residents), choropleth_map(wards, over_65 / residents, palette = "ember"))
#' before_and_after(wards, dplyr::mutate(wards, residents = residents * 1.2), residents)
#' @export
side_by_side <- function(..., columns = NULL, title = NULL) {
  maps <- rlang::list2(...)
  if (!length(maps) || !all(vapply(maps, ggplot2::is_ggplot, NA))) fail("argument", "Every map of the sheet must be a ggplot.", call = rlang::current_env())
  structure(list(maps = maps, columns = min(columns %||% ceiling(sqrt(length(maps))), length(maps)), title = title), class = "map_sheet")
}

#' @export
print.map_sheet <- function(x, ...) {
  grid::grid.newpage()
  grid::grid.draw(sheet_grob(x))
  invisible(x)
}

sheet_grob <- function(sheet) {
  grobs <- equal_layouts(lapply(sheet$maps, grob_of_map))
  rows <- ceiling(length(grobs) / sheet$columns)
  heights <- grid::unit(rep(1, rows), "null")
  if (!is.null(sheet$title)) heights <- grid::unit.c(grid::unit(11, "mm"), heights)
  table <- gtable::gtable(grid::unit(rep(1, sheet$columns), "null"), heights, respect = FALSE)
  table <- gtable::gtable_add_grob(table, grid::rectGrob(gp = grid::gpar(fill = map_inks$light$paper, col = NA)), 1, 1, length(heights), sheet$columns)
  first <- 0
  if (!is.null(sheet$title)) {
    first <- 1
    title <- grid::textGrob(sheet$title, grid::unit(4, "mm"), 0.4, hjust = 0, gp = grid::gpar(fontsize = 16, fontface = "bold", col = map_inks$light$ink))
    table <- gtable::gtable_add_grob(table, title, 1, 1, 1, sheet$columns)
  }
  for (i in seq_along(grobs)) {
    table <- gtable::gtable_add_grob(table, grobs[[i]], first + (i - 1) %/% sheet$columns + 1, (i - 1) %% sheet$columns + 1)
  }
  table
}

# A map as a grob; working out its sizes takes a device, which is not to leave a file behind.
grob_of_map <- function(map) {
  if (is.null(grDevices::dev.list())) {
    grDevices::pdf(NULL)
    on.exit(grDevices::dev.off())
  }
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

#' @param x A spatial frame of the wider area.
#' @param position See [map_scale_bar()].
#' @param size Width of the inset as a share of the map's.
#' @rdname side_by_side
#' @export
map_inset <- function(x, position = "bottom right", size = 0.25) {
  call <- rlang::current_env()
  need_mappable(x, call)
  one_of(position, corners, "position", call = call)
  if (!is_positive(size) || size > 0.6) fail("argument", "{.arg size} must be a share above 0, of 0.6 at most.", call = call)
  structure(list(frame = x, position = position, size = size), class = "map_inset")
}

#' @rawNamespace S3method(ggplot2::ggplot_add, map_inset)
ggplot_add.map_inset <- function(object, plot, ...) {
  coordinates <- plot$coordinates
  frame <- quietly(on_map_crs(object$frame, coordinates$crs, "map_inset"))
  limits <- coordinates$limits
  ink <- map_inks$light
  inset <- ggplot2::ggplot() + map_coordinates(frame) +
    shapes_layer(frame, style = list(fill = "#d9d5c6", colour = NA), show_key = FALSE) +
    ggplot2::annotate("rect", xmin = limits$x[1], xmax = limits$x[2], ymin = limits$y[1], ymax = limits$y[2], fill = NA, colour = "#b3443f", linewidth = 0.5) +
    ggplot2::theme_void() + ggplot2::theme(panel.background = ggplot2::element_rect(fill = ink$water, colour = ink$faint, linewidth = 0.4))
  wide <- diff(limits$x)
  high <- diff(limits$y)
  box <- map_coordinates(frame)$limits
  across <- object$size * wide
  up <- min(object$size * 1.6 * high, across * diff(box$y) / diff(box$x))
  across <- up * diff(box$x) / diff(box$y)
  left <- if (grepl("left", object$position)) limits$x[1] + 0.02 * wide else limits$x[2] - 0.02 * wide - across
  low <- if (grepl("bottom", object$position)) limits$y[1] + 0.02 * high else limits$y[2] - 0.02 * high - up
  plot + ggplot2::annotation_custom(grob_of_map(inset), left, left + across, low, low + up)
}
