test_that("buffers have the areas they should, in any unit", {
  point <- point_shapes(500000, 4750000, crs = 32757)
  lost <- 1 - sin(pi / 128) / (pi / 128) # of a circle of 4 x 32 chords
  expect_equal(area_of(buffer_by(point, 400, segments = 32)), pi * 400^2 * (1 - 4 * lost), tolerance = 1e-4)
  expect_equal(area_of(buffer_by(point, 0.4, unit = "km")), area_of(buffer_by(point, 400)))
  square <- shapes_from_wkt("POLYGON ((0 0, 10 0, 10 10, 0 10, 0 0))", crs = 32757)
  expect_equal(area_of(buffer_by(square, 1, corners = "mitred")), 144)
  expect_equal(area_of(buffer_by(square, -1)), 64)
  feet <- read_layer(demo_file("districts.shp"))
  grown <- buffer_by(feet[5, ], 10, "m")
  expect_equal(extent_of(grown)[["xmax"]] - extent_of(feet[5, ])[["xmax"]], 10 / (1200 / 3937), tolerance = 1e-3)
})

test_that("a distance a row comes from a column or a vector", {
  x <- toy_frame(id = 1:3, reach = c(1, 2, NA), geometry = point_shapes(c(0, 100, 200), 0, crs = 32757))
  widths <- function(buffers) {
    boxes <- vapply(seq_along(as_shapes(buffers)), function(i) diff(extent_of(buffers[i, ])[c("xmin", "xmax")]), 0)
    unname(boxes)
  }
  withr::local_options(civicatlas.quiet = FALSE)
  expect_message(found <- buffer_by(x, reach), "3 shapes by 1 to 2 m: 1 without a distance \\(missing\\)")
  expect_equal(widths(found), c(2, 4, NA))
  expect_equal(suppressMessages(widths(buffer_by(x, c(3, 2, 1)))), c(6, 4, 2))
})

test_that("merged buffers are one shape", {
  x <- toy_frame(id = 1:3, geometry = point_shapes(c(0, 1, 100), 0, crs = 32757))
  merged <- buffer_by(x, 2, merged = TRUE)
  expect_named(merged, "geometry")
  expect_identical(geometry_type_of(merged), "multipolygon")
  expect_identical(nrow(parts_of(merged)), 2L)
})

test_that("on longitude and latitude distances are true metres, at the antimeridian and the pole too", {
  places <- point_shapes(c(160.2, 179.999, 30, 0), c(-47.4, 10, 89.99, 0), crs = 4326)
  around <- buffer_by(places, 5000, segments = 64)
  # The area of a small circle on the ground, by the ellipsoidal measure.
  expect_equal(area_of(around), rep(pi * 5000^2, 4), tolerance = 5e-4)
  expect_identical(geometry_type_of(around)[1:2], c("polygon", "multipolygon"))
  expect_equal(extent_of(around[3])[c("xmin", "xmax", "ymax")], c(xmin = -180, xmax = 180, ymax = 90))
  edge <- coordinates_of(around[1])
  expect_equal(distance_between(point_shapes(edge$x, edge$y, crs = 4326), places[1]), rep(5000, nrow(edge)), tolerance = 1e-7)
  line <- shapes_from_wkt("LINESTRING (160 -47, 160.5 -47.2)", crs = 4326)
  beside <- coordinates_of(buffer_by(line, 1000))
  expect_lt(max(distance_between(point_shapes(beside$x, beside$y, crs = 4326), line)), 1000.01)
})

test_that("bands do not overlap and add up", {
  wards <- read_layer(demo_file("wards.shp"))
  rooms <- clip_to(reproject_to(read_layer(demo_file("rooms.geojson")), wards), wards)
  bands <- bands_around(rooms, c(250, 500, 750), "m", within = wards)
  expect_identical(bands$from, c(0, 250, 500))
  expect_identical(bands$to, c(250, 500, 750))
  whole <- clip_to(buffer_by(rooms, 750, merged = TRUE), wards)
  expect_equal(sum(area_of(bands)), area_of(whole), tolerance = 1e-10)
  for (i in 1:2) expect_match(relation_of(bands[i, ], bands[i + 1, ]), "^F...1")
})

test_that("wrong distances and styles are told", {
  point <- point_shapes(0, 0, crs = 32757)
  expect_error(buffer_by(point, "4"), "finite number", class = "civicatlas_error_argument")
  expect_error(buffer_by(point, Inf), "finite number", class = "civicatlas_error_argument")
  expect_error(buffer_by(point, 1, unit = "miles"), "Nearest", class = "civicatlas_error_choice")
  expect_error(buffer_by(point_shapes(0, 0), 1, unit = "m"), class = "civicatlas_error_crs")
  expect_error(buffer_by(point, 1, ends = "butt"), "flat", class = "civicatlas_error_choice")
  expect_error(buffer_by(point, 1, segments = 0), "whole number", class = "civicatlas_error_argument")
  expect_error(bands_around(point, c(5, 3)), "ascending", class = "civicatlas_error_argument")
  told <- withr::with_options(list(civicatlas.quiet = FALSE), capture_messages(gone <- buffer_by(point, -1)))
  expect_match(told, "1 with nothing left \\(empty\\)")
  expect_identical(wkt_of(gone), "POLYGON EMPTY")
  expect_identical(length(buffer_by(point[0], 1)), 0L)
})

# Polygons over the antimeridian in one piece, and the same cut there; of the last the parts meet in one stretch of it only.
over_antimeridian <- function() {
  list(
    whole = shapes_from_wkt(c(
      "POLYGON ((178 -19, 180 -19, 182 -19, 182 -16, 180 -16, 178 -16, 178 -19))",
      "POLYGON ((170 -10, 180 -10, 180 -5, 190 -5, 190 15, 180 15, 180 10, 170 10, 170 -10))"
    ), crs = 4326),
    cut = shapes_from_wkt(c(
      "MULTIPOLYGON (((178 -19, 180 -19, 180 -16, 178 -16, 178 -19)), ((-180 -19, -178 -19, -178 -16, -180 -16, -180 -19)))",
      "MULTIPOLYGON (((170 -10, 180 -10, 180 10, 170 10, 170 -10)), ((-180 -5, -170 -5, -170 15, -180 15, -180 -5)))"
    ), crs = 4326)
  )
}

test_that("where a polygon goes on across the antimeridian is no border", {
  shapes <- over_antimeridian()
  expect_equal(perimeter_of(shapes$cut), perimeter_of(shapes$whole), tolerance = 1e-12)
  for (distance in c(-20000, -100000, 20000)) {
    found <- buffer_by(shapes$cut, distance)
    expect_true(all(check_shapes(found)$valid))
    expect_equal(area_of(found), area_of(buffer_by(shapes$whole, distance)), tolerance = 1e-6)
  }
  back <- buffer_by(buffer_by(shapes$cut, 20000), -20000)
  lost <- erase_by(toy_frame(id = 1:2, geometry = shapes$cut), toy_frame(id = 1:2, geometry = back))
  expect_lt(sum(area_of(lost)), 20 * sum(perimeter_of(shapes$cut)))  # a thousandth of the distance along its border
  nearly <- shapes_from_wkt(gsub("180 ", "179.9999999999 ", wkt_of(shapes$cut)), crs = 4326)
  expect_equal(area_of(buffer_by(nearly, -20000)), area_of(buffer_by(shapes$cut, -20000)), tolerance = 1e-6)
})

test_that("edges along a pole and all the way around are taken as on the globe", {
  globe <- shapes_from_wkt(c("POLYGON ((-180 -60, 180 -60, 180 -90, -180 -90, -180 -60))", "POLYGON ((-180 -10, 180 -10, 180 10, -180 10, -180 -10))",
                             "POLYGON ((-180 -90, 180 -90, 180 90, -180 90, -180 -90))"), crs = 4326)
  parallel <- function(latitude) {  # its length on WGS 84
    e2 <- 0.00669437999014
    2 * pi * 6378137 * cos(latitude * pi / 180) / sqrt(1 - e2 * sin(latitude * pi / 180)^2)
  }
  expect_equal(perimeter_of(globe), c(parallel(60), 2 * parallel(10), 0), tolerance = 1e-6)
  for (distance in c(-100000, 100000)) {
    found <- buffer_by(globe, distance)
    grown <- area_of(found) - area_of(globe)
    expect_equal(grown[1:2] / c(parallel(60), 2 * parallel(10)) / distance, c(1, 1), tolerance = 0.02)
    expect_equal(grown[3], 0, tolerance = 1)
    expect_true(all(check_shapes(found)$valid))
  }
})
