#' Describe a layer
#'
#' What an analyst looks at first: rows, kinds of shapes, extent, CRS and what each column holds.
#'
#' @param source Path of a file, or a spatial frame.
#' @param layer Name of the layer where the file holds several.
#' @return An object that prints well, a list of `source`, `rows`, `geometry_type` (counts by type), `missing_shapes`,
#'   `vertices`, `extent`, `crs` and `fields` (a tibble of `name`, `type`, `missing`, `distinct`, `least`, `greatest`).
#' @section Errors: as [read_layer()].
#' @examples
#' describe_layer(demo_file("wards.shp"))
#' @export
describe_layer <- function(source, layer = NULL) {
  x <- if (is_spatial_frame(source)) source else quietly(read_layer(source, layer))
  shapes <- as_shapes(x)
  columns <- attribute_table(x)
  structure(list(
    source = if (is.character(source)) source else NA_character_,
    rows = nrow(x),
    geometry_type = table(geometry_type_of(shapes), dnn = NULL),
    missing_shapes = sum(is.na(shapes)),
    vertices = sum(core_vertex_counts(handles_of(shapes), store_of(shapes))),
    extent = extent_of(shapes),
    crs = crs_of(shapes),
    fields = vctrs::vec_rbind(field_summary("", NULL)[0, ], !!!Map(field_summary, names(columns), columns, USE.NAMES = FALSE))
  ), class = "layer_description")
}

quietly <- function(expr) {
  old <- options(civicatlas.quiet = TRUE)
  on.exit(options(old))
  expr
}

field_summary <- function(name, column) {
  present <- column[!is.na(column)]
  show <- function(value) if (is.numeric(value)) format(value, digits = 7, big.mark = ",") else substr(as.character(value), 1, 24)
  ends <- if (length(present) && !is.list(present)) c(show(min(present)), show(max(present))) else c(NA_character_, NA_character_)
  tibble::tibble(name = name, type = class_in_words(column), missing = sum(is.na(column)),
                 distinct = vctrs::vec_unique_count(present), least = ends[1], greatest = ends[2])
}

class_in_words <- function(column) {
  if (inherits(column, "Date")) return("date")
  if (is.character(column) && reads_as_numbers(column)) return("text (numbers)")
  switch(typeof(column), integer = "integer", double = "number", character = "text", logical = "logical", class(column)[1])
}

# Text whose every value is a number, thousands separators allowed; "01" is a name, not a number.
reads_as_numbers <- function(text) {
  text <- trimws(text[!is.na(text)])
  length(text) > 0 && all(grepl("^-?(0|[1-9][0-9]{0,2}(,[0-9]{3})+|[1-9][0-9]*)([.][0-9]+)?$", text))
}

#' @export
print.layer_description <- function(x, ...) {
  if (!is.na(x$source)) cat(basename(x$source), "\n", sep = "")
  kinds <- vapply(names(x$geometry_type), function(kind) counted(x$geometry_type[[kind]], kind), "")
  row <- function(name, value) cat("  ", formatC(name, width = -9), value, "\n", sep = "")
  row("rows", format_count(x$rows))
  row("shapes", paste0(paste(kinds, collapse = ", "), if (x$missing_shapes) paste0(", ", x$missing_shapes, " missing"),
                       "; ", format_count(x$vertices), " vertices"))
  row("CRS", crs_label(x$crs))
  unit <- if (is.null(x$crs)) "" else paste0(" (", x$crs$unit, ")")
  digits <- coordinate_decimals(x$crs)
  edges <- formatC(round(x$extent, digits), format = "f", digits = digits, drop0trailing = TRUE, big.mark = if (digits < 3) "," else "")
  row("extent", if (anyNA(x$extent)) "empty" else sprintf("x %s to %s, y %s to %s%s", edges[1], edges[3], edges[2], edges[4], unit))
  print_table(x$fields)
  invisible(x)
}

# A small table in plain text: numbers to the right, text to the left, missing values blank.
print_table <- function(data, indent = "  ") {
  cells <- lapply(names(data), function(name) {
    column <- data[[name]]
    numeric <- is.numeric(column)
    text <- if (is.integer(column)) format_count(column) else if (numeric) format(column, big.mark = ",", trim = TRUE) else as.character(column)
    text <- c(name, ifelse(is.na(column), "", text))
    formatC(text, width = if (numeric) max(nchar(text)) else -max(nchar(text)))
  })
  lines <- do.call(paste, c(cells, sep = "  "))
  cat(paste0(indent, sub("\\s+$", "", lines), "\n"), sep = "")
}
