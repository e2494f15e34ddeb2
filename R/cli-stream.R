# Layers through pipes: GeoJSON, a feature a line (RFC 8142), behind a first line of our own that carries what GeoJSON has no place for: the CRS,
# on which the coordinates are, the types of columns and the history.

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

read_stream_bytes <- function(bytes, file) {
  end <- c(which(utils::head(bytes, 1e6) == charToRaw("\n")), length(bytes))[1]
  about <- stream_header(text_of_bytes(bytes[seq_len(end)]))
  if (!is.null(about)) bytes <- without_end_mark(bytes[-seq_len(end)])
  writeBin(bytes, file)
  if (is.null(about)) return(read_layer(file))
  if (!length(bytes)) return(empty_layer(about))
  x <- suppressWarnings(quietly(read_layer(file, crs = about$crs)), classes = "civicatlas_warning_crs")
  if (is.null(about$crs)) attr(x[["geometry"]], "crs") <- NULL
  x <- typed_columns(x, about$columns)
  attr(x, "history") <- lapply(about$history, step_of_history)
  x
}

text_of_bytes <- function(bytes) rawToChar(bytes[bytes != 0])

# The last line of a stream, without which it was cut off.
end_mark <- "{\"civicatlas\":{\"end\":true}}\n"

without_end_mark <- function(bytes) {
  mark <- charToRaw(end_mark)
  lines <- length(bytes) - length(mark)
  if (lines >= 0 && identical(utils::tail(bytes, length(mark)), mark)) return(bytes[seq_len(lines)])
  came <- sum(bytes == charToRaw("\n"))
  fail("file", c("Standard input was cut off: it ends after {counted(came, 'row')}, and not as a stream of {.code civicatlas} does.",
                 i = "Did the command before this one fail, or something between them take a part?"), call = NULL)
}

# What our first line says; NULL where it is another.
stream_header <- function(line) {
  if (!grepl("^\\s*[{]\\s*\"civicatlas\"", line)) return(NULL)
  about <- tryCatch(parse_json(line, simplifyVector = FALSE)$civicatlas, error = function(e) NULL)
  if (!is.list(about) || !(is.null(about$crs) || rlang::is_string(about$crs))) return(NULL)
  about$crs <- crs_in_data(about$crs, NULL)
  about$columns <- Filter(rlang::is_string, about$columns[setdiff(names(about$columns), "geometry")])
  about$history <- Filter(function(step) is.list(step) && rlang::is_string(step$verb) && rlang::is_string(step$call), about$history)
  about
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

empty_layer <- function(about) {
  columns <- lapply(about$columns, function(type) typed_from_text(character(), type))
  new_spatial_frame(tibble::new_tibble(c(columns, list(geometry = new_shapes(crs = about$crs))), nrow = 0L), "geometry")
}

typed_columns <- function(x, types) {
  for (name in names(types)) {
    if (is.null(x[[name]])) x[[name]] <- rep(NA, nrow(x))
    x[[name]] <- typed_from_text(x[[name]], types[[name]])
  }
  x[c(names(types), setdiff(names(x), names(types)))]
}

typed_from_text <- function(values, type) {
  switch(type,
    date = as.Date(as.character(values)), datetime = as_datetime(as.character(values)), text = as.character(values), integer = as.integer(values),
    number = as.double(values), logical = as.logical(values), values
  )
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
  write(c(charToRaw(enc2utf8(paste0(line, "\n"))), encoded$bytes, charToRaw(end_mark)))
  invisible(x)
}
