#' Choropleth maps
#'
#' Fills each shape by the class its value falls in, with a key that shows the class limits and how many shapes each
#' holds. The result is a ggplot: add layers ([map_outlines()], [map_points()]), facets or a theme with `+`.
#'
#' @param x A spatial frame.
#' @param fill The column to map, or an expression on columns.
#' @param classes,method,at See [class_breaks()].
#' @param palette `"harbour"`, `"ember"`, `"moss"` or `"dusk"`, from light to dark.
#' @param title,subtitle Texts above the map.
#' @param key_title Text above the key, best with the unit; by default the column.
#' @param outline Colour of the borders between shapes; `NA` for none.
#' @return A ggplot.
#' @section Errors: `civicatlas_error_column` where the column is not there or holds no numbers (text that reads as numbers
#'   is shown), `civicatlas_error_argument` where there is nothing to classify or the frame is empty.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' choropleth_map(wards, residents, key_title = "Residents")
#' @export
choropleth_map <- function(x, fill, classes = 5, method = "natural", at = NULL, palette = "harbour", title = NULL,
                           subtitle = NULL, key_title = NULL, outline = "#ffffff") {
  call <- rlang::current_env()
  if (!is_spatial_frame(x)) fail("argument", "{.arg x} must be a spatial frame.", call = call)
  if (!nrow(x)) fail("argument", "The frame has no rows to map.", call = call)
  quosure <- rlang::enquo(fill)
  values <- map_values(x, quosure, call)
  breaks <- class_breaks(values, classes, method, at)
  class <- core_class_of(as.double(values), breaks)
  labels <- class_labels(breaks)
  x$.class <- factor(labels[class], levels = labels)
  missing <- sum(is.na(class))

  ggplot2::ggplot() +
    shapes_layer(x, ggplot2::aes(fill = .data$.class), list(colour = outline, linewidth = 0.15), show_key = TRUE) +
    map_coordinates(x) +
    class_scale(labels, attr(breaks, "counts"), palette, missing, call) +
    ggplot2::labs(title = title, subtitle = subtitle, fill = key_title %||% rlang::as_label(quosure), caption = classes_in_words(breaks)) +
    map_theme()
}

map_values <- function(x, quosure, call) {
  data <- attribute_table(dplyr::ungroup(x))
  if (rlang::quo_is_missing(quosure)) fail("argument", "{.arg fill} is missing: which column is to be mapped?", call = call)
  if (rlang::quo_is_symbol(quosure)) need_column(data, rlang::as_name(quosure), "fill", call = call)
  values <- rlang::eval_tidy(quosure, data)
  if (rlang::is_string(values) && values %in% names(data)) values <- data[[values]]
  if (is.numeric(values) && length(values) == nrow(x)) return(values)
  examples <- utils::head(unique(stats::na.omit(as.character(values))), 3)
  fail("column", c("{.arg fill} ({rlang::as_label(quosure)}) is {.cls {class(values)[1]}}, and a choropleth needs numbers.",
                   x = "It holds {.val {examples}}.", i = "Turn the text into numbers first."), call = call)
}

# The scale with a colour a class; the key lists every class, with its count.
class_scale <- function(labels, counts, palette, missing, call) {
  ggplot2::scale_fill_manual(
    values = stats::setNames(map_colours(length(labels), palette, call), labels), drop = FALSE, na.value = "#c9c9c9",
    limits = labels, labels = paste0(labels, "  (", counts, ")"),
    guide = ggplot2::guide_legend(reverse = TRUE, override.aes = list(colour = "#5b6770", linewidth = 0.2))
  )
}

classes_in_words <- function(breaks) {
  paste0("Classes: ", c(natural = "natural breaks", quantile = "quantiles", equal = "equal intervals", own = "own breaks")[[attr(breaks, "method")]],
         ", variance fit ", formatC(attr(breaks, "fit"), digits = 2, format = "f"), ". In brackets: shapes in the class.")
}

# Anchors of the palettes, light to dark; colours between them are mixed in CIE Lab.
palettes <- list(
  harbour = c("#f3ecd8", "#b7d3c4", "#64a9ad", "#2b7391", "#1b3f66"),
  ember = c("#fbefd3", "#f4c07a", "#e1814a", "#b3443f", "#611f3a"),
  moss = c("#f4f1d6", "#c7d59a", "#86b06b", "#43804f", "#174a3c"),
  dusk = c("#f3eaf0", "#cbbcdc", "#9489c0", "#5f569b", "#322763")
)

map_colours <- function(n, palette, call = rlang::caller_env()) {
  anchors <- palettes[[one_of(palette, names(palettes), "palette", call = call)]]
  if (n == 1) return(anchors[3])
  grDevices::colorRampPalette(anchors, space = "Lab")(n)
}

map_theme <- function() {
  ink <- "#26323c"
  ggplot2::theme_void(base_size = 11) +
    ggplot2::theme(
      plot.margin = ggplot2::margin(10, 12, 8, 12),
      plot.background = ggplot2::element_rect(fill = "#ffffff", colour = NA),
      panel.background = ggplot2::element_rect(fill = "#e9f0f3", colour = NA),
      plot.title = ggplot2::element_text(face = "bold", size = 15, colour = ink, margin = ggplot2::margin(b = 4)),
      plot.subtitle = ggplot2::element_text(size = 11, colour = "#4a5760", margin = ggplot2::margin(b = 8)),
      plot.caption = ggplot2::element_text(size = 8, colour = "#6b7780", hjust = 0, margin = ggplot2::margin(t = 6)),
      plot.title.position = "plot", plot.caption.position = "plot",
      legend.title = ggplot2::element_text(face = "bold", size = 10.5, colour = ink, margin = ggplot2::margin(b = 6)),
      legend.text = ggplot2::element_text(size = 10, colour = ink),
      legend.key.size = grid::unit(16, "pt"), legend.margin = ggplot2::margin(l = 12),
      strip.text = ggplot2::element_text(size = 11, colour = ink, margin = ggplot2::margin(4, 4, 4, 4))
    )
}
