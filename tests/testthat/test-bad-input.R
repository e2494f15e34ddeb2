# Damaged copies of good files: a clear classed error or a counted warning, never a crash.

copy_of <- function(name, change, env = parent.frame()) {
  folder <- withr::local_tempdir(.local_envir = env)
  stem <- tools::file_path_sans_ext(name)
  for (file in list.files(dirname(demo_file(name)), paste0("^", stem, "[.]"), full.names = TRUE)) file.copy(file, folder)
  change(file.path(folder, stem))
  file.path(folder, name)
}

truncate_to <- function(path, size) writeBin(readBin(path, "raw", size), path)

test_that("missing files and side files are named", {
  expect_error(read_layer("nowhere/wards.shp"), "no folder", class = "civicatlas_error_file")
  expect_error(read_layer(file.path(dirname(demo_file("wards.shp")), "ward.shp")), "wards.shp", class = "civicatlas_error_file")
  expect_error(read_layer(withr::local_tempdir()), "is a folder", class = "civicatlas_error_file")
  no_shp <- copy_of("wards.shp", function(stem) unlink(paste0(stem, ".shp")))
  expect_error(read_layer(no_shp), "wards.dbf", class = "civicatlas_error_file")
  expect_identical(read_layer(sub("shp$", "dbf", no_shp)), attribute_table(read_layer(demo_file("wards.shp"))))
  expect_warning(x <- read_layer(copy_of("wards.shp", function(stem) unlink(paste0(stem, ".dbf")))), "no .dbf", class = "civicatlas_warning_data")
  expect_named(x, "geometry")
  expect_warning(x <- read_layer(copy_of("wards.shp", function(stem) unlink(paste0(stem, ".prj")))), "no CRS", class = "civicatlas_warning_crs")
  expect_null(crs_of(x))
  expect_silent(read_layer(copy_of("wards.shp", function(stem) unlink(paste0(stem, c(".shx", ".cpg"))))))
})

test_that("damaged shapefiles are refused with record and byte", {
  expect_error(read_layer(copy_of("wards.shp", function(stem) truncate_to(paste0(stem, ".shp"), 20000))), "record 1 .*byte", class = "civicatlas_error_format")
  expect_error(read_layer(copy_of("wards.shp", function(stem) truncate_to(paste0(stem, ".shp"), 50))), "header", class = "civicatlas_error_format")
  expect_error(read_layer(copy_of("wards.shp", function(stem) truncate_to(paste0(stem, ".dbf"), 600))), "cut off in record", class = "civicatlas_error_format")
  expect_error(read_layer(copy_of("wards.shp", function(stem) writeLines("hello, this is text", paste0(stem, ".shp")))), class = "civicatlas_error_format")
  garbled <- copy_of("wards.shp", function(stem) writeLines("PROJCS[oops", paste0(stem, ".prj")))
  expect_warning(x <- suppressWarnings(read_layer(garbled), "nothing"), "cannot be read", class = "civicatlas_warning_crs") |> expect_warning("no CRS")
  expect_identical(nrow(x), 24L)
})

test_that("shapes and table that do not belong together are refused", {
  other <- copy_of("wards.shp", function(stem) {
    points <- toy_frame(id = 1:3, geometry = point_shapes(1:3, 1:3, crs = 32757))
    write_layer(points, file.path(dirname(stem), "points.shp"))
    file.copy(file.path(dirname(stem), "points.dbf"), paste0(stem, ".dbf"), overwrite = TRUE)
  })
  expect_error(read_layer(other), "24 shapes.*3 records", class = "civicatlas_error_format")
})

test_that("text in another or an unknown encoding is told", {
  latin <- copy_of("wards.shp", function(stem) {
    bytes <- readBin(paste0(stem, ".dbf"), "raw", 1e5)
    at <- grepRaw("Gannet", bytes)
    bytes[at + 1] <- as.raw(0xe9)
    writeBin(bytes, paste0(stem, ".dbf"))
    writeLines("1252", paste0(stem, ".cpg"))
  })
  expect_identical(read_layer(latin)$name[1], "G\u00e9nnet Point")
  expect_identical(read_layer(latin, encoding = "CP1251")$name[1], "G\u0439nnet Point")
  expect_error(read_layer(latin, encoding = "KLINGON"), "KLINGON", class = "civicatlas_error_argument")
})

geojson <- function(text) {
  file <- tempfile(fileext = ".geojson")
  writeLines(text, file)
  file
}

test_that("what is no GeoJSON is refused with feature and byte", {
  expect_error(read_layer(geojson("not json at all")), "not JSON", class = "civicatlas_error_format")
  expect_error(read_layer(geojson("")), "empty", class = "civicatlas_error_format")
  expect_error(read_layer(geojson("[1, 2]")), "not GeoJSON", class = "civicatlas_error_format")
  expect_error(read_layer(geojson('{"type":"FeatureCollection","features":[{"type":"Feature","properties":{},"geometry":{"type":"Point","coordinates":[1]}}]}')),
               "feature 1", class = "civicatlas_error_format")
  expect_error(read_layer(geojson('{"type":"Point","coordinates":[NaN,1]}')), "byte", class = "civicatlas_error_format")
  expect_warning(x <- read_layer(geojson('{"type":"FeatureCollection","features":[]}')), "no rows", class = "civicatlas_warning_data")
  expect_identical(nrow(x), 0L)
  changing <- '{"type":"FeatureCollection","features":[{"type":"Feature","properties":{"a":1},"geometry":null},{"type":"Feature","properties":{"a":"x"},"geometry":null}]}'
  expect_warning(x <- read_layer(geojson(changing)), "change type", class = "civicatlas_warning_data")
  expect_identical(x$a, c("1", "x"))
  open_ring <- '{"type":"Polygon","coordinates":[[[0,0],[1,0],[1,1]]]}'
  expect_warning(x <- read_layer(geojson(open_ring)), "1: polygons had rings that were not closed", class = "civicatlas_warning_data")
  expect_identical(wkt_of(x), "POLYGON ((0 0, 1 0, 1 1, 0 0))")
})

test_that("numbers full of asterisks become missing and are counted", {
  stars <- copy_of("wards.shp", function(stem) {
    bytes <- readBin(paste0(stem, ".dbf"), "raw", 1e5)
    at <- grepRaw(format(read_layer(demo_file("wards.shp"))$residents[1]), bytes)
    bytes[at + 0:3] <- charToRaw("****")
    writeBin(bytes, paste0(stem, ".dbf"))
  })
  expect_warning(x <- read_layer(stars), "1: values of field residents are no numbers.*record 1", class = "civicatlas_warning_data")
  expect_identical(is.na(x$residents), c(TRUE, rep(FALSE, 23)))
  told <- testthat::capture_warnings(read_layer(stars, where = is.na(residents) | over_65 > 0))
  expect_length(told, 1)
})

test_that("a file of no known format is refused", {
  file <- withr::local_tempfile(fileext = ".xyz", lines = "what is this?")
  expect_error(read_layer(file), "no known format", class = "civicatlas_error_format")
})

test_that("every verb makes valid shapes of every invalid shape, or says which row it cannot take", {
  vectors <- lapply(readLines(test_data("invalid_vectors.jsonl")), jsonlite::fromJSON)
  shapes <- shapes_from_wkt(vapply(vectors, `[[`, "", "wkt"))
  mask <- toy_frame(k = 1, geometry = shapes_from_wkt("POLYGON ((-3 -3, 6 -3, 6 5, 2 6, -3 4, -3 -3))"))
  line <- toy_frame(geometry = shapes_from_wkt("LINESTRING (-9 0.5, 9 0.7)"))
  verbs <- list(
    function(x) overlay_with(x, mask, "union"), function(x) overlay_with(mask, x, "identity", tolerance = 0.01), function(x) clip_to(x, mask),
    function(x) erase_by(x, mask), function(x) split_by(x, line), function(x) buffer_by(x, 0.5), function(x) buffer_by(x, -0.1),
    function(x) buffer_by(x, 0.3, merged = TRUE), function(x) bands_around(x, c(0.1, 0.2)), function(x) dissolve_by(x), function(x) simplify_by(x, 0.2),
    repair_shapes, function(x) repair_shapes(x, "winding"), function(x) close_gaps(x, 0.01, force = TRUE),
    function(x) absorb_slivers(x, area = 0.1), flatten_layer, find_gaps, find_slivers
  )
  finite <- vapply(regmatches(wkt_of(shapes), gregexpr("nan|inf", wkt_of(shapes), ignore.case = TRUE)), length, 0L) == 0
  expect_identical(sum(!finite), 3L)
  together <- toy_frame(id = which(finite), geometry = shapes[finite])
  for (i in seq_along(verbs)) {
    made <- suppressWarnings(verbs[[i]](together))
    if (i < length(verbs)) expect_true(all(check_shapes(made)$valid), label = paste("all valid of verb", i))  # the last lists what it found
    for (row in which(!finite)) {
      lone <- suppressWarnings(toy_frame(id = 1, geometry = shapes[row]))
      expect_error(suppressWarnings(verbs[[i]](lone)), "finite", class = "civicatlas_error")
    }
  }
  alone <- function(verb) all(vapply(which(finite), function(row) all(check_shapes(suppressWarnings(verb(together[together$id == row, ])))$valid), NA))
  for (verb in verbs[c(1, 6, 12)]) expect_true(alone(verb))
})
