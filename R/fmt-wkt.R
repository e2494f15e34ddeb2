# Files of well-known text, one shape a line, and of well-known binary, one shape after the other.

read_source.source_wkt <- function(source, query) {
  bytes <- in_utf8(core(core_read_bytes(source$content, -1), source = source$name, call = query$call), source, query)
  lines <- strsplit(rawToChar(bytes), "\r?\n")[[1]]
  lines <- trimws(lines)
  code <- unique(sub("^SRID=([0-9]+);.*", "\\1", grep("^SRID=", lines, value = TRUE)))
  text <- sub("^SRID=[0-9]+;", "", lines[nzchar(lines)])
  text[ascii_upper(text) %in% c("NULL", "NA")] <- NA
  found <- core(core_shapes_from_wkt(text), source = source$name, call = query$call)
  bare_layer(shapes_of_core(found, if (length(code) == 1) crs_by_code(as.numeric(code), query$call)), query)
}

read_source.source_wkb <- function(source, query) {
  bytes <- core(core_read_bytes(source$content, -1), source = source$name, call = query$call)
  is_hex <- length(bytes) > 1 && bytes[1] == as.raw(0x30) && bytes[2] %in% charToRaw("01")
  blobs <- if (is_hex) hex_lines(rawToChar(bytes), source, query)
  found <- core(if (is_hex) core_shapes_from_wkb(blobs) else core_read_wkb_file(bytes), source = source$name, call = query$call)
  bare_layer(shapes_of_core(found, NULL), query)
}

# Each line of hexadecimal digits as a raw vector.
hex_lines <- function(text, source, query) {
  lines <- trimws(strsplit(text, "\r?\n")[[1]])
  lines <- lines[nzchar(lines)]
  bad <- which(!grepl("^([0-9A-Fa-f]{2})+$", lines))
  if (length(bad)) {
    fail("format", c("Cannot read {.file {source$name}}.", x = "Line {bad[1]} is no well-known binary in hexadecimal digits."), call = query$call)
  }
  lapply(lines, function(line) as.raw(strtoi(substring(line, seq(1, nchar(line), 2), seq(2, nchar(line), 2)), 16L)))
}

bare_layer <- function(shapes, query) {
  query <- settle_window(query, crs_of(shapes))
  chosen_columns(query, character())
  where_columns(query, character())
  rows <- rows_within(query, shapes)
  layer_content(list(), shapes[rows], length(shapes), query)
}
