#' Maps of categories
#'
#' `category_map()` fills each shape by its category; lines and points are coloured by it. A category keeps its colour on all maps of a
#' session: it is given the next free colour when it is first drawn. Categories that say nothing, as `"none"`, `"other"` or `"not
#' significant"`, are grey; the classes of [local_clusters()] have colours of their own; the levels of an ordered factor run from light
#' to dark. `category_colours()` gives the colours by name, to pass on in a script as `colours`.
#'
#' @inheritParams choropleth_map
#' @param fill The column of categories, or an expression on columns.
#' @param colours Colours named by category, for some or all of them.
#' @param palette See [map_colours()]; the ten colours of `"quay"` by default, for ordered levels `"harbour"`.
#' @param most How many categories have a colour of their own, as far as the palette has so many; rarer ones are put together as
#'   `"other"`, which is said.
#' @return `category_map()`: a ggplot. `category_colours()`: colours named by category.
#' @section Errors: `civicatlas_error_column` where the column is not there, `civicatlas_error_argument` for more categories than the palette has
#'   colours in `category_colours()`.
#' @examples
#' rooms <- read_layer(demo_file("rooms.geojson"))
#' category_map(rooms, kind)
#' @export
category_map <- function(x, fill, colours = NULL, ..., palette = NULL, most = 10, panels = NULL, key_title = NULL, counts = FALSE,
                         title = NULL, subtitle = NULL, source = NULL, outline = "#ffffff", linewidth = NULL, size = 2.6) {
  need_no_more(rlang::enquos(...))
  call <- rlang::current_env()
  x <- for_map(x)
  need_mappable(x, call)
  given <- rlang::enquo(fill)
  if (!is_count(most, 2, 40)) fail("argument", "{.arg most} must be a whole number from 2 to 40, not {.val {most}}.", call = call)
  values <- category_values(x, given, call)
  ordered <- is.ordered(values)
  values <- together(values, if (ordered) Inf else min(most, length(palette_of_categories(palette %||% "quay"))), colours)
  x$.category <- values
  x <- with_panel(x, rlang::enquo(panels), call)
  present <- levels(values)
  colours <- if (ordered) ordered_colours(present, colours, palette %||% "harbour") else category_colours(present, colours, palette %||% "quay")
  missing <- sum(is.na(values))
  kinds <- counted(length(present), "category", "categories")
  say("{.fn category_map}: {counted(nrow(x), 'shape')} in {kinds}{if (missing) paste0('; ', missing, ' without data (grey)')}.")
  entries <- c(present, if (missing) NA)
  shown <- shown_labels(present, as.vector(table(values)), missing, counts)
  start_map(x, title, subtitle, source) +
    filled_layer(x, ggplot2::aes(fill = .data$.category), filled_style(x, outline, linewidth, size), show_key = TRUE) +
    ggplot2::scale_fill_manual(values = colours, limits = entries, breaks = entries, labels = unname(shown[c(present, if (missing) no_data)]), drop = FALSE,
                               na.value = no_data_colour()) +
    ggplot2::labs(fill = key_title %||% rlang::as_label(given)) + panel_facets(x)
}

# Rare categories under one name where there are more than have colours; those with given colours stay.
together <- function(values, most, colours) {
  values <- droplevels(values)
  sizes <- sort(table(values), decreasing = TRUE)
  free <- setdiff(names(sizes), c(names(colours), neutral_categories, names(cluster_colours)))
  if (length(free) <= most) return(values)
  rare <- free[-seq_len(most - 1)]
  say(c("!" = "{length(rare)} rare categories are shown as {.val other}: {first_of(rare)}."))
  levels <- levels(values)
  levels[levels %in% rare] <- "other"
  out <- factor(levels[as.integer(values)], levels = c(setdiff(levels, "other"), "other"))
  droplevels(out)
}

# Categories that say that there is nothing to say.
neutral_categories <- c("none", "not significant", "other", "others", "unknown", "not classified", "n/a")
neutral_colour <- "#e2e2e0"
other_colour <- "#8b8173"  # what is drawn together is data, unlike the grey of none

# The classes of local_clusters(): warm for high values, cool for low ones, pale where neighbours differ.
cluster_colours <- c("high among high" = "#c96f33", "low among low" = "#2f7f9e", "high among low" = "#efb97c", "low among high" = "#93c4cb",
                     high = "#c96f33", low = "#2f7f9e")

# From light to dark along a palette of amounts.
ordered_colours <- function(levels, colours, palette) {
  shades <- if (length(levels) <= 12) map_colours(length(levels), palette) else own_colours(length(levels), map_colours(12, palette), FALSE, NULL)
  shades <- stats::setNames(shades, levels)
  replace(shades, intersect(names(colours), levels), colours[intersect(names(colours), levels)])
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
  clusters <- if (all(categories %in% c(names(cluster_colours), neutral_categories))) cluster_colours
  fixed <- c(colours, clusters, stats::setNames(ifelse(neutral_categories %in% c("other", "others"), other_colour, neutral_colour), neutral_categories))
  fixed <- fixed[!duplicated(names(fixed))]
  rest <- setdiff(categories, names(fixed))
  c(fixed[intersect(categories, names(fixed))], remembered_colours(rest, palette, call))[categories]
}

# Each category has the colour it had before, a new one the next that is free.
remembered_colours <- function(categories, palette, call) {
  need_palette(palette, call)
  shades <- palette_of_categories(palette)
  memory <- paste(palette, collapse = " ")
  known <- category_memory[[memory]] %||% stats::setNames(integer(), character())
  free <- setdiff(seq_along(shades), known[categories])
  new <- setdiff(categories, names(known))
  # Colours of categories that are not on this map are free on it.
  if (length(new) > length(free)) {
    fail("argument", c("There are {length(categories)} categories, and the palette has {length(shades)} colours.",
                       i = "Put rare ones together, or name colours with {.arg colours}."), call = call)
  }
  unused <- setdiff(free, known)
  known[new] <- c(unused, setdiff(free, unused))[seq_along(new)]
  category_memory[[memory]] <- known
  stats::setNames(shades[known[categories]], categories)
}

# Which colour of a palette each category was given in this session.
category_memory <- new.env(parent = emptyenv())
palette_of_categories <- function(palette) {
  if (length(palette) > 1) return(palette)
  if (palette == "quay") shades_of(palettes$quay) else if (palette %in% names(palettes)) map_colours(8, palette) else character()
}

# Colours, then paler and darker ones of the same hues, which read less well: so many categories are hard to tell apart.
shades_of <- function(colours) {
  mixed <- function(with, share) vapply(colours, function(colour) grDevices::colorRampPalette(c(colour, with))(101)[1 + 100 * share], "")
  unname(c(colours, mixed("#ffffff", 0.5), mixed("#16222b", 0.45), mixed("#ffffff", 0.75)))
}

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
    grid::segmentsGrob(0.1, 0.5, 0.9, 0.5, gp = grid::gpar(col = data$fill, lwd = max(2, data$linewidth * ggplot2::.pt), lineend = "round"))
  }
}
