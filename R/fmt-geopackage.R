# GeoPackage (OGC 12-128r18): an SQLite file of feature and attribute tables, read through RSQLite.

register_format("geopackage", function() {
  new_format("GeoPackage", "OGC 12-128r18", c("shapes", "tables", "columns", "layers", "append", "any CRS"), endings = "gpkg",
             first_bytes = charToRaw("SQLite format 3"), media_types = c("application/geopackage+sqlite3" = "gpkg"), reads = "path",
             open = open_geopackage, read = read_geopackage, layers = layers_of_geopackage, header = header_of_geopackage,
             close = close_geopackage, write = write_geopackage, stream = stream_database)
})

open_geopackage <- function(path, layer, call, listing, name, format) {
  con <- connect_geopackage(path, name, call, write = FALSE)
  opened <- new_source("geopackage", path, con = con, name = name)
  on.exit(DBI::dbDisconnect(con))
  tables <- geopackage_tables(con, name, call)
  if (!listing) {
    if (!nrow(tables)) fail("format", "{.file {name}} is a GeoPackage without layers.", call = call)
    opened$layer <- choose_layer(layer, tables$table_name, name, call)
    opened$table <- as.list(tables[tables$table_name == opened$layer, ])
  }
  opened$tables <- tables
  on.exit()
  opened
}

connect_geopackage <- function(path, name, call, write) {
  if (write) return(connect_sqlite(path, name, call, RSQLite::SQLITE_RWC))
  finish_journal(path, name, call)
  connect_to_read(path, name, call)
}

# Waits for another process to let go of the file, for some seconds.
connect_sqlite <- function(path, name, call, flags) {
  con <- geopackage_step(name, call, DBI::dbConnect(RSQLite::SQLite(), path, flags = flags, bigint = "integer64",
                                                    loadable.extensions = FALSE, synchronous = NULL))
  RSQLite::sqliteSetBusyHandler(con, as.integer(1000 * busy_wait()))
  con
}

# What a writer that ended in the middle left behind is undone, for which the file has to be opened to write.
finish_journal <- function(path, name, call) {
  journal <- paste0(path, "-journal")
  if (!isTRUE(file.size(journal) > 0)) return(invisible())
  tryCatch({
    con <- connect_sqlite(path, name, call, RSQLite::SQLITE_RW)
    on.exit(DBI::dbDisconnect(con))
    DBI::dbGetQuery(con, "SELECT count(*) FROM sqlite_master")
  }, error = function(e) {
    if (grepl("locked|busy|held", conditionMessage(e))) return()
    beside_writable(name, journal, "its last writer ended in the middle, which has to be undone", said_by(e), call)
  })
}

# A file with a write-ahead log wants to write beside itself even to be read; where it cannot, and the log is empty, nobody
# else can either, and it is read as it is.
connect_to_read <- function(path, name, call) {
  con <- connect_sqlite(path, name, call, RSQLite::SQLITE_RO)
  problem <- tryCatch({
    DBI::dbGetQuery(con, "SELECT count(*) FROM sqlite_master")
    NULL
  }, error = said_by)
  if (is.null(problem) || !grepl("readonly|unable to open", problem)) return(con)
  DBI::dbDisconnect(con)
  log <- paste0(path, "-wal")
  if (isTRUE(file.size(log) > 0)) beside_writable(name, log, "part of it is in its write-ahead log", problem, call)
  address <- gsub("%2F", "/", utils::URLencode(normalizePath(path, "/"), reserved = TRUE, repeated = TRUE), fixed = TRUE)
  connect_sqlite(paste0("file:", address, "?immutable=1"), name, call, bitwOr(RSQLite::SQLITE_RO, sqlite_uri))
}

sqlite_uri <- 64L  # SQLITE_OPEN_URI: the path is an address with options

beside_writable <- function(name, beside, why, problem, call) {
  fail("file", c("Cannot read {.file {name}}: {why}.", x = "{problem}",
                 i = "Copy it together with {.file {basename(beside)}} to a folder where you may write, and read it there."), call = call)
}

# Errors of the database as ours.
geopackage_step <- function(name, call, expr) {
  tryCatch(expr, error = function(e) {
    if (inherits(e, "civicatlas_error")) rlang::cnd_signal(e)
    text <- said_by(e)
    if (grepl("locked|busy", text)) {
      holder <- in_a_child(function() core(core_process_holding(name)), died = function() 0L)
      who <- if (holder > 0) paste("process", holder) else "another process"
      fail("file", c("{.file {name}} is held by {who}.", x = "{text}", i = "Close it there, then try again; nothing was changed."), call = call)
    }
    if (grepl("not a database|malformed|encrypted|disk image", text)) {
      fail("format", c("Cannot read {.file {name}}.", x = "It is no SQLite file, or a damaged one: {text}"), call = call)
    }
    fail("file", c("Cannot use {.file {name}}.", x = "{text}"), call = call)
  })
}

geopackage_tables <- function(con, name, call) {
  there <- geopackage_step(name, call, DBI::dbListTables(con))
  if (!"gpkg_contents" %in% there) {
    fail("format", c("{.file {name}} is an SQLite file but no GeoPackage: it has no table gpkg_contents.",
                     i = "Its tables: {.val {utils::head(there, 8)}}."), call = call)
  }
  geometry <- "gpkg_geometry_columns" %in% there
  sql <- paste(
    "SELECT c.table_name, c.data_type, c.min_x, c.min_y, c.max_x, c.max_y,",
    if (geometry) "g.column_name, g.geometry_type_name, g.srs_id" else "NULL AS column_name, NULL AS geometry_type_name, NULL AS srs_id",
    "FROM gpkg_contents c", if (geometry) "LEFT JOIN gpkg_geometry_columns g ON g.table_name = c.table_name",
    "WHERE c.data_type IN ('features', 'attributes') ORDER BY c.rowid"
  )
  tables <- geopackage_step(name, call, DBI::dbGetQuery(con, sql))
  tables[tables$table_name %in% there, ]
}

close_geopackage <- function(source) {
  DBI::dbDisconnect(source$con)
  if (!is.null(source$temporary)) unlink(source$temporary, recursive = TRUE, expand = FALSE)
}

layers_of_geopackage <- function(source) {
  type <- geopackage_kinds[ascii_upper(source$tables$geometry_type_name)]
  list(layer = source$tables$table_name, format = rep("geopackage", nrow(source$tables)),
       geometry_type = ifelse(is.na(source$tables$column_name), "none", unname(type)))
}

geopackage_kinds <- c(
  POINT = "point", LINESTRING = "line", POLYGON = "polygon", MULTIPOINT = "multipoint", MULTILINESTRING = "multiline",
  MULTIPOLYGON = "multipolygon", GEOMETRYCOLLECTION = "collection", GEOMETRY = NA
)

# The attribute columns of a table with their declared types, without the key that only numbers the rows.
geopackage_fields <- function(source) {
  info <- geopackage_columns(source$con, source$layer)
  number <- info$pk > 0 & info$name %in% c("fid", "row_fid")
  info <- info[!number & !info$name %in% source$table$column_name, ]
  list(name = info$name, declared = ascii_upper(sub("\\(.*", "", info$type)))
}

# Generated columns are among them, hidden ones of virtual tables are not.
geopackage_columns <- function(con, layer) {
  info <- DBI::dbGetQuery(con, paste0("PRAGMA table_xinfo(", quoted(con, layer), ")"))
  info[info$hidden != 1, ]
}

# The number of a row: its key, which need not be named so, or SQLite's own name for it that no column has; NULL without one.
geopackage_row_number <- function(con, layer) {
  info <- geopackage_columns(con, layer)
  key <- info$name[info$pk > 0 & ascii_upper(info$type) == "INTEGER"]
  if (sum(info$pk > 0) == 1 && length(key) == 1) return(quoted(con, key))
  free <- setdiff(c("rowid", "_rowid_", "oid"), ascii_lower(info$name))
  if (length(free) && !is_view(con, layer)) free[1]
}

sqlite_dialect <- new_dialect(
  types = c(logical = "BOOLEAN", integer = "INTEGER", whole = "INTEGER", number = "DOUBLE", text = "TEXT", date = "DATE", datetime = "DATETIME", blob = "BLOB"),
  kinds = c(BOOLEAN = "logical", TINYINT = "number", SMALLINT = "number", MEDIUMINT = "number", INT = "number", INTEGER = "number",
            FLOAT = "number", DOUBLE = "number", REAL = "number", TEXT = "text", DATE = "date", DATETIME = "datetime", BLOB = "blob"),
  parameter = function(number, kind) paste0("?", number),
  # SQLite keeps text in columns of numbers too, which is above every number to it and missing here; columns may have an order of their own.
  column = function(sql, kind) {
    if (kind == "number") sprintf("(CASE WHEN typeof(%1$s) IN ('integer', 'real') THEN %1$s END)", sql) else paste(sql, "COLLATE BINARY")
  },
  # SQLite's LIKE takes A for a; its GLOB does not.
  like = function(sql, parameter, pattern) sprintf("(%s GLOB %s)", sql, parameter(pattern_as_glob(pattern)))
)

# % and _ as * and ?; what GLOB would take for its own signs stands in brackets.
pattern_as_glob <- function(pattern) {
  translate_pattern(pattern, c("%" = "*", "_" = "?"), function(letter) if (letter %in% c("*", "?", "[")) paste0("[", letter, "]") else letter)
}

read_geopackage <- function(source, query) {
  if (!is_view(source$con, source$layer)) return(read_geopackage_table(source, query))
  query[c("give", "again")] <- list(NULL)  # nothing is handed on from the other process before its end
  of_view(source, query$call, function(source) read_geopackage_table(source, query))
}

# What a view gives may have no end: it is asked for in a process of its own, which takes no more memory than a file may, and ends where this one is
# interrupted.
of_view <- function(source, call, work) {
  read_apart(source$path, source$name, call, function() {
    source$con <- connect_to_read(source$path, source$name, call)
    on.exit(DBI::dbDisconnect(source$con))
    work(source)
  })
}

read_geopackage_table <- function(source, query) {
  con <- source$con
  geopackage_step(source$name, query$call, {
    fields <- geopackage_fields(source)
    shape <- if (!is.na(source$table$column_name)) source$table$column_name
    number <- if (!is_view(con, source$layer)) geopackage_row_number(con, source$layer)
    last <- if (is.null(number)) NA else DBI::dbGetQuery(con, paste("SELECT max(", number, ") FROM", quoted(con, source$layer)))[[1]]
    read_database(source, query, list(
      con = con, dialect = sqlite_dialect, table = quoted(con, source$layer), kinds = stats::setNames(kind_in(sqlite_dialect, fields$declared), fields$name),
      shape = shape, form = "geopackage", crs = geopackage_crs(source, query$call), adjust = sqlite_column, expected = as.double(last),
      window = function(window) geopackage_window(source, window), total = function() geopackage_rows(source)
    ))
  })
}

is_view <- function(con, layer) nrow(DBI::dbGetQuery(con, "SELECT 1 FROM sqlite_master WHERE type = 'view' AND name = ?", params = list(layer))) > 0

# SQLite keeps any value in any column; the declared type says what is meant.
sqlite_column <- function(values, kind) {
  switch(kind,
    logical = as.logical(values),
    date = as_date(values),
    datetime = as_datetime(as.character(values)),
    text = as.character(values),
    values
  )
}

# Rows that the spatial index finds for a window; without an index that can be relied on the decoder tests every row's box.
geopackage_window <- function(source, window) {
  if (is.na(source$table$column_name)) return(NULL)
  con <- source$con
  index <- index_name(source$layer, source$table$column_name)
  number <- geopackage_row_number(con, source$layer)
  if (is.null(number) || !index %in% DBI::dbListTables(con)) return(NULL)
  if (!index_is_whole(source, index)) {
    caution("data", c("The spatial index of {.val {source$layer}} in {.file {basename(source$name)}} does not hold all its shapes, and was not used.",
                      i = "A program changed rows without it. Writing the layer anew makes a whole one."))
    return(NULL)
  }
  edges <- format(window, digits = 17, trim = TRUE)
  sprintf("%s IN (SELECT id FROM %s WHERE maxx >= %s AND minx <= %s AND maxy >= %s AND miny <= %s)",
          number, quoted(con, index), edges[1], edges[3], edges[2], edges[4])
}

# Does the index have as many boxes as there are shapes, which reach as far as the table says that its shapes do?
index_is_whole <- function(source, index) {
  said <- as.double(unlist(source$table[c("min_x", "min_y", "max_x", "max_y")]))
  reach <- extent_of_index(source$con, index)
  short <- !anyNA(said) && any(c(said[1:2] < reach[1:2], said[3:4] > reach[3:4]))
  boxes <- as.double(DBI::dbGetQuery(source$con, paste("SELECT count(*) FROM", quoted(source$con, paste0(index, "_rowid"))))[[1]])
  !short && (boxes == geopackage_rows(source) || boxes == geopackage_shapes(source))
}

# xmin, ymin, xmax, ymax of the cells in an R-tree's first node. Of the table that it is kept in: depth and number of cells in two bytes each, and
# for each cell eight bytes of number and four of each edge, rounded outwards (sqlite.org/rtree.html, section 5).
extent_of_index <- function(con, index) {
  node <- DBI::dbGetQuery(con, paste("SELECT data FROM", quoted(con, paste0(index, "_node")), "WHERE nodeno = 1"))[[1]][[1]]
  cells <- readBin(node[3:4], "integer", size = 2, signed = FALSE, endian = "big")
  if (!cells) return(c(Inf, Inf, -Inf, -Inf))
  at <- 4 + rep(24 * (seq_len(cells) - 1), each = 16) + 8 + rep(1:16, cells)
  edges <- matrix(readBin(node[at], "double", 4 * cells, size = 4, endian = "big"), nrow = 4)
  c(min(edges[1, ]), min(edges[3, ]), max(edges[2, ]), max(edges[4, ]))
}

# Shapes that are neither missing nor empty: the fifth bit of the fourth byte of a blob says which are (OGC 12-128r18, 2.1.3).
geopackage_shapes <- function(source) {
  shape <- quoted(source$con, source$table$column_name)
  empty <- sprintf("instr('13579BDF', substr(hex(substr(%s, 4, 1)), 1, 1)) > 0", shape)
  sql <- sprintf("SELECT count(*) FROM %s WHERE %s IS NOT NULL AND NOT (%s)", quoted(source$con, source$layer), shape, empty)
  as.double(DBI::dbGetQuery(source$con, sql)[[1]])
}

geopackage_rows <- function(source) {
  count <- function(source) as.double(DBI::dbGetQuery(source$con, paste("SELECT count(*) FROM", quoted(source$con, source$layer)))[[1]])
  if (is_view(source$con, source$layer)) of_view(source, NULL, count) else count(source)
}

geopackage_crs <- function(source, call) {
  id <- source$table$srs_id
  if (is.na(id) || id %in% c(0, -1)) return(NULL)
  row <- DBI::dbGetQuery(source$con, "SELECT * FROM gpkg_spatial_ref_sys WHERE srs_id = ?", params = list(as.integer(id)))
  if (!nrow(row)) {
    caution("crs", "{.file {basename(source$name)}} names the CRS {id}, which it does not define; the layer has none.")
    return(NULL)
  }
  code <- row$organization_coordsys_id
  if (ascii_upper(row$organization) == "EPSG" && !is.null(core(core_crs_find(as.integer(code))))) return(crs_by_code(as.integer(code), call))
  tryCatch(crs_from_text(row$definition, source = source$name), civicatlas_error_crs = function(e) {
    caution("crs", c("The CRS of {.val {source$layer}} cannot be read, so the layer has none.", x = "{said_by(e)}"))
    NULL
  })
}

header_of_geopackage <- function(source) {
  fields <- geopackage_fields(source)
  words <- c(logical = "logical", number = "number", text = "text", date = "date", datetime = "date and time", blob = "blob", other = "other")
  type <- unname(words[kind_in(sqlite_dialect, fields$declared)])
  type[grepl("INT", fields$declared)] <- "integer"
  table <- source$table
  spatial <- !is.na(table$column_name)
  list(
    rows = geopackage_rows(source), kinds = if (spatial) unname(geopackage_kinds[ascii_upper(table$geometry_type_name)]) else character(),
    extent = if (spatial) as.double(c(table$min_x, table$min_y, table$max_x, table$max_y)),
    crs = if (spatial) geopackage_crs(source, NULL), fields = tibble::tibble(name = fields$name, type = type)
  )
}
