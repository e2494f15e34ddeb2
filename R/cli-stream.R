# Layers through the pipes of commands (see fmt-stream.R).

read_stream <- function(ending = NULL) {
  folder <- tempfile("stream")
  dir.create(folder)
  on.exit(unlink(folder, recursive = TRUE, expand = FALSE))
  file <- file.path(folder, paste0("standard-input.", ending %||% "geojsonl"))
  con <- file("stdin", "rb")
  bytes <- tryCatch(read_all(con), finally = close(con))
  if (!length(bytes)) fail("file", "Standard input is empty.", call = NULL)
  read_stream_bytes(bytes, file)
}

read_all <- function(con) {
  parts <- list()
  repeat {
    part <- readBin(con, "raw", 1e7)
    if (!length(part)) return(unlist(parts))
    parts[[length(parts) + 1]] <- part
  }
}

# The account of a layer that comes through a pipe has been given, and its history goes on.
read_stream_bytes <- function(bytes, file) {
  writeBin(bytes, file)
  if (!begins_stream(bytes)) return(read_layer(file))
  x <- suppressWarnings(quietly(read_layer(file)), classes = "civicatlas_warning_crs")
  attr(x, "history") <- lapply(stream_header(bytes)$history, step_of_history)
  x
}

step_of_history <- function(step) {
  list(verb = as.character(step$verb), call = as.character(step$call), rows_in = as.integer(step$rows_in %||% NA), rows_out = as.integer(step$rows_out %||% NA),
       note = as.character(step$note %||% NA), seconds = as.double(step$seconds %||% NA), account = account_of_stream(step$account),
       stale = stale_of_stream(step$stale))
}

account_of_stream <- function(entries) {
  text <- function(value) as.character(value %||% NA)[1]
  number <- function(value) if (is.numeric(value)) as.double(value[1]) else NA_real_
  lapply(Filter(is.list, entries), function(entry) list(count = number(entry$count), of = text(entry$of), what = text(entry$what), fate = text(entry$fate)))
}

# Columns that held measures before shapes changed, of which the units are known.
stale_of_stream <- function(columns) {
  known <- function(held) {
    if (!is.list(held) || !rlang::is_string(held$measure, names(units_of_columns))) return(FALSE)
    unit <- if (is.null(held$ellipsoidal)) "coordinate units" else if (rlang::is_bool(held$ellipsoidal)) names(units_of_columns[[held$measure]])
    rlang::is_string(held$unit, unit)
  }
  if (is.list(columns)) Filter(known, columns)
}

write_stream <- function(x, write = function(bytes) core(core_write_standard_output(bytes))) {
  if (!is_spatial_frame(x)) fail("argument", "A table without shapes cannot go through a pipe; write it to a file.", call = NULL)
  shapes <- as_shapes(x)
  crs <- crs_of(shapes)
  columns <- writable_columns(x, NULL, keep = character())
  kinds <- vapply(as.list(attribute_table(x)), kind_of_column, "")
  about <- list(version = 1L, crs = if (!is.null(crs)) if (is.na(crs$code)) crs_text(crs, "wkt2") else crs$code, columns = as.list(kinds),
                history = lapply(attr(x, "history", exact = TRUE), function(step) step[setdiff(names(step), c("code", "given", "state", "change"))]))
  line <- write_json(list(civicatlas = about))
  encoded <- core(core_encode_geojson(handles_of(shapes), store_of(shapes), columns, -1L, "", "lines"))
  write(c(charToRaw(enc2utf8(paste0(line, "\n"))), encoded$bytes, charToRaw(stream_ends)))
  invisible(x)
}
