# A map is a ggplot whose texts are fitted to the device, and whose key of classes stays in order under any scale, when it is built.

as_civic_map <- function(plot) {
  if (!inherits(plot, "civic_map")) class(plot) <- c("civic_map", class(plot))
  plot
}

# A layer in tiles as a frame of shapes that are simplified to what can be seen.
for_map <- function(x) {
  if (is_tiled(x)) x <- tile_work$for_map(x)
  if (is_spatial_frame(x)) in_one_window(x) else x
}

# A map without layers yet: the frame's extent and CRS, the theme, the words around it, the source and the CRS below.
start_map <- function(x, title = NULL, subtitle = NULL, source = NULL, note = NULL) {
  as_civic_map(
    ggplot2::ggplot() + map_coordinates(x) + map_theme() +
      ggplot2::labs(title = title, subtitle = subtitle, caption = map_caption(x, source, note))
  )
}

map_caption <- function(x, source, note) {
  crs <- crs_of(x)
  name <- if (is.null(crs)) "none" else gsub(", matched by meaning| \\((no code|made to measure)\\)", "", crs_label(crs))
  origin <- c(if (!is.null(source)) paste0("Source: ", source, "."), paste0("CRS: ", name, "."))
  paste(c(note, paste(origin, collapse = " ")), collapse = "\n")
}

#' @rawNamespace S3method(ggplot2::ggplot_build, civic_map)
ggplot_build.civic_map <- function(plot, ...) {
  class(plot) <- setdiff(class(plot), "civic_map")
  need_map_coord(plot$coordinates)
  plot <- furnished(plot)
  size <- drawing_size()
  if (!is.null(size)) plot <- fit_texts(plot, size)
  ggplot2::ggplot_build(with_class_key(plot, size), ...)
}

# Inches of what is drawn on, a cell of a sheet or the device; NULL where no device is open.
drawing <- new.env(parent = emptyenv())
drawing_size <- function() drawing$cell %||% if (!is.null(grDevices::dev.list())) grDevices::dev.size("in")

# The legend of classes, unless the user gave the fill another guide; one that lies has as many rows as it takes.
with_class_key <- function(plot, size) {
  shown <- attr(plot, "class_labels")
  scale <- plot$scales$get_scales("fill")
  plain <- is.null(plot$guides$guides$fill) && (is.null(scale) || identical(scale$guide, "legend"))
  if (is.null(shown) || !plain) return(plot)
  lying <- isTRUE(plot$theme$legend.position %in% c("bottom", "top"))
  rows <- if (lying && !is.null(size)) {
    entry <- max(text_widths(shown, key_font(plot))) + 0.45
    ceiling(length(shown) / max(1, floor((size[1] - 0.4) / entry)))
  }
  plot + ggplot2::guides(fill = guide_classes(shown, rows))
}

whole_theme <- function(plot) ggplot2::theme_get() + plot$theme
key_font <- function(plot) font_of(ggplot2::calc_element("legend.text", whole_theme(plot)))
font_of <- function(element) grid::gpar(fontsize = element$size, fontfamily = element$family, fontface = element$face)

# --- texts ------------------------------------------------------------------------------------------------------

# Titles, captions, keys and names of panels in lines that fit; where these would take the room of the map they are left out, which is said.
fit_texts <- function(plot, size) {
  theme <- whole_theme(plot)
  tell_missing_letters(as.character(unlist(Filter(is.character, as.list(plot$labels)))))
  plot <- with_small_key(plot, size)
  theme <- whole_theme(plot)
  plot <- fit_key(plot, theme, size)
  plot <- fit_around(plot, theme, size)
  fit_panel_names(plot, theme, size)
}

# What stands above and below the map: at most a third of the height; the caption goes first.
fit_around <- function(plot, theme, size) {
  parts <- c("title", "subtitle", "caption")
  width <- size[1] - 0.35 - left_of_map(plot, size)
  texts <- lapply(stats::setNames(parts, parts), function(part) {
    text <- plot$labels[[part]]
    if (is.character(text)) in_lines(text, ggplot2::calc_element(paste0("plot.", part), theme), width)
  })
  heights <- vapply(parts, function(part) text_height(texts[[part]], ggplot2::calc_element(paste0("plot.", part), theme)), 0)
  left_out <- character()
  for (part in c("caption", "subtitle", "title")) {
    if (sum(heights) <= size[2] / 3 || heights[[part]] == 0) next
    if (part != "title") left_out <- c(left_out, part)
    texts[part] <- list(if (part == "title") first_lines(texts[[part]], 1))
    heights[[part]] <- text_height(texts[[part]], ggplot2::calc_element(paste0("plot.", part), theme))
  }
  if (length(left_out)) say("At {size_in_words(size)} there is no room for the {left_out} of the map.")
  for (part in parts) if (is.character(plot$labels[[part]])) plot$labels[part] <- texts[part]
  plot
}

# A map that is taller than the device is wide leaves room at both sides, and its texts begin at its own left edge.
left_of_map <- function(plot, size) {
  limits <- plot$coordinates$limits
  ratio <- plot$coordinates$ratio
  if (is.null(limits$x) || is.null(ratio) || !inherits(plot$facet, "FacetNull")) return(0)
  widest <- (size[2] - 0.3) * diff(limits$x) / (diff(limits$y) * ratio)
  shown <- attr(plot, "class_labels")
  beside <- !isTRUE(plot$theme$legend.position %in% c("bottom", "top", "inside", "none"))
  key <- if (beside && !is.null(shown)) max(text_widths(shown, key_font(plot))) + 0.6 else 0
  max(0, (size[1] - 0.35 - key - widest) / 2)
}

# Beside a small map the key would take its room: it gets smaller letters, and goes below where the map is higher than wide, which is said.
with_small_key <- function(plot, size) {
  shown <- attr(plot, "class_labels")
  if (is.null(shown) || isTRUE(plot$theme$legend.position %in% c("bottom", "top", "inside", "none"))) return(plot)
  beside <- max(text_widths(shown, key_font(plot))) + 0.6
  if (beside <= 0.45 * size[1]) return(plot)
  small <- max(0.5, 0.4 * size[1] / beside)
  below <- size[2] > 1.2 * size[1]
  say("At {size_in_words(size)} the key {if (below) 'goes below the map' else 'is drawn smaller'}.")
  text <- function(size, ...) ggplot2::element_text(size = ggplot2::rel(size * small), ...)
  plot <- plot + ggplot2::theme(legend.text = text(0.9), legend.title = text(0.95), legend.key.size = grid::unit(16 * small, "pt"))
  if (below) plot + ggplot2::theme(legend.position = "bottom") else plot
}

# The title of the key and its entries take at most a quarter of the width, the title at most a quarter of the height.
fit_key <- function(plot, theme, size) {
  most <- max(size[1] / 4, 0.8)
  title <- plot$labels$fill
  if (is.character(title)) {
    element <- ggplot2::calc_element("legend.title", theme)
    plot$labels$fill <- first_lines(in_lines(title, element, most), max(2, size[2] / 4 * 72 / (1.1 * element$size)))
  }
  scale <- plot$scales$get_scales("fill")
  if (!is.null(scale) && is.character(scale$labels)) {
    plot$scales <- plot$scales$clone()
    scale <- plot$scales$get_scales("fill")
    names <- names(scale$labels)
    fitted <- vapply(scale$labels, in_lines, "", ggplot2::calc_element("legend.text", theme), most)
    scale$labels <- stats::setNames(fitted, names)
  }
  plot
}

fit_panel_names <- function(plot, theme, size) {
  if (!inherits(plot$facet, "FacetWrap")) return(plot)
  element <- ggplot2::calc_element("strip.text.x", theme)
  panels <- length(unique(unlist(lapply(plot$layers, function(layer) as.character(layer$data[[".panel"]])))))
  asked <- plot$facet$params
  columns <- asked$ncol %||% if (is.null(asked$nrow) && panels > 0) fitting_columns(plot, panels, size[1], size[2])
  labeller <- asked$labeller
  given <- plot$facet
  facet <- ggplot2::ggproto(NULL, given)
  facet$params["ncol"] <- list(columns)
  facet$params$labeller <- function(labels) {
    texts <- if (is.function(labeller)) labeller(labels) else ggplot2::label_value(labels)
    width <- 0.8 * size[1] / (columns %||% ceiling(max(panels, lengths(labels)) / (asked$nrow %||% 1)))
    fit <- function(text) vapply(as.character(text), in_lines, "", element, width, USE.NAMES = FALSE)
    lapply(texts, function(text) if (is.list(text)) text else fit(text))
  }
  plot$facet <- facet
  plot
}

first_lines <- function(text, most) {
  lines <- strsplit(text, "\n", fixed = TRUE)[[1]]
  paste0(paste(utils::head(lines, most), collapse = "\n"), if (length(lines) > most) " \u2026")
}

size_in_words <- function(size) paste(format(round(size * 2.54, 1), trim = TRUE), collapse = " \u00d7 ") |> paste("cm")

text_height <- function(text, element) {
  if (is.null(text) || is.null(element) || inherits(element, "element_blank")) return(0)
  lines <- lengths(strsplit(text, "\n", fixed = TRUE))
  (lines * element$size * (element$lineheight %||% 1.1) + 8) / 72
}

# A text in lines of at most so many inches, broken at blanks, and within words where one alone is too long; its own line ends stay.
in_lines <- function(text, element, width) {
  if (is.null(element) || inherits(element, "element_blank") || is.na(text) || !nzchar(text)) return(text)
  font <- font_of(element)
  wide <- function(pieces) text_widths(pieces, font)
  lines <- strsplit(text, "\n", fixed = TRUE)[[1]]
  if (all(wide(lines) <= width)) return(text)
  paste(unlist(lapply(lines, wrap_line, wide, width)), collapse = "\n")
}

text_widths <- function(texts, font) {
  grid::pushViewport(grid::viewport(gp = font), recording = FALSE)
  on.exit(grid::popViewport(recording = FALSE))
  grid::convertWidth(grid::stringWidth(texts), "in", valueOnly = TRUE)
}

wrap_line <- function(line, wide, width) {
  words <- unlist(lapply(strsplit(line, " ", fixed = TRUE)[[1]], broken_word, wide, width))
  if (!length(words)) return(line)
  blank <- wide("a a") - wide("aa")
  at <- cumulative_lines(wide(words), blank, width)
  vapply(split(words, at), paste, "", collapse = " ", USE.NAMES = FALSE)
}

# The line that each word falls on.
cumulative_lines <- function(widths, blank, width) {
  line <- 1
  used <- -blank
  at <- integer(length(widths))
  for (i in seq_along(widths)) {
    if (used + blank + widths[i] > width && used >= 0) {
      line <- line + 1
      used <- -blank
    }
    used <- used + blank + widths[i]
    at[i] <- line
  }
  at
}

# A word that is too long, as in scripts without blanks, in pieces.
broken_word <- function(word, wide, width) {
  if (!nzchar(word) || wide(word) <= width) return(word)
  letters <- strsplit(word, "")[[1]]
  at <- cumulative_lines(wide(letters), 0, width)
  vapply(split(letters, at), paste, "", collapse = "", USE.NAMES = FALSE)
}

# --- fonts ------------------------------------------------------------------------------------------------------

# Letters that no font of this machine has are drawn as boxes: said once a session for each script's letters.
tell_missing_letters <- function(texts) {
  letters <- unique(unlist(strsplit(texts[grepl("[^ -~\n]", texts)], "")))
  letters <- utils::head(setdiff(letters[grepl("[^ -~\n]", letters)], said$letters), 500)
  if (!length(letters) || !rlang::is_installed("systemfonts")) return(invisible())
  said$letters <- c(said$letters, letters)
  lacking <- letters[!vapply(letters, has_glyph, NA)]
  if (length(lacking)) say(c("!" = "No font here has {first_of(lacking, 10)}: they are drawn as boxes. Install a font of that script."))
}

has_glyph <- function(letter) {
  font <- systemfonts::font_fallback(letter, "sans")
  all(systemfonts::glyph_info(letter, path = font$path, index = font$index)$index > 0)
}
