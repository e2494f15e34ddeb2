# Writing GeoPackages: a table with its spatial index, added beside others, in one transaction.

write_geopackage <- function(x, target, options, call) {
  layer <- options$layer %||% stem_of(target)
  if (!file.exists(target)) {
    # A new file is made beside its place, so that what breaks off leaves nothing. One that others made meanwhile gets the layer too.
    beside <- name_beside(target)
    on.exit(unlink(paste0(beside, c("", "-journal", "-wal", "-shm")), expand = FALSE))
    fill_geopackage(x, beside, layer, options, target, call)
    if (core(core_publish_new_file(beside, target), call = call)) return(file.size(target))
  }
  fill_geopackage(x, target, layer, options, target, call)
  file.size(target)
}

fill_geopackage <- function(x, path, layer, options, name, call) {
  fresh <- !file.exists(path)
  con <- connect_geopackage(path, name, call, write = TRUE)
  on.exit(DBI::dbDisconnect(con))
  if (!fresh) geopackage_tables(con, name, call)
  geopackage_step(name, call, {
    if (fresh) DBI::dbExecute(con, "PRAGMA application_id = 1196444487")  # "GPKG"
    if (fresh) DBI::dbExecute(con, "PRAGMA user_version = 10300")
    DBI::dbExecute(con, "BEGIN IMMEDIATE")
    complete <- FALSE
    # SQLite may have rolled back by itself, as on a full disk.
    on.exit(if (!complete) try(DBI::dbExecute(con, "ROLLBACK"), silent = TRUE), add = TRUE, after = FALSE)
    if (fresh) for (statement in geopackage_schema) DBI::dbExecute(con, statement)
    there <- layer %in% DBI::dbListTables(con)
    check_table(there, layer, name, options, call)
    if (there && options$replace) drop_geopackage_table(con, layer)
    if (there && options$append) append_geopackage(con, x, layer, name, call) else create_geopackage_table(con, x, layer, call)
    DBI::dbExecute(con, "COMMIT")
    complete <- TRUE
  })
}

# A table that is there must be replaced or appended to, and one to append to must be there.
check_table <- function(there, layer, name, options, call) {
  if (there && !options$replace && !options$append) {
    fail("file", c("{.file {name}} has a table {.val {layer}} already.",
                   i = paste("Use {.code {typed('replace = TRUE', '--replace')}}, {.code {typed('append = TRUE', '--append')}}",
                             "or another {.code {typed('layer', '--to-layer')}}.")), call = call)
  }
  if (!there && options$append) fail("file", "{.file {name}} has no table {.val {layer}} to append to.", call = call)
}

# Clause 1.1 and 2.1 of the standard: its tables and the three CRSs that every file defines.
geopackage_schema <- c(
  "CREATE TABLE gpkg_spatial_ref_sys (srs_name TEXT NOT NULL, srs_id INTEGER NOT NULL PRIMARY KEY, organization TEXT NOT NULL,
     organization_coordsys_id INTEGER NOT NULL, definition TEXT NOT NULL, description TEXT)",
  "CREATE TABLE gpkg_contents (table_name TEXT NOT NULL PRIMARY KEY, data_type TEXT NOT NULL, identifier TEXT UNIQUE, description TEXT DEFAULT '',
     last_change DATETIME NOT NULL DEFAULT (strftime('%Y-%m-%dT%H:%M:%fZ', 'now')), min_x DOUBLE, min_y DOUBLE, max_x DOUBLE, max_y DOUBLE,
     srs_id INTEGER, CONSTRAINT fk_gc_r_srs_id FOREIGN KEY (srs_id) REFERENCES gpkg_spatial_ref_sys (srs_id))",
  "CREATE TABLE gpkg_geometry_columns (table_name TEXT NOT NULL, column_name TEXT NOT NULL, geometry_type_name TEXT NOT NULL,
     srs_id INTEGER NOT NULL, z TINYINT NOT NULL, m TINYINT NOT NULL, CONSTRAINT pk_geom_cols PRIMARY KEY (table_name, column_name),
     CONSTRAINT uk_gc_table_name UNIQUE (table_name), CONSTRAINT fk_gc_tn FOREIGN KEY (table_name) REFERENCES gpkg_contents (table_name),
     CONSTRAINT fk_gc_srs FOREIGN KEY (srs_id) REFERENCES gpkg_spatial_ref_sys (srs_id))",
  "CREATE TABLE gpkg_extensions (table_name TEXT, column_name TEXT, extension_name TEXT NOT NULL, definition TEXT NOT NULL,
     scope TEXT NOT NULL, CONSTRAINT ge_tce UNIQUE (table_name, column_name, extension_name))",
  "INSERT INTO gpkg_spatial_ref_sys VALUES ('Undefined Cartesian', -1, 'NONE', -1, 'undefined', 'undefined Cartesian coordinate reference system'),
     ('Undefined geographic', 0, 'NONE', 0, 'undefined', 'undefined geographic coordinate reference system')"
)

create_geopackage_table <- function(con, x, layer, call) {
  spatial <- is_spatial_frame(x)
  columns <- within_calendar(writable_columns(x, call, keep = c("Date", "POSIXct", "integer64", "blob")))
  repeated <- names(columns)[duplicated(ascii_lower(names(columns)))]
  if (length(repeated)) {
    fail("column", "SQLite does not tell upper from lower case in names of columns: {.val {repeated}}.", call = call)
  }
  key <- if ("fid" %in% ascii_lower(names(columns))) "row_fid" else "fid"
  shape <- if (spatial) make.unique(c(ascii_lower(names(columns)), "geom"), sep = "_")[length(columns) + 1]
  types <- vapply(columns, type_in, "", dialect = sqlite_dialect)
  definitions <- c(paste(quoted(con, key), "INTEGER PRIMARY KEY AUTOINCREMENT NOT NULL"),
                   if (spatial) paste(quoted(con, shape), geopackage_geometry_type(as_shapes(x))),
                   if (length(columns)) paste(quoted(con, names(columns)), types))
  DBI::dbExecute(con, paste0("CREATE TABLE ", quoted(con, layer), " (", paste(definitions, collapse = ", "), ")"))
  srs <- if (spatial) register_geopackage_crs(con, crs_of(x), call)
  DBI::dbExecute(con, "INSERT INTO gpkg_contents (table_name, data_type, identifier, srs_id) VALUES (?, ?, ?, ?)",
                 params = list(layer, if (spatial) "features" else "attributes", layer, srs %||% NA_integer_))
  if (spatial) {
    types <- core(core_types(handles_of(as_shapes(x)), store_of(as_shapes(x))))
    DBI::dbExecute(con, "INSERT INTO gpkg_geometry_columns VALUES (?, ?, ?, ?, ?, ?)",
                   params = list(layer, shape, geopackage_geometry_type(as_shapes(x)), srs, dimension_flag(types %/% 1000L %in% c(1L, 3L), types),
                                 dimension_flag(types %/% 1000L >= 2L, types)))
    create_geopackage_index(con, layer, shape)
  }
  insert_geopackage_rows(con, x, columns, layer, key, shape, srs)
  if (spatial) create_index_triggers(con, layer, shape, key)
}

# 0 where no shape has the dimension, 1 where all have, 2 where some have.
dimension_flag <- function(has, types) {
  has <- has[!is.na(types)]
  if (!any(has)) 0L else if (all(has)) 1L else 2L
}

geopackage_geometry_type <- function(shapes) {
  kinds <- unique(stats::na.omit(geometry_type_of(shapes)))
  if (length(kinds) == 1) names(geopackage_kinds)[match(kinds, geopackage_kinds)] else "GEOMETRY"
}

# The CRS's number in the file's own table, where it is entered if it is new; 0 and -1 stand for none.
register_geopackage_crs <- function(con, crs, call) {
  ensure <- function(id, name, organization, code, definition) {
    there <- DBI::dbGetQuery(con, "SELECT count(*) FROM gpkg_spatial_ref_sys WHERE srs_id = ?", params = list(id))[[1]]
    if (!there) {
      DBI::dbExecute(con, "INSERT INTO gpkg_spatial_ref_sys VALUES (?, ?, ?, ?, ?, NULL)", params = list(name, id, organization, code, definition))
    }
    id
  }
  wgs84 <- crs_by_code(4326, call)
  ensure(4326L, "WGS 84", "EPSG", 4326L, core(core_crs_text(unclass(wgs84), "wkt1")))
  if (is.null(crs)) {
    caution("crs", "The layer has no CRS and is written so.")
    return(-1L)
  }
  definition <- core(core_crs_text(unclass(crs), "wkt1"), call = call)
  name <- if (is.na(crs$name)) "unnamed" else crs$name
  if (!is.na(crs$code)) {
    code <- as.integer(sub("EPSG:", "", crs$code))
    return(ensure(code, name, "EPSG", code, definition))
  }
  own <- DBI::dbGetQuery(con, "SELECT srs_id, definition FROM gpkg_spatial_ref_sys WHERE organization = 'NONE' AND srs_id > 0")
  known <- match(definition, own$definition)
  if (!is.na(known)) return(own$srs_id[known])
  id <- max(100000L, own$srs_id + 1L)
  ensure(id, name, "NONE", id, definition)
}

# Values as SQLite binds them.
sqlite_values <- function(column) {
  if (inherits(column, "Date")) return(format(column))
  if (inherits(column, "POSIXct")) return(datetime_text(column))
  if (is.logical(column)) return(as.integer(column))
  if (inherits(column, c("integer64", "blob"))) return(column)
  if (is.double(column)) return(as.double(column))
  column
}

insert_geopackage_rows <- function(con, x, columns, layer, key, shape, srs) {
  if (!nrow(x)) return(invisible())
  shapes <- if (!is.null(shape)) as_shapes(x)
  first <- as.double(DBI::dbGetQuery(con, sprintf("SELECT coalesce(max(%s), 0) FROM %s", quoted(con, key), quoted(con, layer)))[[1]])
  names <- quoted(con, c(key, shape, names(columns)))
  sql <- paste0("INSERT INTO ", quoted(con, layer), " (", paste(names, collapse = ", "), ") VALUES (", paste(rep("?", length(names)), collapse = ", "), ")")
  bar <- new_progress(paste("Writing", layer))
  for (start in seq(1L, nrow(x), by = batch_rows)) {
    rows <- start:min(nrow(x), start + batch_rows - 1L)
    ids <- first + rows
    values <- lapply(columns, function(column) sqlite_values(column[rows]))
    if (!is.null(shapes)) {
      here <- shapes[rows]
      values <- c(list(blob_list(core(core_geopackage_blobs(handles_of(here), store_of(here), srs)))), values)
      index_geopackage_rows(con, here, ids, layer, shape)
    }
    DBI::dbExecute(con, sql, params = unname(c(list(ids), values)))
    bar(max(rows) / nrow(x))
  }
  if (!is.null(shapes)) widen_geopackage_extent(con, layer, box_of(shapes))
  DBI::dbExecute(con, "UPDATE gpkg_contents SET last_change = strftime('%Y-%m-%dT%H:%M:%fZ', 'now') WHERE table_name = ?", params = list(layer))
}

blob_list <- function(blobs) structure(blobs, class = c("blob", "vctrs_list_of", "vctrs_vctr", "list"), ptype = raw())

widen_geopackage_extent <- function(con, layer, extent) {
  if (anyNA(extent)) return(invisible())
  DBI::dbExecute(con, "UPDATE gpkg_contents SET min_x = min(?, coalesce(min_x, 9e999)), min_y = min(?, coalesce(min_y, 9e999)),
                         max_x = max(?, coalesce(max_x, -9e999)), max_y = max(?, coalesce(max_y, -9e999)) WHERE table_name = ?",
                 params = c(as.list(unname(extent)), layer))
}

# --- spatial index (extension gpkg_rtree_index, annex F.3) --------------------------------------------------------------

index_name <- function(layer, shape) paste0("rtree_", layer, "_", shape)

create_geopackage_index <- function(con, layer, shape) {
  DBI::dbExecute(con, paste("CREATE VIRTUAL TABLE", quoted(con, index_name(layer, shape)), "USING rtree(id, minx, maxx, miny, maxy)"))
  DBI::dbExecute(con, "INSERT INTO gpkg_extensions VALUES (?, ?, 'gpkg_rtree_index', 'http://www.geopackage.org/spec120/#extension_rtree', 'write-only')",
                 params = list(layer, shape))
}

index_geopackage_rows <- function(con, shapes, ids, layer, shape) {
  boxes <- core(core_boxes(handles_of(shapes), store_of(shapes)))
  there <- which(!is.na(boxes[1, ]))
  if (!length(there)) return(invisible())
  DBI::dbExecute(con, paste("INSERT INTO", quoted(con, index_name(layer, shape)), "VALUES (?, ?, ?, ?, ?)"),
                 params = list(ids[there], boxes[1, there], boxes[3, there], boxes[2, there], boxes[4, there]))
}

# The triggers by which other programs that change rows keep the index. They call functions of SQL/MM (ISO 13249-3), which
# such programs define. Names are quoted already.
index_triggers <- function(index, shape, key) {
  of_shape <- function(name, row) sprintf("%s_%s(%s.%s)", "ST", name, row, shape)
  has <- function(row) sprintf("%s.%s NOT NULL AND NOT %s", row, shape, of_shape("IsEmpty", row))
  none <- function(row) sprintf("(%s.%s IS NULL OR %s)", row, shape, of_shape("IsEmpty", row))
  edges <- vapply(c("MinX", "MaxX", "MinY", "MaxY"), of_shape, "", row = "NEW")
  put <- sprintf("INSERT OR REPLACE INTO %s VALUES (NEW.%s, %s);", index, key, paste(edges, collapse = ", "))
  remove <- function(row) sprintf("DELETE FROM %s WHERE id = %s.%s;", index, row, key)
  same <- sprintf("OLD.%s = NEW.%s", key, key)
  other <- sprintf("OLD.%s != NEW.%s", key, key)
  list(
    insert = list(event = "AFTER INSERT", when = has("NEW"), body = put),
    update1 = list(event = sprintf("AFTER UPDATE OF %s", shape), when = paste(same, "AND", has("NEW")), body = put),
    update2 = list(event = sprintf("AFTER UPDATE OF %s", shape), when = paste(same, "AND", none("NEW")), body = remove("OLD")),
    update3 = list(event = "AFTER UPDATE", when = paste(other, "AND", has("NEW")), body = paste(remove("OLD"), put)),
    update4 = list(event = "AFTER UPDATE", when = paste(other, "AND", none("NEW")),
                   body = sprintf("DELETE FROM %s WHERE id IN (OLD.%s, NEW.%s);", index, key, key)),
    delete = list(event = "AFTER DELETE", when = sprintf("OLD.%s NOT NULL", shape), body = remove("OLD"))
  )
}

create_index_triggers <- function(con, layer, shape, key) {
  triggers <- index_triggers(quoted(con, index_name(layer, shape)), quoted(con, shape), quoted(con, key))
  for (name in names(triggers)) {
    trigger <- triggers[[name]]
    own <- quoted(con, paste0(index_name(layer, shape), "_", name))
    DBI::dbExecute(con, paste("CREATE TRIGGER", own, trigger$event, "ON", quoted(con, layer), "WHEN (", trigger$when, ") BEGIN", trigger$body, "END"))
  }
}

drop_index_triggers <- function(con, layer, shape) {
  pattern <- paste0(index_name(layer, shape), "_")
  names <- DBI::dbGetQuery(con, "SELECT name FROM sqlite_master WHERE type = 'trigger' AND tbl_name = ?", params = list(layer))$name
  for (name in names[startsWith(names, pattern)]) DBI::dbExecute(con, paste("DROP TRIGGER", quoted(con, name)))
}

# --- replace and append -------------------------------------------------------------------------------------------------

geometry_column <- function(con, layer) {
  DBI::dbGetQuery(con, "SELECT column_name, srs_id FROM gpkg_geometry_columns WHERE table_name = ?", params = list(layer))
}

drop_geopackage_table <- function(con, layer) {
  shape <- geometry_column(con, layer)$column_name
  tables <- DBI::dbListTables(con)
  if (length(shape)) {
    drop_index_triggers(con, layer, shape)
    if (index_name(layer, shape) %in% tables) DBI::dbExecute(con, paste("DROP TABLE", quoted(con, index_name(layer, shape))))
  }
  for (table in intersect(c("gpkg_extensions", "gpkg_geometry_columns", "gpkg_contents"), tables)) {
    DBI::dbExecute(con, paste("DELETE FROM", table, "WHERE table_name = ?"), params = list(layer))
  }
  DBI::dbExecute(con, paste(if (is_view(con, layer)) "DROP VIEW" else "DROP TABLE", quoted(con, layer)))
}

append_geopackage <- function(con, x, layer, name, call) {
  if (is_view(con, layer)) fail("file", "{.val {layer}} of {.file {name}} is a view, to which rows cannot be appended.", call = call)
  geometry <- geometry_column(con, layer)
  source <- new_source("geopackage", name, con = con, layer = layer, name = name,
                       table = list(column_name = c(geometry$column_name, NA)[1], srs_id = c(geometry$srs_id, NA)[1]))
  spatial <- nrow(geometry) > 0
  check_append(x, spatial, if (spatial) geopackage_crs(source, call), geopackage_fields(source)$name, layer, call)
  info <- geopackage_columns(con, layer)
  key <- info$name[info$pk > 0]
  if (length(key) != 1) fail("file", "The table {.val {layer}} has no single key column, so rows cannot be appended.", call = call)
  columns <- within_calendar(writable_columns(x, call, keep = c("Date", "POSIXct", "integer64", "blob")))
  made <- intersect(names(columns), info$name[info$hidden > 1])
  if (length(made)) {
    caution("data", "Columns of {.val {layer}} that it works out itself were left to it: {.val {made}}.")
    columns <- columns[setdiff(names(columns), made)]
  }
  indexed <- spatial && index_name(layer, geometry$column_name) %in% DBI::dbListTables(con)
  if (spatial && !indexed) create_geopackage_index(con, layer, geometry$column_name)
  if (spatial) drop_index_triggers(con, layer, geometry$column_name)
  insert_geopackage_rows(con, x, columns, layer, key, if (spatial) geometry$column_name, geometry$srs_id)
  if (spatial) create_index_triggers(con, layer, geometry$column_name, key)
}

# What is appended must have shapes where the table has, on the same CRS, and no columns that the table lacks.
check_append <- function(x, spatial, crs, fields, layer, call) {
  if (spatial != is_spatial_frame(x)) {
    words <- if (spatial) c("shapes", "none") else c("no shapes", "some")
    fail("argument", "The table {.val {layer}} has {words[1]}, and what is appended has {words[2]}.", call = call)
  }
  if (spatial) check_same_crs(new_shapes(crs = crs), x, paste("the table", layer), "x", call = call)
  names <- names(attribute_table(x))
  for (column in setdiff(names, fields)) need_column(stats::setNames(as.list(fields), fields), column, "x", call = call)
  lacking <- setdiff(fields, names)
  if (length(lacking)) caution("data", "Columns of {.val {layer}} that the appended rows lack stay missing: {.val {lacking}}.")
}
