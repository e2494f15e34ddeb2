# Areas, lengths, distances and directions, on the ellipsoid and in the plane.

test_that("measures on longitude and latitude are those of the ground, in metres", {
  vectors <- utils::read.csv(test_data("geodesic_area_vectors.csv"))
  shapes <- shapes_from_wkt(vectors$wkt_polygon, crs = 4326)
  expect_warning(areas <- area_of(shapes), "1 shape is not valid", class = "civicatlas_warning_data")
  expect_lt(max(abs(areas / vectors$area_m2 - 1)), 1e-9)
  expect_lt(max(abs(suppressWarnings(perimeter_of(shapes)) - vectors$perimeter_m)), 1e-7)
})

test_that("distances and azimuths agree with the reference vectors", {
  v <- utils::read.csv(test_data("geodesic_vectors.csv"))
  from <- point_shapes(v$lon1, v$lat1, crs = 4326)
  to <- point_shapes(v$lon2, v$lat2, crs = 4326)
  expect_lt(max(abs(distance_between(from, to) - v$distance_m)), 1e-8)
  sure <- which(!is.na(v$azi1_deg) & v$distance_m > 1000 & v$distance_m < 1e7)
  turn <- (azimuth_between(from, to)[sure] - v$azi1_deg[sure] + 180) %% 360 - 180
  expect_lt(max(abs(turn)), 1e-9)
  there <- coordinates_of(destination_of(from[sure], v$azi1_deg[sure], v$distance_m[sure]))
  expect_lt(max(abs(there$y - v$lat2[sure])), 1e-12)
})

test_that("units are those asked for, and their names are checked", {
  a <- shapes_from_wkt("POLYGON ((0 0, 1000 0, 1000 1000, 0 1000, 0 0))", crs = 32757)
  expect_equal(area_of(a, "ha"), 100)
  expect_equal(area_of(a, "km2"), 1)
  expect_equal(area_of(a, "ac"), 1e6 / 4046.8564224)
  expect_equal(perimeter_of(a, "ft"), 4000 / 0.3048)
  expect_equal(perimeter_of(a, "us-ft"), 4000 * 3937 / 1200)
  expect_equal(perimeter_of(a, "nmi"), 4000 / 1852)
  expect_error(area_of(a, "acres"), "Nearest.*ac", class = "civicatlas_error_choice")
  feet <- suppressWarnings(declare_crs(declare_crs(a, NULL), 2263))
  expect_equal(area_of(feet), 1e6 * (1200 / 3937)^2)
})

test_that("planar measures of degrees are refused, and ground measures of projected layers are on request", {
  degrees <- point_shapes(160.2, -47.4, crs = 4326)
  expect_error(area_of(degrees, ellipsoidal = FALSE), "no meaning.*EPSG:32757", class = "civicatlas_error_crs")
  wards <- suppressMessages(read_layer(demo_file("wards.shp")))
  lonlat <- suppressMessages(reproject_to(wards, 4326))
  expect_equal(area_of(wards, ellipsoidal = TRUE), area_of(lonlat), tolerance = 1e-9)
  # The scale of UTM there is some 0.9997.
  ratio <- area_of(wards) / area_of(lonlat)
  expect_equal(ratio, distortion_of(wards)$area_scale, tolerance = 1e-6)
  expect_error(area_of(point_shapes(1, 2), ellipsoidal = TRUE), class = "civicatlas_error_crs")
  expect_error(area_of(point_shapes(1, 2), "ha"), class = "civicatlas_error_crs")
})

test_that("distances pair off, take any type of shape, and are 0 where shapes meet", {
  wards <- suppressMessages(read_layer(demo_file("wards.shp")))
  rooms <- suppressMessages(reproject_to(read_layer(demo_file("rooms.geojson")), wards))
  planar <- distance_between(wards[1, ], rooms)
  ground <- distance_between(wards[1, ], rooms, ellipsoidal = TRUE)
  inside <- related_pairs(rooms, wards[1, ], "intersects")$x
  expect_true(all(planar[inside] == 0) && all(ground[inside] == 0))
  apart <- planar > 0
  expect_lt(max(abs(ground[apart] / planar[apart] - 1)), 1e-3)
  expect_error(distance_between(wards[1:2, ], rooms[1:3, ]), "do not pair off", class = "civicatlas_error_argument")
  expect_identical(distance_between(point_shapes(c(1, NA), c(1, 1)), point_shapes(1, 5)), c(4, NA))
  expect_identical(length(distance_between(rooms[0, ], wards[1, ])), 0L)
})

test_that("columns of measures name their unit", {
  withr::local_options(civicatlas.quiet = FALSE)
  wards <- suppressMessages(read_layer(demo_file("wards.shp")))
  expect_message(out <- add_measures(wards, area = "ha", perimeter = "km"), "in the plane")
  expect_true(all(c("area_ha", "perimeter_km") %in% names(out)))
  expect_identical(out$area_ha, area_of(wards, "ha"))
  expect_message(on_ground <- add_measures(out, area = "ha", ellipsoidal = TRUE), "along the ellipsoid")
  expect_identical(sum(names(on_ground) == "area_ha"), 1L)
  expect_match(utils::tail(history_of(on_ground)$note, 1), "ellipsoid")
  expect_error(add_measures(wards), class = "civicatlas_error_argument")
})

test_that("directions are asked of points", {
  wards <- suppressMessages(read_layer(demo_file("wards.shp")))
  expect_error(azimuth_between(wards, wards), "row 1 does not", class = "civicatlas_error_argument")
  expect_error(azimuth_between(point_shapes(1, 2), point_shapes(1, 2)), class = "civicatlas_error_crs")
  point <- point_shapes(590000, 4749000, crs = 32757)
  north <- destination_of(point, 0, 1, "km")
  expect_equal(distance_between(point, north, "km", ellipsoidal = TRUE), 1, tolerance = 1e-9)
  expect_equal(azimuth_between(point, north), 0, tolerance = 1e-6)
})

test_that("distortion is told per shape and only of projected layers", {
  wards <- suppressMessages(read_layer(demo_file("wards.shp")))
  d <- distortion_of(wards)
  expect_identical(nrow(d), nrow(wards))
  expect_true(all(d$least_scale <= d$greatest_scale))
  expect_lt(max(d$angle), 1e-4)
  expect_error(distortion_of(suppressMessages(reproject_to(wards, 4326))), "not projected", class = "civicatlas_error_crs")
  expect_identical(is.na(distortion_of(point_shapes(c(590000, NA), c(4749000, 1), crs = 32757))$angle), c(FALSE, TRUE))
})

test_that("distortion where a map ends is that beside it, and an equal-area CRS for the world leaves areas alone", {
  withr::local_options(civicatlas.quiet = FALSE, cli.width = 500)
  places <- point_shapes(c(180, -180, 179.99, -179.99, 0), c(40, 40, 40, 40, -85), 4326)
  for (method in c("area", "shape")) {
    world <- spatial_frame(id = 1:2, geometry = point_shapes(c(-180, 180), c(-90, 90), 4326))
    expect_message(to <- crs_for(world, measuring = method), if (method == "area") "areas by nothing at its middle and corners, up to 85" else "conformal")
    found <- distortion_of(suppressMessages(reproject_to(places, to)))
    expect_equal(found$greatest_scale[1:2], rep(found$greatest_scale[3], 2), tolerance = 1e-3)
    expect_equal(found$least_scale[1:2], rep(found$least_scale[4], 2), tolerance = 1e-3)
    expect_lt(max(found$greatest_scale), 12)
    if (method == "area") expect_equal(found$area_scale, rep(1, 5), tolerance = 1e-6)
  }
})
