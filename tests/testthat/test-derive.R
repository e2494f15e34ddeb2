test_that("a cut at the antimeridian is no boundary", {
  cut <- shapes_from_wkt(c("MULTIPOLYGON Z (((170 60 1, 180 60 2, 180 70 3, 170 70 4, 170 60 1)), ((-180 50 5, -170 50 6, -170 70 7, -180 70 8, -180 50 5)))",
                           "POLYGON ((-180 -90, 180 -90, 180 -60, 0 -70, -180 -60, -180 -90))", "POLYGON ((-180 -90, 180 -90, 180 90, -180 90, -180 -90))",
                           "POLYGON ((170 60, 180 60, 180 70, 170 70, 170 60))"), 4326)
  found <- boundary_of(cut)
  expect_identical(wkt_of(found), c("MULTILINESTRING Z ((170 60 1, 180 60 2), (180 70 3, 170 70 4, 170 60 1), (-180 50 5, -170 50 6, -170 70 7, -180 70 8), (-180 60 6.5, -180 50 5))",
                                    "MULTILINESTRING ((180 -60, 0 -70, -180 -60))", NA, "LINESTRING (170 60, 180 60, 180 70, 170 70, 170 60)"))
  expect_equal(length_of(found), c(perimeter_of(cut)[1:2], NA, perimeter_of(cut)[4]), tolerance = 1e-12)
  expect_identical(wkt_of(boundary_of(shapes_from_wkt(wkt_of(cut[2])))), "LINESTRING (-180 -90, 180 -90, 180 -60, 0 -70, -180 -60, -180 -90)")
})

test_that("boundaries, rings, hulls, parts and inner points are what they are called", {
  shape <- shapes_from_wkt(c("MULTIPOLYGON (((0 0, 9 0, 9 9, 0 9, 0 0), (1 1, 1 3, 3 3, 1 1)), ((20 0, 21 0, 21 1, 20 0)))",
                             "LINESTRING (0 0, 1 1, 2 0)", "POINT (5 5)", NA))
  expect_identical(geometry_type_of(boundary_of(shape)), c("multiline", "multipoint", NA, NA))
  expect_equal(length_of(boundary_of(shape))[1], perimeter_of(shape)[1])
  expect_equal(area_of(outer_ring_of(shape))[1], 81.5)
  expect_identical(wkt_of(hull_of(shape))[2:3], c("POLYGON ((0 0, 2 0, 1 1, 0 0))", "POINT (5 5)"))
  expect_identical(wkt_of(hull_of(shape[2:3], merged = TRUE)), "POLYGON ((0 0, 2 0, 5 5, 0 0))")
  parts <- parts_of(toy_frame(id = 1:4, geometry = shape))
  expect_identical(parts$id, c(1L, 1L, 2L, 3L, 4L))
  expect_identical(geometry_type_of(parts), c("polygon", "polygon", "line", "point", NA))
  expect_identical(wkt_of(inner_point_of(shape))[2:4], c("POINT (1 1)", "POINT (5 5)", NA))
})

test_that("inner points lie well inside, where centroids do not", {
  horseshoe <- shapes_from_wkt("POLYGON ((0 0, 10 0, 10 10, 8 10, 8 2, 2 2, 2 10, 0 10, 0 0))")
  expect_identical(nrow(related_pairs(centroid_of(horseshoe), horseshoe, "within")), 0L)
  expect_gt(distance_between(inner_point_of(horseshoe), boundary_of(horseshoe)), 0.97)
  wards <- read_layer(demo_file("wards.shp"))
  inner <- inner_point_of(wards)
  expect_identical(related_pairs(inner, wards, "within")$y, 1:24)
  expect_true(all(distance_between(inner, boundary_of(wards)) > 100))
})

test_that("inner points of any shape come at once", {
  flat <- c("POLYGON ((0 0, 1 1, 0 0))", "POLYGON ((0 0, 1 1, 2 2, 0 0))", "POLYGON ((5 5, 5 5, 5 5, 5 5))", "POLYGON ((0 0, 0 0, 9 9, 9 9, 0 0))",
            "MULTIPOLYGON (((3 3, 4 4, 3 3)), ((0 0, 9 9, 0 0)))")
  crossing <- c("POLYGON ((0 0, 10 10, 10 0, 0 10, 0 0))", "POLYGON ((0 0, 9 0, 9 9, 0 9, 0 0), (0 0, 9 0, 9 9, 0 9, 0 0))")
  long <- c("POLYGON ((0 0, 1e15 0, 1e15 1e-3, 0 1e-3, 0 0))", "POLYGON ((0 0, 1e-3 0, 1e-3 1e15, 0 1e15, 0 0))", "POLYGON ((1e15 1e15, 1000000000000001 1e15, 1e15 1000000000000001, 1e15 1e15))",
            "POLYGON ((0 0, 1e6 1e6, 1e6 1000001, 0 1, 0 0))", "POLYGON ((0 0, 1e308 1e308, -1e308 1e308, 0 0))")
  all <- shapes_from_wkt(c(flat, crossing, long))
  time <- system.time(inner <- inner_point_of(all))
  expect_lt(sum(time[1:2]), 1)
  expect_false(anyNA(inner))
  expect_true(all(distance_between(inner[seq_along(flat)], boundary_of(all[seq_along(flat)])) < 1e-9, na.rm = TRUE))
  at <- coordinates_of(inner)
  expect_identical(at$x[1:2] == at$y[1:2], c(TRUE, TRUE))
  slanted <- all[length(flat) + 2 + 4]
  expect_identical(related_pairs(inner_point_of(slanted), slanted, "within")$y, 1L)
  withr::local_seed(6)
  random <- vapply(1:60, function(i) {
    n <- sample(3:9, 1)
    ring <- paste(sample(0:4, n, TRUE), sample(0:4, n, TRUE))
    sprintf("POLYGON ((%s))", paste(c(ring, ring[1]), collapse = ", "))
  }, "")
  shapes <- shapes_from_wkt(random)
  solid <- which(check_shapes(shapes)$valid)
  inner <- inner_point_of(shapes)
  expect_false(anyNA(inner))
  expect_identical(related_pairs(inner[solid], shapes[solid], "within")$x |> unique(), seq_along(solid))
  with_flat <- toy_frame(v = 1:2, geometry = shapes_from_wkt(c(flat[1], "POLYGON ((0 0, 9 0, 9 9, 0 0))"), 32757))
  expect_no_error(print_nowhere(symbol_map(with_flat, v) + map_labels(with_flat, v)))
})

test_that("simplified borders stay shared and valid", {
  wards <- read_layer(demo_file("wards.shp"))
  vertices <- function(x) nrow(coordinates_of(x))
  simple <- simplify_by(wards, 100)
  expect_lt(vertices(simple), vertices(wards) / 10)
  expect_true(all(check_shapes(simple)$valid))
  expect_identical(nrow(find_gaps(simple)), nrow(find_gaps(wards)))
  expect_identical(sum(find_slivers(simple)$kind == "overlap"), 0L)
  expect_equal(area_of(simple), area_of(wards), tolerance = 0.03)
  touching <- function(x) related_pairs(x, x, "touches")
  expect_identical(touching(simple), touching(wards))
  alone <- simplify_by(wards, 100, keep_borders = FALSE)
  expect_true(all(check_shapes(alone)$valid))
  line <- shapes_from_wkt("LINESTRING (0 0, 5 0.1, 10 0, 10 10)")
  expect_identical(wkt_of(simplify_by(line, 2)), "LINESTRING (0 0, 10 0, 10 10)")
  expect_identical(wkt_of(simplify_by(shapes_from_wkt("POLYGON ((0 0, 1 0, 1 1, 0 0))"), 1000)), "POLYGON ((0 0, 1 0, 1 1, 0 0))")
})

test_that("matrices and near equality go pair by pair", {
  x <- shapes_from_wkt(c("POLYGON ((0 0, 4 0, 4 4, 0 4, 0 0))", "POINT (1 1)", NA))
  expect_identical(relation_of(x, x[1]), c("2FFF1FFF2", "0FFFFF212", NA))
  near <- shapes_from_wkt("POLYGON ((0.01 0, 2 0.02, 4 0, 4 4, 0 4, 0.01 0))")
  expect_identical(nearly_equal(x, near, 0.03), c(TRUE, FALSE, NA))
  expect_false(nearly_equal(x[1], near, 0.015))
  expect_error(relation_of(x, x[1:2]), "pair off", class = "civicatlas_error_argument")
})

test_that("named relations hold between shapes of all types as their matrices say", {
  patterns <- list(
    within = function(m, d) grepl("^[012].F..F", m), contains = function(m, d) grepl("^[012].....FF", m),
    touches = function(m, d) grepl("^F", m) & grepl("^F([012]|.{2}[012]|.{3}[012])", m), equals = function(m, d) grepl("^[012].F..FFF", m),
    disjoint = function(m, d) grepl("^FF.FF", m), intersects = function(m, d) !grepl("^FF.FF", m)
  )
  set.seed(3)
  any_shape <- function(i) {
    at <- function(n) paste(sample(0:4, n, TRUE), sample(0:4, n, TRUE), collapse = ", ")
    switch(1 + i %% 3, paste0("MULTIPOINT (", at(3), ")"), paste0("LINESTRING (", at(3), ")"), {
      corner <- sample(0:3, 2, TRUE)
      size <- sample(1:3, 2, TRUE)
      sprintf("POLYGON ((%d %d, %d %d, %d %d, %d %d, %d %d))", corner[1], corner[2], corner[1] + size[1], corner[2], corner[1] + size[1],
              corner[2] + size[2], corner[1], corner[2] + size[2], corner[1], corner[2])
    })
  }
  x <- shapes_from_wkt(vapply(1:40, any_shape, ""))
  y <- shapes_from_wkt(vapply(1:30, any_shape, ""))
  x <- x[check_shapes(x)$valid]
  all <- expand.grid(y = seq_along(y), x = seq_along(x))
  matrices <- relation_of(x[all$x], y[all$y])
  for (relation in names(patterns)) {
    expected <- all[patterns[[relation]](matrices), c("x", "y")]
    found <- related_pairs(x, y, relation)
    expect_identical(found$x, expected$x, info = relation)
    expect_identical(found$y, expected$y, info = relation)
    expect_gt(nrow(found), 0)
  }
})

test_that("what a collection's polygons hold of its lines and points is told when it goes", {
  withr::local_options(civicatlas.quiet = FALSE)
  mixed <- shapes_from_wkt("GEOMETRYCOLLECTION (POINT (9 9), LINESTRING (0 0, 1 0.1, 2 0), POLYGON ((0 0, 4 0, 4 0.1, 4 4, 0 4, 0 0)))", crs = 32757)
  expect_message(simpler <- simplify_by(mixed, 0.5), "1 line or point of collections lie")
  expect_match(wkt_of(simpler), "POINT \\(9 9\\)")
  apart <- shapes_from_wkt("GEOMETRYCOLLECTION (LINESTRING (9 0, 9 1), LINESTRING (9 1, 9 3), POLYGON ((0 0, 4 0, 4 4, 0 4, 0 0)))", crs = 32757)
  expect_no_message(simplify_by(apart, 0.5), message = "left out")
})

test_that("on longitude and latitude tolerances are metres, and what is cut at the antimeridian keeps together", {
  withr::local_seed(8)
  wards <- read_layer(demo_file("wards.shp"))
  degrees <- reproject_to(wards, 4326)
  left <- function(x) sum(core_vertex_counts(handles_of(x$geometry), store_of(x$geometry)))
  for (tolerance in c(50, 400)) {
    expect_equal(left(simplify_by(degrees, tolerance)), left(simplify_by(wards, tolerance)), tolerance = 0.03)
    expect_identical(wkt_of(simplify_by(degrees, tolerance / 1000, "km")), wkt_of(simplify_by(degrees, tolerance)))
  }
  latitude <- c(-10, -3.1, 2.4, 10)  # of vertices where two halves meet
  coast <- function(longitude) sprintf("%.6f %.6f", longitude + stats::runif(20, -0.2, 0.2), seq(-10, 10, length.out = 20))
  half <- function(meridian, coast) sprintf("((%s))", paste(c(coast, paste(meridian, rev(latitude)), coast[1]), collapse = ", "))
  island <- shapes_from_wkt(sprintf("MULTIPOLYGON (%s, %s)", half("180", coast(170)), half("-180", coast(-170))), crs = 4326)
  simple <- simplify_by(spatial_frame(geometry = repair_shapes(island)), 50000)
  expect_lt(left(simple), 40)
  expect_equal(area_of(simple), area_of(island), tolerance = 0.02)
  expect_identical(lengths(regmatches(wkt_of(simple), gregexpr("180 ", wkt_of(simple)))), 9L)
  expect_error(nearly_equal(degrees, degrees, 5), "which are degrees: 5 of them", class = "civicatlas_error_crs")
})
