# A format is one record: how it is told, what it holds, and the functions that open, read and write it. Files of R/fmt-*.R register
# theirs, and nothing else has to know of them: adding a format is adding such a file.

# All records by name.
known_formats <- function() {
  if (is.null(formats$records)) formats$records <- lapply(formats$makers, function(make) make())
  formats$records
}

format_record <- function(name) known_formats()[[name]]

# * `title` and `standard` as the documentation has them.
# * `endings` by which files are told, `written` those that are written to, `packed` those of them that .gz may follow;
#   `first_bytes` or `first_text` (a pattern) where there is no such ending; `media_types` as servers name them, by ending; `address` a
#   pattern of what is no file.
# * `holds`: some of `format_abilities`.
# * `reads`: "content" (one file, also as an entry of an archive), "members" (files beside each other) or "path" (a file of its own).
#   A file is `held` open while it is read, unless the reader goes by names.
# * `open(path, layer, call, listing, name, format)` gives a source (see new_source()); for an address `open(address, layer, call, listing)`.
#   NULL: a source of a single layer.
# * `read(source, query)` gives columns, shapes and rows (see layer_content()); `layers(source)` a list of layer, format and geometry_type;
#   `header(source)` what describe_layer() tells without reading all; `close(source)` lets go of what `open` took.
# * `stream(source, query, rows, give, again)` reads it in pieces (see stream_source()); NULL where it is only read whole.
# * `write(x, target, options, call)` writes and gives the size in bytes, with the table of renamed columns as attribute `renamed`, or that
#   table alone for an address. `beside` are the endings of files that go with one that is written.
new_format <- function(title, standard, holds, endings = character(), written = endings, packed = character(), first_bytes = NULL,
                       first_text = NULL, media_types = character(), address = NULL, reads = "content", held = reads == "content",
                       open = NULL, read = NULL, stream = NULL, layers = NULL, header = NULL, close = NULL, write = NULL, beside = character()) {
  stopifnot(all(holds %in% format_abilities), reads %in% c("content", "members", "path"))
  list(
    title = title, standard = standard, holds = holds, endings = endings, written = if (!is.null(write)) written, packed = packed,
    first_bytes = first_bytes, first_text = first_text, media_types = media_types, address = address, reads = reads, held = held,
    open = open, read = read, stream = stream, layers = layers, header = header, close = close, write = write, beside = beside
  )
}

# Shapes, tables without shapes, columns beside the shapes, several layers in one file, rows appended to a layer, any CRS, one with a code.
format_abilities <- c("shapes", "tables", "columns", "layers", "append", "any CRS", "coded CRS")

holds <- function(name, ability) ability %in% format_record(name)$holds

# All of one field, named for the formats: endings_of("written") is c(shapefile = "shp", ...).
endings_of <- function(field, ability = NULL) {
  records <- known_formats()
  if (!is.null(ability)) records <- Filter(function(record) ability %in% record$holds, records)
  found <- lapply(records, `[[`, field)
  stats::setNames(as.character(unlist(found, use.names = FALSE)), rep(names(found), lengths(found)))
}

# The format that has an ending among those of a field; NA where none has.
format_with <- function(ending, field = "endings") {
  endings <- endings_of(field)
  names(endings)[match(ascii_lower(ending), endings)]
}

# The ending of a name, before that of gzip.
ending_of <- function(path) ascii_lower(tools::file_ext(sub("[.]gz$", "", path, ignore.case = TRUE)))

# The format whose addresses look so; NULL for what is a path.
format_of_address <- function(source) {
  for (name in names(known_formats())) {
    pattern <- format_record(name)$address
    if (!is.null(pattern) && grepl(pattern, source, ignore.case = TRUE)) return(name)
  }
}

#' Formats of layers
#'
#' What [read_layer()] reads, and [write_layer()] writes. A file of an unknown ending is told by its first bytes; files are also read from
#' zip archives, packed by gzip, and from web addresses.
#'
#' @return A tibble of one row a format: `format`, `endings` (by which files are told, or how an address begins), `written` (`FALSE` where it is
#'   only read), `layers` (several in one file), `append` (of rows to a layer that is there), `tables` (without shapes), `crs` (`"any"`,
#'   `"by code"` or `"fixed or none"`) and `standard`.
#' @examples
#' layer_formats()
#' @export
layer_formats <- function() {
  records <- known_formats()
  has <- function(ability) vapply(records, function(record) ability %in% record$holds, NA, USE.NAMES = FALSE)
  tibble::tibble(
    format = vapply(records, `[[`, "", "title", USE.NAMES = FALSE), endings = vapply(records, how_told, "", USE.NAMES = FALSE),
    written = !vapply(records, function(record) is.null(record$write), NA, USE.NAMES = FALSE),
    layers = has("layers"), append = has("append"), tables = has("tables"),
    crs = ifelse(has("any CRS"), "any", ifelse(has("coded CRS"), "by code", "fixed or none")),
    standard = vapply(records, `[[`, "", "standard", USE.NAMES = FALSE)
  )
}

how_told <- function(record) {
  if (!is.null(record$address)) return(gsub("[(^]|[)][?]", "", record$address))
  if (length(record$endings)) paste0(".", record$endings, collapse = " ") else "address of a collection"
}

# The section on formats of help pages.
formats_in_help <- function() {
  formats <- layer_formats()
  items <- sprintf("* %s (%s)%s: %s", formats$format, formats$endings, ifelse(formats$written, "", ", read only"), formats$standard)
  c("@section Formats:", "Those of [layer_formats()], with their standards:", "", items)
}
