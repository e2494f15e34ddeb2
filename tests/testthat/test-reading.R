# What every format must do alike: narrow while reading, and say what it kept.

formats <- c("shp", "zip", "geojson", "geojsonl", "geojsons", "geojson.gz", "gpkg", "parquet", "kml", "kmz", "csv", "tsv.gz")

test_that("where, within and columns narrow each format as they narrow the frame", {
  rooms <- read_layer(demo_file("rooms.geojson"))
  window <- c(160.18, -47.42, 160.22, -47.38)
  at <- coordinates_of(rooms)
  inside <- at$x >= window[1] & at$x <= window[3] & at$y >= window[2] & at$y <= window[4]
  expected <- rooms[inside & rooms$seats > 60 & rooms$kind != "school", c("seats", "name", "geometry")]
  names(expected)[2] <- "title"
  least <- 60
  for (ending in formats) {
    file <- withr::local_tempfile(fileext = paste0(".", ending))
    write_layer(rooms, file)
    read <- function(...) read_layer(file, ..., crs = if (grepl("sv", ending)) 4326)
    found <- read(where = seats > least & kind != "school", within = window, columns = c(seats, title = name))
    expect_identical(attribute_table(found), attribute_table(expected), info = ending)
    expect_identical(wkt_of(found), wkt_of(expected), info = ending)
    expect_identical(attribute_table(read(where = nchar(opens) > 4 & seats == max(seats))), attribute_table(rooms[rooms$seats == max(rooms$seats), ]), info = ending)
    expect_identical(names(read(columns = dplyr::starts_with("ro"))), c("room_id", "geometry"), info = ending)
    expect_identical(read(columns = c())$geometry |> wkt_of(), wkt_of(rooms), info = ending)
    expect_error(read(where = seatz > 1), "Nearest.*seats", class = "civicatlas_error_column", info = ending)
    expect_error(read(columns = c(nome)), "Nearest.*name", class = "civicatlas_error_column", info = ending)
    expect_error(read(where = seats), "TRUE", class = "civicatlas_error_argument", info = ending)
    expect_error(read(within = reproject_to(rooms, 32757)), "CRS", class = "civicatlas_error_crs_mismatch", info = ending)
    expect_error(read(within = 1:3), "xmin", class = "civicatlas_error_argument", info = ending)
    expect_identical(nrow(suppressWarnings(read(within = c(0, 0, 1, 1)))), 0L, info = ending)
  }
})

test_that("describe_layer tells from headers what reading tells", {
  wards <- read_layer(demo_file("wards.shp"))
  for (ending in c("shp", "gpkg", "parquet", "zip")) {
    file <- withr::local_tempfile(fileext = paste0(".", ending))
    write_layer(wards, file)
    header <- describe_layer(file, scan = FALSE)
    whole <- describe_layer(file, scan = TRUE)
    expect_equal(header$rows, whole$rows, info = ending)
    expect_equal(header$extent, whole$extent, info = ending)
    expect_true(header$crs == whole$crs, info = ending)
    expect_identical(header$fields$name, whole$fields$name, info = ending)
    expect_identical(header$fields$type, whole$fields$type, info = ending)
  }
  expect_match(paste(capture.output(print(describe_layer(demo_file("wards.shp"), scan = FALSE))), collapse = "\n"), "from the header")
})

test_that("an SQL condition means what R means, or is left to R", {
  con <- DBI::dbConnect(RSQLite::SQLite(), ":memory:")
  withr::defer(DBI::dbDisconnect(con))
  kinds <- list(n = "number", t = "text")
  limit <- 3
  data <- data.frame(n = c(1:6, NA, 2.5), t = c("a", "b", "it's", NA, "", "a", "B", "c"))
  DBI::dbWriteTable(con, "d", data)
  in_sql <- function(condition) civicatlas:::sql_condition(civicatlas:::tree_of_code(condition), kinds, con, civicatlas:::sqlite_dialect)
  translated <- list(
    rlang::quo(n > limit & t != "a"), rlang::quo(!(n <= 2) | is.na(t)), rlang::quo(n %in% c(1, 2.5, NA)), rlang::quo(t == "it's"), rlang::quo(n * 2 - 1 >= 5),
    rlang::quo(.data$n == 4), rlang::quo(!(t %in% c("a", "c"))), rlang::quo(n > mean(c(2, 4)))
  )
  withr::local_options(OutDec = ",")
  for (condition in translated) {
    found <- in_sql(condition)
    rows <- DBI::dbGetQuery(con, paste("SELECT rowid FROM d WHERE", paste(found$sql, collapse = " AND ")), params = if (length(found$values)) found$values)[[1]]
    expect_identical(rows, which(rlang::eval_tidy(condition, data)), info = found$sql)
  }
  n <- 4
  left <- list(rlang::quo(t < "b"), rlang::quo(n / 2 == 1), rlang::quo(n == "1"), rlang::quo(nchar(t) > 1), rlang::quo(n == NA), rlang::quo(n > mean(n)), rlang::quo(limit %in% n))
  for (condition in left) expect_null(in_sql(condition)$sql)
})

test_that("random conditions on all kinds of columns give the rows they give here", {
  store <- withr::local_tempfile(fileext = ".gpkg")
  write_layer(table_of_all_kinds(), store, layer = "kinds")
  con <- DBI::dbConnect(RSQLite::SQLite(), store)
  DBI::dbExecute(con, "ALTER TABLE kinds ADD COLUMN price DECIMAL(6,2)")
  DBI::dbExecute(con, "UPDATE kinds SET price = row % 9 / 2.0")
  DBI::dbDisconnect(con)
  runs <- as.integer(Sys.getenv("CIVIC_CONDITIONS", "150"))
  withr::local_seed(if (runs > 150) NULL else 3)
  expect_same_rows(store, "kinds", runs)
  withr::local_options(OutDec = ",")
  expect_same_rows(store, "kinds", 20)
})

test_that("a shapefile without an ending is known by its first bytes", {
  folder <- withr::local_tempdir()
  file.copy(demo_file("wards.shp"), file.path(folder, "wards"))
  expect_error(read_layer(file.path(folder, "wards")), "has no .shp file", class = "civicatlas_error_file")
})

test_that("shapefiles with side files in capitals, none, or several in one archive are read", {
  folder <- withr::local_tempdir()
  wards <- read_layer(demo_file("wards.shp"))
  write_layer(wards, file.path(folder, "a.shp"))
  write_layer(wards[2:3, ], file.path(folder, "b.shp"))
  write_layer(data.frame(x = 1:2), file.path(folder, "c.dbf"))
  files <- list.files(folder, full.names = TRUE)
  zip <- file.path(folder, "all.zip")
  contents <- c(lapply(files, function(file) readBin(file, "raw", 1e6)), list(charToRaw("read me")))
  civicatlas:::core_write_files(zip, list(civicatlas:::core_encode_zip(c(paste0("in/", basename(files)), "in/readme.txt"), contents)), character(), 0)
  expect_identical(list_layers(zip), tibble::tibble(layer = c("a", "b", "c"), format = c("shapefile", "shapefile", "dbase"), geometry_type = c(NA, NA, "none")))
  expect_identical(wkt_of(read_layer(zip, "b")), wkt_of(wards)[2:3])
  expect_identical(read_layer(zip, "c")$x, 1:2)
  expect_error(read_layer(zip), "3 layers", class = "civicatlas_error_argument")
  for (file in grep("/a[.]", files, value = TRUE)) file.rename(file, file.path(folder, toupper(basename(file))))
  expect_identical(read_layer(file.path(folder, "A.SHP"))$name, wards$name)
  unlink(file.path(folder, "A.SHX"))
  expect_identical(wkt_of(read_layer(file.path(folder, "A.SHP"))), wkt_of(wards))
})

test_that("what can be read of a damaged layer is read when asked, and the rest is said", {
  folder <- withr::local_tempdir()
  file <- file.path(folder, "wards.shp")
  write_layer(two_wards(), file)
  bytes <- readBin(file, "raw", 1e6)
  writeBin(utils::head(bytes, -40), file)
  unlink(file.path(folder, "wards.shx"))
  expect_error(read_layer(file), "record 3", class = "civicatlas_error_format")
  expect_warning(x <- off_its_label(suppressWarnings(read_layer(file, damaged = "skip"), "nothing")), "as far as they are sound") |> expect_warning("pair off")
  expect_identical(x$ward, c("west", "east"))
  lines <- withr::local_tempfile(fileext = ".ndjson", lines = c("{\"type\":\"Feature\",\"properties\":{\"a\":1},\"geometry\":null}", "oops", "{\"type\":\"Feature\",\"properties\":{\"a\":3},\"geometry\":null}"))
  expect_error(read_layer(lines), class = "civicatlas_error_format")
  expect_warning(x <- read_layer(lines, damaged = "skip", where = a > 1), "left out")
  expect_identical(x$a, 3L)
  expect_error(read_layer(lines, damaged = "some"), "refuse", class = "civicatlas_error_argument")
})

test_that("shapes are cut at the antimeridian when written to GeoJSON and KML", {
  x <- toy_frame(id = 1:2, geometry = shapes_from_wkt(c("POLYGON ((170 -10, 190 -10, 190 10, 170 10, 170 -10))", "POINT (1 1)"), crs = 4326))
  withr::local_options(civicatlas.quiet = FALSE)
  for (ending in c("geojson", "kml")) {
    file <- withr::local_tempfile(fileext = paste0(".", ending))
    expect_message(expect_message(write_layer(x, file), "1 shape cut at the antimeridian"), "Wrote")
    y <- suppressMessages(read_layer(file))
    expect_identical(geometry_type_of(y), c("multipolygon", "point"))
    expect_identical(unname(extent_of(y)[c("xmin", "xmax")]), c(-180, 180))
  }
})

test_that("files of shapes alone, and web or database sources that are none, are told", {
  x <- two_wards()
  wkt <- withr::local_tempfile(fileext = ".wkt")
  expect_warning(write_layer(x, wkt), "left out", class = "civicatlas_warning_data")
  back <- off_its_label(read_layer(wkt))
  expect_identical(wkt_of(back), wkt_of(x))
  expect_true(crs_of(back) == crs(32757))
  hex <- withr::local_tempfile(fileext = ".wkb", lines = c("0101000000000000000000F03F0000000000000040", "00000000014008000000000000C010000000000000"))
  expect_identical(suppressWarnings(wkt_of(read_layer(hex))), c("POINT (1 2)", "POINT (3 -4)"))
  bad <- withr::local_tempfile(fileext = ".wkb")
  writeBin(as.raw(c(1, 1, 0, 0, 0, 1, 2)), bad)
  expect_error(read_layer(bad), "shape 1.*byte", class = "civicatlas_error_format")
  expect_error(read_layer(withr::local_tempfile(fileext = ".wkt", lines = c("POINT (1 2)", "POINT (1"))), "element 2", class = "civicatlas_error_format")
  expect_error(write_layer(data.frame(a = 1), withr::local_tempfile(fileext = ".geojson")), "as_spatial_frame", class = "civicatlas_error_argument")
  expect_error(write_layer(x, withr::local_tempfile(fileext = ".shp"), append = TRUE), "GeoPackage or PostgreSQL alone", class = "civicatlas_error_argument")
})

test_that("interrupts in the middle of messages leave those that follow as they are", {
  for (i in 1:40) {
    system(sprintf("(sleep 0.0%d; kill -INT %d) &", i, Sys.getpid()))
    ended <- tryCatch(
      repeat {
        suppressWarnings(caution("data", "{.val {3}} rows of {.arg x}; {.fn repair_shapes} mends them."))
        Sys.sleep(0)
      },
      interrupt = function(e) "by an interrupt"
    )
    expect_identical(ended, "by an interrupt")
    expect_warning(caution("data", "{.val {3}} rows of {.arg x}"), "^3 rows of `x`")
  }
})

test_that("progress is told, and an interrupt leaves nothing behind", {
  told <- double()
  civicatlas:::core_set_progress(function(done) told <<- c(told, done))
  withr::defer(civicatlas:::core_set_progress(NULL))
  file <- withr::local_tempfile(fileext = ".csv", lines = c("a,b", rep("1,2", 2e6)))
  suppressWarnings(read_layer(file))
  expect_gt(length(told), 0)
  expect_true(all(told > 0 & told <= 1))
  expect_lte(sum(diff(told) < 0), 1)  # two steps: records are found, then columns made; a fast machine is told of one
  civicatlas:::core_set_progress(function(done) stop("stopped here"))
  expect_error(suppressWarnings(read_layer(file)), "stopped here")
  civicatlas:::core_set_progress(NULL)
  # A time limit breaks off as an interrupt does; it is halved until it comes in the middle, however fast this machine is.
  x <- toy_frame(id = 1:200000, geometry = point_shapes(runif(200000), 1, crs = 32757))
  target <- withr::local_tempfile(fileext = ".gpkg")
  many <- x[rep(1:200000, 2), ]
  limit <- system.time(suppressWarnings(write_layer(many, target)))[["elapsed"]]
  broken <- NULL
  while (is.null(broken) && limit > 1e-3) {
    unlink(target)
    limit <- limit / 2
    setTimeLimit(elapsed = limit, transient = TRUE)
    broken <- tryCatch({
      suppressWarnings(write_layer(many, target))
      NULL
    }, error = conditionMessage)
    setTimeLimit()
  }
  expect_match(broken, "time limit|interrupt")
  expect_length(list.files(dirname(target), basename(target)), 0)
})

test_that("what is read of a file that is replaced meanwhile is of the one that was opened", {
  skip_if(!dir.exists("/proc/self/fd"), "open files have no names here")
  for (ending in c("parquet", "geojson", "zip", "kml", "csv", "wkt")) {
    file <- withr::local_tempfile(fileext = paste0(".", ending))
    places <- function(of, rows) spatial_frame(run = rep(of, rows), geometry = point_shapes(rep(of, rows), seq_len(rows)), crs = 4326)
    write <- function(...) suppressWarnings(write_layer(..., replace = TRUE), classes = "civicatlas_warning_data")  # WKT has no columns
    write(places(1, 50), file)
    open <- length(list.files("/proc/self/fd"))
    source <- civicatlas:::open_source(file)
    write(places(2, 70), file)
    found <- civicatlas:::read_source(source, civicatlas:::new_query())
    civicatlas:::close_source(source)
    expect_identical(coordinates_of(found$shapes)$x, rep(1, 50), info = ending)
    if (ending != "wkt") expect_equal(found$columns$run, rep(1, 50), info = ending)
    expect_error(read_layer(file, layer = "none"), class = "civicatlas_error_argument")
    expect_length(list.files("/proc/self/fd"), open)
  }
})

test_that("names are found in a locale whose capitals are others", {
  folder <- withr::local_tempdir()
  sources <- "/usr/share/i18n/locales/tr_TR"
  skip_if(!file.exists(sources) || !nzchar(Sys.which("localedef")), "no Turkish locale can be made here")
  system2("localedef", c("-i", "tr_TR", "-f", "UTF-8", file.path(folder, "tr_TR.UTF-8")))
  code <- tempfile(fileext = ".R")
  writeLines(c(
    "suppressPackageStartupMessages(library(civicatlas)); options(civicatlas.quiet = TRUE); stopifnot(toupper(\"i\") != \"I\")",
    "wards <- read_layer(demo_file(\"wards.shp\"))",
    "writeLines(c(\"ID,LONGITUDE,LATITUDE\", \"1,1,2\"), \"A.CSV\")",
    "write_layer(wards, \"i.shp\"); invisible(file.rename(\"i.dbf\", \"I.DBF\")); write_layer(wards, \"i.zip\"); invisible(file.rename(\"i.zip\", \"I.ZIP\"))",
    "write_layer(spatial_frame(day = as.POSIXct(0, origin = \"1970-01-01\", tz = \"UTC\"), geometry = point_shapes(1, 2), crs = 4326), \"I.GPKG\")",
    "cat(class(read_layer(\"A.CSV\", crs = 4326))[1], dim(read_layer(\"i.shp\")), dim(read_layer(\"I.ZIP\")), class(read_layer(\"I.GPKG\")$day)[1])"
  ), code)
  said <- withr::with_dir(folder, withr::with_envvar(c(LOCPATH = folder, LC_ALL = "tr_TR.UTF-8"), system2("Rscript", c("--vanilla", code), stdout = TRUE)))
  expect_identical(said, "spatial_frame 24 5 24 5 POSIXct")
})
