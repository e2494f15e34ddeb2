# Files of each kind are damaged again and again and read through R: each is read, or refused with an error of this package.
# A crash ends the process, and is seen by that.
# usage: Rscript tests/chaos/mutations.R READER [mutations, 20000] [seed, 1]
suppressMessages(library(civicatlas))
options(civicatlas.quiet = TRUE, warn = -1, civicatlas.unpack_limit = 3e8)
given <- commandArgs(TRUE)
reader <- given[1]
mutations <- as.integer(c(given[2], "20000")[1 + is.na(given[2])])
set.seed(as.integer(c(given[3], "1")[1 + is.na(given[3])]))

# An error is built with its values and signalled as it is: its trace and its lines for a terminal take more time than all reading does.
signal_fast <- function(kind, message, call = NULL, envir = rlang::caller_env(), ..., as_is = FALSE) {
  message[] <- civicatlas:::inline(message, envir)
  stop(rlang::error_cnd(c(paste0("civicatlas_error_", kind), "civicatlas_error"), message = paste(message, collapse = "\n"), ...))
}
utils::assignInNamespace("fail", signal_fast, "civicatlas")

# The kinds of files by what their names end in, where that is not their own name.
endings <- c(uncompressed = "parquet", snappy = "parquet", gzip = "parquet", zstd = "parquet", workflow = "yaml", stream = "geojsonl")
readers <- c("shp", "dbf", "zip", "geojson", "geojson.gz", "geojsonl", "gpkg", "kml", "kmz", "csv", "wkt", "wkb", "parquet", "tiles", names(endings))
if (!reader %in% readers) stop("readers: ", paste(readers, collapse = ", "))
folder <- tempfile("mutations")
dir.create(folder)
path <- file.path(folder, paste0("x.", if (reader %in% names(endings)) endings[[reader]] else reader))

small_layer <- function() {
  x <- read_layer(demo_file("rooms.geojson"))[1:12, c("name", "seats", "geometry")]
  x$opened <- as.Date("2026-01-01") + seq_len(12)
  x$open <- rep(c(TRUE, NA, FALSE), 4)
  x$share <- seq_len(12) / 7
  x
}

# GeoParquet as others write it, by codec.
write_packed <- function(codec) {
  x <- small_layer()
  table <- as.data.frame(attribute_table(x))
  table$geometry <- I(unclass(wkb_of(x)))
  geo <- '{"version":"1.1.0","primary_column":"geometry","columns":{"geometry":{"encoding":"WKB","geometry_types":["Point"]}}}'
  nanoparquet::write_parquet(table, path, compression = codec, metadata = c(geo = geo))
}

write_stream_file <- function() {
  to <- file(path, "wb")
  on.exit(close(to))
  civicatlas:::write_stream(small_layer(), function(bytes) writeBin(bytes, to))
}

write_workflow <- function() {
  writeLines(c(
    "version: 1", "title: \"Rooms: \\\"all\\\" of them\" # as they are", "inputs:", "  rooms: {type: layer, title: Rooms}",
    "  least: {type: number, default: 10, least: 0, most: 1000}", "  which: {type: choice, default: a, values: [a, b]}", "steps:",
    "  kept: {command: keep, layer: rooms, condition: \"seats > {least}\"}", "  near: {command: buffer, layer: kept, distance: 10 m}",
    "outputs: {kept.gpkg: kept}", "totals: [seats]"
  ), path)
}

invisible(switch(reader,
  shp = , zip = write_layer(read_layer(demo_file("wards.shp"))[1:4, ], path),
  dbf = write_layer(as.data.frame(attribute_table(small_layer())), path),
  wkt = , wkb = write_layer(small_layer()["geometry"], path),
  tiles = tile_up(small_layer(), path, rows_per_tile = 4),
  uncompressed = , snappy = , gzip = , zstd = write_packed(reader),
  stream = write_stream_file(),
  workflow = write_workflow(),
  write_layer(small_layer(), path)
))

read_again <- switch(reader,
  stream = function() civicatlas:::read_stream_bytes(bytes_of(path), path),
  workflow = function() read_workflow(path),
  tiles = function() dplyr::collect(read_layer(path)),
  function() read_layer(path)
)
bytes_of <- function(file) readBin(file, "raw", file.size(file))
files <- list.files(folder, full.names = TRUE, recursive = TRUE, all.files = TRUE)
whole <- stats::setNames(lapply(files, bytes_of), files)

# A number, a text or a mark of a text, or of a header that is text, becomes something else.
odd_tokens <- c("1e308", "-1", "0", "NaN", "null", "\"x\"", "1e15", "[]", "{}", "", "[[[", "&#x0;", "''", "-0", "99999999999999999999", ": ", "~")
with_other_token <- function(bytes) {
  text <- rawToChar(bytes[bytes != 0])
  found <- gregexpr("-?[0-9]+([.][0-9]+)?|\"[^\"]*\"|[][{},:<>/]", text, useBytes = TRUE)[[1]]
  if (found[1] < 0) return(bytes)
  k <- sample(length(found), 1)
  end <- found[k] + attr(found, "match.length")[k]
  c(utils::head(bytes, found[k] - 1), charToRaw(sample(odd_tokens, 1)), utils::tail(bytes, -(end - 1)))
}

# The ways in which a file is damaged: bytes that differ, a cut end, bytes too many, too few, one part in the place of another.
damages <- list(
  function(bytes) replace(bytes, sample(length(bytes), sample(5, 1), replace = TRUE), as.raw(sample(c(0:255, 0, 255, 127, 128), 1))),
  function(bytes) utils::head(bytes, sample(length(bytes), 1)),
  function(bytes) append(bytes, as.raw(sample(0:255, sample(20, 1), replace = TRUE)), sample(length(bytes), 1)),
  function(bytes) bytes[-(sample(length(bytes), 1) + 0:sample(50, 1))],
  function(bytes) {
    size <- min(length(bytes), sample(40, 1))
    from <- sample(length(bytes) - size + 1, 2, replace = TRUE)
    replace(bytes, from[1] + seq_len(size) - 1, bytes[from[2] + seq_len(size) - 1])
  }
)
if (!any(unlist(whole) == 0)) damages <- c(damages, rep(list(with_other_token), 5))

# What came of one damaged file: "read", "refused", or an error that is not of this package.
outcome_of <- function() {
  tryCatch(
    {
      found <- read_again()
      if (inherits(found, "spatial_frame")) wkt_of(found)
      "read"
    },
    civicatlas_error = function(e) "refused",
    error = function(e) paste(class(e)[1], substr(conditionMessage(e), 1, 150))
  )
}

outcomes <- character(mutations)
for (k in seq_len(mutations)) {
  file <- sample(files, 1)
  writeBin(sample(damages, 1)[[1]](whole[[file]]), file)
  outcomes[k] <- outcome_of()
  new <- !outcomes[k] %in% c("read", "refused", outcomes[seq_len(k - 1)])
  if (new) file.copy(file, sprintf("%s-%d-%s", file.path(dirname(tempdir()), reader), k, basename(file)))
  writeBin(whole[[file]], file)
}
raw <- setdiff(outcomes, c("read", "refused"))
cat(sprintf("%s: %d mutations, %d read, %d refused, %d raw errors\n", reader, mutations, sum(outcomes == "read"), sum(outcomes == "refused"), length(raw)))
writeLines(raw)
quit(status = length(raw) > 0)
