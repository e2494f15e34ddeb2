#' Maps of categories
#'
#' `category_map()` fills each shape by its category; lines and points are coloured by it. A category keeps its colour on all maps of a
#' session: it is given the next free colour when it is first drawn. `category_colours()` gives the colours by name, to pass on
#' in a script as `colours`.
#'
#' @inheritParams choropleth_map
#' @param fill The column of categories, or an expression on columns.
#' @param colours Colours named by category, for some or all of them.
#' @param palette See [map_colours()]; the ten colours of `"quay"` by default.
#' @return `category_map()`: a ggplot. `category_colours()`: colours named by category.
#' @section Errors: `civicatlas_error_column` where the column is not there, `civicatlas_error_argument` for more categories than the palette has
#'   colours, with those that are few and could be put together.
#' @examples
#' rooms <- read_layer(demo_file("rooms.geojson"))
#' category_map(rooms, kind)
#' @export
category_map <- function(x, fill, colours = NULL, palette = "quay", counts = FALSE, panels = NULL, title = NULL, subtitle = NULL, key_title = NULL,
                         source = NULL, outline = "#ffffff") {
  call <- rlang::current_env()
  need_mappable(x, call)
  given <- rlang::enquo(fill)
  values <- category_values(x, given, call)
  x$.category <- values
  x <- with_panel(x, rlang::enquo(panels), call)
  present <- levels(droplevels(values))
  colours <- category_colours(present, colours, palette)
  missing <- sum(is.na(values))
  if (missing) {
    x$.category <- factor(ifelse(is.na(values), no_data, as.character(values)), levels = c(levels(values), no_data))
    present <- c(present, no_data)
    colours <- c(colours, stats::setNames(no_data_colour(), no_data))
  }
  sizes <- as.vector(table(x$.category)[present])
  shown <- if (counts) paste0(present, "  (", format_count(sizes), ")") else present
  kinds <- counted(length(present) - (missing > 0), "category", "categories")
  say("{.fn category_map}: {counted(nrow(x), 'shape')} in {kinds}{if (missing) paste0('; ', missing, ' without data (grey)')}.")
  polygons <- all(shape_dimension(as_shapes(x)) == 2, na.rm = TRUE)
  style <- if (polygons) list(colour = outline, linewidth = 0.15) else list(linewidth = 0.7, size = 2.6, colour = if (all_points(x)) "#26323c" else NA)
  key <- if (polygons) ggplot2::draw_key_polygon else key_of_lines_and_points(x)
  start_map(x, title, subtitle, source) +
    shapes_layer(x, ggplot2::aes(fill = .data$.category), style, show_key = TRUE, key = key) +
    ggplot2::scale_fill_manual(values = colours, limits = present, breaks = present, labels = stats::setNames(shown, present), drop = FALSE) +
    ggplot2::labs(fill = key_title %||% rlang::as_label(given)) + panel_facets(x)
}

category_values <- function(x, quosure, call) {
  values <- column_values(x, quosure, "fill", call)
  if (length(values) != nrow(x)) fail("column", "{.arg fill} must give a category for each of the {nrow(x)} rows, not {length(values)}.", call = call)
  if (is.factor(values)) values else factor(values)
}

#' @param categories Names of categories.
#' @rdname category_map
#' @export
category_colours <- function(categories, colours = NULL, palette = "quay") {
  call <- rlang::current_env()
  categories <- if (is.factor(categories)) levels(categories) else as.character(unique(stats::na.omit(categories)))
  known <- known_colours(palette, call)
  rest <- setdiff(categories, names(colours))
  free <- setdiff(seq_along(palette_of_categories(palette)), known[rest])
  new <- setdiff(rest, names(known))
  # Colours of categories that are not on this map are free on it.
  if (length(new) > length(free)) {
    fail("argument", c("There are {length(categories)} categories, and the palette {.val {palette}} has {length(palette_of_categories(palette))} colours.",
                       i = "Put rare ones together, or name colours with {.arg colours}."), call = call)
  }
  unused <- setdiff(free, known)
  places <- c(unused, setdiff(free, unused))[seq_along(new)]
  known[new] <- places
  category_memory[[palette]] <- known
  c(colours[intersect(categories, names(colours))], stats::setNames(palette_of_categories(palette)[known[rest]], rest))[categories]
}

# Which colour of a palette each category was given in this session.
category_memory <- new.env(parent = emptyenv())
known_colours <- function(palette, call) {
  one_of(palette, names(palettes), "palette", call = call)
  category_memory[[palette]] %||% stats::setNames(integer(), character())
}
palette_of_categories <- function(palette) if (palette == "quay") palettes$quay else map_colours(8, palette)

# 0 for points, 1 for lines, 2 for polygons and collections.
shape_dimension <- function(shapes) {
  c(point = 0, multipoint = 0, line = 1, multiline = 1, polygon = 2, multipolygon = 2, collection = 2)[geometry_type_of(shapes)]
}

all_points <- function(x) all(shape_dimension(as_shapes(x)) == 0, na.rm = TRUE)

# Keys of points and lines look like what they stand for, in the fill's colour.
key_of_lines_and_points <- function(x) {
  points <- all_points(x)
  function(data, params, size) {
    if (points) {
      return(grid::pointsGrob(0.5, 0.5, pch = 21, gp = grid::gpar(fill = data$fill, col = "#26323c", fontsize = 10, lwd = 0.8)))
    }
    grid::segmentsGrob(0.1, 0.5, 0.9, 0.5, gp = grid::gpar(col = data$fill, lwd = 3, lineend = "round"))
  }
}
