# Where a layer is, and in which format. A source is a list of `format`, `name` (as shown), `path`, `layer` and what the format needs.

read_source <- function(source, query) format_record(source$format)$read(source, query)

source_layers <- function(source) {
  layers <- format_record(source$format)$layers
  if (!is.null(layers)) return(layers(source))
  list(layer = source$layer %||% stem_of(source$name), format = source$format,
       geometry_type = if (holds(source$format, "shapes")) NA_character_ else "none")
}

# NULL where only reading tells.
source_header <- function(source) {
  header <- format_record(source$format)$header
  if (!is.null(header)) header(source)
}

# Hands the content of a source to `give` in pieces of about so many rows, as layer_content() has it, where its format can; else whole. `again` is
# called where what was given has to be forgotten, as all of it will be given once more.
stream_source <- function(source, query, rows, give, again) {
  stream <- format_record(source$format)$stream
  if (is.null(stream)) give(read_source(source, query)) else stream(source, query, rows, give, again)
}

stream_bytes <- 16e6  # of a text at a time

# Hands the records of a text of one a line to `give`, so many bytes at a time, unpacked.
stream_records <- function(source, quoted, call, give) {
  if (!is.character(source$content)) return(give(core(core_read_bytes(source$content, -1), source = source$name, call = call)))
  con <- gzfile(source$content, "rb")
  on.exit(close(con))
  rest <- raw()
  repeat {
    bytes <- readBin(con, "raw", stream_bytes)
    all <- c(rest, bytes)
    if (!length(bytes)) break
    end <- core(core_whole_records(all, quoted, FALSE))
    if (end > 0) give(all[seq_len(end)])
    rest <- all[seq_len(length(all) - end) + end]
  }
  if (length(all)) give(all)
}

close_source <- function(source) {
  close <- format_record(source$format)$close
  if (!is.null(close)) close(source)
  for (held in source$held) core(core_release_file(held))
  if (!is.null(source$temporary)) unlink(source$temporary, recursive = TRUE, expand = FALSE)
}

new_source <- function(format, path, layer = NULL, ..., name = path) {
  list(format = format, path = path, name = name, layer = layer, ...)
}

stem_of <- function(path) {
  # Not by basename(), which fails on names that the locale cannot write.
  folders <- if (.Platform$OS.type == "windows") ".*[/\\\\]" else ".*/"
  name <- sub("[.](gz|gzip)$", "", sub(folders, "", path), ignore.case = TRUE)
  tools::file_path_sans_ext(name)
}

# "store.gpkg#wards" as its `source` and `layer`, which is NULL where none is named so; a file of that whole name goes before.
split_place <- function(place) {
  found <- regmatches(place, regexec("^(.+)#([^#/\\\\]+)$", place))[[1]]
  web <- grepl("^https?://", place, ignore.case = TRUE)
  if (!length(found) || web || file.exists(path.expand(place))) return(list(source = place, layer = NULL))
  list(source = found[2], layer = found[3])
}

open_source <- function(source, layer = NULL, call = rlang::caller_env(2), listing = FALSE) {
  if (!rlang::is_string(source)) fail("argument", "{.arg source} must be a path, a web address or a database address.", call = call)
  place <- split_place(source)
  source <- place$source
  layer <- layer %||% place$layer
  format <- format_of_address(source)
  if (!is.null(format)) return(format_record(format)$open(source, layer, call, listing))
  if (grepl("^https?://", source, ignore.case = TRUE)) return(open_web(source, layer, call, listing))
  open_file(path.expand(source), layer, call, listing)
}

open_file <- function(path, layer, call, listing = FALSE, name = path) {
  if (dir.exists(path)) {
    fail("file", c("{.file {path}} is a folder.", i = "It holds: {.file {utils::head(list.files(path), 8)}}."), call = call)
  }
  if (!file.exists(path)) no_such_file(path, call)
  format <- format_of(path)
  if (is.na(format)) {
    fail("format", c("{.file {name}} is of no known format.", i = "These are read: {.val {unname(endings_of('endings'))}}."), call = call)
  }
  record <- format_record(format)
  force(name)
  held <- if (record$held) core(core_hold_file(path), source = name, call = call)
  opened <- NULL
  on.exit(if (is.null(opened) && !is.null(held)) core(core_release_file(held)))
  opened <- (record$open %||% open_single)(as.character(held %||% path), layer, call, listing = listing, name = name, format = format)
  opened$held <- c(opened$held, if (!is.null(held)) list(held))
  opened
}

# Files of one layer.
open_single <- function(path, layer, call, listing, name, format) {
  if (!is.null(layer) && layer != stem_of(name)) {
    fail("argument", c("{.file {name}} holds the single layer {.val {stem_of(name)}}.", i = "Leave out {.code {typed('layer', '--layer')}}."), call = call)
  }
  if (format_record(format)$reads == "members") return(new_source(format, path, members = members_beside(path), name = name))
  new_source(format, path, content = path, name = name)
}

no_such_file <- function(source, call) {
  folder <- dirname(source)
  near <- if (dir.exists(folder)) list.files(folder)
  near <- utils::head(by_nearness(basename(source), near), 3)
  fail("file", c("There is no file {.file {source}}.",
                 if (!dir.exists(folder)) c(i = "There is no folder {.file {folder}} either."),
                 if (length(near)) c(i = "Nearest names there: {.file {near}}.")), call = call)
}

# By ending, else by the first bytes; NA where neither tells.
format_of <- function(path) {
  known <- format_with(ending_of(path))
  if (is.na(known)) format_of_bytes(core(core_read_bytes(path, 512), source = path)) else known
}

format_of_bytes <- function(head) {
  begins <- function(record) !is.null(record$first_bytes) && identical(utils::head(head, length(record$first_bytes)), record$first_bytes)
  found <- Filter(begins, known_formats())
  if (length(found)) return(names(found)[1])
  text <- rawToChar(head[head != 0])
  Encoding(text) <- "bytes"
  text <- sub("^\\s*(\xef\xbb\xbf)?[\x1e\\s]*", "", text, useBytes = TRUE)
  reads_so <- function(record) !is.null(record$first_text) && grepl(record$first_text, text, ignore.case = TRUE, useBytes = TRUE)
  c(names(Filter(reads_so, known_formats())), NA)[1]
}

# Side files in any case: roads.SHP beside Roads.dbf.
members_beside <- function(path) {
  folder <- dirname(path)
  there <- list.files(folder, all.files = TRUE)
  found <- members_among(there, stem_of(path))
  lapply(found, function(file) file.path(folder, file))
}

# Of some names those of a stem's members, by ending; an exact stem goes before one in another case.
members_among <- function(names, stem) {
  found <- lapply(shapefile_members, function(ending) {
    hit <- names[ascii_lower(names) == ascii_lower(paste0(stem, ".", ending))]
    exact <- hit[tools::file_path_sans_ext(hit) == stem]
    if (length(hit)) c(exact, hit)[1]
  })
  found <- stats::setNames(found, shapefile_members)
  found[!vapply(found, is.null, NA)]
}

# The layer that was asked for, or the only one there is.
choose_layer <- function(layer, layers, name, call) {
  if (!is.null(layer)) return(one_of(layer, layers, "layer", call = call))
  if (length(layers) == 1) return(layers)
  behind <- paste0(name, "#", layers[1])
  fail("argument", c("{.file {name}} holds {length(layers)} layers.",
                     i = "Choose one with {.code {typed('layer', '--layer')}}, or behind the name, as {.file {behind}}: {.val {layers}}."), call = call)
}

# Asks for a package that a format needs, by name.
need_package <- function(package, why, call) {
  if (requireNamespace(package, quietly = TRUE)) return(invisible())
  fail("package", c("{why} needs the package {.pkg {package}}, which is not installed.",
                    i = "Install it: {.code install.packages(\"{package}\")}."), call = call)
}
