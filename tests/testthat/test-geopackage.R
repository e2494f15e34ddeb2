# A GeoPackage written with plain SQL, as the standard describes it, with blobs put together by hand.
geopackage_by_hand <- function(env = parent.frame()) {
  file <- withr::local_tempfile(fileext = ".gpkg", .local_envir = env)
  con <- DBI::dbConnect(RSQLite::SQLite(), file)
  on.exit(DBI::dbDisconnect(con))
  run <- function(sql, ...) DBI::dbExecute(con, sql, ...)
  run("CREATE TABLE gpkg_spatial_ref_sys (srs_name TEXT, srs_id INTEGER PRIMARY KEY, organization TEXT, organization_coordsys_id INTEGER, definition TEXT, description TEXT)")
  run("INSERT INTO gpkg_spatial_ref_sys VALUES ('own', 300001, 'NONE', 7, ?, NULL), ('UTM', 32757, 'EPSG', 32757, 'undefined', NULL)", params = list(
    "PROJCS[\"own\",GEOGCS[\"g\",DATUM[\"D_WGS_1984\",SPHEROID[\"WGS_1984\",6378137,298.257223563]],PRIMEM[\"Greenwich\",0],UNIT[\"Degree\",0.017453292519943295]],PROJECTION[\"Transverse_Mercator\"],PARAMETER[\"Central_Meridian\",160.2],PARAMETER[\"Scale_Factor\",1],UNIT[\"Meter\",1]]"
  ))
  run("CREATE TABLE gpkg_contents (table_name TEXT PRIMARY KEY, data_type TEXT, identifier TEXT, description TEXT, last_change TEXT, min_x DOUBLE, min_y DOUBLE, max_x DOUBLE, max_y DOUBLE, srs_id INTEGER)")
  run("INSERT INTO gpkg_contents VALUES ('trees', 'features', 't', '', '', 1, 2, 3, 4, 300001), ('species', 'attributes', 's', '', '', NULL, NULL, NULL, NULL, NULL), ('tiles', 'tiles', 'x', '', '', NULL, NULL, NULL, NULL, NULL)")
  run("CREATE TABLE gpkg_geometry_columns (table_name TEXT, column_name TEXT, geometry_type_name TEXT, srs_id INTEGER, z TINYINT, m TINYINT)")
  run("INSERT INTO gpkg_geometry_columns VALUES ('trees', 'shape', 'POINT', 300001, 0, 0)")
  run("CREATE TABLE trees (fid INTEGER PRIMARY KEY, shape POINT, name TEXT(20), tall BOOLEAN, planted DATE, seen DATETIME, big INTEGER, girth REAL)")
  point <- c(charToRaw("GP"), as.raw(c(0, 1)), writeBin(300001L, raw(), endian = "little"), as.raw(1), writeBin(1L, raw(), endian = "little"), writeBin(c(1, 2), raw(), endian = "little"))
  backwards <- c(charToRaw("GP"), as.raw(c(0, 0)), writeBin(300001L, raw(), endian = "big"), as.raw(0), writeBin(1L, raw(), endian = "big"), writeBin(c(3, 4), raw(), endian = "big"))
  run("INSERT INTO trees VALUES (1, ?, 'oak', 1, '2026-11-24', '2026-11-24T06:30:00.250Z', 9007199254740993, 1.5)", params = list(blob::blob(point)))
  run("INSERT INTO trees VALUES (2, ?, NULL, 0, NULL, NULL, 7, NULL)", params = list(blob::blob(backwards)))
  run("INSERT INTO trees VALUES (3, NULL, 'elm', NULL, '1960-02-29', NULL, NULL, 2)")
  run("CREATE TABLE species (id INTEGER PRIMARY KEY, latin TEXT)")
  run("INSERT INTO species VALUES (10, 'Quercus'), (20, 'Ulmus')")
  file
}

test_that("a GeoPackage made by hand is read with its types, CRS and tables", {
  file <- geopackage_by_hand()
  expect_identical(list_layers(file), tibble::tibble(layer = c("trees", "species"), format = "geopackage", geometry_type = c("point", "none")))
  expect_error(read_layer(file), "trees.*species", class = "civicatlas_error_argument")
  expect_warning(trees <- off_its_label(read_layer(file, "trees")), "beyond 2\\^53")
  expect_identical(wkt_of(trees), c("POINT (1 2)", "POINT (3 4)", NA))
  expect_identical(attribute_table(trees), tibble::tibble(
    name = c("oak", NA, "elm"), tall = c(TRUE, FALSE, NA), planted = as.Date(c("2026-11-24", NA, "1960-02-29")),
    seen = as.POSIXct(c("2026-11-24 06:30:00.25", NA, NA), tz = "UTC"), big = c("9007199254740993", "7", NA), girth = c(1.5, NA, 2)
  ))
  expect_identical(crs_of(trees)$method, "Transverse Mercator")
  expect_identical(read_layer(file, "species"), tibble::tibble(id = c(10L, 20L), latin = c("Quercus", "Ulmus")))
  found <- describe_layer(file, "trees", scan = FALSE)
  expect_identical(found$rows, 3)
  expect_identical(unname(found$extent), c(1, 2, 3, 4))
  expect_identical(found$fields$type, c("text", "logical", "date", "date and time", "integer", "number"))
  suppressWarnings(expect_identical(read_layer(file, "trees", within = c(2, 3, 5, 5), columns = c(name))$name, NA_character_))
})

test_that("layers are added, appended and replaced, and the others stay", {
  file <- withr::local_tempfile(fileext = ".gpkg")
  wards <- read_layer(demo_file("wards.shp"))
  rooms <- read_layer(demo_file("rooms.geojson"))
  heat <- read_layer(demo_file("heat.csv"))
  write_layer(wards, file, layer = "wards")
  write_layer(rooms, file, layer = "rooms")
  write_layer(heat, file, layer = "heat")
  expect_identical(list_layers(file)$layer, c("wards", "rooms", "heat"))
  expect_identical(read_layer(file, "heat"), heat)
  expect_error(write_layer(wards, file, layer = "wards"), "already", class = "civicatlas_error_file")
  write_layer(wards[1:2, ], file, layer = "wards", append = TRUE)
  expect_identical(read_layer(file, "wards")$name, c(wards$name, wards$name[1:2]))
  expect_identical(sum(read_layer(file, "wards", within = extent_of(wards[1, ]))$name == wards$name[1]), 2L)
  write_layer(wards[5, ], file, layer = "wards", replace = TRUE)
  expect_identical(read_layer(file, "wards")$name, wards$name[5])
  expect_identical(wkt_of(read_layer(file, "rooms")), wkt_of(rooms))
  expect_error(write_layer(rooms, file, layer = "wards", append = TRUE), "CRS", class = "civicatlas_error_crs_mismatch")
  expect_error(write_layer(heat, file, layer = "wards", append = TRUE), "shapes", class = "civicatlas_error_argument")
})

test_that("the file holds what the standard asks of it", {
  file <- withr::local_tempfile(fileext = ".gpkg")
  write_layer(two_wards(), file, layer = "wards")
  con <- DBI::dbConnect(RSQLite::SQLite(), file)
  withr::defer(DBI::dbDisconnect(con))
  one <- function(sql) DBI::dbGetQuery(con, sql)[[1]]
  expect_identical(one("PRAGMA application_id"), 0x47504B47L)
  expect_identical(one("PRAGMA user_version"), 10300L)
  expect_identical(one("PRAGMA integrity_check"), "ok")
  expect_identical(nrow(DBI::dbGetQuery(con, "PRAGMA foreign_key_check")), 0L)
  expect_setequal(one("SELECT srs_id FROM gpkg_spatial_ref_sys"), c(-1, 0, 4326, 32757))
  expect_identical(unlist(DBI::dbGetQuery(con, "SELECT min_x, min_y, max_x, max_y FROM gpkg_contents"), use.names = FALSE), c(0, 0, 91, 91))
  expect_identical(one("SELECT extension_name FROM gpkg_extensions"), "gpkg_rtree_index")
  expect_identical(one("SELECT count(*) FROM rtree_wards_geom"), 3L)
  expect_identical(one("SELECT count(*) FROM sqlite_master WHERE type = 'trigger' AND name LIKE 'rtree_wards_geom%'"), 6L)
  expect_identical(one("SELECT geometry_type_name FROM gpkg_geometry_columns"), "POLYGON")
  # The envelope of the header is the shape's box: bytes 9 to 40 of the first blob.
  blob <- one("SELECT geom FROM wards")[[1]]
  expect_identical(readBin(blob[9:40], "double", 4, endian = "little"), c(0, 10, 0, 10))
})

test_that("another process that holds the file is waited for, then named, and nothing changes", {
  file <- withr::local_tempfile(fileext = ".gpkg")
  write_layer(two_wards(), file, layer = "wards")
  con <- DBI::dbConnect(RSQLite::SQLite(), file)
  withr::defer(DBI::dbDisconnect(con))
  DBI::dbExecute(con, "BEGIN EXCLUSIVE")
  withr::local_options(civicatlas.busy_wait = 50)
  expect_error(write_layer(two_wards(), file, layer = "more"), if (.Platform$OS.type == "windows") "held by another process" else paste("held by process", Sys.getpid()), class = "civicatlas_error_file")
  DBI::dbExecute(con, "ROLLBACK")
  expect_identical(list_layers(file)$layer, "wards")
})

test_that("a write that fails leaves the file as it was", {
  file <- withr::local_tempfile(fileext = ".gpkg")
  write_layer(two_wards(), file, layer = "wards")
  before <- tools::md5sum(file)
  bad <- two_wards()
  bad$list <- list(1, 2, 3)
  expect_error(write_layer(bad, file, layer = "bad"), "cannot be written", class = "civicatlas_error_column")
  expect_error(write_layer(bad, file, layer = "wards", replace = TRUE), class = "civicatlas_error_column")
  expect_identical(tools::md5sum(file), before)
  fresh <- withr::local_tempfile(fileext = ".gpkg")
  expect_error(write_layer(bad, fresh), class = "civicatlas_error_column")
  expect_length(list.files(dirname(fresh), basename(fresh)), 0)
})

test_that("files that are no GeoPackage are refused", {
  text <- withr::local_tempfile(fileext = ".gpkg", lines = "no database")
  expect_error(read_layer(text), "no SQLite file", class = "civicatlas_error_format")
  other <- withr::local_tempfile(fileext = ".gpkg")
  con <- DBI::dbConnect(RSQLite::SQLite(), other)
  DBI::dbExecute(con, "CREATE TABLE things (a)")
  DBI::dbDisconnect(con)
  expect_error(read_layer(other), "gpkg_contents.*things", class = "civicatlas_error_format")
})

test_that("a damaged blob is refused with its row, or skipped", {
  file <- geopackage_by_hand()
  con <- DBI::dbConnect(RSQLite::SQLite(), file)
  DBI::dbExecute(con, "UPDATE trees SET shape = x'47500001ff' WHERE fid = 2")
  DBI::dbDisconnect(con)
  expect_error(suppressWarnings(read_layer(file, "trees")), "row 2", class = "civicatlas_error_format")
  expect_warning(x <- suppressWarnings(read_layer(file, "trees", damaged = "skip"), "nothing"), "damaged") |> expect_warning("2\\^53") |>
    off_its_label()
  expect_identical(wkt_of(x), c("POINT (1 2)", NA, NA))
})

test_that("each cell is read right or told: text among numbers, bad dates, times to the millisecond and with offsets", {
  store <- withr::local_tempfile(fileext = ".gpkg")
  times <- as.POSIXct(1e9 + (0:999) / 1000, origin = "1970-01-01", tz = "UTC")
  write_layer(data.frame(k = 1:1000, day = as.Date("2026-01-01") + 0:999, t = times), store, layer = "a")
  expect_identical(read_layer(store, "a")$t, times)
  con <- DBI::dbConnect(RSQLite::SQLite(), store)
  DBI::dbExecute(con, "UPDATE a SET day = 'soon' WHERE k = 1")
  DBI::dbExecute(con, "UPDATE a SET t = '2026-01-01T12:00:00.25+05:30' WHERE k = 4")
  DBI::dbExecute(con, "UPDATE a SET k = 'seven' WHERE k = 7")
  DBI::dbDisconnect(con)
  expect_warning(x <- read_layer(store, "a"), "k: 1 value .*\"seven\".*day: 1 value .*\"soon\"", class = "civicatlas_warning_data")
  expect_identical(x$k, replace(1:1000, 7, NA))
  expect_identical(x$day, replace(as.Date("2026-01-01") + 0:999, 1, NA))
  expect_identical(format(x$t[4], "%Y-%m-%d %H:%M:%OS2"), "2026-01-01 06:30:00.25")
  expect_identical(suppressWarnings(read_layer(store, "a", where = k > 990))$k, 991:1000)
  expect_identical(nrow(read_layer(store, "a", where = k > 990, columns = c(t))), 10L)
  expect_identical(nrow(read_layer(store, "a", where = is.na(k), columns = c(t))), 1L)
  texts <- c("2026-01-01T12:00:00+05:00", "2026-01-01 12:00:00-0330", "2026-01-01T12:00Z", "2026-01-01T12:00:00,5", "soon", "2026-01-01T12:00:00x", NA)
  expect_identical(format(civicatlas:::as_datetime(texts), "%Y-%m-%d %H:%M:%OS1"), c("2026-01-01 07:00:00.0", "2026-01-01 15:30:00.0", "2026-01-01 12:00:00.0", "2026-01-01 12:00:00.5", NA, NA, NA))
  table <- withr::local_tempfile(fileext = ".csv")
  writeLines(c("t", "2026-01-01T12:00:00+05:00", "2026-01-01T12:00:00Z"), table)
  expect_identical(format(read_layer(table)$t), c("2026-01-01 07:00:00", "2026-01-01 12:00:00"))
})

three_places <- function() spatial_frame(ward = c("west", "east", "far"), area = c(96, 100, 1), geometry = point_shapes(c(1, 12, 90), c(1, 1, 80), 4326))

test_that("any name will do for a layer, with quotes too", {
  file <- withr::local_tempfile(fileext = ".gpkg")
  for (name in c("a\"b", "it's", "[x]", "select", "a`b", "\u5b57", "a;b--", "a%b", "a b")) {
    write_layer(three_places(), file, layer = name)
    write_layer(three_places(), file, layer = name, append = TRUE)
    expect_identical(nrow(read_layer(file, layer = name, within = c(0, 0, 5, 5))), 2L, label = name)
    write_layer(three_places(), file, layer = name, replace = TRUE)
    expect_identical(nrow(read_layer(file, layer = name)), 3L, label = name)
  }
})

test_that("views are read, replaced, and not appended to", {
  file <- withr::local_tempfile(fileext = ".gpkg")
  write_layer(three_places(), file, layer = "wards")
  con <- DBI::dbConnect(RSQLite::SQLite(), file)
  for (statement in c("CREATE VIEW big AS SELECT ward, geom FROM wards WHERE area > 50",
                      "INSERT INTO gpkg_contents (table_name, data_type, identifier, srs_id) SELECT 'big', data_type, 'big', srs_id FROM gpkg_contents",
                      "INSERT INTO gpkg_geometry_columns SELECT 'big', column_name, geometry_type_name, srs_id, z, m FROM gpkg_geometry_columns")) {
    DBI::dbExecute(con, statement)
  }
  DBI::dbDisconnect(con)
  expect_identical(read_layer(file, "big")$ward, c("west", "east"))
  expect_identical(read_layer(file, "big", where = ward == "east", within = c(12, 0, 13, 1))$ward, "east")
  expect_identical(describe_layer(file, "big")$rows, 2L)
  expect_error(write_layer(three_places(), file, layer = "big", append = TRUE), "view", class = "civicatlas_error_file")
  write_layer(three_places()[3, ], file, layer = "big", replace = TRUE)
  expect_identical(read_layer(file, "big")$ward, "far")
  expect_identical(nrow(read_layer(file, "wards")), 3L)
})

# A GeoPackage whose last writer was killed while it held part of its change in the file.
killed_in_the_middle <- function(folder) {
  file <- file.path(folder, "a.gpkg")
  write_layer(three_places(), file, layer = "wards")
  script <- withr::local_tempfile(fileext = ".R", lines = sprintf(
    "con <- DBI::dbConnect(RSQLite::SQLite(), '%s')
     for (statement in c('PRAGMA cache_size = 5', 'BEGIN', 'DELETE FROM wards',
       'CREATE TABLE many AS WITH RECURSIVE t(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM t WHERE i < 20000) SELECT i, hex(randomblob(50)) AS b FROM t')) DBI::dbExecute(con, statement)
     tools::pskill(Sys.getpid(), 9L)", file))
  processx::run(file.path(R.home("bin"), "Rscript"), script, error_on_status = FALSE)
  file
}

# What a user without rights gets from an expression on a file, its first argument.
as_nobody <- function(code, file) {
  script <- file.path(dirname(file), "script.R")
  writeLines(c("suppressMessages(library(civicatlas)); options(civicatlas.quiet = TRUE); file <- commandArgs(TRUE)[1]",
               sprintf("cat(tryCatch(paste(suppressWarnings(%s), collapse = ' '), error = conditionMessage))", code)), script)
  Sys.chmod(dirname(file), "0755")
  Sys.chmod(list.files(dirname(file), full.names = TRUE), "0755")
  processx::run("env", c("-u", "R_SESSION_TMPDIR", "setpriv", "--reuid=65534", "--regid=65534", "--clear-groups", file.path(R.home("bin"), "Rscript"), script, file), wd = "/",
                env = c("current", HOME = "/nonexistent", TMPDIR = "/tmp"), error_on_status = FALSE)$stdout
}

test_that("a journal that a killed writer left is undone on reading, or its remedy named", {
  skip_on_os("windows")
  folder <- withr::local_tempdir(tmpdir = "/tmp")
  file <- killed_in_the_middle(folder)
  expect_gt(file.size(paste0(file, "-journal")), 0)
  copies <- file.path(withr::local_tempdir(tmpdir = "/tmp"), c("a.gpkg", "a.gpkg-journal"))
  file.copy(paste0(file, c("", "-journal")), copies)
  expect_identical(nrow(read_layer(file)), 3L)
  expect_identical(list.files(folder), "a.gpkg")
  skip_if(Sys.info()[["user"]] != "root" || !nzchar(Sys.which("setpriv")), "another user cannot be tried here")
  expect_match(as_nobody("read_layer(file)$ward", copies[1]), "has to be undone.*Copy it together with.*a.gpkg-journal")
})

test_that("a file with a write-ahead log is read in a folder that is read only", {
  skip_if(Sys.info()[["user"]] != "root" || !nzchar(Sys.which("setpriv")), "another user cannot be tried here")
  folder <- withr::local_tempdir(tmpdir = "/tmp")
  file <- file.path(folder, "a #?%20\u00e9.gpkg")
  write_layer(three_places(), file, layer = "wards")
  con <- DBI::dbConnect(RSQLite::SQLite(), file)
  withr::defer(DBI::dbDisconnect(con))
  DBI::dbGetQuery(con, "PRAGMA journal_mode = WAL")
  DBI::dbExecute(con, "UPDATE gpkg_contents SET description = 'changed'")
  open <- file.path(withr::local_tempdir(tmpdir = "/tmp"), c("b #?%20.gpkg", "b #?%20.gpkg-wal"))
  file.copy(paste0(file, c("", "-wal")), open)
  expect_match(as_nobody("read_layer(file)$ward", open[1]), "write-ahead log.*Copy it together with.*b #[?]%20.gpkg-wal")
  unlink(open[2])
  expect_identical(as_nobody("read_layer(file)$ward", open[1]), "west east far")
})

# A layer of ten points whose file a program then changes by SQL, without the triggers that keep the index.
changed_by <- function(..., env = parent.frame()) {
  file <- withr::local_tempfile(fileext = ".gpkg", .local_envir = env)
  write_layer(spatial_frame(n = 1:10, geometry = point_shapes(1:10, 1:10, crs = 4326)), file, layer = "x")
  con <- DBI::dbConnect(RSQLite::SQLite(), file)
  on.exit(DBI::dbDisconnect(con))
  triggers <- DBI::dbGetQuery(con, "SELECT name FROM sqlite_master WHERE type = 'trigger'")$name
  for (statement in c(sprintf("DROP TRIGGER \"%s\"", triggers), ...)) DBI::dbExecute(con, statement)
  file
}

test_that("a spatial index that does not hold all shapes is told and not used", {
  whole <- changed_by()
  expect_no_warning(expect_identical(read_layer(whole, within = c(3, 3, 5, 5))$n, 3:5))
  stale <- list(changed_by("DELETE FROM rtree_x_geom WHERE id > 4"), changed_by("INSERT INTO x (geom, n) SELECT geom, n + 10 FROM x"),
                changed_by("DELETE FROM rtree_x_geom"), changed_by("UPDATE rtree_x_geom SET minx = 4, maxx = 4, miny = 4, maxy = 4"))
  for (file in stale) {
    all <- read_layer(file)
    expect_warning(found <- read_layer(file, within = c(3, 3, 7, 7)), "spatial index of \"x\".*was not used", class = "civicatlas_warning_data")
    expect_identical(found$n, all$n[(all$n - 1) %% 10 + 1 >= 3 & (all$n - 1) %% 10 + 1 <= 7])
  }
  some <- withr::local_tempfile(fileext = ".gpkg")
  write_layer(spatial_frame(n = 1:3, geometry = shapes_from_wkt(c("POINT (1 1)", NA, "POINT EMPTY"), crs = 4326)), some)
  expect_no_warning(expect_identical(read_layer(some, within = c(0, 0, 2, 2))$n, 1L))
  expect_identical(nrow(read_layer(some, where = "n = 2")), 1L)
})

test_that("columns named as SQLite names rows, with an order of their own, or generated, are columns like others", {
  file <- withr::local_tempfile(fileext = ".gpkg")
  x <- spatial_frame(rowid = 10:1 * 100L, oid = 1:10, geometry = point_shapes(1:10, 1:10, crs = 4326))
  write_layer(x, file, layer = "x")
  expect_identical(read_layer(file, within = c(3, 3, 5, 5))$oid, 3:5)
  write_layer(x[1:2, ], file, layer = "x", append = TRUE)
  expect_identical(read_layer(file)$oid, c(1:10, 1:2))
  file <- changed_by("ALTER TABLE x ADD COLUMN name TEXT COLLATE NOCASE", "UPDATE x SET name = CASE WHEN n < 3 THEN 'Reef' ELSE 'REEF' END",
                     "ALTER TABLE x ADD COLUMN tenfold INTEGER GENERATED ALWAYS AS (n * 10) VIRTUAL")
  all <- read_layer(file)
  expect_identical(all$tenfold, 1:10 * 10L)
  for (condition in c("name = 'Reef'", "name IN ('Reef', 'x')", "name = 'Reef' AND characters(name) = 4", "name LIKE 'Re%'")) {
    expect_identical(read_layer(file, where = condition)$n, 1:2, info = condition)
    expect_identical(keep_rows(all, condition)$n, 1:2, info = condition)
  }
  expect_identical(read_layer(file, where = "tenfold = 50")$n, 5L)
  expect_warning(write_layer(all[1, ], file, layer = "x", append = TRUE), "works out itself.*tenfold", class = "civicatlas_warning_data")
  expect_identical(read_layer(file)$tenfold, c(1:10, 1L) * 10L)
})

test_that("a view is read apart, and one without an end is an error", {
  skip_on_os("windows")
  file <- changed_by("CREATE VIEW few AS SELECT n, geom FROM x WHERE n > 3", "CREATE VIEW endless AS WITH RECURSIVE c(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM c) SELECT n FROM c",
                     "INSERT INTO gpkg_contents (table_name, data_type, identifier, srs_id) VALUES ('few', 'features', 'few', 4326), ('endless', 'attributes', 'endless', NULL)",
                     "INSERT INTO gpkg_geometry_columns VALUES ('few', 'geom', 'POINT', 4326, 0, 0)")
  expect_identical(read_layer(file, "few", where = "n < 6 AND abs(n) > 1")$n, 4:5)
  expect_identical(read_layer(file, "few", within = c(5, 5, 7, 7))$n, 5:7)
  expect_identical(describe_layer(file, "few")$rows, 7L)
  withr::local_options(civicatlas.unpack_limit = 1e7)
  expect_error(read_layer(file, "endless"), "unpacks to more than is allowed", class = "civicatlas_error_format")
})
