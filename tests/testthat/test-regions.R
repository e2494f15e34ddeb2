saltmere <- function() {
  wards <- read_layer(demo_file("wards.shp"))
  list(wards = wards, rooms = reproject_to(read_layer(demo_file("rooms.geojson")), wards))
}

test_that("groups come in long and wide form, with zeros and nothing lost", {
  s <- saltmere()
  long <- summarise_into(s$wards, s$rooms, rooms = n(), seats = mean(seats), .by = kind)
  kinds <- sort(unique(s$rooms$kind))
  expect_identical(long$kind, rep(kinds, 24))
  expect_identical(long$ward_id, rep(s$wards$ward_id, each = length(kinds)))
  inside <- join_where(s$rooms, s$wards, unmatched = "drop")
  expect_identical(long$rooms, as.vector(t(table(factor(inside$ward_id, s$wards$ward_id), inside$kind))))
  expect_true(all(is.na(long$seats[long$rooms == 0])) && !anyNA(long$seats[long$rooms > 0]))
  wide <- summarise_into(s$wards, s$rooms, rooms = n(), .by = kind, .form = "wide")
  expect_identical(wide$rooms_library, long$rooms[long$kind == "library"])
  expect_identical(nrow(wide), 24L)
})

test_that("summaries agree with dplyr's, the quick ones too", {
  s <- saltmere()
  s$rooms$staff <- ifelse(seq_len(140) %% 7 == 0, NA, seq_len(140) / 8)
  inside <- dplyr::group_by(attribute_table(join_where(s$rooms, s$wards, unmatched = "drop")), ward_id)
  expected <- dplyr::summarise(inside, n = dplyr::n(), sum = sum(seats), some = sum(staff), known = sum(staff, na.rm = TRUE), mean = mean(staff, na.rm = TRUE),
                               high = stats::quantile(seats, 0.9, names = FALSE))
  found <- summarise_into(s$wards, s$rooms, n = dplyr::n(), sum = sum(seats), some = sum(staff), known = sum(staff, na.rm = TRUE),
                          mean = mean(staff, na.rm = TRUE), high = stats::quantile(seats, 0.9, names = FALSE))
  some <- match(expected$ward_id, found$ward_id)
  for (name in names(expected)[-1]) expect_equal(found[[name]][some], expected[[name]], info = name)
  none <- found[!found$ward_id %in% expected$ward_id, ]
  expect_gt(nrow(none), 0)
  expect_true(all(none$n == 0 & none$sum == 0 & is.na(none$mean) & is.na(none$high)))
  expect_type(found$n, "integer")
  # A function of the user's own under a usual name is the one that counts.
  sum <- function(x) 7
  expect_identical(summarise_into(s$wards, s$rooms, total = sum(seats))$total, rep(7, 24))
})

test_that("summaries take what dplyr takes, under any name", {
  regions <- toy_frame(cap = c(5, 6), n = 1:2, geometry = shapes_from_wkt(c("POLYGON ((0 0, 10 0, 10 10, 0 10, 0 0))", "POLYGON ((20 0, 30 0, 30 10, 20 10, 20 0))")))
  halls <- toy_frame(hall = c("Loft", "Quay"), seats = c(30, 70), cap = c(9, 9), geometry = point_shapes(c(1, 2), c(1, 2)))
  found <- summarise_into(regions, halls, largest = hall[which.max(seats)], once = unique(cap), share = sum(seats), distance = max(seats), unit = dplyr::first(hall),
                          region = dplyr::n(), feature = 1 + 1, by = mean(seats), r = min(seats))
  expect_identical(found$largest, c("Quay", NA))
  expect_identical(found$once, c(9, NA))
  expect_identical(unlist(attribute_table(found)[1, c("share", "distance", "region", "by", "r")], use.names = FALSE), c(100, 70, 2, 50, 30))
  expect_identical(found$unit, c("Loft", NA))
  expect_error(summarise_into(regions, halls, share = "area"), "`\\.share = \"area\"`", class = "civicatlas_error_argument")
  expect_error(summarise_into(regions, halls, by = hall), "`\\.by = hall`", class = "civicatlas_error_argument")
  expect_error(summarise_into(regions, halls, both = range(seats)), class = "civicatlas_error_argument")
  dissolved <- dissolve_by(halls, x = sum(seats), share = dplyr::n(), most = hall[which.max(seats)], .once = cap)
  expect_identical(as.list(attribute_table(dissolved)), list(x = 100, share = 2L, most = "Quay", cap = 9))
  expect_error(dissolve_by(halls, total = sum(cap), .once = cap), "stands once a group", class = "civicatlas_error_argument")
  expect_error(dissolve_by(halls, .once = seats), "does not stand once a group", class = "civicatlas_error_argument")
  trips <- data.frame(from = 1, to = 2, trips = 3)
  flows <- flows_between(regions, trips, from, to, n, flow = sum(trips), region = dplyr::n())
  expect_identical(c(flows$flow, flows$region), c(3, 1))
})

test_that("a new column takes the place of an old one of its name, and says so", {
  regions <- toy_frame(people = 1, geometry = shapes_from_wkt("POLYGON ((0 0, 10 0, 10 10, 0 10, 0 0))"))
  withr::local_options(civicatlas.quiet = FALSE)
  expect_message(found <- summarise_into(regions, toy_frame(people = c(4, 5), geometry = point_shapes(1:2, 1:2)), people = sum(people)), "take the place of \"people\"")
  expect_identical(names(found), c("people", "geometry"))
  expect_identical(found$people, 9)
})

test_that("what ranks values is refused of shares of counts, with what to use", {
  regions <- toy_frame(id = 1, geometry = shapes_from_wkt("POLYGON ((0 0, 10 0, 10 10, 0 10, 0 0))"))
  fields <- toy_frame(people = c(10, 20), rent = c(5, 9), geometry = shapes_from_wkt(c("POLYGON ((5 0, 15 0, 15 10, 5 10, 5 0))", "POLYGON ((0 0, 5 0, 5 10, 0 10, 0 0))")))
  for (summary in rlang::quos(median(people), stats::quantile(people, 0.5), 1 + mad(people))) {
    expect_error(summarise_into(regions, fields, m = !!summary, .share = "area"), "weighted.mean\\(people, .shared\\)", class = "civicatlas_error_argument")
  }
  expect_identical(summarise_into(regions, fields, m = median(rent), .share = "area", .intensive = rent)$m, 7)
})

test_that("plain summaries in one pass agree with those by pairs, wherever points lie", {
  set.seed(31)
  s <- saltmere()
  edges <- extent_of(s$wards)
  n <- 3000
  east <- runif(n, edges[["xmin"]] - 500, edges[["xmax"]] + 500)
  north <- runif(n, edges[["ymin"]], edges[["ymax"]])
  places <- toy_frame(seats = sample(c(NA, 1:90), n, TRUE), level = rnorm(n), geometry = point_shapes(east, north, crs = 32757))
  places$geometry[sample(n, 40)] <- NA
  pairs <- list(c(1, 2), c(3, 4))
  several <- vapply(pairs, function(of) sprintf("MULTIPOINT ((%f %f), (%f %f))", east[of[1]], north[of[1]], east[of[2]], north[of[2]]), "")
  multi <- toy_frame(seats = c(5L, NA), level = c(0.5, 2), geometry = shapes_from_wkt(several, crs = 32757))
  both <- function(regions, points) {
    told <- character()
    heard <- function(expr) {
      withCallingHandlers(expr, message = function(m) {
        told <<- c(told, conditionMessage(m))
        invokeRestart("muffleMessage")
      }, civicatlas_warning_data = function(w) invokeRestart("muffleWarning"))
    }
    rlang::local_options(civicatlas.quiet = FALSE)
    quick <- heard(summarise_into(regions, points, n = n(), all = sum(seats), some = sum(seats, na.rm = TRUE), mean = mean(level)))
    slow <- heard(summarise_into(regions, points, n = length(seats), all = sum(seats + 0L), some = sum(seats + 0L, na.rm = TRUE), mean = mean(level + 0)))
    expect_equal(attribute_table(quick), attribute_table(slow))
    expect_identical(told[1], told[2])
  }
  both(s$wards, places)
  mixed <- stack_layers(places, multi)
  both(s$wards, mixed)
  both(s$wards[c(1:24, 3), ], places)  # overlap
  both(s$wards, places[0, ])
  squares <- expand.grid(x = 0:5, y = 0:5)
  squares <- toy_frame(id = 1:36, geometry = shapes_from_wkt(sprintf("POLYGON ((%1$d %2$d, %3$d %2$d, %3$d %4$d, %1$d %4$d, %1$d %2$d))", squares$x, squares$y,
                                                                     squares$x + 1L, squares$y + 1L)))
  on_borders <- toy_frame(seats = sample(c(NA, 1:90), 800, TRUE), level = rnorm(800), geometry = point_shapes(sample(0:14, 800, TRUE) / 2, sample(0:14, 800, TRUE) / 2))
  both(squares, on_borders)
  both(squares[c(1:36, 8, 8), ], on_borders)
})

test_that("across() summarises several columns at once", {
  s <- saltmere()
  s$rooms$staff <- 2
  found <- summarise_into(s$wards, s$rooms, across(c(seats, staff), list(total = base::sum)), rooms = n())
  expect_identical(found$staff_total, 2 * found$rooms)
  expect_identical(found$seats_total, summarise_into(s$wards, s$rooms, seats = sum(seats))$seats)
})

test_that("what stands once a region is taken once, never summed", {
  wards <- two_wards()
  points <- dplyr::mutate(some_points(), hall = c(80, 80, 80, 60, 60, 0, 0))
  found <- summarise_into(wards, points, places = n(), .once = hall)
  expect_identical(found$hall, c(80, 60, NA))
  expect_error(summarise_into(wards, points, total = sum(hall), .once = hall), "once a region", class = "civicatlas_error_argument")
  expect_error(summarise_into(wards, points, n = n(), .once = people), "In region 1 it is 5 and 7|In region", class = "civicatlas_error_argument")
})

test_that("regions that cross themselves are told, once, and taken by the even-odd rule", {
  bow_tie <- toy_frame(id = 1, geometry = shapes_from_wkt("POLYGON ((0 0, 4 4, 4 0, 0 4, 0 0))", crs = 32757))
  points <- toy_frame(v = 1:3, geometry = point_shapes(c(0.5, 2, 3.5), c(2, 1, 2), crs = 32757))
  for (ask in list(function() summarise_into(bow_tie, points, n = n())$n, function() summarise_into(bow_tie, points, n = length(v))$n,
                   function() nrow(join_where(points, bow_tie, unmatched = "drop")))) {
    told <- character()
    found <- withCallingHandlers(ask(), civicatlas_warning_data = function(w) {
      told <<- c(told, conditionMessage(w))
      invokeRestart("muffleWarning")
    })
    expect_equal(found, 2)
    expect_length(told, 1)
    expect_match(told, "even-odd rule")
  }
})

test_that("regions that overlap are told with how many", {
  wards <- two_wards()
  points <- some_points()
  expect_warning(summarise_into(wards[c(1, 2, 3, 1), ], points), "2 regions overlap", class = "civicatlas_warning_data")
  expect_no_warning(summarise_into(wards, points, .borders = "all"))
  cells <- toy_frame(people = c(10, 20), geometry = wards$geometry[1:2])
  expect_warning(shared <- summarise_into(wards[c(1, 2, 1), ], cells, people = sum(people), .share = "area"), "2 regions overlap")
  expect_equal(shared$people, c(10, 20, 10), tolerance = 1e-12)
})

test_that("keep_where and drop_where part a layer in two", {
  s <- saltmere()
  inside <- keep_where(s$rooms, s$wards)
  outside <- drop_where(s$rooms, s$wards)
  expect_setequal(c(inside$room_id, outside$room_id), s$rooms$room_id)
  expect_setequal(outside$room_id, c("CR137", "CR138", "CR139", "CR140"))
  expect_identical(names(inside), names(s$rooms))
  expect_identical(nrow(keep_where(s$wards, s$rooms, "contains")), 22L)
  expect_identical(history_of(outside)$rows_out, c(140L, 140L, 4L))
})

test_that("ties between the nearest are broken by a column", {
  here <- toy_frame(id = 1L, geometry = point_shapes(0, 0))
  there <- toy_frame(size = c(1, 9, 5, NA), geometry = point_shapes(c(1, -1, 0, 0), c(0, 0, 1, -1)))
  expect_identical(join_nearest(here, there, ties = "first", rank_by = size)$size, 9)
  expect_identical(join_nearest(here, there, ties = "first", rank_by = size, highest = FALSE)$size, 1)
  expect_identical(join_nearest(here, there, count = 2, ties = "first", rank_by = size)$size, c(9, 5))
  expect_identical(join_nearest(here, there, ties = "first")$size, 1)
})

test_that("flows are summed by pairs of regions and of groups, with what names no region told", {
  s <- saltmere()
  trips <- read_layer(demo_file("trips.csv"))
  flows <- flows_between(s$wards, trips, from, to, ward_id, trips = sum(trips))
  expect_identical(sum(flows$trips), sum(trips$trips))
  one <- flows[flows$from == "03" & flows$to == "07", ]
  expect_identical(one$trips, trips$trips[trips$from == "03" & trips$to == "07"])
  ends <- coordinates_of(one)
  expect_identical(join_where(toy_frame(geometry = point_shapes(ends$x, ends$y, s$wards)), s$wards)$ward_id, c("03", "07"))
  s$wards$side <- ifelse(s$wards$ward_id > "12", "b", "a")
  grouped <- flows_between(s$wards, trips, from, to, ward_id, trips = sum(trips), rows = n(), .group = side)
  expect_identical(paste(grouped$from, grouped$to), c("a a", "a b", "b a", "b b"))
  expect_identical(grouped$trips[2], sum(trips$trips[trips$from <= "12" & trips$to > "12"]))
  expect_identical(geometry_type_of(grouped), c("point", "line", "line", "point"))
  trips$to[5] <- "0l"
  expect_warning(fewer <- flows_between(s$wards, trips, from, to, ward_id), "nearest: \"01\"", class = "civicatlas_warning_data")
  expect_identical(sum(fewer$flows), nrow(trips) - 1L)
  expect_error(flows_between(s$wards[c(1, 1), ], trips, from, to, ward_id), class = "civicatlas_error_key")
})

test_that("a distance matrix holds every pair", {
  s <- saltmere()
  found <- distance_matrix(s$rooms[1:3, ], s$wards[1:4, ], unit = "km", names_x = room_id, names_y = ward_id)
  expect_identical(dimnames(found), list(s$rooms$room_id[1:3], s$wards$ward_id[1:4]))
  for (i in 1:3) for (j in 1:4) expect_identical(found[i, j], distance_between(s$rooms[i, ], s$wards[j, ], "km"))
  expect_identical(dim(distance_matrix(s$rooms[0, ], s$wards)), c(0L, 24L))
})

test_that("an index that is kept never answers for another layer", {
  set.seed(9)
  x <- point_shapes(runif(3000), runif(3000))
  y <- point_shapes(runif(3000), runif(3000))
  square <- shapes_from_wkt("POLYGON ((0.2 0.2, 0.7 0.2, 0.7 0.7, 0.2 0.7, 0.2 0.2))")
  inside <- function(shapes) {
    at <- coordinates_of(shapes)
    which(at$x >= 0.2 & at$x <= 0.7 & at$y >= 0.2 & at$y <= 0.7)
  }
  for (layer in list(x, y, x, rev(x), x[1:2000], c(y[3000], x))) expect_identical(related_pairs(layer, square)$x, inside(layer))
})
