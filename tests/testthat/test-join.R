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
  far <- toy_frame(id = 1L, geometry = point_shapes(5000, 5000, crs = 32757))
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
  squares <- toy_frame(id = 1:60, geometry = shapes_from_wkt(sprintf(
    "POLYGON ((%1$.3f %2$.3f, %3$.3f %2$.3f, %3$.3f %4$.3f, %1$.3f %4$.3f, %1$.3f %2$.3f))", x, y, x + 12, y + 12)))
  places <- toy_frame(name = paste("p", 1:400), size = sample(1:50, 400, TRUE), geometry = point_shapes(round(runif(400, 0, 100), 3), round(runif(400, 0, 100), 3)))
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
  out <- summarise_into(wards, some_points(), n = dplyr::n(), people = sum(people), most = max(people), typical = mean(people),
                        .borders = "all")
  expect_identical(out$n, c(2L, 3L, 0L))
  expect_identical(out$people, c(12L, 25L, 0L))
  expect_equal(out$most, c(7, 9, NA))
  expect_equal(out$typical, c(6, 25 / 3, NA))
  expect_identical(wkt_of(out), wkt_of(wards))
  expect_match(history_of(out)$note, "1 in several .*; 3 in none")
  once <- summarise_into(wards, some_points())
  expect_identical(once$count, c(2L, 2L, 0L))
  expect_match(history_of(once)$note, "3 in none; 1 on a border \\(first region\\)")
  doubled <- rbind(wards, wards[1, ])
  expect_warning(counted <- summarise_into(doubled, some_points()), "overlap")
  expect_identical(counted$count, c(2L, 2L, 0L, 1L)) # inside both, on the border of the first
  expect_identical(summarize_into(wards, some_points(), n = dplyr::n(), .relation = "contains")$n, c(1L, 2L, 0L))
  within <- 5
  expect_identical(summarise_into(wards, some_points(), big = sum(people > within), .borders = "all")$big, c(1L, 3L, 0L))
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

test_that("shares apportion totals, average what is no total, and conserve both", {
  regions <- toy_frame(id = 1:2, geometry = shapes_from_wkt(c("POLYGON ((0 0, 10 0, 10 10, 0 10, 0 0))", "POLYGON ((10 0, 20 0, 20 10, 10 10, 10 0))"), crs = 32757))
  fields <- toy_frame(
    people = c(100, 60), rate = c(5, 2),
    geometry = shapes_from_wkt(c("POLYGON ((5 0, 15 0, 15 10, 5 10, 5 0))", "POLYGON ((15 0, 30 0, 30 10, 15 10, 15 0))"), crs = 32757)
  )
  withr::local_options(civicatlas.quiet = FALSE)
  expect_message(out <- summarise_into(regions, fields, people = sum(people), rate = weighted.mean(rate, .shared), n = dplyr::n(), .share = "area", .intensive = rate),
                 "2 features into 2 regions: 2 apportioned by area, 40 % of their area lies in no region")
  options(civicatlas.quiet = TRUE)
  expect_equal(out$people, c(50, 70))
  expect_equal(out$rate, c(5, 3.5))
  expect_identical(out$n, 1:2)
  roads <- toy_frame(cars = 90, geometry = shapes_from_wkt("LINESTRING (5 5, 35 5)", crs = 32757))
  expect_equal(summarise_into(regions, roads, cars = sum(cars), .share = "length")$cars, c(15, 30))
  along <- toy_frame(cars = 90, geometry = shapes_from_wkt("LINESTRING (10 0, 10 10)", crs = 32757))
  expect_equal(summarise_into(regions, along, cars = sum(cars), .share = "length")$cars, c(90, 0)) # the first of the two
  expect_error(summarise_into(regions, some_points(), n = dplyr::n(), .share = "area"), "point", class = "civicatlas_error_argument")

  bow_tie <- toy_frame(people = 8, geometry = shapes_from_wkt("POLYGON ((8 2, 12 6, 12 2, 8 6, 8 2))", crs = 32757))
  expect_warning(halves <- summarise_into(regions, bow_tie, people = sum(people), .share = "area"), "even-odd", class = "civicatlas_warning_data")
  expect_equal(halves$people, c(4, 4))

  wards <- read_layer(demo_file("wards.shp"))
  cells <- mend_numbers(read_layer(demo_file("cells.zip")))
  turned <- buffer_by(inner_point_of(wards), 900)
  whole <- summarise_into(wards, cells, people = sum(pop_total, na.rm = TRUE), .share = "area")
  expect_equal(sum(whole$people), sum(cells$pop_total, na.rm = TRUE), tolerance = 1e-9)
  by_ward <- tapply(cells$pop_total, cells$ward_id, sum, na.rm = TRUE)
  expect_equal(whole$people, as.vector(by_ward[whole$ward_id]), tolerance = 1e-9)
  apart <- dissolve_by(turned)
  inside <- summarise_into(apart, cells, people = sum(pop_total, na.rm = TRUE), .share = "area")$people
  outside <- summarise_into(erase_by(dissolve_by(wards), apart), cells, people = sum(pop_total, na.rm = TRUE), .share = "area")$people
  expect_equal(inside + outside, sum(cells$pop_total, na.rm = TRUE), tolerance = 1e-9)
})

test_that("the largest partner is the one with the most in common", {
  x <- toy_frame(id = 1:2, geometry = shapes_from_wkt(c("POLYGON ((8 0, 18 0, 18 4, 8 4, 8 0))", "LINESTRING (4 1, 12 1)"), crs = 32757))
  wards <- two_wards()
  expect_identical(join_where(x, wards, multiple = "largest")$ward, c("east", "west"))
})

test_that("rates, shares and tables of areas in common", {
  expect_equal(rate_of(c(5, 0), c(1000, 500)), c(5, 0))
  expect_equal(rate_of(5, 2000, per = 100), 0.25)
  expect_warning(found <- rate_of(c(1, 2), c(0, 50)), "2 bases are below 100", class = "civicatlas_warning_data")
  expect_equal(found, c(NA, 40))
  expect_error(rate_of("5", 10), "mend_numbers", class = "civicatlas_error_argument")
  expect_error(rate_of(5, -10), "below 0", class = "civicatlas_error_argument")
  expect_equal(share_of_total(c(1, 3)), c(0.25, 0.75))
  land <- toy_frame(use = c("park", "town"), geometry = shapes_from_wkt(c("POLYGON ((0 0, 12 0, 12 10, 0 10, 0 0))", "POLYGON ((12 0, 30 0, 30 10, 12 10, 12 0))"), crs = 32757))
  found <- cross_table(land, two_wards(), use, ward, "m2")
  expect_identical(found$use, c("park", "park", "park", "town", "town"))
  expect_identical(found$ward, c("east", "west", NA, "east", NA))
  expect_equal(found$area_m2, c(20, 96, 4, 80, 100))
  expect_equal(sum(found$area_m2), sum(area_of(land)))
})

test_that("within distance is in true metres on longitude and latitude", {
  wards <- read_layer(demo_file("wards.shp"))
  rooms <- read_layer(demo_file("rooms.geojson"))
  on_plane <- related_pairs(reproject_to(rooms, wards), wards, "within distance", 500)
  around <- related_pairs(rooms, reproject_to(wards, rooms), "within distance", 500)
  # Scale on the zone's map differs by up to 4 in 10,000.
  different <- dplyr::anti_join(around, on_plane, by = c("x", "y"))
  expect_lt(nrow(different) + nrow(on_plane) - nrow(around), 3)
  expect_gt(nrow(around), 200)
  expect_identical(related_pairs(rooms[1, ], rooms[1, ], "within distance", 0)$y, 1L)
})

test_that("text keys beyond 2^53 equal no number", {
  x <- toy_frame(k = c("9007199254740993", "9007199254740992", "5"), geometry = point_shapes(1:3, 1:3, 4326))
  table <- tibble::tibble(k = c(9007199254740992, 5), v = 1:2)
  expect_identical(suppressWarnings(join_table(x, table, by = "k"))$v, c(NA, NA, 2L))
  numbers <- toy_frame(k = c(9007199254740992, 5), geometry = point_shapes(1:2, 1:2, 4326))
  expect_identical(join_table(numbers, table, by = "k")$v, 1:2)
})

test_that("indexes are kept as far as they may be, and given back", {
  withr::local_seed(12)
  forget_indexes()
  places <- spatial_frame(id = 1:3000, geometry = point_shapes(stats::runif(3000), stats::runif(3000)))
  zones <- buffer_by(places[1:1500, ], 0.01)
  pairs <- related_pairs(places, zones)
  first <- forget_indexes()
  expect_gt(first, 1e4)
  expect_identical(forget_indexes(), 0)
  withr::local_options(civicatlas.index_bytes = 0)
  expect_identical(related_pairs(places, zones), pairs)
  expect_identical(forget_indexes(), 0)
  options(civicatlas.index_bytes = 1e9)
  related_pairs(places, zones)
  expect_identical(forget_indexes(), first)
  withr::local_options(civicatlas.quiet = FALSE)
  expect_message(forget_indexes(), "0 B.* given back")
})
