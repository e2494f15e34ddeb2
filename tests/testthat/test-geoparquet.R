# A GeoParquet file made by hand: nanoparquet writes the columns, the blobs and the metadata are spelled out here.
parquet_by_hand <- function(crs, env = parent.frame()) {
  file <- withr::local_tempfile(fileext = ".parquet", .local_envir = env)
  point <- function(x, y) c(as.raw(1), writeBin(1L, raw(), endian = "little"), writeBin(c(x, y), raw(), endian = "little"))
  data <- data.frame(name = c("a", "b", "c"))
  data$shape <- I(list(point(1, 2), NULL, point(3, 4)))
  geo <- sprintf("{\"version\":\"1.1.0\",\"primary_column\":\"shape\",\"columns\":{\"shape\":{\"encoding\":\"WKB\",\"geometry_types\":[\"Point\"]%s}}}", crs)
  nanoparquet::write_parquet(data, file, metadata = c(geo = geo))
  file
}

test_that("GeoParquet made by hand is read with its CRS", {
  file <- parquet_by_hand(",\"crs\":{\"id\":{\"authority\":\"EPSG\",\"code\":32757}}")
  x <- off_its_label(read_layer(file))
  expect_identical(wkt_of(x), c("POINT (1 2)", NA, "POINT (3 4)"))
  expect_identical(x$name, c("a", "b", "c"))
  expect_true(crs_of(x) == crs(32757))
  expect_true(crs_of(read_layer(parquet_by_hand(""))) == crs(4326))
  suppressWarnings(expect_null(crs_of(read_layer(parquet_by_hand(",\"crs\":null")))))
  expect_warning(suppressWarnings(read_layer(parquet_by_hand(",\"crs\":{\"name\":\"mine\"}")), "nothing"), "\"mine\", is not in the registry") |>
    expect_warning("no CRS")
  expect_true(suppressWarnings(crs_of(read_layer(parquet_by_hand(",\"crs\":{\"name\":\"ETRS89 / UTM zone 33N\"}")))) == crs(25833))
  expect_identical(suppressWarnings(read_layer(file, within = c(2, 2, 5, 5)))$name, "c")
})

test_that("what is written has the bbox group of GeoParquet 1.1, and reads back", {
  wards <- read_layer(demo_file("wards.shp"))
  file <- withr::local_tempfile(fileext = ".parquet")
  write_layer(wards, file)
  again <- read_layer(file)
  expect_identical(wkt_of(again), wkt_of(wards))
  expect_identical(attribute_table(again), attribute_table(wards))
  about <- nanoparquet::read_parquet_metadata(file)
  pairs <- about$file_meta_data$key_value_metadata[[1]]
  geo <- jsonlite::fromJSON(pairs$value[pairs$key == "geo"])
  expect_identical(geo$version, "1.1.0")
  expect_identical(geo$columns$geometry$covering$bbox$xmin, c("bbox", "xmin"))
  expect_equal(geo$columns$geometry$bbox, unname(extent_of(wards)))
  schema <- about$schema
  expect_identical(schema$num_children[schema$name == "bbox"], 4L)
  expect_identical(unlist(about$column_chunks$path_in_schema[about$column_chunks$column == 8]), c("bbox", "ymax"))
})

test_that("row groups outside a window are left out, and rows stay with their columns", {
  set.seed(2)
  points <- toy_frame(n = 1:400000, geometry = point_shapes(1:400000, runif(400000), crs = 32757))
  file <- withr::local_tempfile(fileext = ".parquet")
  write_layer(points, file)
  some <- off_its_label(read_layer(file, within = c(250000, 0, 250009, 1)))
  expect_identical(some$n, 250000:250009)
  expect_identical(coordinates_of(some)$x, as.double(250000:250009))
  expect_identical(off_its_label(read_layer(file, where = n > 399998))$n, 399999:400000)
  expect_identical(nrow(suppressWarnings(read_layer(file, within = c(-5, -5, -1, -1)))), 0L)
})

test_that("a Parquet file without shapes is a table, and damage is refused", {
  heat <- read_layer(demo_file("heat.csv"))
  file <- withr::local_tempfile(fileext = ".parquet")
  write_layer(heat, file)
  expect_identical(read_layer(file), heat)
  bytes <- readBin(file, "raw", 1e6)
  writeBin(utils::head(bytes, -20), file)
  expect_error(read_layer(file), "no Parquet file", class = "civicatlas_error_format")
})

test_that("the core reads tables in every packing, page and encoding as they were written", {
  skip_if_not_installed("nanoparquet")
  withr::local_options(civicatlas.quiet = TRUE)
  withr::local_seed(3)
  n <- 3000
  some <- function(values) {
    values[sample(length(values), n %/% 7)] <- NA
    values
  }
  data <- data.frame(
    flag = some(sample(c(TRUE, FALSE), n, TRUE)), whole = some(sample(-5:5, n, TRUE)), real = some(round(stats::rnorm(n), 2)), all = seq_len(n) / 3,
    few = some(sample(c("", "oak", "Kl\u00f6ster"), n, TRUE)), many = as.character(seq_len(n)), one = "same", none = NA_character_,
    day = some(as.Date("2026-01-01") + sample(n)), time = some(as.POSIXct("2026-01-01", tz = "UTC") + sample(n) / 4)
  )
  encodings <- list(character(), c(real = "PLAIN", few = "PLAIN", whole = "PLAIN"), c(flag = "RLE", few = "RLE_DICTIONARY", whole = "RLE_DICTIONARY"))
  for (packing in c("uncompressed", "snappy", "gzip")) for (version in 1:2) for (encoding in encodings) {
    file <- withr::local_tempfile(fileext = ".parquet")
    options <- nanoparquet::parquet_options(write_data_page_version = version, num_rows_per_row_group = 1000L)
    arguments <- list(data, file, compression = packing, options = options)
    # nanoparquet 0.5.2 writes the levels of such pages of version 2 as those of version 1, and reads other values itself.
    if (version == 2) encoding <- encoding[setdiff(names(encoding), "flag")]
    if (length(encoding)) arguments$encoding <- encoding
    do.call(nanoparquet::write_parquet, arguments)
    parquet <- open_parquet(file, file, NULL)
    expect_true(reads_all(parquet))
    close_parquet(parquet)
    found <- read_layer(file)
    expect_equal(as.data.frame(found), data, ignore_attr = "class", info = paste(packing, version, toString(encoding)))
  }
})
