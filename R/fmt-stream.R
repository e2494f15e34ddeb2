# Layers as they go through pipes, and stand in a file where one is sent there: GeoJSON, a feature a line (RFC 8142), between a first line of our own
# that carries what GeoJSON has no place for (the CRS, on which the coordinates are, the types of columns and the history) and a last one, without
# which they were cut off.

stream_begins <- "^\\s*[{]\\s*\"civicatlas\""
stream_ends <- "{\"civicatlas\":{\"end\":true}}\n"

is_stream <- function(source, call) {
  content <- source$content
  if (is.character(content)) return(begins_stream(first_unpacked(content, 64)))
  if (is.raw(content)) return(begins_stream(content))
  # An entry of an archive is unpacked whole for it.
  ending_of(content$entry) %in% feature_lines && begins_stream(core(core_read_bytes(content, 64), source = source$name, call = call))
}

begins_stream <- function(bytes) grepl(stream_begins, text_of_bytes(utils::head(bytes, 64)), useBytes = TRUE)

# The first bytes of a file that may be packed by gzip, of which no more is unpacked; none of what cannot be read.
first_unpacked <- function(path, size) {
  suppressWarnings(tryCatch({
    con <- gzfile(path, "rb")
    on.exit(close(con))
    readBin(con, "raw", size)
  }, error = function(e) raw()))
}

text_of_bytes <- function(bytes) rawToChar(bytes[bytes != 0])

# What the first line says; NULL where it is another.
stream_header <- function(bytes) {
  line <- text_of_bytes(bytes[seq_len(end_of_line(bytes))])
  about <- if (grepl(stream_begins, line, useBytes = TRUE)) tryCatch(parse_json(line, simplifyVector = FALSE)$civicatlas, error = function(e) NULL)
  if (!is.list(about) || !(is.null(about$crs) || rlang::is_string(about$crs))) return(NULL)
  about$crs <- crs_in_data(about$crs, NULL)
  about$columns <- Filter(rlang::is_string, about$columns[setdiff(names(about$columns), "geometry")])
  about$history <- Filter(function(step) is.list(step) && rlang::is_string(step$verb) && rlang::is_string(step$call), about$history)
  about
}

end_of_line <- function(bytes) c(which(utils::head(bytes, 1e6) == charToRaw("\n")), length(bytes))[1]

read_geojson_stream <- function(source, query) {
  bytes <- core(core_read_bytes(source$content, -1), source = source$name, call = query$call)
  about <- stream_header(bytes)
  if (is.null(about)) fail("format", "The first line of {.file {source$name}} is not one that {.code civicatlas} writes to a pipe.", call = query$call)
  source$content <- features_of_stream(bytes, source$name, query$call)
  query <- settle_window(query, about$crs)
  whole <- utils::modifyList(new_query(call = query$call), query["skip_damaged"])
  found <- if (length(source$content)) read_geojson(source, whole) else list(columns = list(), shapes = new_shapes(), rows = 0)
  attr(found$shapes, "crs") <- about$crs
  columns <- typed_columns(found$columns, about$columns, length(found$shapes))
  wanted <- chosen_columns(query, lapply(columns, `[`, 0L))
  rows <- intersect(rows_where(query, columns[where_columns(query, names(columns))], length(found$shapes)), rows_within(query, found$shapes))
  layer_content(lapply(named_as_chosen(columns, wanted), `[`, rows), found$shapes[rows], found$rows, query)
}

features_of_stream <- function(bytes, name, call) {
  bytes <- bytes[-seq_len(end_of_line(bytes))]
  mark <- charToRaw(stream_ends)
  lines <- length(bytes) - length(mark)
  if (lines >= 0 && identical(utils::tail(bytes, length(mark)), mark)) return(bytes[seq_len(lines)])
  came <- sum(bytes == charToRaw("\n"))
  fail("file", c("{.file {basename(name)}} was cut off: it ends after {counted(came, 'row')}, and not as a stream of {.code civicatlas} does.",
                 i = "Did the command that wrote it fail, or something between take a part?"), call = call)
}

# Columns that are named come in that order, the others of the features behind them.
typed_columns <- function(columns, types, size) {
  named <- Map(function(name, type) typed_from_text(columns[[name]] %||% rep(NA, size), type), names(types), types)
  c(named, columns[!names(columns) %in% names(types)])
}

# What is not of its type leaves a column as it came, so that nothing is lost.
typed_from_text <- function(values, type) {
  typed <- tryCatch(suppressWarnings(switch(type,
    date = as.Date(as.character(values)), datetime = as_datetime(as.character(values)), text = as.character(values), integer = as.integer(values),
    number = as.double(values), logical = as.logical(values), values
  )), error = function(e) values)
  if (sum(is.na(typed)) > sum(is.na(values))) values else typed
}
