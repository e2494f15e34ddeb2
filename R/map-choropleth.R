#' Choropleth maps
#'
#' Fills each shape by the class its value falls in, with a key that shows the class limits. The result is a ggplot: add layers
#' ([map_outlines()], [map_points()]), a scale bar ([map_scale_bar()]), facets or a theme with `+`. A line says how many shapes were
#' classified and how, and what has no data; notes follow where counts are mapped by areas of different size, or where one class holds
#' nearly all.
#'
#' @param x A spatial frame.
#' @param fill The column to map, or an expression on columns; several columns as `c(a, b)` give a panel each, on common breaks.
#' @param classes,method,at See [class_breaks()], from 2 to 12 classes. `method = "continuous"` gives a key without classes.
#' @param palette,reverse See [map_colours()].
#' @param midpoint With a palette of two sides: the value its pale middle stands for. A break is put there.
#' @param counts `TRUE` to show in the key how many shapes each class holds.
#' @param panels A column: a panel for each of its values, on common breaks.
#' @param unit Put after the numbers of the key.
#' @param title,subtitle Texts above the map.
#' @param key_title Text above the key, best with the unit; by default the column.
#' @param source Where the data come from, for the line below the map.
#' @param outline Colour of the borders between shapes; `NA` for none.
#' @return A ggplot.
#' @section Errors: `civicatlas_error_column` where the column is not there or holds no numbers (text that reads as numbers
#'   is shown), `civicatlas_error_argument` where there is nothing to classify, the frame is empty or classes are not from 2 to 12;
#'   `civicatlas_error_choice` for an unknown palette or method, with the nearest.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' choropleth_map(wards, residents, key_title = "Residents")
#' choropleth_map(wards, 1000 * over_65 / residents, palette = "tide", midpoint = 180)
#' @export
choropleth_map <- function(x, fill, classes = 5, method = "natural", at = NULL, palette = "harbour", reverse = FALSE, midpoint = NULL,
                           counts = FALSE, panels = NULL, unit = NULL, title = NULL, subtitle = NULL, key_title = NULL, source = NULL,
                           outline = "#ffffff") {
  call <- rlang::current_env()
  need_mappable(x, call)
  one_of(method, c(class_methods, "continuous"), "method", call = call)
  one_of(palette, names(palettes), "palette", call = call)
  given <- rlang::enquo(fill)
  x <- panels_of(x, given, rlang::enquo(panels), call)
  values <- as.double(x$.value)
  style <- list(colour = outline, linewidth = 0.15)
  key_title <- key_title %||% attr(x, "label")
  if (method == "continuous" && is.null(at)) {
    if (!any(is.finite(values))) fail("argument", "There are no values to map: all {length(values)} are missing or infinite.", call = call)
    map <- start_map(x, title, subtitle, source) + shapes_layer(x, ggplot2::aes(fill = .data$.value), style) +
      continuous_scale(values, palette, reverse, midpoint, unit) + ggplot2::labs(fill = key_title)
    tell_of_map(values, NULL, x, given)
    return(map + panel_facets(x))
  }
  breaks <- map_breaks(values, classes, method, at, midpoint, missing(classes), call)
  class <- core_class_of(values, breaks)
  labels <- class_labels(breaks, unit)
  x$.class <- factor(ifelse(is.na(class), no_data, labels[class]), levels = c(labels, if (anyNA(class)) no_data))
  tell_of_map(values, breaks, x, given)
  start_map(x, title, subtitle, source, classes_in_words(breaks)) +
    shapes_layer(x, ggplot2::aes(fill = .data$.class), style, show_key = TRUE) +
    class_scale(breaks, labels, sided_colours(breaks, palette, reverse, midpoint), sum(is.na(class)), counts) +
    ggplot2::labs(fill = key_title) + panel_facets(x)
}

no_data <- "no data"

# The frame with the values to map in `.value` and, for several columns or a column of panels, `.panel`.
panels_of <- function(x, fill, panels, call) {
  columns <- if (rlang::quo_is_call(fill, "c")) as.list(rlang::quo_get_expr(fill))[-1]
  if (length(columns) > 1) {
    labels <- vapply(seq_along(columns), function(i) if (nzchar(rlang::names2(columns)[i])) names(columns)[i] else rlang::as_label(columns[[i]]), "")
    values <- lapply(columns, function(column) map_values(x, rlang::new_quosure(column, rlang::quo_get_env(fill)), call))
    rows <- rep(seq_len(nrow(x)), length(columns))
    out <- x[rows, ]
    out$.value <- unlist(values)
    out$.panel <- factor(rep(labels, each = nrow(x)), levels = labels)
    return(structure(out, label = NULL))
  }
  x$.value <- map_values(x, fill, call)
  x <- with_panel(x, panels, call)
  structure(x, label = rlang::as_label(fill))
}

with_panel <- function(x, panels, call) {
  if (rlang::quo_is_null(panels)) return(x)
  x$.panel <- x[[named_column(x, panels, "panels", call)]]
  count <- length(unique(x$.panel))
  if (count > 40) fail("argument", "{.arg panels} has {count} values; 40 panels are the most that can be read.", call = call)
  x
}

panel_facets <- function(x) if (!is.null(x[[".panel"]])) ggplot2::facet_wrap(ggplot2::vars(.data$.panel))

map_values <- function(x, quosure, call, what = "fill") {
  values <- column_values(x, quosure, what, call)
  if (is.numeric(values) && length(values) == nrow(x)) return(values)
  texts <- unique(stats::na.omit(as.character(values)))
  odd <- texts[is.na(suppressWarnings(as.double(texts)))]
  fail("column", c("{.arg {what}} ({rlang::as_label(quosure)}) is {.cls {class(values)[1]}}, and a choropleth needs numbers.",
                   x = "It holds {.val {utils::head(c(odd, setdiff(texts, odd)), 3)}}.",
                   i = "Text that holds numbers: {.fn mend_numbers}; categories: {.fn category_map}."), call = call)
}

map_breaks <- function(values, classes, method, at, midpoint, unasked, call) {
  if (is.null(at) && !is_count(classes, 2, 12)) {
    fail("argument", "{.arg classes} must be a whole number from 2 to 12, not {.val {classes}}.", call = call)
  }
  breaks <- if (method == "head-tail" && unasked) class_breaks(values, method = method) else class_breaks(values, classes, method, at)
  if (length(breaks) > 13) fail("argument", "There are {length(breaks) - 1} classes; a map has 12 at most.", call = call)
  if (is.null(midpoint) || !is.null(at)) breaks else with_midpoint(breaks, midpoint, values)
}

# The inner break that is nearest gives way to the midpoint.
with_midpoint <- function(breaks, midpoint, values) {
  cuts <- as.double(breaks)
  if (midpoint <= cuts[1] || midpoint >= cuts[length(cuts)]) return(breaks)
  inner <- seq_along(cuts)[-c(1, length(cuts))]
  if (length(inner)) cuts[inner[which.min(abs(cuts[inner] - midpoint))]] <- midpoint else cuts <- c(cuts[1], midpoint, cuts[2])
  new_breaks(values[is.finite(values)], sort(cuts), attr(breaks, "method"))
}

is_count <- function(x, least, most) rlang::is_integerish(x, 1, finite = TRUE) && x >= least && x <= most

# A colour a class; with a midpoint the two sides have as many shades as the larger one needs, so that shades mean the same on both.
sided_colours <- function(breaks, palette, reverse, midpoint) {
  classes <- length(breaks) - 1
  if (is.null(midpoint) || !palette %in% diverging) return(map_colours(classes, palette, reverse))
  below <- sum(as.double(breaks)[-1] <= midpoint)
  above <- sum(as.double(breaks)[-length(breaks)] >= midpoint)
  each <- min(6, max(below, above))
  across <- classes - below - above
  shades <- map_colours(2 * each + across, palette, reverse)
  shades[each - min(below, each) + seq_len(classes)]
}

# The scale with a colour a class; the key lists every class, on request with its count, and what has no data.
class_scale <- function(breaks, labels, colours, missing, counts) {
  if (missing) colours <- c(colours, no_data_colour())
  limits <- c(labels, if (missing) no_data)
  shown <- if (counts) paste0(limits, "  (", map_numbers(c(attr(breaks, "counts"), if (missing) missing)), ")") else limits
  ggplot2::scale_fill_manual(
    values = stats::setNames(colours, limits), drop = FALSE, limits = limits, labels = stats::setNames(shown, limits),
    breaks = c(rev(labels), if (missing) no_data), guide = ggplot2::guide_legend(override.aes = list(colour = "#5b6770", linewidth = 0.2))
  )
}

continuous_scale <- function(values, palette, reverse, midpoint, unit) {
  range <- range(values[is.finite(values)])
  centred <- !is.null(midpoint) && palette %in% diverging
  limits <- if (centred) midpoint + c(-1, 1) * max(abs(range - midpoint)) else range
  labels <- function(at) ifelse(is.na(at), NA, paste0(short_numbers(ifelse(is.na(at), 0, at)), if (!is.null(unit)) paste0(" ", unit)))
  ggplot2::scale_fill_gradientn(
    colours = if (palette == "quay") palettes$quay else map_colours(11, palette, reverse), limits = limits, na.value = no_data_colour(), labels = labels,
    guide = ggplot2::guide_colourbar(theme = ggplot2::theme(legend.key.height = grid::unit(110, "pt"), legend.key.width = grid::unit(14, "pt"),
                                                            legend.ticks = ggplot2::element_line(colour = "#ffffff", linewidth = 0.3)))
  )
}

classes_in_words <- function(breaks) {
  words <- c(natural = "natural breaks", quantile = "quantiles", equal = "equal intervals", "standard deviation" = "standard deviations about the mean",
             geometric = "geometric progression", pretty = "round breaks", "head-tail" = "head/tail breaks", "maximum gaps" = "widest gaps", own = "own breaks")
  paste0("Classes: ", words[[attr(breaks, "method")]], ", variance fit ", formatC(attr(breaks, "fit"), digits = 2, format = "f"), ".")
}

# The account, and what a reader should know of the numbers before trusting the picture.
tell_of_map <- function(values, breaks, x, fill) {
  known <- sum(is.finite(values))
  lacking <- length(values) - known
  how <- if (is.null(breaks)) {
    "on a continuous key"
  } else {
    paste0("in ", counted(length(breaks) - 1, "class", "classes"), ", ", sub("^Classes: (.*)\\.$", "\\1", classes_in_words(breaks)))
  }
  say("{.fn choropleth_map}: {counted(known, 'shape')} {how}{if (lacking) paste0('; ', format_count(lacking), ' without data (grey)')}.")
  counts <- attr(breaks, "counts")
  if (length(counts) > 1 && max(counts) >= 0.85 * sum(counts)) {
    say(c("!" = "{max(counts)} of {sum(counts)} shapes fall in one class: see {.fn draw_classes}, or try {.code method = \"quantile\"}."))
  }
  if (looks_like_counts(values, x, fill)) say(c("!" = "The values look like counts, and the areas differ {areas_differ(x)}-fold: map a rate? {.fn rate_of}"))
}

# Whole numbers, none below 0, of a column as it stands, on areas of different size.
looks_like_counts <- function(values, x, fill) {
  known <- values[is.finite(values)]
  rlang::quo_is_symbol(fill) && all(known >= 0 & known == round(known)) && max(known) > 20 && areas_differ(x) >= 1.5
}

# How many times as large as the small areas (the tenth percentile) the large ones (the ninetieth) are.
areas_differ <- function(x) {
  areas <- planar_areas(as_shapes(x))
  areas <- areas[!is.na(areas) & areas > 0]
  if (length(areas) < 3) return(1)
  q <- stats::quantile(areas, c(0.1, 0.9), names = FALSE)
  signif(q[2] / q[1], 2)
}
