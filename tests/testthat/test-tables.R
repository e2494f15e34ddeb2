csv <- function(..., ending = ".csv", env = parent.frame()) withr::local_tempfile(fileext = ending, lines = c(...), .local_envir = env)

test_that("columns of a CSV file get the type that all their values have", {
  x <- read_layer(csv("id,n,real,yes,day,time,code,blank,big,text", "1,-7,1.5,TRUE,2026-11-24,2026-11-24T06:30:00Z,007,,9007199254740993,\"a, \"\"b\"\"\"", "2,,1e3,false,,,12,,1,"))
  expect_identical(x, tibble::tibble(
    id = 1:2, n = c(-7L, NA), real = c(1.5, 1000), yes = c(TRUE, FALSE), day = as.Date(c("2026-11-24", NA)), time = as.POSIXct(c("2026-11-24 06:30:00", NA), tz = "UTC"),
    code = c("007", "12"), blank = NA_character_, big = c("9007199254740993", "1"), text = c("a, \"b\"", NA)
  ))
})

test_that("separators, encodings and byte order marks are recognised", {
  expect_identical(read_layer(csv("a;b", "1,5;x"))$a, "1,5")
  expect_identical(mend_numbers(read_layer(csv("a;b", "1,5;x")))$a, 1.5)
  expect_identical(read_layer(csv("a\tb", "1\tx", ending = ".tsv"))$b, "x")
  expect_identical(read_layer(csv("a|b", "1|x"))$b, "x")
  bytes <- withr::local_tempfile(fileext = ".csv")
  writeBin(c(charToRaw("name\nK"), as.raw(0xf6), charToRaw("nig\n")), bytes)
  expect_identical(read_layer(bytes)$name, "K\u00f6nig")
  writeBin(c(as.raw(c(0xef, 0xbb, 0xbf)), charToRaw("name\nx\n")), bytes)
  expect_named(read_layer(bytes), "name")
  writeBin(c(as.raw(c(0xff, 0xfe)), iconv("a,b\n1,\u00e9\n", "UTF-8", "UTF-16LE", toRaw = TRUE)[[1]]), bytes)
  expect_identical(read_layer(bytes)$b, "\u00e9")
})

test_that("coordinates and well-known text become shapes", {
  expect_warning(x <- read_layer(csv("name,lon,lat", "a,160.2,-47.4", "b,,"), crs = 4326), "1 row of 2 without coordinates")
  expect_identical(wkt_of(x), c("POINT (160.2 -47.4)", NA))
  expect_named(x, c("name", "geometry"))
  x <- suppressWarnings(read_layer(csv("east,north_m,v", "1,2,3"), coords = c("east", "north_m")))
  expect_identical(wkt_of(x), "POINT (1 2)")
  expect_warning(x <- read_layer(csv("wkt,v", "\"POLYGON ((0 0, 1 0, 1 1, 0 0))\",3")), "no CRS", class = "civicatlas_warning_crs")
  expect_identical(wkt_of(x), "POLYGON ((0 0, 1 0, 1 1, 0 0))")
  expect_error(read_layer(csv("a,b", "1,2"), coords = c("a", "c")), "\"c\"", class = "civicatlas_error_column")
  expect_error(read_layer(csv("a,b", "1,x"), coords = c("a", "b")), "Row 1.*x", class = "civicatlas_error_column")
  expect_error(read_layer(csv("a,b", "1,2"), within = c(0, 0, 1, 1)), "without shapes.*coords", class = "civicatlas_error_argument")
  expect_identical(suppressWarnings(read_layer(csv("x,y,v", "1,2,a", "5,5,b"), within = c(0, 0, 3, 3)))$v, "a")
})

test_that("columns that could be taken for coordinates do not displace the shapes", {
  x <- toy_frame(lon = 7.5, lat = 8.5, wkt = "mine", geometry = point_shapes(160, -47, crs = 4326))
  file <- withr::local_tempfile(fileext = ".csv")
  write_layer(x, file)
  y <- read_layer(file, crs = 4326)
  expect_identical(wkt_of(y), wkt_of(x))
  expect_identical(attribute_table(y), attribute_table(x))
})

test_that("broken tables are refused", {
  expect_error(read_layer(csv(character())), "empty", class = "civicatlas_error_format")
  broken <- csv("a,b", "1,2", "1,2,3,4", "5,6")
  expect_error(read_layer(broken), "line 3 has 4 fields", class = "civicatlas_error_format")
  expect_warning(x <- read_layer(broken, damaged = "skip"), "1: lines cannot be read", class = "civicatlas_warning_data")
  expect_identical(x$a, c(1L, 5L))
})

test_that("spreadsheets made by hand are read by sheet", {
  file <- workbook(list(list("ward_id", "peak", "n"), list("01", 31.5, 3), list("02", 30, 4)))
  expect_identical(list_layers(file)$layer, "Heat")
  expect_identical(read_layer(file), tibble::tibble(ward_id = c("01", "02"), peak = c(31.5, 30), n = 3:4))
  expect_identical(read_layer(file, "Heat", where = n > 3, columns = c(ward_id))$ward_id, "02")
  expect_error(read_layer(file, "Hete"), "Heat", class = "civicatlas_error_argument")
  places <- workbook(list(list("name", "lon", "lat"), list("a", 160.2, -47.4)))
  expect_identical(wkt_of(read_layer(places, crs = 4326)), "POINT (160.2 -47.4)")
  expect_error(read_layer(withr::local_tempfile(fileext = ".xlsx", lines = "no")), "no spreadsheet", class = "civicatlas_error_format")
})

test_that("a dBASE table alone is read and written", {
  heat <- dplyr::rename(read_layer(demo_file("heat.csv")), hot_nights = nights_above_25)
  file <- withr::local_tempfile(fileext = ".dbf")
  write_layer(heat, file)
  expect_identical(read_layer(file), heat)
  expect_identical(read_layer(file, where = peak_c > 33, columns = c(id = ward_id)), tibble::tibble(id = heat$ward_id[heat$peak_c > 33]))
  expect_identical(describe_layer(file, scan = FALSE)$fields$type, c("text", "number", "integer"))
  for (ending in c("dbf", "gpkg", "parquet")) {
    table <- withr::local_tempfile(fileext = paste0(".", ending))
    write_layer(heat, table)
    expect_error(read_layer(table, within = c(0, 0, 1, 1)), "without shapes", class = "civicatlas_error_argument", info = ending)
  }
})
