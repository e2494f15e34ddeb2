# Where a layer is, and in which format. A source is a list of `format`, `name` (as shown), `path`, `layer` and what the
# format needs, of the class source_<format>; each format has methods of these in a file of its own:
#   read_source(source, query)  columns, shapes and rows (see layer_content())
#   source_layers(source)       list of layer, format, geometry_type
#   source_header(source)       what describe_layer() tells without reading all
#   close_source(source)

read_source <- function(source, query) UseMethod("read_source")
source_layers <- function(source) UseMethod("source_layers")
source_header <- function(source) UseMethod("source_header")
close_source <- function(source) {
  for (held in source$held) core_release_file(held)
  UseMethod("close_source")
}

source_layers.default <- function(source) {
  table <- source$format %in% c("dbase")
  list(layer = source$layer %||% stem_of(source$name), format = source$format, geometry_type = if (table) "none" else NA_character_)
}
source_header.default <- function(source) NULL
close_source.default <- function(source) if (!is.null(source$temporary)) unlink(source$temporary, recursive = TRUE, expand = FALSE)

new_source <- function(format, path, layer = NULL, ..., name = path) {
  structure(list(format = format, path = path, name = name, layer = layer, ...), class = c(paste0("source_", format), "layer_source"))
}

stem_of <- function(path) {
  # Not by basename(), which fails on names that the locale cannot write.
  name <- sub("[.](gz|gzip)$", "", sub(".*[/\\\\]", "", path), ignore.case = TRUE)
  tools::file_path_sans_ext(name)
}

open_source <- function(source, layer = NULL, call = rlang::caller_env(2), listing = FALSE) {
  if (!rlang::is_string(source)) fail("argument", "{.arg source} must be a path, a web address or a database address.", call = call)
  if (grepl("^postgres(ql)?://", source)) return(open_postgres(source, layer, call, listing))
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
    fail("format", c("{.file {name}} is of no known format.",
                     i = "These are read: {.val {unique(names(file_formats))}}."), call = call)
  }
  open <- switch(format, zip = open_archive, kmz = open_archive, geopackage = open_geopackage, spreadsheet = open_spreadsheet, kml = open_kml, open_single)
  force(name)
  held <- if (!format %in% opened_by_name) core(core_hold_file(path), source = name, call = call)
  opened <- NULL
  on.exit(if (is.null(opened) && !is.null(held)) core_release_file(held))
  opened <- open(as.character(held %||% path), layer, call, listing = listing, name = name, format = format)
  opened$held <- c(opened$held, if (!is.null(held)) list(held))
  opened
}

# Whose readers look at other files beside theirs.
opened_by_name <- c("shapefile", "dbase", "geopackage", "spreadsheet")

# Files of one layer.
open_single <- function(path, layer, call, listing, name, format) {
  if (!is.null(layer) && layer != stem_of(name)) {
    fail("argument", c("{.file {name}} holds the single layer {.val {stem_of(name)}}.", i = "Leave out {.code {typed('layer', '--layer')}}."), call = call)
  }
  switch(format,
    shapefile = new_source("shapefile", path, members = members_beside(path), name = name),
    dbase = new_source("dbase", path, members = members_beside(path), name = name),
    new_source(format, path, content = path, name = name)
  )
}

no_such_file <- function(source, call) {
  folder <- dirname(source)
  near <- if (dir.exists(folder)) list.files(folder)
  near <- utils::head(near[order(utils::adist(basename(source), near, ignore.case = TRUE))], 3)
  fail("file", c("There is no file {.file {source}}.",
                 if (!dir.exists(folder)) c(i = "There is no folder {.file {folder}} either."),
                 if (length(near)) c(i = "Nearest names there: {.file {near}}.")), call = call)
}

file_formats <- c(
  shp = "shapefile", shx = "shapefile", dbf = "dbase", zip = "zip", geojson = "geojson", json = "geojson", geojsonl = "geojson",
  ndjson = "geojson", jsonl = "geojson", geojsons = "geojson", gpkg = "geopackage", kml = "kml", kmz = "kmz", csv = "csv", tsv = "csv",
  txt = "csv", xlsx = "spreadsheet", xls = "spreadsheet", parquet = "geoparquet", geoparquet = "geoparquet", wkt = "wkt", wkb = "wkb"
)

# By ending, else by the first bytes; NA where neither tells.
format_of <- function(path) {
  known <- unname(file_formats[ascii_lower(tools::file_ext(sub("[.]gz$", "", path, ignore.case = TRUE)))])
  if (!is.na(known)) return(known)
  format_of_bytes(core(core_read_bytes(path, 512), source = path))
}

format_of_bytes <- function(head) {
  for (format in names(first_bytes)) {
    bytes <- first_bytes[[format]]
    if (identical(utils::head(head, length(bytes)), bytes)) return(format)
  }
  text <- rawToChar(head[head != 0])
  Encoding(text) <- "bytes"
  text <- sub("^\\s*(\xef\xbb\xbf)?[\x1e\\s]*", "", text, useBytes = TRUE)
  found <- vapply(first_text, grepl, NA, text, ignore.case = TRUE, useBytes = TRUE)
  c(names(first_text)[found], NA)[1]
}

first_bytes <- list(
  shapefile = as.raw(c(0, 0, 0x27, 0x0a)), zip = charToRaw("PK\003\004"), geopackage = charToRaw("SQLite format 3"), geoparquet = charToRaw("PAR1")
)
first_text <- c(
  geojson = "^[{]", kml = "^(<[?]xml[^>]*>\\s*)?(<!--.*-->\\s*)?<kml",
  wkt = "^(SRID=[0-9]+;)?(MULTI)?(POINT|LINESTRING|POLYGON|GEOMETRYCOLLECTION)"
)

shapefile_members <- c("shp", "shx", "dbf", "dbt", "fpt", "prj", "cpg")

# Side files in any case: roads.SHP beside Roads.dbf.
members_beside <- function(path) {
  folder <- dirname(path)
  there <- list.files(folder)
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
  fail("argument", c("{.file {name}} holds {length(layers)} layers.", i = "Choose one with {.code {typed('layer', '--layer')}}: {.val {layers}}."), call = call)
}

# Asks for a package that a format needs, by name.
need_package <- function(package, why, call) {
  if (requireNamespace(package, quietly = TRUE)) return(invisible())
  fail("package", c("{why} needs the package {.pkg {package}}, which is not installed.",
                    i = "Install it: {.code install.packages(\"{package}\")}."), call = call)
}
