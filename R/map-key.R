# Keys of classes: what their labels say, and how they stand in the key.

# --- the key ----------------------------------------------------------------------------------------------------

# A legend of classes: the highest on top where it stands upright, the lowest to the left where it lies, what has no data last.
GuideClasses <- ggplot2::ggproto(
  "GuideClasses", ggplot2::GuideLegend,
  draw = function(self, theme, position = NULL, direction = NULL, params = self$params) {
    lacking <- which(is.na(params$key$.value))
    known <- setdiff(seq_len(nrow(params$key)), lacking)
    order <- c(if (identical(direction %||% params$direction, "horizontal")) known else rev(known), lacking)
    params$key <- vctrs::vec_slice(params$key, order)
    params$decor <- lapply(params$decor, function(layer) `[[<-`(layer, "data", value = vctrs::vec_slice(layer$data, order)))
    ggplot2::ggproto_parent(ggplot2::GuideLegend, self)$draw(theme, position, direction, params)
  },
  # The labels of the map's own scale, whatever scale took its place.
  extract_key = function(scale, aesthetic, ..., shown = NULL) {
    key <- ggplot2::GuideLegend$extract_key(scale, aesthetic, ...)
    if (is.null(key)) return(NULL)
    value <- as.character(key$.value)
    plain <- is.na(value) | key$.label == value
    key$.label[plain] <- ifelse(is.na(value), shown[[no_data]] %||% no_data, shown[value])[plain]
    key
  }
)

guide_classes <- function(shown, rows = NULL) {
  guide <- ggplot2::guide_legend(override.aes = list(colour = "#5b6770", linewidth = 0.2), nrow = rows,
                                 theme = if (!is.null(rows)) ggplot2::theme(legend.byrow = TRUE))
  ggplot2::ggproto(NULL, GuideClasses, params = c(guide$params, list(shown = shown)), elements = guide$elements, available_aes = guide$available_aes)
}

# Classes in order, those of missing values NA, for scales of any kind.
class_factor <- function(class, labels) factor(labels[class], levels = labels, ordered = TRUE)

# The scale with a colour a class; the key lists every class, on request with its count, and what has no data.
class_scale <- function(labels, colours, missing, no_data_fill) {
  ggplot2::scale_fill_manual(
    values = stats::setNames(colours, labels), drop = FALSE, limits = c(labels, if (missing) NA), breaks = c(labels, if (missing) NA),
    na.value = no_data_fill
  )
}

# Labels as the key shows them, by class.
shown_labels <- function(labels, sizes, missing, counts) {
  entries <- c(labels, no_data)
  stats::setNames(if (counts) paste0(entries, "  (", map_numbers(c(sizes, missing)), ")") else entries, entries)
}
