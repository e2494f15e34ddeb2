# Class breaks on their distribution.

#' Class breaks with the distribution in view
#'
#' A histogram of the values that were classified, each class in the colour it has on the map, with the breaks as lines.
#'
#' @param breaks From [class_breaks()].
#' @param palette,reverse See [map_colours()].
#' @param title Text above.
#' @param label Text below the axis, best with the unit.
#' @return A ggplot.
#' @section Errors: `civicatlas_error_argument` for anything but class breaks.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' draw_classes(class_breaks(wards$residents), label = "Residents")
#' @export
draw_classes <- function(breaks, palette = "harbour", reverse = FALSE, title = NULL, label = NULL) {
  if (!inherits(breaks, "class_breaks")) fail("argument", "{.arg breaks} must come from {.fn class_breaks}.", call = rlang::current_env())
  cuts <- as.double(breaks)
  classes <- length(cuts) - 1
  labels <- class_labels(breaks)
  bars <- bars_by_class(attr(breaks, "bars"), cuts)
  cuts <- cuts[is.finite(cuts)]
  bars$class <- factor(labels[bars$class], levels = labels)
  ink <- map_inks$light
  ggplot2::ggplot(bars) +
    ggplot2::geom_rect(ggplot2::aes(xmin = .data$from, xmax = .data$to, ymin = 0, ymax = .data$count, fill = .data$class),
                       colour = ink$faint, linewidth = 0.15) +
    ggplot2::geom_vline(xintercept = cuts, colour = ink$ink, linewidth = 0.3, linetype = "22") +
    ggplot2::scale_fill_manual(values = stats::setNames(colours_of_any(classes, palette, reverse), labels), na.value = no_data_colour(), drop = FALSE,
                               labels = paste0(labels, "  (", map_numbers(attr(breaks, "counts")), ")"), guide = ggplot2::guide_legend(reverse = TRUE)) +
    ggplot2::scale_x_continuous(breaks = cuts, labels = short_numbers(cuts), guide = ggplot2::guide_axis(check.overlap = TRUE)) +
    ggplot2::scale_y_continuous(expand = ggplot2::expansion(c(0, 0.05)), labels = function(v) map_numbers(v)) +
    ggplot2::labs(title = title, x = label, y = "values in each strip", fill = "Class (values)", caption = classes_in_words(breaks)) +
    map_theme() +
    ggplot2::theme(
      panel.background = ggplot2::element_blank(), panel.grid.major.y = ggplot2::element_line(colour = "#dfe5e8", linewidth = 0.3),
      axis.text = ggplot2::element_text(size = ggplot2::rel(0.8), colour = ink$soft, margin = ggplot2::margin(3, 3, 3, 3)),
      axis.title.x = ggplot2::element_text(size = ggplot2::rel(0.9), colour = ink$ink, margin = ggplot2::margin(t = 4)),
      axis.title.y = ggplot2::element_text(size = ggplot2::rel(0.9), colour = ink$ink, angle = 90, margin = ggplot2::margin(r = 4))
    )
}

# Shades between those of a palette where there are more classes than a map has.
colours_of_any <- function(n, palette, reverse) {
  if (n <= 12) map_colours(n, palette, reverse) else grDevices::colorRampPalette(map_colours(12, palette, reverse))(n)
}

# The strips of the histogram, cut at the breaks that fall in them, each piece with its class (NA beyond the breaks).
bars_by_class <- function(bars, cuts) {
  edges <- sort(unique(c(bars$edges, cuts[cuts > bars$edges[1] & cuts < bars$edges[61]])))
  if (length(edges) < 2) edges <- edges[1] + c(-0.5, 0.5)
  middle <- (edges[-1] + edges[-length(edges)]) / 2
  class <- if (length(cuts) == 2 && cuts[1] == cuts[2]) rep(1L, length(middle)) else core(core_class_of(middle, cuts))
  strip <- if (length(bars$counts) == 1) rep(1L, length(middle)) else findInterval(middle, bars$edges, all.inside = TRUE)
  data.frame(from = edges[-length(edges)], to = edges[-1], count = bars$counts[strip], class = class)
}
