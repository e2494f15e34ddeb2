#' Choropleth maps
#'
#' Fills each shape by the class its value falls in, with a key that shows the class limits; lines and points are coloured by it. The
#' result is a ggplot: add layers ([map_outlines()], [map_points()]), a scale bar ([map_scale_bar()]), facets, a scale of ggplot2's for the
#' fill or a theme with `+`. A line says how many shapes were classified and how, and what has no data; notes follow where
#' counts are mapped by areas of different size, or where one class holds nearly all.
#'
#' The key prints as many digits as keep every value on its side of the printed limits. Classes of whole numbers do not share a limit:
#' `0`, `1 to 4`, `5 to 9`; open ends, as of `at = c(0, 5, Inf)`, read `over 5`. Values outside your own breaks have classes of their own, `below 50`
#' and `over 70`. Texts are fitted to the size that is drawn at.
#'
#' @param x A spatial frame.
#' @param fill The column to map, or an expression on columns, of numbers, dates or times; several columns as `c(a, b)` give a panel
#'   each, on common breaks.
#' @param classes,method,at,rounded See [class_breaks()], from 2 to 12 classes. `method = "continuous"` gives a key without classes.
#' @param ... Nothing: what follows is named in full.
#' @param palette,reverse See [map_colours()].
#' @param midpoint With a palette of two sides: the value its pale middle stands for. A break is put there.
#' @param counts `TRUE` to show in the key how many shapes each class holds.
#' @param panels A column, or an expression on columns: a panel for each of its values, on common breaks.
#' @param unit Put after the numbers of the key.
#' @param prefix Put before them.
#' @param numbers How the numbers of the key are written: `"plain"`, `"thousand"`, `"million"`, `"percent"` (of shares, a
#'   hundred times as much), or a function of numbers that gives their texts.
#' @param title,subtitle Texts above the map.
#' @param key_title Text above the key, best with the unit; by default the column.
#' @param source Where the data come from, for the line below the map.
#' @param outline Colour of the borders between shapes; `NA` for none.
#' @param linewidth Width of lines in millimetres, of borders too; by default thin for borders, the thinner the more there are.
#' @param size Diameter of points in millimetres.
#' @return A ggplot.
#' @section Errors: `civicatlas_error_column` where the column is not there or holds no numbers (text that reads as numbers
#'   is shown), `civicatlas_error_argument` where there is nothing to classify, the frame is empty or classes are not from 2 to 12;
#'   `civicatlas_error_choice` for an unknown palette or method, with the nearest.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' choropleth_map(wards, residents, key_title = "Residents")
#' choropleth_map(wards, over_65 / residents, palette = "tide", midpoint = 0.18, numbers = "percent", key_title = "Over 65")
#' @export
choropleth_map <- function(x, fill, classes = 5, ..., method = "natural", at = NULL, rounded = FALSE, panels = NULL,
                           palette = "harbour", reverse = FALSE, midpoint = NULL,
                           key_title = NULL, prefix = NULL, unit = NULL, numbers = "plain", counts = FALSE,
                           title = NULL, subtitle = NULL, source = NULL,
                           outline = "#ffffff", linewidth = NULL, size = 2.6) {
  need_no_more(rlang::enquos(...))
  call <- rlang::current_env()
  x <- for_map(x)
  need_mappable(x, call)
  one_of(method, c(class_methods, "continuous"), "method", call = call)
  need_palette(palette, call)
  given <- rlang::enquo(fill)
  x <- panels_of(x, given, rlang::enquo(panels), call)
  look <- number_style(numbers, prefix, unit, attr(x, "kind"), call)
  ramp <- list(palette = palette, reverse = reverse, midpoint = midpoint)
  style <- filled_style(x, outline, linewidth, size)
  texts <- ggplot2::labs(title = title, subtitle = subtitle, fill = key_title %||% attr(x, "label"))
  if (method == "continuous" && is.null(at)) return(continuous_map(x, given, ramp, look, style, source) + texts)
  breaks <- map_breaks(x$.value, classes, method, at, midpoint, missing(classes), rounded, call)
  classed_map(x, given, breaks, ramp, look, style, source, counts) + texts
}

classed_map <- function(x, given, breaks, ramp, look, style, source, counts) {
  beyond <- classes_beyond(x$.value, breaks, look)
  class <- class_on_map(x$.value, breaks, length(beyond$below))
  labels <- c(names(beyond$below), class_labels(breaks, look), names(beyond$above))
  tell_of_map(x$.value, breaks, x, given, unlist(unname(beyond)))
  cuts <- c(if (length(beyond$below)) -Inf, as.double(breaks), if (length(beyond$above)) Inf)
  missing <- sum(is.na(class))
  x$.class <- class_factor(class, labels)
  map <- start_map(x, source = source, note = classes_in_words(breaks)) +
    filled_layer(x, ggplot2::aes(fill = .data$.class), style, show_key = TRUE) +
    class_scale(labels, class_colours(cuts, ramp), missing > 0, no_data_colour(ramp$palette)) + panel_facets(x)
  structure(map, class_labels = shown_labels(labels, c(beyond$below, attr(breaks, "counts"), beyond$above), missing, counts))
}

continuous_map <- function(x, given, ramp, look, style, source) {
  values <- x$.value
  if (!any(is.finite(values))) fail("argument", "There are no values to map: all {length(values)} are missing or infinite.", call = rlang::caller_env())
  tell_of_map(values, NULL, x, given)
  start_map(x, source = source) + filled_layer(x, ggplot2::aes(fill = .data$.value), style) +
    continuous_scale(values, ramp, look) + panel_facets(x)
}

no_data <- "no data"

# Constant aesthetics of shapes that are filled by a value: lines take their colour from the fill, points have a dark border.
filled_style <- function(x, outline, linewidth, size) {
  dimension <- max(shape_dimension(as_shapes(x)), na.rm = TRUE)
  list(colour = if (dimension == 0) "#26323c" else outline, linewidth = linewidth %||% if (dimension == 2) border_width(nrow(x)) else 0.7, size = size,
       lines_by_fill = TRUE)
}

# Thinner borders for more regions, so that they do not hide the fills.
border_width <- function(n) max(0.03, min(0.15, 0.15 * sqrt(400 / max(n, 1))))

filled_layer <- function(x, mapping, style, show_key = NA) {
  polygons <- any(shape_dimension(as_shapes(x)) == 2, na.rm = TRUE)
  shapes_layer(x, mapping, style, show_key = show_key, key = if (polygons) ggplot2::draw_key_polygon else key_of_lines_and_points(x))
}

# The frame with the values to map in `.value` and, for several columns or a column of panels, `.panel`.
panels_of <- function(x, fill, panels, call) {
  columns <- if (rlang::quo_is_call(fill, "c")) as.list(rlang::quo_get_expr(fill))[-1]
  if (length(columns) > 1) {
    labels <- vapply(seq_along(columns), function(i) if (nzchar(rlang::names2(columns)[i])) names(columns)[i] else rlang::as_label(columns[[i]]), "")
    values <- lapply(columns, function(column) map_values(x, rlang::new_quosure(column, rlang::quo_get_env(fill)), call))
    kind <- kind_of_values(values[[1]])
    rows <- rep(seq_len(nrow(x)), length(columns))
    out <- x[rows, ]
    out$.value <- as.double(unlist(values))
    out$.panel <- factor(rep(labels, each = nrow(x)), levels = labels)
    return(structure(out, label = NULL, kind = kind))
  }
  values <- map_values(x, fill, call)
  x$.value <- as.double(values)
  x <- with_panel(x, panels, call)
  structure(x, label = rlang::as_label(fill), kind = kind_of_values(values))
}

with_panel <- function(x, panels, call) {
  if (rlang::quo_is_null(panels)) return(x)
  x$.panel <- column_values(x, panels, "panels", call)
  count <- length(unique(x$.panel))
  if (count > 40) fail("argument", "{.arg panels} has {count} values; 40 panels are the most that can be read.", call = call)
  x
}

panel_facets <- function(x) if (!is.null(x[[".panel"]])) ggplot2::facet_wrap(ggplot2::vars(.data$.panel))

map_values <- function(x, quosure, call, what = "fill") {
  values <- column_values(x, quosure, what, call)
  if (length(values) == nrow(x) && (is.numeric(values) || inherits(values, c("Date", "POSIXct")))) return(values)
  texts <- unique(stats::na.omit(as.character(values)))
  misfits <- texts[is.na(suppressWarnings(as.double(texts)))]
  fail("column", c("{.arg {what}} ({rlang::as_label(quosure)}) is {.cls {class(values)[1]}}, and a choropleth needs numbers.",
                   x = "It holds {.val {utils::head(c(misfits, setdiff(texts, misfits)), 3)}}.",
                   i = "Text that holds numbers: {.fn mend_numbers}; categories: {.fn category_map}."), call = call)
}

# "date" and "time" of values that are written so, else NULL.
kind_of_values <- function(values) if (inherits(values, "Date")) "date" else if (inherits(values, "POSIXct")) "time"

map_breaks <- function(values, classes, method, at, midpoint, unasked, rounded, call) {
  if (is.null(at) && !is_count(classes, 2, 12)) {
    fail("argument", "{.arg classes} must be a whole number from 2 to 12, not {.val {classes}}.", call = call)
  }
  breaks <- if (method == "head-tail" && unasked) {
    class_breaks(values, method = method, rounded = rounded)
  } else {
    breaks_for(values, classes, method, at, rounded, call, beyond = TRUE)
  }
  if (length(breaks) > 13) fail("argument", "There are {length(breaks) - 1} classes; a map has 12 at most.", call = call)
  if (is.null(at) && !rounded) breaks <- readable_breaks(breaks, values)
  if (is.null(midpoint) || !is.null(at)) breaks else with_midpoint(breaks, midpoint, values)
}

# Among many values the room between two neighbours is so narrow that a key needs many digits. Breaks move to the nearest number with as many as the
# narrowest class asks for, if no more than one value in a hundred changes its class by that.
readable_breaks <- function(breaks, values) {
  cuts <- as.double(breaks)
  widths <- diff(cuts)
  narrowest <- min(widths[widths > 0], Inf)
  if (isTRUE(attr(breaks, "whole")) || length(values) < 100 || !is.finite(narrowest)) return(breaks)
  values <- sort(values[is.finite(values)])
  inner <- setdiff(seq_along(cuts), c(1, length(cuts), which(widths == 0) + 1))
  before <- core(core_class_of(values, cuts))
  keeps <- function(moved) identical(diff(moved) > 0, widths > 0) && mean(core(core_class_of(values, moved)) != before) <= 0.01
  for (digits in max(0, ceiling(1 - log10(narrowest))) + 0:3) {
    moved <- replace(cuts, inner, round(cuts[inner], digits))
    if (keeps(moved)) return(new_breaks(values, moved, attr(breaks, "method")))
  }
  breaks
}

# The inner break that is nearest gives way to the midpoint.
with_midpoint <- function(breaks, midpoint, values) {
  cuts <- as.double(breaks)
  if (midpoint <= cuts[1] || midpoint >= cuts[length(cuts)]) return(breaks)
  inner <- seq_along(cuts)[-c(1, length(cuts))]
  if (length(inner)) cuts[inner[which.min(abs(cuts[inner] - midpoint))]] <- midpoint else cuts <- c(cuts[1], midpoint, cuts[2])
  new_breaks(sort(values[is.finite(values)]), sort(cuts), attr(breaks, "method"), attr(breaks, "rounded"))
}

# A colour a class; with a midpoint the two sides have as many shades as the larger one needs, so that shades mean the same on both.
class_colours <- function(breaks, ramp) {
  classes <- length(breaks) - 1
  if (!is_centred(ramp)) return(map_colours(classes, ramp$palette, ramp$reverse))
  below <- sum(as.double(breaks)[-1] <= ramp$midpoint)
  above <- sum(as.double(breaks)[-length(breaks)] >= ramp$midpoint)
  each <- min(6, max(below, above))
  across <- classes - below - above
  shades <- map_colours(2 * each + across, ramp$palette, ramp$reverse)
  shades[each - min(below, each) + seq_len(classes)]
}

# Whether the pale middle of a palette of two sides stands for a value.
is_centred <- function(ramp) !is.null(ramp$midpoint) && has_two_sides(ramp$palette)

continuous_scale <- function(values, ramp, look) {
  range <- range(values[is.finite(values)])
  limits <- if (is_centred(ramp)) ramp$midpoint + c(-1, 1) * max(abs(range - ramp$midpoint)) else range
  labels <- function(at) {
    known <- !is.na(at)
    text <- if (look$own) look$text(at[known], NULL) else short_numbers(at[known] * look$factor, look$text)
    ifelse(known, paste0(look$before, replace(rep("", length(at)), known, text), look$after), NA)
  }
  ggplot2::scale_fill_gradientn(
    colours = continuous_colours(ramp), limits = limits, na.value = no_data_colour(ramp$palette), labels = labels,
    guide = ggplot2::guide_colourbar(theme = ggplot2::theme(legend.key.height = grid::unit(110, "pt"), legend.key.width = grid::unit(14, "pt"),
                                                            legend.ticks = ggplot2::element_line(colour = "#ffffff", linewidth = 0.3)))
  )
}

continuous_colours <- function(ramp) {
  colours <- if (identical(ramp$palette, "quay")) palettes$quay else map_colours(11, ramp$palette)
  if (ramp$reverse) rev(colours) else colours
}

classes_in_words <- function(breaks) {
  words <- c(natural = "natural breaks", quantile = "quantiles", equal = "equal intervals", "standard deviation" = "standard deviations about the mean",
             geometric = "geometric progression", pretty = "round breaks", "head-tail" = "head/tail breaks", "maximum gaps" = "widest gaps", own = "own breaks")
  paste0("Classes: ", words[[attr(breaks, "method")]], if (isTRUE(attr(breaks, "rounded"))) ", rounded", ".")
}

# The class of each value, with one `below` the breaks, if any, and one above.
class_on_map <- function(values, breaks, below) {
  class <- core(core_class_of(values, breaks)) + below
  known <- is.finite(values)
  class[which(known & values < breaks[1])] <- 1L
  class[which(known & values > breaks[length(breaks)])] <- length(breaks) + below
  class
}

# How many finite values lie outside the breaks, named by what the key calls them.
classes_beyond <- function(values, breaks, look) {
  values <- values[is.finite(values)]
  ends <- end_labels(breaks, look)
  below <- sum(values < breaks[1])
  above <- sum(values > breaks[length(breaks)])
  list(below = if (below) stats::setNames(below, ends[1]), above = if (above) stats::setNames(above, ends[2]))
}

# The account, and what a reader should know of the numbers before trusting the picture.
tell_of_map <- function(values, breaks, x, fill, beyond = NULL) {
  known <- sum(is.finite(values))
  lacking <- length(values) - known
  how <- if (is.null(breaks)) {
    "on a continuous key"
  } else {
    paste0("in ", counted(length(breaks) - 1, "class", "classes"), ", ", sub("^Classes: (.*)\\.$", "\\1", classes_in_words(breaks)), ", variance fit ",
           formatC(attr(breaks, "fit"), digits = 2, format = "f"))
  }
  outside <- if (length(beyond)) paste0("; outside them ", paste(format_count(beyond), names(beyond), collapse = ", "))
  say("{.fn choropleth_map}: {counted(known, 'shape')} {how}{outside}{if (lacking) paste0('; ', format_count(lacking), ' without data (grey)')}.")
  counts <- c(attr(breaks, "counts"), beyond)
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
