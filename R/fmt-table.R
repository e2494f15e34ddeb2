# Tables in CSV, TSV and spreadsheets, with coordinates or well-known text in their columns or none.

register_format("csv", function() {
  new_format("CSV, TSV", "RFC 4180", c("shapes", "tables", "columns"), endings = c("csv", "tsv", "txt"), written = c("csv", "tsv"), packed = c("csv", "tsv"),
             media_types = c("text/csv" = "csv"), read = read_csv, write = write_csv, stream = stream_csv)
})

register_format("spreadsheet", function() {
  new_format("Spreadsheet", "ECMA-376", c("shapes", "tables", "columns", "layers"), endings = c("xlsx", "xls"), reads = "path",
             open = open_spreadsheet, read = read_spreadsheet, layers = layers_of_spreadsheet)
})

open_spreadsheet <- function(path, layer, call, listing, name, format) {
  need_package("readxl", "Reading a spreadsheet", call)
  sheets <- read_apart(path, name, call, function() readxl::excel_sheets(path), function(e) {
    fail("format", c("Cannot read {.file {name}}.", x = "It is no spreadsheet, or a damaged one: {said_by(e)}"), call = call)
  })
  opened <- new_source("spreadsheet", path, sheets = sheets, name = name)
  if (!listing) opened$layer <- choose_layer(layer, sheets, name, call)
  opened
}

layers_of_spreadsheet <- function(source) {
  list(layer = source$sheets, format = rep("spreadsheet", length(source$sheets)), geometry_type = rep(NA_character_, length(source$sheets)))
}

read_spreadsheet <- function(source, query) {
  asked <- query$table
  read <- function() {
    suppressMessages(readxl::read_excel(source$path, sheet = source$layer, range = asked$range, skip = asked$skip %||% 0, na = c("", asked$missing),
                                        guess_max = 100000L, .name_repair = "minimal"))
  }
  data <- read_apart(source$path, source$name, query$call, read, function(e) {
    fail("format", c("Cannot read sheet {.val {source$layer}} of {.file {source$name}}.", x = "{said_by(e)}"), call = query$call)
  })
  names(data) <- filled_names(names(data))
  table_layer(lapply(data, function(column) numbers_of_text(sheet_column(column), query)), source, query)
}

filled_names <- function(names) {
  names <- trimws(names)
  blank <- is.na(names) | !nzchar(names)
  names[blank] <- paste0("column_", which(blank))
  make.unique(names, sep = "_")
}

# A day without a time is a date; whole numbers that fit are integers.
sheet_column <- function(column) {
  if (inherits(column, "POSIXct") && all(as.double(column) %% 86400 == 0, na.rm = TRUE)) return(as.Date(column))
  if (is.double(column) && !is.object(column) && all(column == round(column) & abs(column) < 2^31, na.rm = TRUE)) return(as.integer(column))
  column
}

# The core makes numbers of columns that hold nothing else, so that "01" stays what it is; then those that are dates or logical become so.
read_csv <- function(source, query) csv_content(core(core_read_bytes(source$content, -1), source = source$name, call = query$call), source, query)

stream_csv <- function(source, query, rows, give, again) {
  if (is_wide(source, query$call)) return(give(read_csv(source, query)))  # whose line ends are no single bytes
  header <- NULL
  stream_records(source, quoted = TRUE, query$call, function(bytes) {
    if (is.null(header)) header <<- utils::head(bytes, core(core_whole_records(bytes, TRUE, TRUE))) else bytes <- c(header, bytes)
    give(csv_content(bytes, source, query))
  })
}

csv_content <- function(bytes, source, query) {
  bytes <- without_first_lines(in_utf8(bytes, source, query), query$table$skip %||% 0)
  separator <- csv_separator(source$name, bytes)
  settled <- is.null(query$table$decimal) && is.null(query$table$missing)
  table <- core(core_read_delimited(bytes, separator, query$skip_damaged, settled), source = source$name, call = query$call)
  report_notices(table$notices, source$name)
  data <- lapply(table$columns, function(column) typed_column(numbers_of_text(column, query)))
  names(data) <- filled_names(names(data))
  if (separator == ";" && settled) tell_of_points(data, basename(source$name))
  table_layer(data, source, query)
}

# The text below so many lines, of titles and notes.
without_first_lines <- function(bytes, lines) {
  if (!lines) return(bytes)
  ends <- which(bytes == as.raw(10))
  if (length(ends) < lines) raw() else bytes[-seq_len(ends[lines])]
}

# Text as the user says that a table writes numbers: what stands for missing values, and the mark of decimals.
numbers_of_text <- function(text, query) {
  asked <- query$table
  if (!is.character(text) || (is.null(asked$decimal) && is.null(asked$missing))) return(text)
  text[trimws(text) %in% asked$missing] <- NA
  if (identical(asked$decimal %||% ".", ".")) return(core(core_settle_numbers(text)))
  mended <- mend_text(text, asked$decimal, "NA")
  if (mended$count && !length(c(mended$unread, mended$zeros, mended$large))) mended$values else text
}

# In a file of decimal commas, points may divide thousands.
tell_of_points <- function(data, name) {
  has_commas <- function(column) is.character(column) && mean(grepl("^\\s*-?[0-9.]*,[0-9]+\\s*$", column[!is.na(column)])) %in% 1
  has_points <- function(column) {
    is.double(column) && !is.object(column) && any(column != round(column), na.rm = TRUE) && all(is_thousandth(column), na.rm = TRUE)
  }
  if (!any(vapply(data, has_commas, NA))) return(invisible())
  columns <- names(data)[vapply(data, has_points, NA)]
  remedy <- typed("decimal = \",\"", "--decimal ,")
  if (!length(columns)) return(say(c("!" = "{.file {name}} writes decimals with a comma: read it with {.code {remedy}}.")))
  caution("data", c("{.file {name}} writes decimals with a comma, and points in {.val {columns}}, which were taken to divide decimals.",
                    i = "{.code {remedy}} takes them to divide thousands, and reads the commas."))
}

is_thousandth <- function(values) abs(values * 1000 - round(values * 1000)) < 1e-6

# The text in UTF-8, without a byte order mark. What is not valid UTF-8 is taken for Windows-1252 unless told otherwise.
in_utf8 <- function(bytes, source, query) {
  for (encoding in names(byte_order_marks)) {
    mark <- byte_order_marks[[encoding]]
    if (!identical(utils::head(bytes, length(mark)), mark)) next
    bytes <- bytes[-seq_along(mark)]
    if (encoding != "UTF-8") return(from_wide(bytes, encoding, source, query))
  }
  if (any(bytes == 0)) {
    fail("format", c("Cannot read {.file {source$name}}.", x = "It holds zero bytes, so it is no text."), call = query$call)
  }
  text <- rawToChar(bytes)
  from <- query$encoding %||% if (validUTF8(text)) "UTF-8" else "CP1252"
  if (ascii_upper(from) %in% c("UTF-8", "UTF8")) return(bytes)
  if (is.null(query$encoding)) return(lines_in_utf8(bytes, text, source))
  charToRaw(tryCatch(iconv(text, from, "UTF-8", sub = "byte"), error = function(e) unknown_encoding(from, query$call)))
}

# Each line in UTF-8: those that are none are taken for Windows-1252, and told where others are UTF-8 beyond ASCII.
lines_in_utf8 <- function(bytes, text, source) {
  lines <- strsplit(text, "\n", fixed = TRUE, useBytes = TRUE)[[1]]
  other <- which(!validUTF8(lines))
  lines[other] <- iconv(lines[other], "CP1252", "UTF-8", sub = "byte")
  if (any(grepl("[^ -~\t\r]", lines[-other], useBytes = TRUE))) {
    caution("data", c("{.file {basename(source$name)}} is UTF-8, and {counted(length(other), 'line')} not, first line {other[1]}: taken for Windows-1252.",
                      i = "Name one encoding for all with {.code {typed('encoding', '--encoding')}}."))
  }
  out <- charToRaw(paste(lines, collapse = "\n"))
  if (bytes[length(bytes)] == charToRaw("\n")) c(out, charToRaw("\n")) else out
}

# The wider ones first, of which one begins as a narrower one does.
byte_order_marks <- list(
  "UTF-8" = as.raw(c(0xef, 0xbb, 0xbf)), "UTF-32LE" = as.raw(c(0xff, 0xfe, 0, 0)), "UTF-32BE" = as.raw(c(0, 0, 0xfe, 0xff)),
  "UTF-16LE" = as.raw(c(0xff, 0xfe)), "UTF-16BE" = as.raw(c(0xfe, 0xff))
)

is_wide <- function(source, call) {
  head <- core(core_read_bytes(source$content, 4), source = source$name, call = call)
  any(vapply(byte_order_marks[-1], function(mark) identical(utils::head(head, length(mark)), mark), NA))
}

from_wide <- function(bytes, encoding, source, query) {
  width <- if (startsWith(encoding, "UTF-32")) 4 else 2
  mark <- length(byte_order_marks[[encoding]])
  broken <- function(x) fail("format", c("Cannot read {.file {source$name}}.", x = x), call = query$call)
  if (length(bytes) %% width) {
    broken("It ends in the middle of a character of {encoding}, at byte {format_count(mark + length(bytes) - length(bytes) %% width)}.")
  }
  text <- iconv(list(bytes), encoding, "UTF-8")
  if (is.na(text)) broken("It says that it is {encoding}, but holds what is none.")
  charToRaw(text)
}

# The separator that divides the first line most often, outside quotes.
csv_separator <- function(name, bytes) {
  if (grepl("[.]tsv(.gz)?$", name, ignore.case = TRUE)) return("\t")
  line <- sub("[\r\n].*", "", rawToChar(utils::head(bytes, 65536)), useBytes = TRUE)
  line <- gsub("\"[^\"]*\"", "", line, useBytes = TRUE)
  candidates <- c(",", ";", "\t", "|")
  counts <- vapply(candidates, function(candidate) nchar(line, "bytes") - nchar(gsub(candidate, "", line, fixed = TRUE, useBytes = TRUE), "bytes"), 0L)
  candidates[which.max(counts)]
}

# Text that is all logical, dates or times becomes so; anything else stays text.
typed_column <- function(text) {
  if (!is.character(text)) return(text)
  blank <- trimws(text) %in% c("", "NA")  # as R writes it, beside values of another type
  present <- unique(trimws(text[!is.na(text) & !blank]))
  for (type in column_types) {
    if (!length(present) || !all(grepl(type$pattern, present, perl = TRUE))) next
    values <- type$convert(replace(text, blank, NA))
    if (is.null(values)) break
    if (!anyNA(values[!is.na(text) & !blank])) return(values)
  }
  text
}

column_types <- list(
  list(pattern = "^(TRUE|FALSE|true|false|True|False)$", convert = function(text) as.logical(ascii_upper(trimws(text)))),
  list(pattern = "^[0-9]{4}-[0-9]{2}-[0-9]{2}$", convert = function(text) as.Date(text, optional = TRUE)),
  list(pattern = "^[0-9]{4}-[0-9]{2}-[0-9]{2}[T ][0-9]{2}:[0-9]{2}:[0-9]{2}([.][0-9]+)?(Z|[-+][0-9]{2}:?[0-9]{2})?$",
       convert = function(text) as_datetime(text))
)

# --- coordinates -----------------------------------------------------------------------------------------------------

# The columns that hold shapes: list(coords =) or list(wkt =), as asked for or found by name, or NULL.
shape_columns <- function(data, query) {
  for (column in query$coords) need_column(data, column, "coords", call = query$call)
  for (column in query$wkt) need_column(data, column, "wkt", call = query$call)
  if (!is.null(query$wkt)) return(list(wkt = query$wkt))
  if (!is.null(query$coords)) return(list(coords = query$coords))
  likely_shape_columns(data)
}

# A table's columns, narrowed, and the shapes that stand in some of them.
table_layer <- function(data, source, query) {
  size <- vctrs::vec_size_common(!!!data)
  from <- shape_columns(data, query)
  rows <- rows_where(query, data[where_columns(query, names(data))], size)
  shapes <- if (!is.null(from)) shapes_in_columns(lapply(data, function(column) column[rows]), from, query)
  query <- settle_window(query, crs_of(shapes %||% new_shapes()))
  inside <- if (is.null(shapes)) seq_along(rows) else rows_within(query, shapes)
  data <- data[setdiff(names(data), unlist(from))]
  wanted <- chosen_columns(query, lapply(data, vctrs::vec_ptype))
  columns <- lapply(named_as_chosen(data, wanted), function(column) column[rows[inside]])
  layer_content(columns, if (!is.null(shapes)) shapes[inside], size, query)
}

shapes_in_columns <- function(data, from, query) {
  shapes <- if (!is.null(from$wkt)) {
    shapes_from_wkt(sub("^SRID=[0-9]+;", "", data[[from$wkt]]))
  } else {
    axes <- lapply(from$coords, function(name) as_coordinate(data[[name]], name, query$call))
    point_shapes(axes[[1]], axes[[2]])
  }
  lost <- sum(is.na(shapes))
  if (lost) caution("data", "{counted(lost, 'row')} of {length(shapes)} without coordinates got a missing shape.")
  shapes
}

# --- writing -----------------------------------------------------------------------------------------------------------

write_csv <- function(x, target, options, call) {
  separator <- if (ending_of(target) == "tsv") "\t" else ","
  columns <- writable_columns(x, call, keep = character())
  if (is_spatial_frame(x)) columns <- c(columns, columns_of_shapes(as_shapes(x), names(columns), options))
  text <- lapply(columns, delimited_text, separator = separator)
  header <- paste(delimited_text(names(columns), separator), collapse = separator)
  lines <- c(header, if (nrow(x)) do.call(paste, c(unname(text), sep = separator)))
  bytes <- charToRaw(enc2utf8(paste0(paste(lines, collapse = "\n"), "\n")))
  write_files(stats::setNames(list(packed(bytes, target)), target), call)
}

# Cells as text: every digit of a number that counts, quotes where a reader needs them, nothing for a missing value.
delimited_text <- function(column, separator) {
  text <- if (is.double(column)) core(core_number_text(column, -1L)) else as.character(column)
  quoted <- !is.na(text) & (grepl(paste0("[\"\r\n", separator, "]"), text) | !nzchar(text) | grepl("^\\s|\\s$", text))
  text[quoted] <- paste0("\"", gsub("\"", "\"\"", text[quoted], fixed = TRUE), "\"")
  text[is.na(text)] <- ""
  text
}

# Points in two columns, or as text where columns of the layer would be taken for them on reading; other shapes as text where that is asked for, as cells of
# thousands of characters are no use in a spreadsheet.
columns_of_shapes <- function(shapes, taken, options) {
  points <- identical(unique(stats::na.omit(core(core_types(handles_of(shapes), store_of(shapes))))), 1L)
  if (identical(options$shapes, "none")) return(NULL)
  if (!points && is.null(options$shapes)) {
    say("CSV: the shapes of {counted(length(shapes), 'row')} were left out; {.code shapes = \"wkt\"} writes them as text.")
    return(NULL)
  }
  tell_crs_lost(crs_of(shapes))
  if (points && is.null(options$shapes) && fit_in_columns(shapes, taken)) return(coordinate_columns(shapes, options$decimals))
  text <- wkt_of(shapes, if (options$decimals >= 0) options$decimals)
  stats::setNames(list(text), setdiff(wkt_names, ascii_lower(taken))[1])
}

# Whether points read back from two columns: none is empty, and no other columns would be taken for coordinates.
fit_in_columns <- function(points, taken) {
  mistaken <- any(vapply(coordinate_names, function(pair) any(pair %in% ascii_lower(taken)), NA))
  !mistaken && !any(core(core_vertex_counts(handles_of(points), store_of(points))) == 0 & !is.na(points))
}

tell_crs_lost <- function(crs) {
  if (is.null(crs)) return(invisible())
  again <- typed(paste("crs =", crs_argument(crs, "...")), paste("--declare-crs", crs_argument(crs, "CRS")))
  say("CSV holds no CRS; read it back with {.code {again}}.")
}

coordinate_columns <- function(points, decimals) {
  crs <- crs_of(points)
  boxes <- core(core_boxes(handles_of(points), store_of(points)))
  names <- if (!is.null(crs) && crs$kind == "geographic") c("lon", "lat") else c("x", "y")
  stats::setNames(lapply(1:2, function(axis) core(core_number_text(boxes[axis, ], decimals))), names)
}

shapes_in_tables <- c("wkt", "none")
