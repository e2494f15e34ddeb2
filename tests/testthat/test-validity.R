test_that("shapes are checked row by row, with the place", {
  shapes <- shapes_from_wkt(c("POLYGON ((0 0, 4 4, 4 0, 0 4, 0 0))", "POLYGON ((0 0, 4 0, 4 4, 0 0))", NA, "POINT (1 1)",
                              "POLYGON ((0 0, 9 0, 9 9, 0 9, 0 0), (20 20, 21 20, 21 21, 20 20))"))
  found <- check_shapes(shapes)
  expect_identical(found$row, 1:5)
  expect_identical(found$valid, c(FALSE, TRUE, TRUE, TRUE, FALSE))
  expect_identical(found$problem, c("crossing", NA, NA, NA, "hole outside"))
  expect_equal(c(found$x[1], found$y[1]), c(2, 2))
})

test_that("repairs follow the rule, and say what changed in area", {
  overlapping <- shapes_from_wkt("MULTIPOLYGON (((0 0, 4 0, 4 4, 0 4, 0 0)), ((2 0, 6 0, 6 4, 2 4, 2 0)))")
  expect_equal(area_of(repair_shapes(overlapping)), 16)
  expect_equal(area_of(repair_shapes(overlapping, "winding")), 24)
  expect_true(all(check_shapes(repair_shapes(overlapping))$valid))
  withr::local_options(civicatlas.quiet = FALSE)
  expect_message(repair_shapes(overlapping), "1 changed in area \\(from 32 square units to 16 square units in all\\)")
  expect_message(gone <- repair_shapes(shapes_from_wkt("POLYGON ((0 0, 1 1, 2 2, 0 0))")), "1 without area")
  expect_true(is.na(gone))
  expect_identical(suppressMessages(wkt_of(repair_shapes(shapes_from_wkt("LINESTRING (0 0, 1 1)")))), "LINESTRING (0 0, 1 1)")
  expect_error(repair_shapes(overlapping, "odd"), class = "civicatlas_error_choice")
})

test_that("gaps and overlaps between neighbours are found, measured and closed", {
  districts <- read_layer(demo_file("districts.shp"))
  gaps <- find_gaps(districts, narrower_than = 30)
  overlaps <- find_slivers(districts)
  expect_gt(nrow(gaps), 30)
  expect_true(all(gaps$width < 30) && all(gaps$neighbour %in% 1:5))
  expect_gt(sum(overlaps$kind == "overlap"), 30)
  expect_equal(gaps$area, area_of(gaps), tolerance = 1e-9)
  expect_equal(find_gaps(districts, narrower_than = 90, unit = "ft")$area[1], gaps$area[1] / 0.3048^2, tolerance = 1e-9)
  mended <- close_gaps(districts, 30)
  expect_identical(nrow(find_gaps(mended)), 1L) # the park
  expect_identical(sum(find_slivers(mended)$kind == "overlap"), 0L)
  expect_true(all(check_shapes(mended)$valid))
  # A border may move by no more than the tolerance along its length.
  expect_equal(area_of(mended), area_of(districts), tolerance = 5e-3)
  expect_identical(mended$district, districts$district)
  sum_of_parts <- area_of(dissolve_by(mended))
  expect_equal(sum(area_of(mended)), sum_of_parts, tolerance = 1e-12)
})

test_that("corners stay sharp, and the first row stays as it is", {
  x <- shapes_from_wkt(c("POLYGON ((0 0, 10 0, 10 10, 0 10, 0 0))", "POLYGON ((10.1 -2, 20 -2, 20 12, 10.2 12, 10.05 5, 10.1 -2))"))
  closed <- close_gaps(x, 0.5)
  expect_true(relation_of(close_gaps(x[1], 0.5), x[1]) == "2FFF1FFF2")
  expect_equal(area_of(closed[1]), 100)
  expect_match(relation_of(closed[1], closed[2]), "^F...1")
  swapped <- close_gaps(x, 0.5, first = "largest")
  expect_equal(area_of(swapped[2]), area_of(x[2]), tolerance = 1e-12)
  expect_error(close_gaps(x, 0), "above 0", class = "civicatlas_error_argument")
  expect_error(close_gaps(shapes_from_wkt("POINT (1 1)"), 1), "polygons", class = "civicatlas_error_argument")
})

test_that("closing gaps tells how areas change, and refuses to move more than it closes", {
  withr::local_options(civicatlas.quiet = FALSE)
  districts <- suppressMessages(read_layer(demo_file("districts.shp")))
  before <- area_of(districts)
  expect_message(mended <- close_gaps(districts, 30), "more in all, of one shape at most [0-9,.]+ m2 (more|less) \\(row [0-9]")
  change <- area_of(mended) - before
  said <- history_of(mended)$note[nrow(history_of(mended))]
  expect_match(said, paste0("row ", which.max(abs(change))))
  expect_equal(as.numeric(gsub(",", "", sub(".*area ([0-9,.]+) m2 more in all.*", "\\1", said))), sum(change), tolerance = 1e-3)
  expect_error(close_gaps(districts, 3000), "thinner than the tolerance.*force = TRUE", class = "civicatlas_error_argument")
  # Two islands and a long strait, of which a tolerance takes in the shores without bringing them together.
  isles <- toy_frame(name = c("Kelp", "Tern"), geometry = shapes_from_wkt(c("POLYGON ((0 0, 100 0, 100 100, 0 100, 0 0))", "POLYGON ((101 50, 200 0, 200 100, 101 50))")))
  expect_error(close_gaps(isles, 45), "would move more than it closes.*Tern", class = "civicatlas_error_argument")
  forced <- suppressMessages(close_gaps(isles, 45, force = TRUE))
  expect_gt(area_of(forced)[2], area_of(isles)[2])
})

test_that("slivers go to the neighbour asked for", {
  x <- toy_frame(
    id = 1:3, zone = c("a", "b", "b"),
    geometry = shapes_from_wkt(c("POLYGON ((0 0, 10 0, 10 10, 0 10, 0 0))", "POLYGON ((10.2 -20, 30 -20, 30 30, 10.2 30, 10.2 -20))",
                                 "POLYGON ((10 0, 10.2 0, 10.2 9, 10 9, 10 0))"))
  )
  expect_equal(area_of(absorb_slivers(x, narrower_than = 0.5)), c(101.8, 990))
  expect_equal(area_of(absorb_slivers(x, area = 2, into = "largest")), c(100, 991.8))
  expect_equal(area_of(absorb_slivers(x, thinness = 0.2, same = zone)), c(100, 991.8))
  alone <- absorb_slivers(x[c(1, 3), ], area = 2, same = zone)
  expect_identical(alone$id, c(1L, 3L))
  expect_error(absorb_slivers(x), "area", class = "civicatlas_error_argument")
})

test_that("what is valid stays as it is by either rule, and an outer ring takes in the island in its lake", {
  written <- "POLYGON ((0 0, 0 9, 9 9, 9 0, 0 0), (3 3, 3 6, 6 6, 6 3, 3 3))"  # the hole runs as the shell does
  for (rule in c("even-odd", "winding")) expect_identical(wkt_of(repair_shapes(shapes_from_wkt(written), rule)), written)
  lake <- shapes_from_wkt("MULTIPOLYGON (((0 0, 9 0, 9 9, 0 9, 0 0), (3 3, 3 6, 6 6, 6 3, 3 3)), ((4 4, 5 4, 5 5, 4 5, 4 4)))")
  outer <- outer_ring_of(lake)
  expect_true(check_shapes(outer)$valid)
  expect_identical(area_of(outer), 81)
})

test_that("lines without length and polygons that are a place have a repair and a measure", {
  lines <- shapes_from_wkt(c("LINESTRING (1 1, 1 1)", "LINESTRING (0 0, 0 0, 1 1)", "MULTILINESTRING ((1 1, 1 1), (2 2, 3 3))"), crs = 32757)
  repaired <- repair_shapes(lines)
  expect_identical(wkt_of(repaired), c(NA, "LINESTRING (0 0, 0 0, 1 1)", "LINESTRING (2 2, 3 3)"))
  expect_true(all(check_shapes(repaired)$valid))
  places <- toy_frame(id = 1:2, geometry = shapes_from_wkt(c("POLYGON ((1 1, 1 1, 1 1, 1 1))", "POLYGON ((0 0, 5 0, 5 5, 0 5, 0 0))"), crs = 32757))
  expect_identical(find_slivers(places)$row, 1L)
})

test_that("what slivers count is added to those that take them, on request", {
  x <- toy_frame(id = 1:4, people = c(10L, 1L, NA, 5L), name = letters[1:4], geometry = shapes_from_wkt(c(
    "POLYGON ((0 0, 10 0, 10 10, 0 10, 0 0))", "POLYGON ((10 0, 10.1 0, 10.1 10, 10 10, 10 0))",
    "POLYGON ((10.1 0, 20 0, 20 10, 10.1 10, 10.1 0))", "POLYGON ((20 0, 20.1 0, 20.1 10, 20 10, 20 0))"), crs = 32757))
  expect_identical(absorb_slivers(x, area = 2)$people, c(10L, NA))
  expect_identical(absorb_slivers(x, area = 2, add = people)$people, c(11, 5))
  expect_error(absorb_slivers(x, area = 2, add = name), "mend_numbers", class = "civicatlas_error_argument")
})

test_that("on longitude and latitude borders are brought together by metres", {
  withr::local_options(civicatlas.quiet = TRUE)
  districts <- read_layer(demo_file("districts.shp"))
  wards <- read_layer(demo_file("wards.shp"))
  degrees <- lapply(list(districts = districts, wards = wards), reproject_to, 4326)
  on_grid <- close_gaps(districts, 30)
  found <- close_gaps(degrees$districts, 30)
  gaps_and_overlaps <- function(x) account_of(x)$count[account_of(x)$verb == "close_gaps"][1:2]
  expect_identical(gaps_and_overlaps(found), gaps_and_overlaps(on_grid))
  expect_equal(as.double(area_of(found$geometry)), as.double(area_of(reproject_to(on_grid, 4326)$geometry)), tolerance = 1e-6)
  expect_identical(nrow(find_gaps(found, narrower_than = 30)), 0L)
  expect_identical(wkt_of(close_gaps(degrees$districts, 30 / 0.3048, "ft")), wkt_of(found))
  pieces <- parts_of(overlay_with(degrees$wards, degrees$districts, tolerance = 30))
  expect_gt(min(2 * area_of(pieces$geometry) / perimeter_of(pieces$geometry)), 30)
  # Strips of 100 m, to the east where a degree of longitude is 19.4 km long, and to the north.
  east <- 1 + 100 / 19393.5
  north <- 80.1 + 100 / 111688
  x <- shapes_from_wkt(c("POLYGON ((0 80, 1 80, 1 80.1, 0 80.1, 0 80))", sprintf("POLYGON ((%1$.9f 80, 2 80, 2 80.1, %1$.9f 80.1, %1$.9f 80))", east),
                         sprintf("POLYGON ((0 %1$.9f, 1 %1$.9f, 1 80.2, 0 80.2, 0 %1$.9f))", north)), 4326)
  expect_equal(area_of(close_gaps(x, 97)), area_of(x), tolerance = 1e-12)
  strips <- as.double(area_of(close_gaps(x, 103)) - area_of(x))
  expect_equal(strips, c(0, 100 * 111688 * 0.1, 100 * 19300), tolerance = 0.01)
})

test_that("on longitude and latitude slivers and gaps are measured along the ellipsoid", {
  districts <- read_layer(demo_file("districts.shp"))
  degrees <- reproject_to(districts, 4326)
  expect_equal(find_gaps(degrees, narrower_than = 30)$area, find_gaps(districts, narrower_than = 30)$area, tolerance = 5e-3)
  expect_equal(find_slivers(degrees, area = 5000, unit = "ft")$width, find_slivers(districts, area = 5000, unit = "ft")$width, tolerance = 5e-3)
  expect_identical(nrow(absorb_slivers(degrees, area = 5000)), nrow(degrees))
  withr::local_options(civicatlas.quiet = FALSE)
  found <- find_gaps(districts)
  expect_message(find_gaps(degrees), sub(".*, ([0-9,]*)[.0-9]* .*", "\\1", paste0(", ", area_in_words(found$geometry))), fixed = TRUE)
  bow <- shapes_from_wkt("POLYGON ((160 -47, 160.1 -46.9, 160.1 -47, 160 -46.9, 160 -47))", crs = 4326)
  expect_message(repair_shapes(bow), "from 0 m2 to 42[.]3[0-9]* km2 in all")
})
