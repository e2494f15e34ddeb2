test_that("joining layers on different CRSs stops, and one line mends it", {
  wards <- read_layer(demo_file("wards.shp"))
  rooms <- read_layer(demo_file("rooms.geojson"))
  error <- expect_error(join_where(rooms, wards), class = "civicatlas_error_crs_mismatch")
  expect_match(conditionMessage(error), "EPSG:4326.*EPSG:32757.*reproject_to")
  joined <- join_where(reproject_to(rooms, wards), wards)
  expect_identical(nrow(joined), 140L)
  expect_identical(sort(joined$room_id[is.na(joined$ward_id)]), c("CR137", "CR138", "CR139", "CR140"))
  expect_error(join_where(rooms, declare_crs(wards, NULL)), "declare_crs", class = "civicatlas_error_crs_mismatch")
})

test_that("join_where keeps, drops, repeats and chooses as asked", {
  points <- some_points()
  wards <- two_wards()
  all <- join_where(points, wards)
  expect_identical(all$place, c("in west", "in hole", "on the border", "on the border", "in east", "in east too", "nowhere", "unknown"))
  expect_identical(all$ward, c("west", NA, "west", "east", "east", "east", NA, NA))
  expect_identical(wkt_of(all)[3], "POINT (10 5)")
  expect_identical(join_where(points, wards, unmatched = "drop")$ward, c("west", "west", "east", "east", "east"))
  expect_identical(join_where(points, wards, unmatched = "drop", multiple = "first")$ward, c("west", "west", "east", "east"))
  expect_identical(join_where(points, wards, unmatched = "drop", multiple = "largest")$ward, c("west", "east", "east", "east"))
  expect_identical(join_where(points, wards, "within", unmatched = "drop")$place, c("in west", "in east", "in east too"))
  expect_identical(join_where(points, wards, "touches", unmatched = "drop")$ward, c("west", "east"))
  near <- join_where(points, wards, "within distance", distance = 1, unmatched = "drop")
  expect_identical(near$place, c("in west", "in hole", "on the border", "on the border", "in east", "in east too"))
  expect_identical(nrow(join_where(points, wards, "within distance", distance = 0.001, unit = "km", unmatched = "drop")), 6L)
  regions <- join_where(wards, points, "contains", unmatched = "drop")
  expect_identical(regions$place, c("in west", "in east", "in east too"))
})

test_that("columns that clash get a suffix, and nothing is lost", {
  points <- dplyr::rename(some_points(), ward = place)
  joined <- join_where(points, two_wards())
  expect_named(joined, c("ward", "people", "ward_y", "area", "geometry"))
})

test_that("the account says rows in and out, unmatched and repeated", {
  withr::local_options(civicatlas.quiet = FALSE)
  expect_message(join_where(some_points(), two_wards()), "7 rows in, 8 out: 4 matched, 3 unmatched .*1 with several partners", class = "civicatlas_message")
  expect_match(history_of(suppressMessages(join_where(some_points(), two_wards())))$note, "3 unmatched")
})

test_that("wrong relations, units and layers are told with the valid ones", {
  expect_error(join_where(some_points(), two_wards(), "intersect"), "intersects.*Nearest", class = "civicatlas_error_argument")
  expect_error(join_where(some_points(), two_wards(), "within distance"), "distance", class = "civicatlas_error_argument")
  expect_error(join_where(some_points(), two_wards(), "within distance", distance = 1, unit = "miles"), "nmi", class = "civicatlas_error_argument")
  degrees <- declare_crs(declare_crs(some_points(), NULL), 4326)
  expect_error(suppressWarnings(join_where(degrees, declare_crs(declare_crs(two_wards(), NULL), 4326), "within distance", distance = 1)),
               "degrees", class = "civicatlas_error_crs")
  far <- spatial_frame(id = 1L, geometry = point_shapes(5000, 5000, crs = 32757))
  expect_warning(join_where(far, two_wards()), "metres apart", class = "civicatlas_warning_join")
})

test_that("pick_where takes the highest or lowest, keeps rows, and counts ties", {
  wards <- two_wards()
  picked <- pick_where(wards, some_points(), take = place, rank_by = people)
  expect_identical(picked$place, c("on the border", "in east", NA))
  expect_identical(wkt_of(picked), wkt_of(wards))
  expect_identical(pick_where(wards, some_points(), take = place, rank_by = people, highest = FALSE)$place, c("in west", "on the border", NA))
  expect_identical(pick_where(wards, some_points(), take = c(who = place), rank_by = -people)$who, c("in west", "on the border", NA))
  expect_match(history_of(picked)$note, "1 tied")
  expect_error(pick_where(wards, some_points(), take = place, rank_by = peeple), "Nearest.*people", class = "civicatlas_error_column")
  expect_error(pick_where(wards, some_points(), take = plaice, rank_by = people), "Nearest.*place", class = "civicatlas_error_column")
  expect_error(pick_where(wards, some_points(), take = people, rank_by = place), "rank", class = "civicatlas_error_column")
})

test_that("picking agrees with the slow obvious way on random data", {
  set.seed(12)
  x <- runif(60, 0, 90)
  y <- runif(60, 0, 90)
  squares <- spatial_frame(id = 1:60, geometry = shapes_from_wkt(sprintf(
    "POLYGON ((%1$.3f %2$.3f, %3$.3f %2$.3f, %3$.3f %4$.3f, %1$.3f %4$.3f, %1$.3f %2$.3f))", x, y, x + 12, y + 12)))
  places <- spatial_frame(name = paste("p", 1:400), size = sample(1:50, 400, TRUE), geometry = point_shapes(round(runif(400, 0, 100), 3), round(runif(400, 0, 100), 3)))
  at <- coordinates_of(places)
  x <- round(x, 3)
  y <- round(y, 3)
  expected <- vapply(1:60, function(i) {
    inside <- which(at$x >= x[i] & at$x <= round(x[i] + 12, 3) & at$y >= y[i] & at$y <= round(y[i] + 12, 3))
    if (length(inside)) places$name[inside[which.max(places$size[inside])]] else NA_character_
  }, "")
  expect_identical(pick_where(squares, places, take = name, rank_by = size)$name, expected)
})

test_that("summaries by region give zero where nothing falls, and account for features", {
  wards <- two_wards()
  out <- summarise_into(wards, some_points(), n = dplyr::n(), people = sum(people), most = max(people), typical = mean(people))
  expect_identical(out$n, c(2L, 3L, 0L))
  expect_identical(out$people, c(12L, 25L, 0L))
  expect_equal(out$most, c(7, 9, NA))
  expect_equal(out$typical, c(6, 25 / 3, NA))
  expect_identical(wkt_of(out), wkt_of(wards))
  expect_match(history_of(out)$note, "1 in several .*; 3 in none")
  expect_identical(summarise_into(wards, some_points())$count, c(2L, 3L, 0L))
  expect_identical(summarize_into(wards, some_points(), n = dplyr::n(), relation = "contains")$n, c(1L, 2L, 0L))
  within <- 5
  expect_identical(summarise_into(wards, some_points(), big = sum(people > within))$big, c(1L, 3L, 0L))
})

test_that("warnings of a summary are shown, those of a summary of nothing are not", {
  expect_warning(summarise_into(two_wards(), some_points(), n = sum(as.numeric(place))), "NAs introduced")
  expect_no_warning(summarise_into(two_wards(), some_points(), most = max(people)))
})

test_that("summaries that cannot be are refused", {
  expect_error(summarise_into(two_wards(), some_points(), sum(people)), "needs a name", class = "civicatlas_error_argument")
  expect_error(summarise_into(two_wards(), some_points(), a = sum(peeple)), "Nearest.*people", class = "civicatlas_error_column")
  expect_error(summarise_into(two_wards(), some_points(4326) |> suppressWarnings(), a = dplyr::n()), class = "civicatlas_error_crs_mismatch")
})

test_that("sums by ward add up to what lies in any ward, on the demo data", {
  wards <- read_layer(demo_file("wards.shp"))
  rooms <- reproject_to(read_layer(demo_file("rooms.geojson")), wards)
  cells <- read_layer(demo_file("cells.zip"))
  counted <- summarise_into(wards, rooms, rooms = dplyr::n(), seats = sum(seats))
  located <- join_where(rooms, wards, unmatched = "drop")
  expect_identical(sum(counted$seats), sum(located$seats))
  expect_identical(counted$rooms, as.integer(table(factor(located$ward_id, wards$ward_id))))
  expect_equal(sum(area_of(cells)), sum(area_of(wards)), tolerance = 1e-9)
  centres <- join_where(centroid_of(dplyr::select(cells, cell_id, of = ward_id)), wards, unmatched = "drop")
  expect_gt(mean(centres$of == centres$ward_id), 0.99)
})
