test_that("well-known text and binary keep every shape", {
  for (texts in every_kind) {
    shapes <- shapes_from_wkt(texts, crs = 4326)
    expect_identical(wkt_of(shapes), texts)
    expect_identical(wkt_of(shapes_from_wkb(wkb_of(shapes), crs = 4326)), texts)
  }
})

test_that("errors name the element and the character", {
  expect_error(shapes_from_wkt(c("POINT (1 2)", "POINT (1")), "element 2.*character", class = "civicatlas_error_format")
  expect_error(shapes_from_wkb(list(as.raw(c(1, 9, 0, 0, 0)))), "element 1.*type 9", class = "civicatlas_error_format")
})

test_that("combining remaps shapes of several stores, and shares one store", {
  a <- shapes_from_wkt(c("POINT (1 1)", "POINT (2 2)"), crs = 4326)
  b <- shapes_from_wkt(c("LINESTRING (0 0, 1 1)", NA), crs = 4326)
  both <- c(a[2], b, a, b[1])
  expect_identical(wkt_of(both), c("POINT (2 2)", "LINESTRING (0 0, 1 1)", NA, "POINT (1 1)", "POINT (2 2)", "LINESTRING (0 0, 1 1)"))
  expect_identical(both, c(both))
  expect_identical(wkt_of(c(b, NA, a[0])), c(wkt_of(b), NA))
  expect_identical(wkt_of(do.call(c, lapply(1:30, function(i) point_shapes(i, i)))), sprintf("POINT (%d %d)", 1:30, 1:30))
})

test_that("equality, order and unique follow the shape", {
  x <- shapes_from_wkt(c("POINT (2 1)", "POINT (1 9)", NA, "POINT (2 1)"))
  y <- shapes_from_wkt(c("POINT (2 1)", "POINT (0 0)", NA, "POINT (2 1.5)"))
  expect_identical(x == y, c(TRUE, FALSE, NA, FALSE))
  expect_identical(wkt_of(unique(x)), c("POINT (2 1)", "POINT (1 9)", NA))
  expect_identical(order(x), c(2L, 1L, 4L, 3L))
  expect_identical(is.na(x), c(FALSE, FALSE, TRUE, FALSE))
  expect_identical(vctrs::vec_match(x, y), c(1L, NA, 3L, 1L))
})

test_that("elements can be replaced by shapes of another store", {
  x <- shapes_from_wkt(c("POINT (1 1)", "POINT (2 2)", "POINT (3 3)"))
  x[2] <- shapes_from_wkt("LINESTRING (0 0, 1 1)")
  x[[3]] <- shapes_from_wkt(NA_character_)
  expect_identical(wkt_of(x), c("POINT (1 1)", "LINESTRING (0 0, 1 1)", NA))
})

test_that("a small slice does not carry a large store along", {
  large <- point_shapes(runif(1e5), runif(1e5), crs = 4326)
  slice <- large[c(7, 99999, 7)]
  expect_lt(length(serialize(slice, NULL)), 5000)
  expect_identical(wkt_of(slice), wkt_of(large)[c(7, 99999, 7)])
})

test_that("coordinates_of gives one row a vertex", {
  found <- coordinates_of(shapes_from_wkt(c("POINT (9 8)", NA, every_kind$multipolygons[1])))
  expect_named(found, c("shape", "part", "ring", "x", "y"))
  expect_identical(table(found$shape, found$part)[2, ], c(`1` = 4L, `2` = 8L))
  expect_identical(found$ring[found$part == 2], rep(1:2, each = 4))
  expect_identical(unlist(found[1, c("x", "y")]), c(x = 9, y = 8))
  expect_named(coordinates_of(shapes_from_wkt("POINT ZM (1 2 3 4)")), c("shape", "part", "ring", "x", "y", "z", "m"))
})

test_that("measures are of the unit asked for, and never of square degrees", {
  square <- shapes_from_wkt(c("POLYGON ((0 0, 1000 0, 1000 1000, 0 1000, 0 0))", NA), crs = 32757)
  expect_equal(area_of(square), c(1e6, NA))
  expect_equal(area_of(square, "km2"), c(1, NA))
  expect_equal(area_of(square, "ac")[1], 247.105381467165)
  expect_equal(perimeter_of(square, "km")[1], 4)
  expect_equal(length_of(shapes_from_wkt("LINESTRING (0 0, 3 4)", crs = 32757)), 5)
  in_feet <- suppressWarnings(declare_crs(declare_crs(square[1], NULL), 2263))
  expect_equal(area_of(in_feet), 1e6 * (1200 / 3937)^2)
  expect_equal(area_of(in_feet, "m2"), area_of(in_feet))
  expect_equal(area_of(declare_crs(square, NULL))[1], 1e6)
  expect_error(area_of(declare_crs(square, NULL), "ha"), "no CRS", class = "civicatlas_error_crs")
  expect_error(area_of(square, "acre"), "m2.*ac", class = "civicatlas_error_argument")
  degrees <- shapes_from_wkt("POLYGON ((160 -47, 161 -47, 161 -48, 160 -47))", crs = 4326)
  expect_error(area_of(degrees, ellipsoidal = FALSE), "EPSG:32757", class = "civicatlas_error_crs")
})

test_that("centroids keep rows and CRS", {
  centres <- centroid_of(two_wards())
  expect_equal(as.matrix(coordinates_of(centres)[c("x", "y")]), cbind(x = c(5, 15, 90.5), y = c(5, 5, 90.5)))
  expect_true(crs_of(centres) == crs(32757))
})

test_that("extents are named, and NA where there is nothing", {
  expect_identical(extent_of(two_wards()), c(xmin = 0, ymin = 0, xmax = 91, ymax = 91))
  for (label in list(NULL, 32757, 3857)) {
    expect_identical(unname(extent_of(point_shapes(c(591600, 591640), c(4747859, 4747900), crs = label))), c(591600, 4747859, 591640, 4747900))
  }
  expect_identical(extent_of(shapes_from_wkt("POINT EMPTY")), c(xmin = NA_real_, ymin = NA_real_, xmax = NA_real_, ymax = NA_real_))
})

test_that("the extent that comes with a shapefile is that of the shapes, and of them alone", {
  read <- read_layer(demo_file("wards.shp"))$geometry
  known <- function(shapes) civicatlas:::box_of(shapes)
  counted <- unserialize(serialize(read, NULL))  # without what its reader knew
  for (rows in list(1:24, 3:7, 24:1, c(NA, 1:24), c(1:23, 23), integer())) expect_identical(known(read[rows]), known(counted[rows]))
  within <- range(unlist(lapply(1:24, function(i) known(counted[i])[["xmin"]])))
  expect_identical(known(read)[["xmin"]], within[1])
  store <- civicatlas:::store_of(read)
  store$boxes <- store$boxes + 1  # another store, whose boxes are others
  moved <- try(civicatlas:::core_extent(civicatlas:::handles_of(read), store), silent = TRUE)
  expect_true(inherits(moved, "try-error") || !identical(moved, unname(known(read))))
})
