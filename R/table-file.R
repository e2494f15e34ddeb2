# Tables in CSV, TSV and spreadsheets, with coordinates or well-known text in their columns or none.

open_spreadsheet <- function(path, layer, call, listing, name, format) {
  need_package("readxl", "Reading a spreadsheet", call)
  sheets <- tryCatch(readxl::excel_sheets(path), error = function(e) {
    fail("format", c("Cannot read {.file {name}}.", x = "It is no spreadsheet, or a damaged one: {conditionMessage(e)}"), call = call)
  })
  opened <- new_source("spreadsheet", path, sheets = sheets, name = name)
  if (!listing) opened$layer <- choose_layer(layer, sheets, name, call)
  opened
}

source_layers.source_spreadsheet <- function(source) {
  list(layer = source$sheets, format = rep("spreadsheet", length(source$sheets)), geometry_type = rep(NA_character_, length(source$sheets)))
}

read_source.source_spreadsheet <- function(source, query) {
  data <- tryCatch(suppressMessages(readxl::read_excel(source$path, sheet = source$layer, guess_max = 100000L, .name_repair = "minimal")), error = function(e) {
    fail("format", c("Cannot read sheet {.val {source$layer}} of {.file {source$name}}.", x = "{conditionMessage(e)}"), call = query$call)
  })
  names(data) <- filled_names(names(data))
  table_layer(lapply(data, sheet_column), source, query)
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

read_source.source_csv <- function(source, query) {
  text <- read_delimited(source, query)
  table_layer(text, source, query)
}

# All columns as text first, so that "01" stays what it is; then those that are numbers, dates or logical become so.
read_delimited <- function(source, query) {
  bytes <- core(core_read_bytes(source$content, -1), source = source$name, call = query$call)
  if (!length(bytes)) fail("format", "{.file {source$name}} is empty.", call = query$call)
  text <- csv_text(bytes, query)
  separator <- csv_separator(source$name, text)
  data <- tryCatch(
    if (requireNamespace("data.table", quietly = TRUE)) {
      data.table::fread(text = text, sep = separator, header = TRUE, colClasses = "character", na.strings = NULL, quote = "\"", data.table = FALSE,
                        check.names = FALSE, encoding = "UTF-8", strip.white = FALSE, showProgress = FALSE)
    } else {
      utils::read.csv(text = text, sep = separator, colClasses = "character", na.strings = character(), check.names = FALSE, quote = "\"",
                      comment.char = "", fill = FALSE, encoding = "UTF-8")
    },
    warning = function(w) csv_failure(source, conditionMessage(w), query),
    error = function(e) csv_failure(source, conditionMessage(e), query)
  )
  names(data) <- filled_names(names(data))
  lapply(data, typed_column)
}

csv_failure <- function(source, text, query) {
  if (query$skip_damaged) caution("data", "{.file {source$name}} is read as far as its lines fit: {text}")
  fail("format", c("Cannot read {.file {source$name}}.", x = "{text}", i = "Each line must have as many fields as the first; quote fields that hold the separator."),
       call = query$call)
}

# The text in UTF-8, without a byte order mark.
csv_text <- function(bytes, query) {
  if (length(bytes) > 2 && identical(bytes[1:3], as.raw(c(0xef, 0xbb, 0xbf)))) bytes <- bytes[-(1:3)]
  if (length(bytes) > 1 && identical(bytes[1:2], as.raw(c(0xff, 0xfe)))) {
    return(iconv(list(bytes[-(1:2)]), "UTF-16LE", "UTF-8"))
  }
  if (any(bytes == 0)) fail("format", "The file holds zero bytes, so it is no table in text.", call = query$call)
  text <- rawToChar(bytes)
  from <- query$encoding %||% if (validUTF8(text)) "UTF-8" else "CP1252"
  if (from != "UTF-8") text <- iconv(text, from, "UTF-8", sub = "byte")
  if (!endsWith(text, "\n")) text <- paste0(text, "\n")
  Encoding(text) <- "UTF-8"
  text
}

# The separator that divides the first line most often, outside quotes.
csv_separator <- function(name, text) {
  if (grepl("[.]tsv(.gz)?$", name, ignore.case = TRUE)) return("\t")
  line <- gsub("\"[^\"]*\"", "", sub("[\r\n].*", "", text))
  candidates <- c(",", ";", "\t", "|")
  counts <- vapply(candidates, function(candidate) nchar(line) - nchar(gsub(candidate, "", line, fixed = TRUE)), 0L)
  candidates[which.max(counts)]
}

# Text that is all logical, whole numbers, numbers, dates or times becomes so; blanks are missing. Numbers with leading
# zeros or beyond 2^53 are names and stay text.
typed_column <- function(text) {
  if (!is.character(text)) return(text)
  text[!nzchar(trimws(text))] <- NA
  present <- unique(trimws(text[!is.na(text)]))
  if (!length(present)) return(text)
  is_all <- function(pattern) all(grepl(pattern, present, perl = TRUE))
  if (is_all("^(TRUE|FALSE|true|false|True|False)$")) return(as.logical(toupper(trimws(text))))
  if (is_all("^[-+]?(0|[1-9][0-9]*)([.][0-9]*)?([eE][-+]?[0-9]+)?$|^[-+]?[.][0-9]+$")) {
    numbers <- as.double(text)
    if (!is_all("^[-+]?[0-9]+$")) return(numbers)
    if (all(abs(numbers) <= .Machine$integer.max, na.rm = TRUE)) return(as.integer(numbers))
    if (all(abs(numbers) <= 2^53, na.rm = TRUE)) return(numbers)
    return(text)
  }
  if (is_all("^[0-9]{4}-[0-9]{2}-[0-9]{2}$")) {
    dates <- as.Date(text, optional = TRUE)
    if (!any(is.na(dates) & !is.na(text))) return(dates)
  }
  if (is_all("^[0-9]{4}-[0-9]{2}-[0-9]{2}[T ][0-9]{2}:[0-9]{2}:[0-9]{2}([.][0-9]+)?Z?$")) {
    times <- as_datetime(text)
    if (!any(is.na(times) & !is.na(text))) return(times)
  }
  text
}

# --- coordinates -----------------------------------------------------------------------------------------------------

coordinate_names <- list(c("lon", "lat"), c("longitude", "latitude"), c("long", "lat"), c("lng", "lat"), c("x", "y"), c("easting", "northing"), c("east", "north"))
wkt_names <- c("wkt", "geometry", "geom", "shape")

# The columns that hold shapes: list(coords =) or list(wkt =), as asked for or found by name, or NULL.
shape_columns <- function(data, query) {
  for (column in c(query$coords, query$wkt)) need_column(data, column, if (is.null(query$wkt)) "coords" else "wkt", call = query$call)
  if (!is.null(query$wkt)) return(list(wkt = query$wkt))
  if (!is.null(query$coords)) return(list(coords = query$coords))
  lower <- tolower(names(data))
  looks_like_wkt <- function(column) is.character(column) && all(grepl("^\\s*(SRID=[0-9]+;)?[A-Za-z]+\\s*(ZM?|M)?\\s*(\\(|EMPTY)", column[!is.na(column)]))
  for (name in wkt_names) {
    at <- match(name, lower)
    if (!is.na(at) && looks_like_wkt(data[[at]])) return(list(wkt = names(data)[at]))
  }
  for (pair in coordinate_names) {
    at <- match(pair, lower)
    if (!anyNA(at) && is.numeric(data[[at[1]]]) && is.numeric(data[[at[2]]])) return(list(coords = names(data)[at]))
  }
  NULL
}

# A table's columns, narrowed, and the shapes that stand in some of them.
table_layer <- function(data, source, query) {
  size <- vctrs::vec_size_common(!!!data)
  from <- shape_columns(data, query)
  rows <- rows_where(query, data[where_columns(query, names(data))], size)
  shapes <- if (!is.null(from)) shapes_in_columns(lapply(data, function(column) column[rows]), from, query)
  query <- settle_window(query, crs_of(shapes %||% new_shapes()))
  inside <- if (is.null(shapes)) seq_along(rows) else rows_within(query, shapes)
  if (is.null(shapes) && !is.null(query$within)) {
    fail("argument", c("{.file {source$name}} has no columns of coordinates, so {.arg within} cannot be used.",
                       i = "Name them with {.arg coords} or {.arg wkt}."), call = query$call)
  }
  data <- data[setdiff(names(data), unlist(from))]
  wanted <- chosen_columns(query, lapply(data, vctrs::vec_ptype))
  columns <- lapply(stats::setNames(data[wanted], names(wanted)), function(column) column[rows[inside]])
  layer_content(columns, if (!is.null(shapes)) shapes[inside], size, query)
}

shapes_in_columns <- function(data, from, query) {
  shapes <- if (!is.null(from$wkt)) {
    shapes_from_wkt(sub("^SRID=[0-9]+;", "", data[[from$wkt]]))
  } else {
    point_shapes(as_coordinate(data[[from$coords[1]]], from$coords[1], query$call), as_coordinate(data[[from$coords[2]]], from$coords[2], query$call))
  }
  lost <- sum(is.na(shapes))
  if (lost) caution("data", "{counted(lost, 'row')} of {length(shapes)} without coordinates got a missing shape.")
  shapes
}
