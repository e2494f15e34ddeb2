#' Several maps on one sheet
#'
#' `side_by_side()` sets maps beside one another in the arrangement that gives them the most room: maps of one shape in panels of equal size, others in
#' rows and columns as wide and high as they need. A caption that all maps share stands once below, others under their own map;
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
  captions <- lapply(maps, function(map) map$labels$caption)
  shared <- length(unique(captions)) == 1
  theme <- whole_theme(sheet)
  head <- words_of_sheet(list(plot.title = sheet$labels$title, plot.subtitle = sheet$labels$subtitle), theme, size)
  foot <- words_of_sheet(list(plot.caption = paste(c(if (shared) captions[[1]], sheet$labels$caption), collapse = "\n")), theme, size)
  room <- size[2] - head$height - foot$height
  cells <- arrangement(vapply(maps, height_by_width, 0), size[1], room, attr(sheet, "columns"))
  columns <- length(cells$widths)
  rows <- length(cells$heights)
  column_of <- (seq_along(maps) - 1) %% columns + 1
  row_of <- (seq_along(maps) - 1) %/% columns + 1
  grobs <- lapply(seq_along(maps), function(i) {
    map <- if (shared) maps[[i]] + ggplot2::labs(caption = NULL) else maps[[i]]
    grob_of_map(map, c(cells$widths[column_of[i]], cells$heights[row_of[i]]))
  })
  if (cells$equal) grobs <- equal_layouts(grobs)
  heights <- grid::unit.c(grid::unit(head$height, "in"), grid::unit(cells$heights, "null"), grid::unit(foot$height, "in"))
  table <- gtable::gtable(grid::unit(cells$widths, "null"), heights)
  ground <- grid::rectGrob(gp = grid::gpar(fill = ggplot2::calc_element("plot.background", theme)$fill, col = NA))
  table <- gtable::gtable_add_grob(table, ground, 1, 1, rows + 2, columns)
  table <- gtable::gtable_add_grob(table, list(head$grob, foot$grob), c(1, rows + 2), 1, c(1, rows + 2), columns)
  for (i in seq_along(grobs)) table <- gtable::gtable_add_grob(table, grobs[[i]], row_of[i] + 1, column_of[i])
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

height_by_width <- function(map) {
  limits <- map$coordinates$limits
  if (is.null(limits$x)) 0.7 else (map$coordinates$ratio %||% 1) * diff(limits$y) / diff(limits$x)
}

# As many columns as give maps of one shape the most room.
fitting_columns <- function(map, n, width, height) length(arrangement(rep(height_by_width(map), n), width, height)$widths)

# The widths of columns and heights of rows that give maps, each so `tall` for its width, the most room: equal ones, columns as wide as their maps ask for
# at equal heights, or rows as high as theirs ask for. Part of the width is left to keys.
arrangement <- function(tall, width, height, columns = NULL) {
  n <- length(tall)
  best <- NULL
  for (across in min(n, columns %||% seq_len(n))[1]:min(n, columns %||% n)) {
    down <- ceiling(n / across)
    column_of <- (seq_len(n) - 1) %% across + 1
    row_of <- (seq_len(n) - 1) %/% across + 1
    wide <- vapply(split(1 / tall, column_of), max, 0)
    high <- vapply(split(tall, row_of), max, 0)
    ways <- list(list(rep(1, across), rep(1, down)), list(0.3 * mean(wide) + wide, rep(1, down)), list(rep(1, across), 0.1 * mean(high) + high))
    for (k in seq_along(ways)) {
      widths <- width * ways[[k]][[1]] / sum(ways[[k]][[1]])
      heights <- height * ways[[k]][[2]] / sum(ways[[k]][[2]])
      drawn <- pmin(0.8 * widths[column_of], heights[row_of] / tall)
      room <- min(drawn * sqrt(tall)) + 0.1 * mean(drawn * sqrt(tall))
      if (is.null(best) || room > 1.001 * best$room) best <- list(widths = unname(widths), heights = unname(heights), room = room, equal = k == 1)
    }
  }
  best
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

# The same room for titles and keys in every map, so that the panels are equal; these keep their proportions, and layouts that differ stay as they are.
equal_layouts <- function(grobs) {
  for (part in c("widths", "heights")) {
    sizes <- lapply(grobs, `[[`, part)
    if (length(unique(lengths(sizes))) > 1) next
    fixed <- Reduce(`&`, lapply(sizes, function(size) !grepl("null", as.character(size), fixed = TRUE)))
    most <- do.call(grid::unit.pmax, lapply(sizes, function(size) size[fixed]))
    grobs <- lapply(grobs, function(grob) {
      grob[[part]][fixed] <- most
      grob
    })
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
  if (missing(after)) layer_is_missing("after", call)
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
  position <- object$position %||% emptiest_corner(box, plot, taken_corners(plot))
  if (is.null(position)) {
    plot$coordinates <- widened(plot$coordinates, box[1])
    limits <- plot$coordinates$limits
    position <- "bottom right"
  }
  at <- corner_box(box, position, limits)
  plot <- plot + ggplot2::annotation_custom(grob_of_map(inset), at[1], at[3], at[2], at[4])
  structure(plot, inset_corners = c(attr(plot, "inset_corners"), position))
}

# Corners in which something stands that was put there.
taken_corners <- function(plot) {
  asked <- lapply(plot$layers, function(layer) layer$geom_params$corner)
  c(attr(plot, "inset_corners"), unlist(asked))
}

# The wider area in pale, with the extent of the map marked on it.
overview_map <- function(frame, plot) {
  before <- sum(is.na(as_shapes(frame)))
  frame <- silently(on_map_crs(frame, plot$coordinates$crs, "map_inset", plot$coordinates$limits))
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
emptiest_corner <- function(box, plot, taken = NULL) {
  covered <- covered_corners(box, plot, setdiff(corners[c(2, 1, 4, 3)], taken))
  if (length(covered) && min(covered) <= 0.02) names(covered)[which.min(covered)]
}

# How much of the boxes in corners the map's shapes cover, from 0 to 1.
covered_corners <- function(box, plot, positions) {
  vapply(positions, function(position) {
    at <- corner_box(box, position, plot$coordinates$limits)
    places <- expand.grid(x = seq(at[1], at[3], length.out = 12), y = seq(at[2], at[4], length.out = 12))
    places <- point_shapes(places$x, places$y, plot$coordinates$crs)
    met <- lapply(plot$layers, function(layer) {
      shapes <- layer$geom_params$shapes
      if (is.null(shapes)) NULL else quietly(find_pairs(places, shapes, "intersects"))$x
    })
    length(unique(unlist(met))) / length(places)
  }, 0)
}

# The view with room for an inset at its right.
widened <- function(coordinates, by) {
  wide <- coordinates$limits$x
  new_coord(coordinates$crs, c(wide[1], wide[2] + 1.08 * by), coordinates$limits$y, FALSE, coordinates$ratio)
}
