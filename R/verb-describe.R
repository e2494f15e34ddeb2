#' Describe a layer
#'
#' What an analyst looks at first: rows, kinds of shapes, extent, CRS and what each column holds. A large source is
#' described from its headers alone, a small one (under 16 MB) or a frame from all its values.
#'
#' @param source A source as for [read_layer()], a spatial frame, or a tiled layer.
#' @param layer Name of the layer where the source holds several.
#' @param scan `TRUE` to read all, `FALSE` for headers alone (formats without a header that tells are read all the same);
#'   `NULL` to let the size decide.
#' @return An object that prints well, a list of `source`, `rows`, `geometry_type` (counts by type, `NA` where headers do
#'   not count), `missing_shapes`, `vertices`, `extent`, `crs` and `fields` (a tibble of `name` and `type`, and from values
#'   `missing`, `distinct`, `least`, `greatest`). A table without shapes has `extent` `NULL`. The type is `text (numbers)` where every
#'   value of a text reads as a number, and `text (formulas)` where one begins as what a spreadsheet would calculate.
#' @section Errors: as [read_layer()].
#' @examples
#' describe_layer(demo_file("wards.shp"))
#' @export
describe_layer <- function(source, layer = NULL, scan = NULL) {
  if (is.data.frame(source)) return(describe_values(source, NA_character_, NULL))
  if (is_tile_folder(source)) source <- quietly(read_layer(source))
  if (is_tiled(source)) return(tile_work$describe(source))
  call <- rlang::current_env()
  opened <- open_source(source, layer, call)
  header <- tryCatch(if (isTRUE(scan) || (is.null(scan) && is_small(opened))) NULL else source_header(opened), finally = close_source(opened))
  shown <- if (grepl("://", source, fixed = TRUE)) shown_address(source) else source
  title <- paste(c(basename(shown), layer), collapse = ", layer ")
  if (is.null(header)) return(describe_values(quietly(read_layer(source, layer)), shown, title))
  kinds <- stats::setNames(rep(NA_integer_, length(header$kinds)), ifelse(is.na(header$kinds), "several kinds", header$kinds))
  structure(list(
    source = shown, title = title,
    rows = header$rows, geometry_type = kinds, missing_shapes = NA_integer_, vertices = NA_integer_,
    extent = if (!is.null(header$extent)) stats::setNames(header$extent, c("xmin", "ymin", "xmax", "ymax")),
    crs = header$crs, fields = header$fields
  ), class = "layer_description")
}

is_small <- function(opened) {
  files <- unlist(Filter(is.character, c(opened$members, opened$path)))
  there <- files[file.exists(files)]
  length(there) > 0 && sum(file.size(there)) < 16e6
}

describe_values <- function(x, source, title) {
  columns <- attribute_table(x)
  shapes <- if (is_spatial_frame(x)) as_shapes(x)
  structure(list(
    source = source, title = title, rows = nrow(x),
    geometry_type = table(if (is.null(shapes)) character() else geometry_type_of(shapes), dnn = NULL),
    missing_shapes = sum(is.na(shapes)), vertices = if (is.null(shapes)) 0L else sum(core(core_vertex_counts(handles_of(shapes), store_of(shapes)))),
    extent = if (!is.null(shapes)) extent_of(shapes), crs = if (!is.null(shapes)) crs_of(shapes),
    fields = vctrs::vec_rbind(field_summary("", NULL)[0, ], !!!Map(field_summary, names(columns), columns, USE.NAMES = FALSE))
  ), class = "layer_description")
}

field_summary <- function(name, column) {
  if (is.character(column)) column <- valid_text(column)
  present <- column[!is.na(column)]
  show <- function(value) {
    if (is.logical(column)) return(as.character(value > 0))
    if (is.numeric(value)) format(value, digits = 7, big.mark = ",") else substr(as.character(value), 1, 24)
  }
  ends <- if (length(present) && !is.list(present)) c(show(min(present)), show(max(present))) else c(NA_character_, NA_character_)
  tibble::tibble(name = name, type = class_in_words(column), missing = sum(is.na(column)),
                 distinct = vctrs::vec_unique_count(present), least = ends[1], greatest = ends[2])
}

#' @export
print.layer_description <- function(x, ...) {
  if (!is.null(x$title)) cat(printable(x$title), "\n", sep = "")
  row <- function(name, value) cat("  ", formatC(name, width = -9), printable(value), "\n", sep = "")
  row("rows", format_count(x$rows))
  row("shapes", shapes_in_words(x))
  if (!is.null(x$extent)) {
    row("CRS", crs_label(x$crs))
    row("extent", described_extent(x))
  }
  if (nrow(x$fields)) print_table(x$fields)
  invisible(x)
}

shapes_in_words <- function(x) {
  if (is.null(x$extent)) return("none: a table of attributes alone")
  if (is.na(x$vertices)) return(paste0(paste(names(x$geometry_type), collapse = ", "), " (from the header)"))
  kinds <- vapply(names(x$geometry_type), function(kind) counted(x$geometry_type[[kind]], kind), "")
  paste0(paste(kinds, collapse = ", "), if (x$missing_shapes) paste0(", ", x$missing_shapes, " missing"), "; ", format_count(x$vertices), " vertices")
}

described_extent <- function(x) {
  if (anyNA(x$extent)) return("empty")
  unit <- if (is.null(x$crs)) "" else paste0(" (", x$crs$unit, ")")
  digits <- coordinate_decimals(x$crs)
  edges <- formatC(round(x$extent, digits), format = "f", digits = digits, drop0trailing = TRUE, big.mark = if (digits < 3) "," else "")
  sprintf("x %s to %s, y %s to %s%s", edges[1], edges[3], edges[2], edges[4], unit)
}

# A small table in plain text: numbers to the right, text to the left, missing values blank.
# Where `width` is a number of characters, long texts are cut, and columns that find no place are named below.
print_table <- function(data, indent = "  ", width = Inf) {
  cells <- lapply(names(data), function(name) {
    column <- data[[name]]
    text <- if (is.integer(column)) format_count(column) else if (is.numeric(column)) numbers_in_column(column) else as.character(column)
    printable(c(name, ifelse(is.na(column), "", text)))
  })
  numeric <- vapply(data, is.numeric, NA)
  cells <- fitted_cells(cells, numeric, width - nchar(indent))
  aligned <- Map(function(text, numeric) format(text, justify = if (numeric) "right" else "left"), cells, numeric[seq_along(cells)])
  lines <- do.call(paste, c(unname(aligned), sep = "  "))
  cat(paste0(indent, sub("\\s+$", "", lines), "\n"), sep = "")
  left <- names(data)[-seq_along(cells)]
  if (length(left)) cat(indent, "\u2026 ", counted(length(left), "more column"), ": ", paste(printable(left), collapse = ", "), "\n", sep = "")
}

# As many decimals for all as give the greatest seven digits and the least three, but for what is next to nothing beside the others; numbers beyond 1e15 as
# powers of ten.
numbers_in_column <- function(values) {
  values <- as.double(values)
  sizes <- abs(values[is.finite(values) & values != 0])
  if (!length(sizes) || max(sizes) >= 1e15) return(format(values, big.mark = ",", trim = TRUE))
  tiny <- is.finite(values) & values != 0 & abs(values) < 1e-6 * min(1, max(sizes))
  least <- min(sizes[sizes >= 1e-6 * min(1, max(sizes))])
  decimals <- max(0, 6 - floor(log10(max(sizes))), 2 - floor(log10(least)))
  text <- format(round(values, decimals), big.mark = ",", trim = TRUE, scientific = FALSE, digits = 15)
  text[tiny] <- vapply(values[tiny], format, "", digits = 2)
  text
}

# Texts are cut to one width of at least 12 characters, so that all fits; then columns are left out from the end.
fitted_cells <- function(cells, numeric, width) {
  needed <- vapply(cells, function(text) max(nchar(text, "width")), 0)
  room <- fitted_widths(needed, !numeric, width - 2 * (length(cells) - 1))
  cells[room < needed] <- Map(cli::ansi_strtrim, cells[room < needed], room[room < needed])
  cells[seq_along(cells) == 1 | cumsum(room + 2) - 2 <= width]
}

fitted_widths <- function(widths, may_cut, total) {
  for (most in seq(max(widths, 12), 12)) {
    cut <- ifelse(may_cut, pmin(widths, most), widths)
    if (sum(cut) <= total) break
  }
  cut
}
