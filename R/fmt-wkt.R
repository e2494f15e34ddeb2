# Files of well-known text, one shape a line, and of well-known binary, one shape after the other.

register_format("wkt", function() {
  new_format("Well-known text", "OGC 06-103r4", c("shapes", "coded CRS"), endings = "wkt",
             first_text = "^(SRID=[0-9]+;)?(MULTI)?(POINT|LINESTRING|POLYGON|GEOMETRYCOLLECTION)", read = read_wkt, write = write_wkt)
})

register_format("wkb", function() {
  new_format("Well-known binary", "OGC 06-103r4", "shapes", endings = "wkb", read = read_wkb, write = write_wkb)
})

read_wkt <- function(source, query) {
  bytes <- in_utf8(core(core_read_bytes(source$content, -1), source = source$name, call = query$call), source, query)
  lines <- strsplit(rawToChar(bytes), "\r?\n")[[1]]
  lines <- trimws(lines)
  code <- unique(sub("^SRID=([0-9]+);.*", "\\1", grep("^SRID=", lines, value = TRUE)))
  text <- sub("^SRID=[0-9]+;", "", lines[nzchar(lines)])
  text[ascii_upper(text) %in% c("NULL", "NA")] <- NA
  found <- core(core_shapes_from_wkt(text), source = source$name, call = query$call)
  bare_layer(shapes_of_core(found, if (length(code) == 1) crs_by_code(as.numeric(code), query$call)), query)
}

read_wkb <- function(source, query) {
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

# --- writing -----------------------------------------------------------------------------------------------------------

write_wkt <- function(x, target, options, call) {
  warn_of_lost_attributes(x)
  text <- wkt_of(x, if (options$decimals >= 0) options$decimals)
  crs <- crs_of(x)
  code <- if (!is.null(crs) && !is.na(crs$code)) paste0("SRID=", sub("EPSG:", "", crs$code), ";")
  text <- ifelse(is.na(text), "NULL", paste0(code, text))
  write_files(stats::setNames(list(charToRaw(paste0(text, "\n", collapse = ""))), target), call)
}

write_wkb <- function(x, target, options, call) {
  warn_of_lost_attributes(x)
  blobs <- wkb_of(x)
  missing <- vapply(blobs, is.null, NA)
  if (any(missing)) caution("data", "{counted(sum(missing), 'missing shape')} left out, as well-known binary has none.")
  if (!is.null(crs_of(x))) say("Well-known binary holds no CRS; read it back with {.code crs = {crs_argument(crs_of(x), '...')}}.")
  write_files(stats::setNames(list(as.raw(unlist(blobs))), target), call)
}

warn_of_lost_attributes <- function(x) {
  lost <- names(attribute_table(x))
  if (length(lost)) caution("data", "The shapes alone are written; left out: {.val {lost}}.")
}
