test_that("codes, text, files and frames name a CRS", {
  utm <- crs(32757)
  expect_true(utm == crs("EPSG:32757"))
  expect_true(utm == crs("32757"))
  expect_true(utm == crs(frame <- two_wards()))
  expect_true(crs("urn:ogc:def:crs:OGC:1.3:CRS84") == crs(4326))
  expect_true(crs(demo_file("wards.prj")) == utm)
  expect_false(utm == crs(32756))
  expect_null(crs(NULL))
  expect_identical(utm$unit, "metre")
})

test_that("unknown codes and unreadable text are refused with help", {
  expect_error(crs(32799), "Nearest codes.*EPSG:32766", class = "civicatlas_error_crs")
  expect_error(crs(3e12), class = "civicatlas_error_crs")
  expect_error(crs("Saltmere grid"), "no known CRS", class = "civicatlas_error_crs")
  expect_error(crs("PROJCS[\"a\",GEOGCS[\"b\""), "character", class = "civicatlas_error_crs")
  expect_error(crs(TRUE), class = "civicatlas_error_crs")
})

test_that("a match by meaning is shown as a match, not as a fact", {
  expect_match(format(crs(demo_file("wards.prj"))), "matched by meaning")
  expect_no_match(format(crs(32757)), "matched")
  expect_match(paste(capture.output(print(crs(27700))), collapse = "\n"), "Ordnance Survey")
})

test_that("reprojecting agrees with a published point and returns", {
  # IOGP Guidance Note 373-7-2: NAD27 / Texas South Central, 28 30 N 96 W.
  point <- reproject_to(point_shapes(-96, 28.5, crs = 4267), 32040)
  expect_equal(unlist(coordinates_of(point)[c("x", "y")]), c(x = 2963503.91, y = 254759.80), tolerance = 1e-8)
  back <- reproject_to(point, 4267)
  expect_equal(unlist(coordinates_of(back)[c("x", "y")]), c(x = -96, y = 28.5), tolerance = 1e-13)
})

test_that("labelling keeps coordinates and says which verb moves them", {
  x <- point_shapes(160, -47, crs = 4326)
  expect_warning(y <- declare_crs(x, 4269), "reproject_to", class = "civicatlas_warning_crs")
  expect_identical(wkt_of(y), wkt_of(x))
  expect_null(crs_of(declare_crs(x, NULL)))
  expect_error(reproject_to(declare_crs(x, NULL), 32757), "declare_crs", class = "civicatlas_error_crs")
})

test_that("coordinates that cannot be degrees raise one warning with the likely cause", {
  expect_warning(declare_crs(point_shapes(590000, 4749000), 4326), "metres or feet", class = "civicatlas_warning_crs")
  expect_warning(declare_crs(point_shapes(-47, 160), 4326), "swapped", class = "civicatlas_warning_crs")
  expect_silent(declare_crs(point_shapes(160, -47), 4326))
})

test_that("shapes outside a projection's domain become missing and are counted", {
  x <- spatial_frame(id = 1:2, geometry = point_shapes(c(160, -20), c(-47, 3), crs = 4326))
  expect_warning(y <- reproject_to(x, 32757), "1 shape.*domain", class = "civicatlas_warning_crs")
  expect_identical(is.na(y$geometry), c(FALSE, TRUE))
})

test_that("methods that are not there are refused by name", {
  expect_error(reproject_to(point_shapes(10, 50, crs = 4326), 3035), "Lambert Azimuthal Equal Area", class = "civicatlas_error_crs")
})

test_that("published worked examples are reproduced", {
  examples <- utils::read.csv(test_data("published_examples.csv"))
  for (i in seq_len(nrow(examples))) {
    example <- examples[i, ]
    projected <- crs(example$epsg)
    geographic <- crs(projected$geographic_code)
    point <- point_shapes((example$lon_deg - geographic$meridian_degrees) / geographic$unit_size, example$lat_deg / geographic$unit_size, crs = geographic)
    found <- coordinates_of(reproject_to(point, projected))
    expect_lt(abs(found$x - example$x), example$tolerance, label = example$description)
    expect_lt(abs(found$y - example$y), example$tolerance, label = example$description)
  }
  expect_gt(nrow(examples), 5)
})
