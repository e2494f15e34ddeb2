# Shapefiles and dBASE tables: which fields and records to read, and in what encoding.

register_format("shapefile", function() {
  new_format("Shapefile", "Shapefile Technical Description, 1998", c("shapes", "columns", "any CRS"), endings = c("shp", "shx"), written = "shp",
             first_bytes = as.raw(c(0, 0, 0x27, 0x0a)), reads = "members", read = read_shapefile, layers = layers_of_shapefile,
             header = header_of_shapefile, write = write_shapefile, stream = stream_shapefile, beside = c("shx", "dbf", "prj", "cpg"))
})

register_format("dbase", function() {
  new_format("dBASE table", "dBASE III to VFP", c("tables", "columns"), endings = "dbf", reads = "members", read = read_dbase,
             header = header_of_dbase, write = write_dbase, beside = "cpg")
})

shapefile_members <- c("shp", "shx", "dbf", "dbt", "fpt", "prj", "cpg")

# An open table: the core's reader, its fields with names in UTF-8, and the encoding of its text.
open_table <- function(source, query) {
  members <- source$members
  if (is.null(members$dbf)) return(NULL)
  name <- member_name(source, "dbf")
  reader <- core(core_open_dbase(members$dbf, members$dbt %||% members$fpt, query$skip_damaged), source = name, call = query$call)
  header <- core(core_dbase_header(reader))
  stated <- if (!is.null(members$cpg)) core(core_encoding_of_cpg(read_text(members$cpg, member_name(source, "cpg"), query$call))) else header$encoding
  encoding <- query$encoding %||% stated
  names <- field_names(decoded(header$names, encoding, query$call), name)
  list(reader = reader, names = names, types = header$types, decimals = header$decimals, records = header$records, encoding = encoding, name = name)
}

# Names of fields, each once: blank ones and those that another has are named anew, which is said.
field_names <- function(names, source) {
  out <- names
  blank <- !nzchar(trimws(names))
  out[blank] <- paste0("column_", which(blank))
  out <- make.unique(out, sep = "_")
  changed <- which(out != names)
  if (length(changed)) {
    shown <- escape(paste0("field ", changed, ifelse(blank[changed], ", which has no name", paste0(", a second \"", names[changed], "\"")), ": ", out[changed]))
    say(c("!" = "Fields of {.file {basename(source)}} named anew:", stats::setNames(shown, rep("*", length(shown)))))
  }
  out
}

member_name <- function(source, member) {
  place <- source$names[[member]] %||% source$members[[member]]
  if (is.character(place)) place else paste0(place$archive, "/", basename(place$entry))
}

# What an empty column of each field looks like, for choosing columns by type.
table_prototype <- function(table) {
  kinds <- list(C = character(), M = character(), N = double(), F = double(), L = logical(), D = as.Date(character()), I = integer(), O = double())
  stats::setNames(lapply(table$types, function(type) kinds[[type]] %||% character()), table$names)
}

read_fields <- function(table, fields, rows, query) {
  if (!length(fields)) return(list())
  found <- core(core_read_dbase(table$reader, match(fields, table$names), rows), source = table$name, call = query$call)
  columns <- stats::setNames(found$columns, fields)
  columns[found$beyond_ascii] <- lapply(columns[found$beyond_ascii], decoded, from = table$encoding, call = query$call)
  columns
}

# Reads the columns that `where` needs, then the others for the rows that are left.
read_table_rows <- function(table, rows, query) {
  wanted <- chosen_columns(query, table_prototype(table))
  tested <- read_fields(table, where_columns(query, table$names), rows, query)
  size <- length(rows)
  if (has_where(query)) {
    kept <- rows_where(query, tested, size)
    rows <- rows[kept]
    tested <- lapply(tested, function(column) column[kept])
  }
  rest <- read_fields(table, setdiff(wanted, names(tested)), rows, query)
  report_notices(core(core_read_dbase(table$reader, integer(), integer()))$notices, table$name)  # of all readings, once
  list(columns = named_as_chosen(c(tested, rest), wanted), rows = rows)
}

# What is read of members that are of one write: a change is waited for, or carried out where its writer ended in the middle. They are
# read by the names of open files, so that nobody can replace them meanwhile; where there are none, again, where somebody did.
of_one_write <- function(source, call, read) {
  if (any(vapply(source$members, is.list, NA))) return(read(source))  # entries of an archive
  for (attempt in 1:20) {
    found <- try_one_write(source, call, read)
    if (!is.null(found)) return(found$content)
  }
  fail("file", "{.file {source$name}} was replaced again and again while it was read.", call = call)
}

# NULL where somebody began to change the files.
try_one_write <- function(source, call, read) {
  core(core_settle_files(source$path, busy_wait()), call = call)
  source$names <- members_beside(source$path)
  before <- stamps_of(source$names)
  held <- hold_members(source$names)
  on.exit(lapply(held, function(one) core(core_release_file(one))))
  source$members <- if (is.null(held)) source$names else lapply(held, as.character)
  is_unchanged <- function() !core(core_being_changed(source$path)) && identical(stamps_of(members_beside(source$path)), before)
  found <- if (is.null(held) || is_unchanged()) tryCatch(list(content = read(source)), error = identity)
  if (is.null(held) && !is_unchanged()) return(NULL)
  if (inherits(found, "error")) rlang::cnd_signal(found)
  found
}

# All of some files held, or NULL: one may be gone, or not be readable, which who reads it tells.
hold_members <- function(paths) {
  held <- tryCatch(lapply(paths, function(path) core(core_hold_file(path))), civicatlas_error = function(e) NULL)
  if (length(held) && !any(vapply(held, is.null, NA))) held
}

read_dbase <- function(source, query) of_one_write(source, query$call, function(source) dbase_content(source, query))

dbase_content <- function(source, query) {
  table <- open_table(source, query)
  rows <- core(core_dbase_live(table$reader, NULL), source = table$name, call = query$call)
  found <- read_table_rows(table, rows, query)
  if (!is.null(source$members$shp)) say("The table alone was read; its shapes are in {.file {basename(member_name(source, 'shp'))}}.")
  layer_content(found$columns, NULL, table$records, query)
}

open_shapes <- function(source, query) {
  members <- source$members
  if (is.null(members$shp)) {
    fail("file", c("{.file {source$name}} has no .shp file.",
                   i = "Look for {.file {paste0(stem_of(source$name), '.shp')}} where the file came from."), call = query$call)
  }
  name <- member_name(source, "shp")
  reader <- core(core_open_shp(members$shp, members$shx, query$skip_damaged), source = name, call = query$call)
  list(reader = reader, header = core(core_shp_header(reader)), name = name)
}

read_shapefile <- function(source, query) of_one_write(source, query$call, function(source) shapefile_content(source, query))

stream_shapefile <- function(source, query, rows, give, again) {
  of_one_write(source, query$call, function(source) {
    all <- open_shapes(source, query)$header$records
    for (first in seq(1, max(all, 1), by = rows)) {
      query$range <- c(first, min(first + rows - 1, all))
      give(shapefile_content(source, query))
    }
  })
}

shapefile_content <- function(source, query) {
  shp <- open_shapes(source, query)
  table <- open_table(source, query)
  crs <- crs_of_source(source)
  query <- settle_window(query, crs)
  rows <- if (is.null(query$range)) seq_len(shp$header$records) else seq.int(query$range[1], length.out = diff(query$range) + 1)
  if (!is.null(query$within)) rows <- core(core_shp_within(shp$reader, query$within), source = shp$name, call = query$call)
  if (is.null(table)) {
    caution("data", "{.file {basename(source$name)}} has no .dbf file: the shapes have no attributes.")
    chosen_columns(query, character())
    where_columns(query, character())
    columns <- list()
  } else {
    records <- records_of_shapes(table, shp, rows, query)
    found <- read_table_rows(table, records$records, query)
    columns <- found$columns
    rows <- records$shapes[match(found$rows, records$records)]
  }
  shapes <- core(core_read_shp(shp$reader, rows), source = shp$name, call = query$call)
  report_notices(shapes$notices, shp$name)
  layer_content(columns, shapes_of_core(shapes, crs), shp$header$records, query)
}

# The table's records that go with some shapes. Deleted records usually keep their shape, which is left out with them;
# where the main file was packed and the table was not, the shapes go with the records that are left.
records_of_shapes <- function(table, shp, rows, query) {
  live <- function(rows) core(core_dbase_live(table$reader, rows), source = table$name, call = query$call)
  if (table$records == shp$header$records) {
    records <- live(rows)
    return(list(records = records, shapes = records))
  }
  records <- live(NULL)
  if (length(records) == shp$header$records) return(list(records = records[rows], shapes = rows))
  if (query$skip_damaged) {
    both <- rows[rows <= min(table$records, shp$header$records)]
    counts <- paste(format_count(shp$header$records), "shapes and", format_count(table$records), "records")
    caution("data", "{.file {basename(shp$name)}} has {counts}; those that pair off were read.")
    records <- live(both)
    return(list(records = records, shapes = records))
  }
  skip <- typed("damaged = \"skip\"", "--skip-damaged")
  fail("format", c("Cannot read {.file {shp$name}}.",
                   x = "It has {format_count(shp$header$records)} shapes and its table {format_count(length(records))} records, so rows cannot be told apart.",
                   i = "One of the two files is cut off or from another layer; {.code {skip}} reads those that pair off."), call = query$call)
}

# A .prj that cannot be read leaves the layer without a CRS rather than unread.
crs_of_source <- function(source) {
  prj <- source$members$prj
  if (is.null(prj)) return(NULL)
  name <- member_name(source, "prj")
  tryCatch(crs_from_text(read_text(prj, name, NULL), source = name), civicatlas_error = function(e) {
    caution("crs", c("The CRS in {.file {basename(name)}} cannot be read, so the layer has none.", x = "{said_by(e)}"))
    NULL
  })
}

layers_of_shapefile <- function(source) {
  shp <- open_shapes(source, new_query())
  list(layer = source$layer %||% stem_of(source$name), format = "shapefile", geometry_type = shp$header$kind)
}

header_of_shapefile <- function(source) of_one_write(source, NULL, shapefile_header)

shapefile_header <- function(source) {
  query <- new_query()
  shp <- open_shapes(source, query)
  table <- open_table(source, query)
  extent <- if (shp$header$records) shp$header$extent else rep(NA_real_, 4)
  list(rows = shp$header$records, kinds = shp$header$kind, extent = extent, crs = crs_of_source(source), fields = table_fields(table))
}

header_of_dbase <- function(source) of_one_write(source, NULL, dbase_header)

dbase_header <- function(source) {
  table <- open_table(source, new_query())
  list(rows = table$records, kinds = character(), extent = NULL, crs = NULL, fields = table_fields(table))
}

table_fields <- function(table) {
  words <- c(C = "text", M = "text", N = "number", F = "number", L = "logical", D = "date", I = "integer", O = "number", B = "number",
             T = "date and time", "@" = "date and time", Y = "number", "+" = "integer")
  type <- unname(words[table$types])
  type[table$types == "N" & table$decimals == 0] <- "integer"
  tibble::tibble(name = table$names %||% character(), type = ifelse(is.na(type), "text", type))
}

# Text from a table's encoding to UTF-8. Where none is stated, text that is valid UTF-8 is taken as it is, and other
# text as Windows-1252.
decoded <- function(text, from, call) {
  distinct <- unique(text)
  beyond_ascii <- !is.na(distinct) & !grepl("^[ -~]*$", distinct, useBytes = TRUE)
  if (!any(beyond_ascii)) return(text)
  bytes <- distinct[beyond_ascii]
  if (!nzchar(from)) from <- if (all(validUTF8(bytes))) "UTF-8" else "CP1252"
  Encoding(bytes) <- "unknown"
  utf8 <- tryCatch(iconv(bytes, from = from, to = "UTF-8"), error = function(e) unknown_encoding(from, call))
  lost <- is.na(utf8)
  if (any(lost)) {
    utf8[lost] <- iconv(bytes[lost], from = from, to = "UTF-8", sub = "byte")
    caution("data", c("{counted(sum(lost), 'text')} held bytes that are not {from}; they are shown as {.code <hh>}.",
                      i = "Name the right encoding with {.code {typed('encoding', '--encoding')}}."))
  }
  result <- distinct
  result[beyond_ascii] <- utf8
  result[match(text, distinct)]
}

unknown_encoding <- function(name, call) {
  fail("argument", c("The encoding {.val {name}} is not known.",
                     i = "Name another with {.code {typed('encoding', '--encoding')}}, for example {.val CP1252}."), call = call)
}

# --- writing -----------------------------------------------------------------------------------------------------------

shapefile_contents <- function(x, call) {
  shapes <- as_shapes(x)
  encoded <- core(core_encode_shapefile(handles_of(shapes), store_of(shapes)), call = call)
  if (encoded$empty) caution("data", "{counted(encoded$empty, 'empty shape')} written as null, as a shapefile has no empty shapes.")
  crs <- crs_of(shapes)
  if (is.null(crs)) caution("crs", "The layer has no CRS, so no .prj file is written.")
  table <- dbase_contents(x, call)
  prj <- if (!is.null(crs)) list(prj = charToRaw(core(core_crs_text(unclass(crs), "prj"), call = call)))
  structure(c(list(shp = encoded$shp, shx = encoded$shx), table, prj), renamed = attr(table, "renamed"))
}

dbase_contents <- function(x, call) {
  columns <- within_calendar(writable_columns(x, call))
  times <- names(columns)[vapply(attribute_table(x), inherits, NA, what = "POSIXt")]
  if (length(times)) caution("data", "Date-times are written as text, as dBASE has dates alone: {.val {times}}.")
  renamed <- short_names(names(columns))
  names(columns) <- renamed$written
  if (!length(columns)) {
    columns <- list(row = seq_len(nrow(x)))
    say("The layer has no columns; the table, which must have one, gets {.val row}.")
  }
  table <- core(core_encode_dbase(columns, nrow(x)), call = call)
  report_notices(table$notices, "the dBASE table")
  structure(list(dbf = table$dbf, cpg = charToRaw("UTF-8")), renamed = renamed[renamed$name != renamed$written, ])
}

write_shapefile <- function(x, target, options, call) {
  contents <- shapefile_contents(x, call)
  stem <- tools::file_path_sans_ext(target)
  stale <- setdiff("prj", names(contents))  # of the layer that was there before; it would label the new one
  size <- write_files(stats::setNames(contents, paste0(stem, ".", names(contents))), call, removed = paste0(stem, ".", stale, recycle0 = TRUE))
  structure(size, renamed = attr(contents, "renamed"))
}

write_dbase <- function(x, target, options, call) {
  if (is_spatial_frame(x)) caution("data", "The table alone is written; the shapes are left out.")
  contents <- dbase_contents(x, call)
  size <- write_files(stats::setNames(contents, paste0(tools::file_path_sans_ext(target), ".", names(contents))), call)
  structure(size, renamed = attr(contents, "renamed"))
}

write_shapefile_zip <- function(x, target, options, call) {
  contents <- shapefile_contents(x, call)
  names <- paste0(tools::file_path_sans_ext(basename(target)), ".", names(contents))
  size <- write_files(stats::setNames(list(core(core_encode_zip(names, unname(contents)), call = call)), target), call)
  structure(size, renamed = attr(contents, "renamed"))
}
