#' Colours of maps
#'
#' `"harbour"`, `"ember"`, `"moss"` and `"dusk"` run from light to dark, for amounts; `"tide"` and `"thaw"` run from one colour through a
#' pale middle to another, for what lies on two sides of a midpoint; `"slate"` is of greys; `"quay"` has ten colours for categories.
#' Neighbouring classes stay apart in lightness, so that they do in grey print, and to readers who do not tell red from green.
#'
#' @param n How many colours: 1 to 12, of `"quay"` 1 to 10.
#' @param palette Name of the palette, or colours of your own: as many as are asked for are taken as they are, others mixed to as many.
#' @param reverse `TRUE` for the opposite order.
#' @return A character vector of colours.
#' @section Errors: `civicatlas_error_choice` for an unknown palette, with the nearest name.
#' @examples
#' map_colours(5)
#' map_colours(7, "tide")
#' @export
map_colours <- function(n, palette = "harbour", reverse = FALSE) {
  call <- rlang::current_env()
  need_palette(palette, call)
  if (length(palette) > 1) return(own_colours(n, palette, reverse, call))
  most <- if (palette == "quay") 10 else 12
  if (!is_count(n, 1, most)) fail("argument", "{.arg n} must be a whole number from 1 to {most}, not {.val {n}}.", call = call)
  anchors <- palettes[[palette]]
  colours <- if (palette == "quay") {
    anchors[seq_len(n)]
  } else if (palette %in% diverging) {
    two_sided(n, anchors)
  } else {
    ends <- lightness_of(anchors[c(1, length(anchors))])
    at_lightness(anchors, if (n == 1) mean(ends) else seq(ends[1], ends[2], length.out = n))
  }
  if (reverse) rev(colours) else colours
}

# Anchors of the palettes; colours between them are mixed in CIE Lab.
palettes <- list(
  slate = c("#f4f4f4", "#c4c4c4", "#8f8f8f", "#5a5a5a", "#161616"),
  harbour = c("#f3ecd8", "#b7d3c4", "#64a9ad", "#2b7391", "#142f50"),
  ember = c("#fbefd3", "#f4c07a", "#e1814a", "#b3443f", "#4d152d"),
  moss = c("#f4f1d6", "#c7d59a", "#86b06b", "#43804f", "#0f3a2f"),
  dusk = c("#f3eaf0", "#cbbcdc", "#9489c0", "#5f569b", "#271b55"),
  tide = c("#0e2f4d", "#2f7f9e", "#93c4cb", "#f1efe6", "#efb97c", "#c96f33", "#5a2708"),
  thaw = c("#3c1c52", "#78509c", "#baa2cf", "#f2eff0", "#c9d68a", "#86a032", "#303c08"),
  quay = c("#766bd0", "#dba647", "#9c534c", "#74d8ca", "#833d72", "#f0d296", "#c27ba8", "#9499ef", "#aa7e26", "#4e3696")
)
diverging <- c("tide", "thaw")

# Colours of one's own have two sides where a midpoint is given.
has_two_sides <- function(palette) length(palette) > 1 || palette %in% diverging

# The name of a palette, or two colours or more.
need_palette <- function(palette, call) {
  if (length(palette) == 1 || !is.character(palette)) return(one_of(palette, names(palettes), "palette", call = call))
  misfits <- palette[!vapply(palette, is_colour, NA)]
  if (length(misfits)) fail("argument", "{.arg palette} holds {.val {misfits[1]}}, which is no colour.", call = call)
}

is_colour <- function(text) !is.na(text) && tryCatch(is.matrix(grDevices::col2rgb(text)), error = function(e) FALSE)

own_colours <- function(n, palette, reverse, call) {
  if (!is_count(n, 1, 100)) fail("argument", "{.arg n} must be a whole number from 1 to 100, not {.val {n}}.", call = call)
  colours <- if (n == length(palette)) palette else grDevices::colorRampPalette(palette, space = "Lab")(n)
  if (reverse) rev(colours) else colours
}

# Colours along the anchors, from light to dark, that have given lightnesses (L* of CIE Lab): equal steps of lightness read as equal steps.
at_lightness <- function(anchors, targets) {
  ramp <- grDevices::colorRamp(anchors, space = "Lab")
  fine <- seq(0, 1, length.out = 401)
  channels <- ramp(stats::approx(lightness_of(ramp(fine)), fine, targets, rule = 2)$y)
  ascii_lower(grDevices::rgb(channels[, 1], channels[, 2], channels[, 3], maxColorValue = 255))
}

lightness_of <- function(colours) {
  channels <- if (is.character(colours)) t(grDevices::col2rgb(colours)) else colours
  grDevices::convertColor(channels / 255, "sRGB", "Lab")[, 1]
}

# As many classes on either side; an odd one has the pale middle to itself. The right-hand side is half a step lighter than the left, so that no
# two classes are equally light.
two_sided <- function(n, anchors) {
  each <- n %/% 2
  step <- 62 / (each + 0.5)
  left <- at_lightness(anchors[4:1], 84 - step * seq_len(each))
  right <- at_lightness(anchors[4:7], 84 - step * (seq_len(each) - 0.5))
  c(if (each) rev(left), if (n %% 2) anchors[4], if (each) right)
}

# Grey, and on a map of greys a pale yellow.
no_data_colour <- function(palette = "harbour") if (identical(palette, "slate")) "#f6e6b4" else "#c9c9c9"
