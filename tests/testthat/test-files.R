round_trip <- function(x, ending, ...) {
  file <- withr::local_tempfile(fileext = paste0(".", ending))
  write_layer(x, file, ...)
  read_layer(file)
}

test_that("shapefile to GeoJSON to shapefile keeps every double to the last bit", {
  for (kind in names(every_kind)) {
    texts <- every_kind[[kind]]
    x <- toy_frame(id = seq_along(texts), share = c(0.1, 1 / 3, 2e-7)[seq_along(texts)], geometry = shapes_from_wkt(texts, crs = 4326))
    first <- round_trip(x, "shp")
    second <- round_trip(first, "geojson")
    third <- round_trip(second, "shp")
    expect_identical(wkt_of(first), texts, info = kind)
    expect_identical(wkt_of(second), texts, info = kind)
    expect_identical(wkt_of(third), texts, info = kind)
    expect_identical(third$share, x$share, info = kind)
    expect_true(crs_of(third) == crs(4326))
  }
})

test_that("random coordinates keep every bit through every format", {
  set.seed(9)
  x <- toy_frame(id = 1:500, geometry = point_shapes(runif(500, -180, 180), runif(500, -90, 90), crs = 4326))
  for (ending in c("shp", "zip", "geojson")) expect_identical(wkt_of(round_trip(x, ending)), wkt_of(x))
})

test_that("GeoJSON says that it lost M, and is written on longitude and latitude", {
  x <- toy_frame(id = 1L, geometry = shapes_from_wkt("POINT ZM (160 -47 3 4)", crs = 4326))
  expect_warning(y <- round_trip(x, "geojson"), "M values", class = "civicatlas_warning_data")
  expect_identical(wkt_of(y), "POINT Z (160 -47 3)")
  utm <- reproject_to(x, 32757)
  y <- suppressWarnings(round_trip(utm, "geojson"))
  expect_true(crs_of(y) == crs(4326))
  expect_equal(coordinates_of(y)$x, 160, tolerance = 1e-12)
  expect_warning(y <- suppressWarnings(round_trip(utm, "geojson", crs = 32757), "civicatlas_warning_data"), "RFC 7946", class = "civicatlas_warning_crs")
  expect_true(crs_of(y) == crs(32757))
  expect_identical(coordinates_of(y)$x, coordinates_of(utm)$x)
})

test_that("attributes of every type survive a shapefile", {
  x <- toy_frame(
    whole = c(1L, NA, -30L), real = c(0.5, NA, 1e20), yes = c(TRUE, NA, FALSE), day = as.Date(c("2026-11-24", NA, "1969-07-20")),
    text = c("K\u00f6nig", NA, "plain"), kind = factor(c("a", "b", NA)), geometry = point_shapes(1:3, 1:3, crs = 4326)
  )
  y <- round_trip(x, "shp")
  for (column in c("whole", "real", "yes", "day", "text")) expect_identical(y[[column]], x[[column]], info = column)
  expect_identical(y$kind, c("a", "b", NA))
  z <- round_trip(x, "geojson")
  for (column in c("whole", "real", "yes", "text")) expect_identical(z[[column]], x[[column]], info = column)
})

test_that("long names and texts are cut and listed", {
  x <- toy_frame(a_long_name_1 = 1L, a_long_name_2 = 2L, note = strrep("\u00e9", 200), geometry = point_shapes(1, 1, crs = 4326))
  expect_warning(y <- suppressWarnings(round_trip(x, "shp"), "nothing"), "shortened to 10 bytes", class = "civicatlas_warning_data") |>
    expect_warning("cut to 254 bytes")
  expect_named(y, c("a_long_nam", "a_long_n_1", "note", "geometry"))
  expect_identical(y$note, strrep("\u00e9", 127))
})

test_that("where, within and columns narrow a layer", {
  all <- read_layer(demo_file("rooms.geojson"))
  some <- read_layer(demo_file("rooms.geojson"), where = seats > 100 & kind == "school", columns = c(name, seats))
  expect_named(some, c("name", "seats", "geometry"))
  expect_identical(some$name, all$name[all$seats > 100 & all$kind == "school"])
  extent <- extent_of(some)
  expect_true(nrow(read_layer(demo_file("rooms.geojson"), within = extent)) >= nrow(some))
  expect_identical(nrow(read_layer(demo_file("rooms.geojson"), within = some)), nrow(read_layer(demo_file("rooms.geojson"), within = extent)))
  expect_error(read_layer(demo_file("rooms.geojson"), columns = c(nome)), "Nearest.*name", class = "civicatlas_error_column")
  expect_error(read_layer(demo_file("rooms.geojson"), where = seatz > 1), "Nearest.*seats", class = "civicatlas_error_column")
  expect_warning(none <- read_layer(demo_file("rooms.geojson"), where = seats > 1e6), "no rows")
  expect_identical(nrow(none), 0L)
})

test_that("zip archives are read by layer, and list what they hold", {
  expect_identical(list_layers(demo_file("cells.zip")), tibble::tibble(layer = "cells", format = "shapefile", geometry_type = NA_character_))
  expect_gt(nrow(read_layer(demo_file("cells.zip"))), 2000)
  expect_error(read_layer(demo_file("cells.zip"), layer = "cell"), "Nearest.*cells", class = "civicatlas_error_argument")
  file <- withr::local_tempfile(fileext = ".zip")
  civicatlas:::core_write_files(file, list(civicatlas:::core_encode_zip("notes.txt", list(charToRaw("hi")))), character(), 0)
  expect_error(read_layer(file), "no layer.*notes.txt", class = "civicatlas_error_format")
})

test_that("a failed write leaves the old file as it was", {
  folder <- withr::local_tempdir()
  file <- file.path(folder, "a.shp")
  write_layer(two_wards(), file)
  before <- tools::md5sum(list.files(folder, full.names = TRUE))
  mixed <- toy_frame(id = 1:2, geometry = shapes_from_wkt(c("POINT (1 1)", "LINESTRING (0 0, 1 1)"), crs = 32757))
  expect_error(write_layer(mixed, file, replace = TRUE), "one kind", class = "civicatlas_error_argument")
  expect_error(write_layer(two_wards(), file), "replace = TRUE", class = "civicatlas_error_file")
  expect_identical(tools::md5sum(list.files(folder, full.names = TRUE)), before)
  wide <- toy_frame(!!!stats::setNames(as.list(1:256), paste0("c", 1:256)), geometry = point_shapes(1, 1, crs = 4326))
  expect_error(write_layer(wide, file, replace = TRUE), "255", class = "civicatlas_error_argument")
  expect_error(write_layer(two_wards(), file.path(folder, "no", "a.shp")), "no folder", class = "civicatlas_error_file")
  expect_error(write_layer(two_wards(), file.path(folder, "a.docx")), ".geojson", class = "civicatlas_error_argument")
})

test_that("describe_layer says what an analyst checks", {
  found <- describe_layer(demo_file("wards.shp"))
  expect_identical(found$rows, 24L)
  expect_identical(sum(found$geometry_type), 24L)
  expect_identical(found$fields$name, c("ward_id", "name", "residents", "over_65"))
  expect_identical(found$fields$type, c("text", "text", "integer", "integer"))
  expect_true(found$crs == crs(32757))
  expect_identical(describe_layer(demo_file("cells.zip"))$fields$type, c("text", "text", rep("text (numbers)", 5)))
  expect_match(paste(capture.output(print(found)), collapse = "\n"), "24.*UTM zone 57S.*metre")
})

off_its_names <- function(expr) {
  expect_warning(value <- expr, "shortened to 10 bytes", class = "civicatlas_warning_data")
  value
}

test_that("names that a shapefile shortens come back as a table, in the history and from the command line", {
  file <- withr::local_tempfile(fileext = ".shp")
  x <- spatial_frame(residents_over_65 = 1, opened = as.POSIXct("2026-11-24 06:30:00", tz = "UTC"), geometry = point_shapes(160, -47, 4326))
  expect_warning(out <- off_its_names(write_layer(x, file)), "Date-times are written as text.*opened", class = "civicatlas_warning_data")
  expect_identical(written_names(out), tibble::tibble(name = "residents_over_65", written = "residents_"))
  expect_match(history_of(out)$note, "residents_over_65 \u2192 residents_")
  expect_identical(nrow(written_names(x)), 0L)
})

test_that("fields without a name or with that of another are kept, named and told", {
  folder <- withr::local_tempdir()
  path <- file.path(folder, "wards.dbf")
  suppressWarnings(write_layer(data.frame(POP = 1:2, POX = 3:4, ODD = c("a", "b")), path))
  bytes <- readBin(path, "raw", 1e4)
  bytes[32 + 32 + 3] <- charToRaw("P")  # the second field is POP too
  bytes[32 + 64 + 1:3] <- as.raw(0)  # the third has no name
  writeBin(bytes, path)
  withr::local_options(civicatlas.quiet = FALSE)
  expect_message(read <- read_layer(path), "column_3.*|POP_1.*") |> suppressMessages()
  expect_identical(as.list(read), list(POP = 1:2, POP_1 = 3:4, column_3 = c("a", "b")))
  again <- file.path(folder, "again.dbf")
  suppressMessages(write_layer(stats::setNames(read, c("POP", "POP_1", "")), again)) |> suppressWarnings()
  expect_identical(suppressMessages(read_layer(again))$column_3, c("a", "b"))
})
