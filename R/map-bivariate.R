#' Maps of two variables at once
#'
#' Fills each shape by the classes of two values, three each: one variable runs from pale to the first colour, the other from pale to the
#' second, and both high give the darkest mix. The key is a square of nine.
#'
#' @inheritParams choropleth_map
#' @param across,up The two columns, or expressions on columns: the first runs across the key, the second up.
#' @param method See [class_breaks()]; quantiles by default, so that each class holds about as many shapes.
#' @param across_title,up_title Texts along the sides of the key.
#' @return A ggplot.
#' @section Errors: As of [choropleth_map()].
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' bivariate_map(wards, over_65 / residents, residents)
#' @export
bivariate_map <- function(x, across, up, method = "quantile", ..., across_title = NULL, up_title = NULL, title = NULL, subtitle = NULL, source = NULL,
                          outline = "#ffffff") {
  need_no_more(rlang::enquos(...))
  call <- rlang::current_env()
  x <- for_map(x)
  need_mappable(x, call)
  one_of(method, class_methods, "method", call = call)
  across <- rlang::enquo(across)
  up <- rlang::enquo(up)
  a <- three_classes(x, across, "across", method, call)
  b <- three_classes(x, up, "up", method, call)
  x$.both <- ifelse(is.na(a$class) | is.na(b$class), no_data, paste(a$class, b$class))
  missing <- sum(x$.both == no_data)
  say("{.fn bivariate_map}: {counted(nrow(x) - missing, 'shape')} in 3 by 3 classes{if (missing) paste0('; ', missing, ' without data (grey)')}.")
  breaks_text <- function(v, label) paste0(label, ": ", paste(short_numbers(as.double(v$breaks)), collapse = " | "))
  titles <- c(across_title %||% rlang::as_label(across), up_title %||% rlang::as_label(up))
  note <- paste0("Breaks (", classes_in_words_of(method), ") of ", breaks_text(a, titles[1]), "; of ", breaks_text(b, titles[2]), ".")
  start_map(x, title, subtitle, source, note) +
    shapes_layer(x, ggplot2::aes(fill = .data$.both), list(colour = outline, linewidth = 0.15), show_key = FALSE) +
    ggplot2::scale_fill_manual(values = c(both_colours, stats::setNames(no_data_colour(), no_data)), guide = "none") +
    square_key(titles[1], titles[2], missing, lapply(list(a$breaks, b$breaks), function(breaks) short_numbers(as.double(breaks))[2:3]))
}

three_classes <- function(x, quosure, what, method, call) {
  values <- as.double(map_values(x, quosure, call, what))
  breaks <- class_breaks(values, 3, method)
  if (length(breaks) != 4) {
    fail("argument", "{rlang::as_label(quosure)} gives {length(breaks) - 1} class{?es}, and a map of two variables needs three.", call = call)
  }
  list(class = core(core_class_of(values, breaks)), breaks = breaks)
}

classes_in_words_of <- function(method) if (method == "quantile") "thirds by number" else method

# Nine colours named "across up": blue-green to the right, orange upwards, dark where both are high.
both_colours <- c(
  "1 1" = "#efede4", "2 1" = "#a5cbd0", "3 1" = "#3d97ab", "1 2" = "#ecc092", "2 2" = "#a79f92", "3 2" = "#3f7277",
  "1 3" = "#dd8434", "2 3" = "#9a6339", "3 3" = "#473a39"
)

# `inner`: the texts of the two inner breaks of each variable, which stand at the edges between the squares.
square_key <- function(across, up, missing, inner) {
  side <- 7.5
  ink <- map_inks$light$ink
  at <- expand.grid(i = 1:3, j = 1:3)
  foot <- if (missing) 10 else 0
  small <- grid::gpar(col = ink, fontsize = 7)
  left <- 7 + grid::convertWidth(max(grid::stringWidth(inner[[2]])), "mm", valueOnly = TRUE) * 7 / 12
  low <- 10 + foot
  text <- grid::gpar(col = ink, fontsize = 9)
  grob <- grid::grobTree(
    grid::rectGrob(grid::unit(left + (at$i - 0.5) * side, "mm"), grid::unit(low + (at$j - 0.5) * side, "mm"), grid::unit(side, "mm"), grid::unit(side, "mm"),
                   gp = grid::gpar(fill = both_colours[paste(at$i, at$j)], col = "#ffffff", lwd = 0.8)),
    grid::textGrob(inner[[1]], grid::unit(left + c(1, 2) * side, "mm"), grid::unit(low - 2, "mm"), gp = small),
    grid::textGrob(inner[[2]], grid::unit(left - 1, "mm"), grid::unit(low + c(1, 2) * side, "mm"), hjust = 1, gp = small),
    grid::textGrob(paste(across, "\u2192"), grid::unit(left, "mm"), grid::unit(low - 6, "mm"), hjust = 0, gp = text),
    grid::textGrob(paste(up, "\u2192"), grid::unit(2, "mm"), grid::unit(low, "mm"), hjust = 0, rot = 90, gp = text),
    if (missing) grid::rectGrob(grid::unit(left + 2, "mm"), grid::unit(4, "mm"), grid::unit(4, "mm"), grid::unit(4, "mm"),
                                gp = grid::gpar(fill = no_data_colour(), col = "#5b6770", lwd = 0.5)),
    if (missing) grid::textGrob(no_data, grid::unit(left + 6, "mm"), grid::unit(4, "mm"), hjust = 0, gp = text)
  )
  width <- max(grid::unit(left + 3 * side + 1, "mm"), grid::unit(left, "mm") + grid::stringWidth(paste(across, "\u2192 ")))
  height <- max(grid::unit(low + 3 * side + 1, "mm"), grid::unit(low, "mm") + grid::stringWidth(paste(up, "\u2192")))
  key_of_grob(grob, width, height, NULL)
}
