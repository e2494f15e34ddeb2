#' The look of maps
#'
#' A ggplot2 theme for maps, in a light and a dark mode, readable on a screen of 1280 by 800 and in print. Every starter uses it; add
#' `map_theme("dark")` to a map for the other mode.
#'
#' @param mode `"light"` or `"dark"`.
#' @param base_size Size of text in points.
#' @return A ggplot2 theme.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' choropleth_map(wards, residents) + map_theme("dark")
#' @export
map_theme <- function(mode = "light", base_size = 11) {
  one_of(mode, c("light", "dark"), "mode", call = rlang::current_env())
  text <- function(size, colour, ...) ggplot2::element_text(size = ggplot2::rel(size), colour = colour, ...)
  colours <- map_inks[[mode]]
  margin <- ggplot2::margin
  ggplot2::theme_void(base_size = base_size) +
    ggplot2::theme(
      plot.margin = margin(10, 12, 8, 12),
      plot.background = ggplot2::element_rect(fill = colours$paper, colour = NA),
      panel.background = ggplot2::element_rect(fill = colours$water, colour = NA),
      panel.spacing = grid::unit(10, "pt"),
      plot.title = text(1.4, colours$ink, face = "bold", hjust = 0, margin = margin(b = 4)),
      plot.subtitle = text(1, colours$soft, hjust = 0, margin = margin(b = 8)),
      plot.caption = text(0.75, colours$faint, hjust = 0, lineheight = 1.15, margin = margin(t = 6)),
      plot.title.position = "plot", plot.caption.position = "plot",
      legend.title.position = "top",
      legend.title = text(0.95, colours$ink, face = "bold", margin = margin(b = 6)),
      legend.text = text(0.9, colours$ink),
      legend.key.size = grid::unit(16, "pt"), legend.margin = margin(6, 8, 6, 8), legend.key = ggplot2::element_blank(),
      legend.background = ggplot2::element_rect(fill = colours$paper, colour = NA), legend.box.spacing = grid::unit(6, "pt"),
      strip.text = text(1, colours$ink, face = "bold", hjust = 0, margin = margin(4, 4, 4, 0))
    )
}

map_inks <- list(
  light = list(paper = "#ffffff", water = "#e9f0f3", ink = "#26323c", soft = "#4a5760", faint = "#6b7780", land = "#f6f4ee"),
  dark = list(paper = "#1b2228", water = "#232d35", ink = "#eef2f4", soft = "#c3ccd2", faint = "#9aa6ae", land = "#36424b")
)

# Ink that shows on a map's ground, for what is drawn into the panel.
ink_on <- function(plot) {
  ground <- plot$theme$panel.background$fill %||% map_inks$light$water
  map_inks[[if (is_dark(ground)) "dark" else "light"]]$ink
}

# What stands out from an ink.
under_ink <- function(ink) if (is_dark(ink)) "#ffffff" else map_inks$dark$water

is_dark <- function(colour) sum(grDevices::col2rgb(colour) * c(0.299, 0.587, 0.114)) < 128

need_mappable <- function(x, call) {
  if (!is_spatial_frame(x)) fail("argument", "{.arg x} must be a spatial frame.", call = call)
  if (!nrow(x)) fail("argument", "The frame has no rows to map.", call = call)
  if (anyNA(box_of(x))) fail("argument", "The frame has no shapes to map: all are missing or empty.", call = call)
}
