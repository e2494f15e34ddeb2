# What layers that others made bring along: coordinates that do not fit their label, CRSs that distort, shapes across the antimeridian.

# The sound of Saltmere's far north, which lies on both sides of the antimeridian, in the three ways in which layers write it.
sound <- list(
  cut = "MULTIPOLYGON (((178 -18, 180 -18, 180 -16, 178 -16, 178 -18)), ((-180 -18, -179 -18, -179 -16, -180 -16, -180 -18)))",
  jumping = "POLYGON ((178 -18, -179 -18, -179 -16, 178 -16, 178 -18))",
  beyond = "POLYGON ((178 -18, 181 -18, 181 -16, 178 -16, 178 -18))"
)
as_layer <- function(text, crs = 4326) suppressMessages(spatial_frame(name = "sound", geometry = shapes_from_wkt(text, crs)))
loudly <- function() withr::local_options(civicatlas.quiet = FALSE, .local_envir = parent.frame())

test_that("degrees labelled as metres or feet are told at every door, wherever the area of use lies", {
  file <- withr::local_tempfile(fileext = ".shp")
  suppressWarnings(write_layer(spatial_frame(n = 1:2, geometry = point_shapes(c(160, 161), c(-47, -46))), file))
  for (code in c(32617, 5070, 2264, 3857, 27700, 3035, 3168)) {
    expect_warning(read_layer(file, crs = code), "look like degrees", class = "civicatlas_warning_crs")
  }
  degrees <- point_shapes(c(-80, 359), c(30, 89))
  expect_warning(declare_crs(degrees, 2264), "look like degrees", class = "civicatlas_warning_crs")
  expect_warning(as_spatial_frame(data.frame(x = -80, y = 30), coords = c("x", "y"), crs = 3857), "look like degrees", class = "civicatlas_warning_crs")
  expect_warning(spatial_frame(n = 1, geometry = point_shapes(10, 20, 3035)), "look like degrees", class = "civicatlas_warning_crs")
  expect_no_warning(spatial_frame(n = 1, geometry = point_shapes(c(590000, 0), c(4750000, 0), 32757)))
})

test_that("a latitude beyond the pole is told where it comes in, and reprojecting blames it, not the domain", {
  expect_warning(beyond <- spatial_frame(n = 1, geometry = point_shapes(10, 151, 4326)), "swapped", class = "civicatlas_warning_crs")
  expect_warning(reproject_to(beyond, 32757), "swapped", class = "civicatlas_warning_crs")
})

test_that("longitudes of 0 to 360 meet those of -180 to 180, and that is said with a remedy that works", {
  far <- spatial_frame(id = 1:2, geometry = point_shapes(c(350, 10), c(0, 0), 4326))
  zone <- spatial_frame(zone = "west", geometry = shapes_from_wkt("POLYGON ((-20 -5, 5 -5, 5 5, -20 5, -20 -5))", 4326))
  expect_warning(joined <- join_where(far, zone), "0 to 360.*x <- cut_at_antimeridian\\(x\\)", class = "civicatlas_warning_crs")
  expect_identical(joined$zone, c("west", NA))
  expect_warning(stack_layers(far, zone["geometry"]), "0 to 360", class = "civicatlas_warning_crs")
  expect_warning(dplyr::bind_rows(far, spatial_frame(id = 3L, geometry = point_shapes(-10, 0, 4326))), "cut_at_antimeridian", class = "civicatlas_warning_crs")
  expect_no_warning(mended <- join_where(cut_at_antimeridian(far), zone))
  expect_identical(mended$zone, joined$zone)
  expect_no_warning(related_pairs(as_layer(sound$beyond), zone))  # crosses, which is another thing
})

test_that("measures on a CRS that distorts say how far off they are and name what measures well", {
  block <- shapes_from_wkt("POLYGON ((20 60, 22 60, 22 61, 20 61, 20 60))", 4326)
  web <- suppressMessages(reproject_to(block, 3857, tolerance = 1))
  truth <- area_of(block)
  expect_warning(found <- area_of(web), "too large.*ellipsoidal = TRUE.*Equal Area", class = "civicatlas_warning_crs")
  expect_gt(found / truth, 4)
  said <- tryCatch(area_of(web), civicatlas_warning_crs = conditionMessage)
  expect_equal(as.numeric(sub("(?s).*up to ([0-9.,]+) %.*", "\\1", said, perl = TRUE)) / 100, found / truth - 1, tolerance = 0.01)
  expect_no_warning(right <- area_of(web, ellipsoidal = TRUE))
  expect_equal(right, truth, tolerance = 1e-4)
  expect_no_warning(again <- area_of(suppressMessages(reproject_to(web, crs_for(web, measuring = "area")))))
  expect_equal(again, truth, tolerance = 1e-3)
  lines <- boundary_of(web)
  for (measure in list(
    quote(length_of(lines)), quote(perimeter_of(web)), quote(buffer_by(web, 10)), quote(distance_between(web, web)),
    quote(join_nearest(toy_frame(geometry = web), toy_frame(geometry = web))), quote(related_pairs(web, web, "within distance", 5)),
    quote(add_measures(toy_frame(geometry = web), area = "km2", perimeter = "km"))
  )) expect_warning(eval(measure), "too large", class = "civicatlas_warning_crs")
  wards <- read_layer(demo_file("wards.shp"))
  expect_no_warning({
    area_of(wards)
    perimeter_of(wards)
    buffer_by(wards, 10)
  })
})

test_that("no area is below 0, and a ring around a pole measures the same from every file", {
  lon <- seq(-180, 170, by = 10)
  lat <- -70 + 5 * sin(lon * pi / 60)
  ring <- function(x, y) paste0("(", paste(c(x, x[1]), c(y, y[1]), collapse = ", "), ")")
  island <- ring(c(10, 12, 12, 10), c(-50, -50, -52, -52))
  closed <- paste0("((", paste(c(lon, 180, 180, -180, -180), c(lat, lat[1], -90, -90, lat[1]), collapse = ", "), "))")
  truth <- area_of(shapes_from_wkt(paste("POLYGON", closed), 4326), "km2") + area_of(shapes_from_wkt(paste0("POLYGON (", island, ")"), 4326), "km2")
  for (around in list(ring(lon, lat), ring(rev(lon), rev(lat)))) {
    for (text in c(paste0("MULTIPOLYGON ((", around, "), (", island, "))"), paste0("MULTIPOLYGON ((", island, "), (", around, "))"),
                   paste0("POLYGON (", around, ", ", island, ")"), paste0("POLYGON (", island, ", ", around, ")"))) {
      layer <- as_layer(text)
      expect_equal(area_of(layer, "km2"), truth, tolerance = 1e-9)
      for (ending in c(".shp", ".geojson", ".gpkg")) {
        file <- withr::local_tempfile(fileext = ending)
        write_layer(layer, file)
        expect_equal(area_of(read_layer(file), "km2"), truth, tolerance = 1e-9)
      }
    }
  }
  expect_warning(tie <- area_of(shapes_from_wkt("POLYGON ((0 0, 2 2, 2 0, 0 2, 0 0))")), "not valid.*repair_shapes", class = "civicatlas_warning_data")
  expect_gte(tie, 0)
})

test_that("a shape across the antimeridian is the same shape however it is written", {
  loudly()
  expect_message(spatial_frame(name = "sound", geometry = shapes_from_wkt(sound$jumping, 4326)), "crossing the antimeridian")
  withr::local_options(civicatlas.quiet = TRUE)
  layers <- lapply(sound, as_layer)
  places <- point_shapes(c(179, -179.5, 0, 177), c(-17, -17, -17, -17), 4326)
  for (layer in layers) {
    expect_equal(coordinates_of(centroid_of(layer))$x, 179.5)
    expect_equal(area_of(hull_of(layer)), area_of(layers$beyond), tolerance = 1e-9)
    expect_equal(area_of(layer), area_of(layers$beyond), tolerance = 1e-3)  # edges are geodesics, longer ones bow more
    expect_equal(unname(extent_of(layer)), c(178, -18, -179, -16))
    expect_identical(related_pairs(places, layer)$x, 1:2)
    expect_identical(summarise_into(layer, spatial_frame(geometry = places), n = n())$n, 2L)
    expect_match(suppressMessages(crs_for(layer))$method, "Lambert Azimuthal")
    expect_identical(geometry_type_of(cut_at_antimeridian(layer)), "multipolygon")
    expect_lte(max(abs(coordinates_of(cut_at_antimeridian(layer))$x)), 180)
    expect_equal(area_of(clip_to(layer, shapes_from_wkt("POLYGON ((-180 -18, -170 -18, -170 -16, -180 -16, -180 -18))", 4326))), area_of(layers$beyond) / 3, tolerance = 1e-3)
    inner <- coordinates_of(inner_point_of(layer))
    expect_true(inner$x > 178 || inner$x < -179)
  }
  expect_error(cut_at_antimeridian(point_shapes(590000, 4750000, 32757)), class = "civicatlas_error_crs")
})

test_that("windows run over the antimeridian where west lies east of east, on longitude and latitude alone", {
  places <- spatial_frame(id = 1:4, geometry = point_shapes(c(175, -175, 0, 165), c(0, 0, 0, 0), 4326))
  for (ending in c(".geojson", ".shp", ".gpkg")) {
    file <- withr::local_tempfile(fileext = ending)
    write_layer(places, file)
    expect_identical(as.integer(read_layer(file, within = c(170, -20, -170, 10))$id), 1:2)
    expect_identical(as.integer(read_layer(file, within = c(170, -20, 190, 10))$id), 1:2)
    expect_identical(as.integer(read_layer(file, within = as_layer(sound$cut))$id), integer()) |> suppressWarnings()
    expect_error(read_layer(file, within = c(170, 10, -170, -20)), "ymin 10 above ymax -20", class = "civicatlas_error_argument")
  }
  metres <- withr::local_tempfile(fileext = ".shp")
  write_layer(suppressMessages(reproject_to(places[1, ], 32757)), metres) |> suppressWarnings()
  expect_error(read_layer(metres, within = c(2, 0, 1, 5)), "xmin 2 above xmax 1", class = "civicatlas_error_argument")
})

test_that("shares on longitude and latitude are those of areas and lengths along the ellipsoid", {
  regions <- spatial_frame(id = 1:2, geometry = shapes_from_wkt(c("POLYGON ((0 0, 10 0, 10 40, 0 40, 0 0))", "POLYGON ((0 40, 10 40, 10 80, 0 80, 0 40))"), 4326))
  field <- spatial_frame(people = 1e6, geometry = shapes_from_wkt("POLYGON ((2 20, 8 20, 8 70, 2 70, 2 20))", 4326))
  found <- summarise_into(regions, field, people = sum(people), shared = sum(.shared), .share = "area")
  pieces <- overlay_with(regions, field)
  expect_equal(found$shared, area_of(pieces), tolerance = 1e-9)
  # People are shared out by how the field is cut, along straight lines in degrees: zones between parallels (Snyder 1987, equation 3-12).
  q <- function(degrees, e2 = 0.00669437999014) {
    s <- sin(degrees * pi / 180)
    e <- sqrt(e2)
    (1 - e2) * (s / (1 - e2 * s^2) - log((1 - e * s) / (1 + e * s)) / (2 * e))
  }
  expect_equal(found$people, 1e6 * c(q(40) - q(20), q(70) - q(40)) / (q(70) - q(20)), tolerance = 1e-9)
  expect_equal(sum(found$people), 1e6, tolerance = 1e-13)
  expect_equal(found$people, 1e6 * area_of(pieces) / area_of(field), tolerance = 1e-3)
  expect_gt(found$people[1], found$people[2])  # 20 degrees against 30, of which the former are larger
  expect_identical(join_where(field, regions, multiple = "largest")$id, 1L)
  shares <- cross_table(field, regions, people, id, unit = "km2")
  expect_equal(shares$area_km2, area_of(pieces, "km2"), tolerance = 1e-9)
  road <- spatial_frame(cars = 10, geometry = shapes_from_wkt("LINESTRING (5 30, 5 60)", 4326))
  half <- summarise_into(regions, road, cars = sum(cars), .share = "length")
  expect_equal(sum(half$cars), 10, tolerance = 1e-6)
})
