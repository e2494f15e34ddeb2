# What R asks of a table, for tiled layers: answered from the manifest as far as no step is put off.

# A folder of tiles, with what was asked put off.
register_tile_work("open", function(folder, where, within, columns, crs, damaged, call) {
  out <- open_tiles(folder, call, damaged)
  if (!is.null(crs)) out <- declare_crs(out, crs)
  if (!is.null(within)) out <- within_window(out, within, call)
  if (!rlang::quo_is_null(where)) out <- keep_rows(out, !!where)
  if (!rlang::quo_is_null(columns)) out <- dplyr::select(out, !!columns)
  size <- paste0(counted(rows_in(out$source), "row"), " in ", counted(tiles_in(out$source), "tile"))
  crs <- if (is_spatial_frame(out$prototype)) paste0("; CRS ", crs_label(crs_of(out)))
  say("Opened {.file {basename(folder)}}: {size}, {counted(ncol(attribute_table(out$prototype)), 'column')}{crs}.")
  out
})

#' @export
print.tiled_layer <- function(x, ...) {
  cat(format(x), sep = "\n")
  invisible(x)
}

#' @export
format.tiled_layer <- function(x, ...) {
  source <- x$source
  spatial <- is_spatial_frame(x$prototype)
  columns <- setdiff(names(x), shape_column_name(x$prototype))
  types <- vapply(columns, function(name) class_in_words(x$prototype[[name]]), "")
  size <- if (!is.null(source$folder)) sum(source$tiles$bytes[!duplicated(source$tiles$file)])  # a file of others may hold several
  crs <- if (spatial) crs_of(x$prototype)
  lines <- c(
    paste0("<tiled layer> ", counted(rows_in(source), "row"), " in ", counted(tiles_in(source), "tile"), ", ", counted(length(columns), "column"),
           if (isTRUE(is.finite(size))) paste0(", ", format_size(size))),
    if (!is.null(source$folder)) paste0("  folder  ", printable(source$folder)),
    if (spatial) paste0("  CRS     ", printable(crs_label(crs))),
    if (spatial && !length(x$steps)) paste0("  extent  ", extent_in_words(x)),
    if (length(columns)) paste0("  columns ", printable(first_of(paste0(columns, " (", types, ")"), 12))),
    if (length(x$steps)) c("  put off, until run_tiles() or dplyr::collect():", paste0("    ", vapply(x$steps, function(step) printable(step$text), "")))
  )
  unlist(lapply(lines, function(line) {
    indent <- strrep(" ", nchar(line) - nchar(trimws(line, "left")))
    aligned <- gsub("(?<= ) | (?= )", "\u00a0", trimws(line), perl = TRUE)  # where strwrap() would leave one blank of several
    gsub("\u00a0", " ", paste0(indent, strwrap(aligned, cli::console_width() - nchar(indent), exdent = 8)))
  }))
}

tiles_in <- function(source) nrow(source$tiles)
rows_in <- function(source) sum(source$tiles$rows)

# Rows are known while nothing is put off.
#' @export
dim.tiled_layer <- function(x) c(if (length(x$steps)) NA_integer_ else rows_as_integer(x$source), ncol(x$prototype) - row_number_column %in% names(x$prototype))

# Beyond what an integer holds it is a double.
rows_as_integer <- function(source) if (rows_in(source) <= .Machine$integer.max) as.integer(rows_in(source)) else rows_in(source)

#' @export
names.tiled_layer <- function(x) setdiff(names(unclass(x)$prototype), row_number_column)

#' @export
as.data.frame.tiled_layer <- function(x, ...) as.data.frame(collect_tiles(x))

#' @export
summary.tiled_layer <- function(object, ...) describe_layer(object)

#' @rawNamespace S3method(dplyr::collect, tiled_layer)
collect.tiled_layer <- function(x, ...) collect_tiles(x)

# Reads tiles until there are enough rows.
#' @importFrom utils head
#' @export
head.tiled_layer <- function(x, n = 6L, ...) {
  out <- x$prototype
  if (n < 0) return(utils::head(collect_tiles(x), n))
  for (k in seq_len(tiles_in(x$source))) {
    if (nrow(out) >= n) break
    out <- vctrs::vec_rbind(out, plain_rows(frame_of_steps(x, k)))
  }
  utils::head(without_row_numbers(out), n)
}

# One column of all rows, of which that alone is read while nothing is put off.
#' @rawNamespace S3method(dplyr::pull, tiled_layer)
pull.tiled_layer <- function(.data, var = -1, name = NULL, ...) {
  prototype <- .data$prototype
  column <- names(prototype)[tidyselect::vars_pull(names(prototype), {{ var }}) == names(prototype)]
  source <- .data$source
  if (length(.data$steps) || identical(column, source$shape) || is.null(source$folder) || !is.null(source$window)) return(collect_tiles(.data)[[column]])
  source$columns <- source$columns[column]
  source["shape"] <- list(NULL)
  values <- lapply(seq_len(tiles_in(source)), function(k) read_tile(source, k, window = NULL)[[column]])
  vctrs::vec_c(prototype[[column]], !!!values)
}

# The extent after the steps, for which the tiles go through them.
register_tile_work("extent", function(x) {
  boxes <- lapply(seq_len(tiles_in(x$source)), function(k) box_of(frame_of_steps(x, k)))
  x$source$tiles <- tibble::as_tibble(do.call(rbind, c(list(matrix(double(), 0, 4, dimnames = list(NULL, box_members))), boxes)))
  extent_of_tiled(x)
})

# What a description tells of any source.
register_tile_work("describe", function(x) {
  columns <- attribute_table(x$prototype)
  fields <- vctrs::vec_rbind(field_summary("", NULL)[0, ], !!!lapply(names(columns), function(name) {
    ends <- range_in_words(x, name)
    tibble::tibble(name = name, type = class_in_words(columns[[name]]), missing = NA_integer_, distinct = NA_integer_, least = ends[1], greatest = ends[2])
  }))
  spatial <- is_spatial_frame(x$prototype)
  structure(list(
    source = x$source$folder %||% NA_character_,
    title = if (!is.null(x$source$folder)) paste0(basename(x$source$folder), ", ", counted(tiles_in(x$source), "tile")),
    rows = nrow(x), geometry_type = if (spatial) kinds_in_tiles(x$source) else integer(), missing_shapes = NA_integer_, vertices = NA_integer_,
    extent = if (spatial) extent_of(x), crs = if (spatial) crs_of(x$prototype), fields = fields
  ), class = "layer_description")
})

# Their names, with NA for how many there are.
kinds_in_tiles <- function(source) {
  kinds <- unique(unlist(strsplit(source$tiles$kinds, " ", fixed = TRUE)))
  if (!length(kinds) || anyNA(kinds)) kinds <- "several kinds"
  stats::setNames(rep(NA_integer_, length(kinds)), kinds)
}

range_in_words <- function(x, name) {
  range <- x$source$ranges[[name]]
  if (is.null(range) || length(x$steps)) return(c(NA_character_, NA_character_))
  ends <- c(min(unlist(range$least), na.rm = TRUE), max(unlist(range$greatest), na.rm = TRUE))
  if (inherits(x$prototype[[name]], "Date")) format(structure(ends, class = "Date")) else format(ends, digits = 7, big.mark = ",", trim = TRUE)
}

# --- dplyr ---------------------------------------------------------------------------------------------------------------

#' @rawNamespace S3method(dplyr::filter, tiled_layer)
filter.tiled_layer <- function(.data, ...) put_off_dplyr("filter", .data, rlang::enquos(...), call_of_verb())

#' @rawNamespace S3method(dplyr::mutate, tiled_layer)
mutate.tiled_layer <- function(.data, ...) put_off_dplyr("mutate", .data, rlang::enquos(...), call_of_verb())

#' @rawNamespace S3method(dplyr::select, tiled_layer)
select.tiled_layer <- function(.data, ...) put_off_dplyr("select", .data, rlang::enquos(...), call_of_verb())

#' @rawNamespace S3method(dplyr::rename, tiled_layer)
rename.tiled_layer <- function(.data, ...) put_off_dplyr("rename", .data, rlang::enquos(...), call_of_verb())

# What goes row by row; a column of shapes that is made anew counts as other shapes.
put_off_dplyr <- function(verb, layer, quosures, call) {
  names <- names(layer$prototype)
  if (verb %in% c("filter", "mutate")) for (asked in quosures) need_by_row(asked, names, verb)
  text <- sub("^[^(]*", verb, call_text(call[-2]))
  changes <- verb == "mutate" && any(names(quosures) %in% names[vapply(layer$prototype, is_shapes, NA)])
  step <- list(verb = verb, args = lapply(as.list(quosures), portable, names), slot = ".data", text = text, how = list(kind = "rows", changes = changes))
  if (verb == "select" && row_number_column %in% names) step$args <- c(step$args, list(rlang::quo(!!as.name(row_number_column))))
  with_step(layer, step, rlang::current_env())
}
