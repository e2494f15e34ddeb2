test_that("the nearest rows are those of trying all, on the plane and on the ellipsoid", {
  set.seed(4)
  for (crs in c(32757, 4326)) {
    at <- function(n) if (crs == 4326) cbind(runif(n, 150, 170), runif(n, -60, -40)) else matrix(runif(2 * n, 400000, 500000), ncol = 2) + rep(c(0, 4.3e6), each = n)
    p <- at(60)
    q <- at(80)
    x <- toy_frame(id = 1:60, geometry = point_shapes(p[, 1], p[, 2], crs = crs))
    y <- toy_frame(other = 1:80, geometry = point_shapes(q[, 1], q[, 2], crs = crs))
    all <- outer(1:60, 1:80, Vectorize(function(i, j) distance_between(x[i, ], y[j, ])))
    for (count in c(1, 3)) {
      found <- join_nearest(x, y, count)
      expected <- as.vector(apply(all, 1, function(d) order(d)[seq_len(count)]))
      expect_identical(found$other, expected)
      expect_equal(found$distance, all[cbind(rep(1:60, each = count), expected)], tolerance = 1e-9)
    }
  }
})

test_that("ties, reach, units and directions are as asked", {
  x <- toy_frame(id = 1:2, geometry = point_shapes(c(0, 100), 0, crs = 32757))
  y <- toy_frame(name = c("east", "west", "north"), geometry = point_shapes(c(3, -3, 0), c(0, 0, 4), crs = 32757))
  found <- join_nearest(x, y)
  expect_identical(found$name, c("east", "west", "east"))
  expect_identical(found$direction, c(90, 270, 270))
  expect_identical(join_nearest(x, y, ties = "first")$name, c("east", "east"))
  expect_identical(join_nearest(x, y, count = 3)$name, c("east", "west", "north", "east", "north", "west"))
  reach <- join_nearest(x, y, within = 0.01, unit = "km")
  expect_identical(reach$name, c("east", "west", NA))
  expect_equal(reach$distance, c(0.003, 0.003, NA))
  expect_error(join_nearest(x, y, count = 0), "whole number", class = "civicatlas_error_argument")
  expect_error(join_nearest(x, y, within = -1), "above 0", class = "civicatlas_error_argument")
})

test_that("shapes of any type have nearest rows, 0 away where they meet", {
  wards <- read_layer(demo_file("wards.shp"))
  rooms <- reproject_to(read_layer(demo_file("rooms.geojson")), wards)
  found <- join_nearest(rooms, wards, ties = "first")
  located <- join_where(rooms, wards, multiple = "first")
  inside <- !is.na(located$ward_id)
  expect_identical(found$ward_id[inside], located$ward_id[inside])
  expect_true(all(found$distance[inside] == 0) && all(is.na(found$direction[inside])))
  expect_true(all(found$distance[!inside] > 0))
  lines <- reproject_to(read_layer(demo_file("tramways.kml")), wards)
  near <- join_nearest(rooms[1:20, ], lines, ties = "first")
  expect_equal(near$distance, vapply(1:20, function(i) min(distance_between(rooms[i, ], lines)), 0))
})

test_that("rows that are equally far are kept up to a number, which is told, and the best ranked come first", {
  place <- spatial_frame(k = 1:300, rank = c(300:1), geometry = point_shapes(rep(500000, 300), rep(4750000, 300), 32757))
  here <- place[1, "geometry"]
  expect_warning(found <- join_nearest(here, place), "1 row with more than 100 rows equally far.*most_ties = Inf", class = "civicatlas_warning_join")
  expect_identical(found$k, 1:101)
  expect_identical(join_nearest(here, place, most_ties = Inf)$k, 1:300)
  expect_identical(suppressWarnings(join_nearest(here, place, count = 3, most_ties = 0))$k, 1:3)
  expect_identical(join_nearest(here, place, ties = "first")$k, 1L)
  expect_identical(join_nearest(here, place, ties = "first", rank_by = rank, highest = FALSE)$k, 300L)
  expect_identical(join_nearest(here, place, count = 2, ties = "first", rank_by = k)$k, c(300L, 299L))
  expect_error(join_nearest(here, place, most_ties = -1), "most_ties", class = "civicatlas_error_argument")
  far <- spatial_frame(k = 1L, geometry = point_shapes(500010, 4750000, 32757))
  expect_no_warning(expect_identical(join_nearest(far, rbind(place[1:50, c("k", "geometry")], far))$k_y, 1L))
})
