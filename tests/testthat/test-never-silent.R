# What an analyst checks by hand: totals in and out, one answer whatever the company and the order of rows, and no wrong number without a warning.

quiet <- function(expr) suppressWarnings(suppressMessages(expr))

# Polygons on longitude and latitude, some of which share borders, with long edges.
random_boxes <- function(n, seed) {
  withr::with_seed(seed, {
    west <- runif(n, -170, 150)
    south <- runif(n, -80, 70)
    east <- west + runif(n, 0.5, 15)
    north <- south + runif(n, 0.5, 8)
  })
  spatial_frame(id = seq_len(n), people = seq_len(n) * 10,
                geometry = shapes_from_wkt(sprintf("POLYGON ((%1$f %2$f, %3$f %2$f, %3$f %4$f, %1$f %4$f, %1$f %2$f))", west, south, east, north), 4326))
}

random_places <- function(n, seed) {
  withr::with_seed(seed, spatial_frame(place = seq_len(n), people = seq_len(n), geometry = point_shapes(runif(n, -175, 175), runif(n, -85, 80), 4326)))
}

test_that("the nearest of a row is the same in any company, and is 0 away where a join finds it", {
  box <- spatial_frame(b = 1, geometry = shapes_from_wkt("POLYGON ((-110 38, -100 38, -100 42, -110 42, -110 38))", 4326))
  beside <- spatial_frame(i = 1:2, geometry = point_shapes(c(-105, -105), c(41.99, 42.05), 4326))
  both <- join_nearest(beside, box)
  expect_identical(both$b, c(1, 1))
  expect_identical(both$distance[2], join_nearest(beside[2, ], box)$distance)
  expect_equal(both$distance[1], 0)
  along <- point_shapes(seq(-110, -100, length.out = 4001), 42, 4326)
  expect_equal(both$distance[2], min(distance_between(beside[2, ], along)), tolerance = 1e-8)

  boxes <- random_boxes(40, 1)
  places <- random_places(60, 2)
  found <- join_nearest(places, boxes, ties = "first")
  for (i in sample(60, 12)) expect_identical(join_nearest(places[i, ], boxes, ties = "first")$distance, found$distance[i])
  order <- sample(60)
  expect_identical(join_nearest(places[order, ], boxes, ties = "first")$distance, found$distance[order])
  all <- distance_matrix(places, boxes)
  expect_equal(found$distance, unname(apply(all, 1, min)), tolerance = 1e-9)
  inside <- related_pairs(places, boxes)
  zero <- which(all == 0, arr.ind = TRUE)
  expect_setequal(paste(inside$x, inside$y), paste(zero[, 1], zero[, 2]))
  near <- related_pairs(places, boxes, "within distance", distance = 500, unit = "km")
  close <- which(all <= 5e5, arr.ind = TRUE)
  expect_setequal(paste(near$x, near$y), paste(close[, 1], close[, 2]))
})

test_that("a place lies in a buffer on longitude and latitude as far as its distance says", {
  boxes <- random_boxes(6, 3)
  reach <- buffer_by(boxes, 200, "km")
  places <- random_places(3000, 4)
  distances <- distance_matrix(places, boxes, unit = "km")
  found <- matrix(FALSE, nrow(places), nrow(boxes))
  pairs <- related_pairs(places, reach)
  found[cbind(pairs$x, pairs$y)] <- TRUE
  sure <- abs(distances - 200) > 1
  expect_identical(found[sure], (distances < 200)[sure])
  expect_gt(sum(distances > 0 & distances < 200), 10)
})

test_that("row by row, a verb gives each row what it gives it among others", {
  boxes <- quiet(reproject_to(random_boxes(12, 5), 8857))
  on_degrees <- random_boxes(12, 5)
  places <- random_places(200, 6)
  verbs <- list(
    area_of = area_of, perimeter_of = perimeter_of, centroid_of = function(x) wkt_of(centroid_of(x)), inner_point_of = function(x) wkt_of(inner_point_of(x)),
    hull_of = function(x) wkt_of(hull_of(x)), boundary_of = function(x) wkt_of(boundary_of(x)), outer_ring_of = function(x) wkt_of(outer_ring_of(x)),
    buffer_by = function(x) wkt_of(buffer_by(x, 1000)), buffer_inward = function(x) wkt_of(buffer_by(x, -1000)), cut = function(x) wkt_of(cut_at_antimeridian(x)),
    join_where = function(x) join_where(x, places, multiple = "first")$place, pick_where = function(x) pick_where(x, places, place, people)$place,
    summarise_into = function(x) summarise_into(x, places, n = n(), people = sum(people))[c("n", "people")] |> attribute_table() |> as.list(),
    nearest = function(x) join_nearest(x, places, ties = "first")$distance, check = function(x) check_shapes(x)$problem, measures = function(x) add_measures(x, area = "km2")$area_km2,
    length = function(x) length_of(boundary_of(x)), reprojected = function(x) wkt_of(reproject_to(x, 8857)), repaired = function(x) wkt_of(repair_shapes(x)),
    simplified = function(x) wkt_of(simplify_by(x, 1000, keep_borders = FALSE)), relation = function(x) relation_of(x, places[1, ]),
    kept = function(x) x$id %in% keep_where(x, places)$id, dropped = function(x) x$id %in% drop_where(x, places)$id, within_km = function(x) tabulate(related_pairs(x, places, "within distance", distance = 900, unit = "km")$x, nrow(x)),
    clipped = function(x) areas_left(clip_to(x, mask), x), erased = function(x) areas_left(erase_by(x, mask), x),
    overlaid = function(x) areas_left(overlay_with(x, mask), x), apportioned = function(x) people_left(clip_to(x, mask, apportion = people), x),
    near_equal = function(x) nearly_equal(x, on_degrees[1, ], 1e-6), largest = function(x) join_where(x, mask, multiple = "largest")$mask,
    weighted = function(x) summarise_into(x, mask, m = sum(mask), .share = "area")$m, centre_distance = function(x) distance_between(centroid_of(x), places[2, ]),
    distance = function(x) distance_between(x, places[1, ]), geometry = function(x) geometry_type_of(as_shapes(x)), text = function(x) wkt_of(x),
    binary = function(x) vapply(wkb_of(x), rlang::hash, ""), parts = function(x) tabulate(match(parts_of(x)$id, x$id), nrow(x)), azimuth = function(x) azimuth_between(centroid_of(x), places[2, ]),
    destination = function(x) wkt_of(destination_of(centroid_of(x), 45, 10000)), split = function(x) areas_left(split_by(x, mask, column = "mask"), x),
    rate = function(x) rate_of(x$people, area_of(x)), joined = function(x) join_table(x, tibble::tibble(id = 1:12, v = letters[1:12]), by = "id")$v
  )
  mask <- spatial_frame(mask = 1, geometry = shapes_from_wkt("POLYGON ((-120 -60, 100 -60, 100 55, -120 55, -120 -60))", 4326))
  # By row of x; cutting rows together leaves vertices where they cross, so that digits differ beyond the tenth.
  areas_left <- function(out, x) signif(as.vector(tapply(area_of(out), factor(out$id, x$id), sum)), 10)
  people_left <- function(out, x) signif(as.vector(tapply(out$people, factor(out$id, x$id), sum)), 10)
  attribute_table <- civicatlas:::attribute_table
  as_shapes <- civicatlas:::as_shapes
  for (name in names(verbs)) {
    all <- quiet(verbs[[name]](on_degrees))
    for (i in c(1, 5, 12)) {
      pick <- if (is.list(all)) lapply(all, `[`, i) else all[i]
      expect_identical(quiet(verbs[[name]](on_degrees[i, ])), pick, info = paste(name, i))
    }
    if (name %in% c("area_of", "buffer_by", "hull_of", "inner_point_of")) {
      all <- quiet(verbs[[name]](boxes))
      expect_identical(quiet(verbs[[name]](boxes[7, ])), all[7], info = paste(name, "in the plane"))
    }
  }
})

test_that("distortion is warned of far outside a CRS's area of use, by every verb that measures", {
  field <- spatial_frame(k = "a", geometry = shapes_from_wkt("POLYGON ((-102 37, -94.6 37, -94.6 40, -102 40, -102 37))", 4326))
  far <- quiet(reproject_to(field, 32618))
  web <- quiet(reproject_to(field, 3857))
  for (verb in list(area_of, perimeter_of, function(x) distance_between(x, x[1, ]), function(x) buffer_by(x, 1000), function(x) add_measures(x, area = "km2"))) {
    expect_warning(quietly_all_but_crs(verb(far)), "% too large", class = "civicatlas_warning_crs")
  }
  expect_warning(cross_table(web, web, k, k), "% too large", class = "civicatlas_warning_crs")
  expect_no_warning(area_of(far, ellipsoidal = TRUE))
})

test_that("shares are of totals, add up, and what has no size is told", {
  regions <- toy_frame(r = 1:2, geometry = shapes_from_wkt(c("POLYGON ((0 0, 10 0, 10 10, 0 10, 0 0))", "POLYGON ((10 0, 20 0, 20 10, 10 10, 10 0))")))
  features <- toy_frame(pop = c(10, 50, 7), rate = 5, wait = as.difftime(c(4, 2, 2), units = "mins"), k = c("a", "b", "c"),
                        geometry = shapes_from_wkt(c("POLYGON ((5 2, 15 2, 15 4, 5 4, 5 2))", "POLYGON ((1 1, 3 1, 3 3, 1 3, 1 1))", NA)))
  share <- function(...) suppressWarnings(summarise_into(regions, features, ..., .share = "area"))
  for (bad in list(quote(mean(rate)), quote(min(rate)), quote(max(rate)), quote(median(rate)), quote(my_own(rate)), quote(rate[1]), quote(.data$rate[1]))) {
    expect_error(share(v = !!bad), "shares can only be summed", class = "civicatlas_error_argument")
  }
  expect_error(share(dplyr::across(rate, mean)), "shares can only be summed")
  expect_equal(share(v = weighted.mean(rate, .shared), .intensive = rate)$v, c(5, 5))
  expect_equal(share(v = max(rate), .intensive = rate)$v, c(5, 5))
  expect_equal(share(dplyr::across(pop, sum))$pop, c(55, 5))
  expect_equal(share(dplyr::across(c(pop, rate), list(s = ~ sum(.x, na.rm = TRUE))))$pop_s, c(55, 5))
  expect_equal(share(w = sum(wait))$w, as.difftime(c(4, 2), units = "mins"))
  expect_identical(summarise_into(regions[1, ], features[2, ], dplyr::across(pop, sum), .once = k)$k, "b")
  expect_warning(summarise_into(regions, features, pop = sum(pop), .share = "area"), "1 feature without area", class = "civicatlas_warning_data")
  told <- quiet(account_of(share(pop = sum(pop))))
  expect_identical(told$count[told$what %in% c("apportioned by area", "in none", "without area")], c(2, 1))
  skip_if_not_installed("bit64")
  features$big <- getExportedValue("bit64", "as.integer64")(c(21, 2, 3))
  expect_equal(share(v = sum(big))$v, c(12.5, 10.5))
})

test_that("shares of a layer in tiles are refused where those of a frame are", {
  cells <- quiet(mend_numbers(read_layer(demo_file("cells.zip"))))
  wards <- read_layer(demo_file("wards.shp"))
  tiles <- quiet(tile_up(cells, file.path(withr::local_tempdir(), "cells"), rows_per_tile = 1000))
  expect_error(run_tiles(summarise_into(wards, tiles, m = mean(pop_total), .share = "area")), "shares can only be summed", class = "civicatlas_error_argument")
})

test_that("shares of a layer that regions cover add up to it, on longitude and latitude too", {
  grid <- expand.grid(x = seq(-180, 165, 15), y = seq(-90, 75, 15))
  cells <- spatial_frame(geometry = shapes_from_wkt(sprintf("POLYGON ((%1$d %2$d, %3$d %2$d, %3$d %4$d, %1$d %4$d, %1$d %2$d))", grid$x, grid$y, grid$x + 15, grid$y + 15), 4326))
  boxes <- random_boxes(30, 7)
  found <- quiet(summarise_into(cells, boxes, people = sum(people), .share = "area"))
  expect_equal(sum(found$people), sum(boxes$people), tolerance = 1e-12)
  pieces <- quiet(overlay_with(boxes, cells, apportion = people))
  expect_equal(sum(pieces$people), sum(boxes$people), tolerance = 1e-12)
  crossed <- quiet(cross_table(dplyr::mutate(boxes, all = "x"), dplyr::mutate(cells, every = "y"), all, every))
  expect_equal(sum(crossed$area_m2), sum(area_of(boxes)), tolerance = 1e-9)
})

test_that("what only touches a region is not counted there, unless it is asked for, by every door", {
  regions <- toy_frame(r = c("w", "e"), geometry = shapes_from_wkt(c("POLYGON ((0 0, 10 0, 10 10, 0 10, 0 0))", "POLYGON ((10 0, 20 0, 20 10, 10 10, 10 0))")))
  parts <- toy_frame(p = 1:3, geometry = shapes_from_wkt(c("POLYGON ((0 0, 10 0, 10 5, 0 5, 0 0))", "POLYGON ((0 5, 10 5, 10 10, 0 10, 0 5))", "POLYGON ((10 0, 20 0, 20 10, 10 10, 10 0))")))
  found <- summarise_into(regions, parts, n = n())
  expect_identical(found$n, c(2L, 1L))
  expect_identical(account_of(found)$count[account_of(found)$what == "touching other regions"], 3)
  expect_identical(summarise_into(regions, parts, n = n(), .relation = "intersects")$n, c(3L, 3L))
})

test_that("totals are apportioned by cuts, conserved and told", {
  withr::local_options(civicatlas.quiet = FALSE, cli.width = 500)
  field <- toy_frame(people = c(100L, 10L), name = c("a", "b"), geometry = shapes_from_wkt(c("POLYGON ((0 0, 10 0, 10 10, 0 10, 0 0))", "LINESTRING (20 0, 20 8)")))
  half <- toy_frame(side = "west", cars = 8, geometry = shapes_from_wkt("POLYGON ((0 0, 2.5 0, 2.5 10, 0 10, 0 0))"))
  expect_message(out <- clip_to(field, half, apportion = people), "people: 25 of 110 apportioned")
  expect_equal(out$people, 25)
  expect_equal(quiet(erase_by(field, half, apportion = people))$people, c(75, 10))
  both <- quiet(overlay_with(field, half, "union", apportion = c(people, cars)))
  expect_equal(c(sum(both$people, na.rm = TRUE), sum(both$cars, na.rm = TRUE)), c(110, 8))
  cut <- quiet(split_by(field[1, ], toy_frame(geometry = shapes_from_wkt("LINESTRING (4 -1, 4 11)")), apportion = people))
  expect_equal(sort(cut$people), c(40, 60))
  expect_error(quiet(clip_to(field, half, apportion = name)), "takes columns of totals", class = "civicatlas_error_argument")
  expect_identical(quiet(clip_to(field, half))$people, 100L)
})

test_that("centroids on longitude and latitude are those on the ellipsoid", {
  cap <- shapes_from_wkt("POLYGON ((-60 60, 60 60, 60 84, -60 84, -60 60))", 4326)
  at <- coordinates_of(centroid_of(cap))
  # The mean of places spread evenly over the shape, on the sphere.
  withr::with_seed(1, {
    lon <- runif(4e5, -60, 60)
    lat <- asin(runif(4e5, sin(60 * pi / 180), sin(84 * pi / 180))) * 180 / pi
  })
  mean_of <- c(mean(cos(lat * pi / 180) * cos(lon * pi / 180)), mean(sin(lat * pi / 180)))
  expect_equal(at$x, 0, tolerance = 1e-9)
  expect_lt(abs(at$y - atan2(mean_of[2], mean_of[1]) * 180 / pi), 0.35)
  expect_lt(coordinates_of(centroid_of(shapes_from_wkt("POLYGON ((0 0, 2 0, 2 2, 0 2, 0 0))", 4326)))$y - 1, 1e-3)
  across <- coordinates_of(centroid_of(shapes_from_wkt("MULTIPOLYGON (((178 0, 180 0, 180 2, 178 2, 178 0)), ((-180 0, -178 0, -178 2, -180 2, -180 0)))", 4326)))
  expect_equal(abs(across$x), 180, tolerance = 1e-9)
})

test_that("a history knows of changes by other means, and no workflow leaves them out", {
  wards <- read_layer(demo_file("wards.shp"))
  some <- dplyr::filter(wards, residents > 10000)
  out <- buffer_by(some, 100)
  expect_match(utils::tail(history_of(out)$note, 1), "24 rows had become")
  expect_error(workflow_of(out), "24 rows had become", class = "civicatlas_error_workflow")
  expect_error(workflow_of(dplyr::arrange(buffer_by(wards, 100), residents)), "another order", class = "civicatlas_error_workflow")
  expect_error(workflow_of(buffer_by(dplyr::mutate(wards, residents = 0), 100)), "columns had been changed.*residents", class = "civicatlas_error_workflow")
  expect_error(workflow_of(clip_to(wards, buffer_by(some, 100))), "24 rows had become", class = "civicatlas_error_workflow")
  expect_match(workflow_of(buffer_by(keep_rows(wards, residents > 10000), 100)), "residents > 10000", all = FALSE)
})

test_that("tables are read as R and spreadsheets write them", {
  file <- withr::local_tempfile(fileext = ".csv")
  lines <- function(...) writeLines(c(...), file)
  lines("\"lon\",\"lat\",\"n\",\"day\",\"code\"", "1,2,NA,2020-01-01,\"NA\"", "NA,3,5,NA,\"x\"")
  out <- quiet(read_layer(file))
  expect_identical(list(out$n, out$day, out$code, is.na(out$geometry)), list(c(NA, 5L), as.Date(c("2020-01-01", NA)), c("NA", "x"), c(FALSE, TRUE)))
  lines("lon,lat,n")
  expect_warning(empty <- read_layer(file, crs = 4326), "no rows")
  expect_s3_class(empty, "spatial_frame")
  lines("a;b", "1,5;1.234", "2,5;2.500")
  expect_warning(read_layer(file), "writes decimals with a comma", class = "civicatlas_warning_data")
  expect_identical(as.list(read_layer(file, decimal = ",")), list(a = c(1.5, 2.5), b = c(1234L, 2500L)))
  lines("Counts of 2026", "", "lon,lat,n", "1,2,-", "3,4,7")
  expect_identical(quiet(read_layer(file, skip = 2, missing = "-"))$n, c(NA, 7L))
  lines("a,b", "1,2")
  expect_warning(read_layer(file, crs = 4326), "`crs` was not used", class = "civicatlas_warning_crs")
  expect_error(read_layer(file, skip = -1), class = "civicatlas_error_argument")
})

test_that("crs_for() takes the family that distorts the layer least", {
  withr::with_seed(9, for (k in 1:60) {
    west <- runif(1, -180, 120)
    south <- runif(1, -88, 60)
    extent <- c(west, south, min(west + runif(1, 1, 160), 180), min(south + runif(1, 1, 50), 89))
    corners <- expand.grid(x = seq(extent[1], extent[3], length.out = 7), y = seq(extent[2], extent[4], length.out = 7))
    layer <- spatial_frame(geometry = point_shapes(corners$x, corners$y, 4326))
    at <- civicatlas:::places_of_layer(layer$geometry, crs(4326), extent)
    worst <- function(crs) civicatlas:::distortion_over(crs, at, FALSE)
    chosen <- quiet(crs_for(layer, "area"))
    laea <- crs(sprintf("PROJCS[\"x\",GEOGCS[\"WGS 84\",DATUM[\"WGS_1984\",SPHEROID[\"WGS 84\",6378137,298.257223563]],PRIMEM[\"Greenwich\",0],UNIT[\"degree\",0.0174532925199433]],PROJECTION[\"Lambert_Azimuthal_Equal_Area\"],PARAMETER[\"latitude_of_center\",%f],PARAMETER[\"longitude_of_center\",%f],PARAMETER[\"false_easting\",0],PARAMETER[\"false_northing\",0],UNIT[\"metre\",1]]",
                        mean(extent[c(2, 4)]), mean(extent[c(1, 3)])))
    if (chosen$method != "Equal Earth") expect_lte(worst(chosen), 1.03 * worst(laea))
    expect_match(chosen$method, "Equal Area|Equal Earth")
  })
  antarctic <- spatial_frame(geometry = shapes_from_wkt("MULTIPOINT ((-180 -64), (-90 -70), (0 -68), (90 -66), (180 -64), (10 -85))", 4326))
  expect_equal(quiet(crs_for(antarctic, "area"))$parameters[["latitude_of_origin"]], -90)
})

test_that("any vector, any method, any number of classes: classes rise, hold all values and have labels of their own", {
  makers <- list(
    function(n) sample(0:5, n, TRUE), function(n) rnorm(n), function(n) exp(3 * rnorm(n)), function(n) c(1e15, runif(n)), function(n) rep(0, n),
    function(n) c(rep(0, n), 1:3), function(n) 1e-12 * runif(n), function(n) 1e16 + sample(0:40, n, TRUE), function(n) c(-1e308, 1e308, runif(n)),
    function(n) 1 + sample(0:3, n, TRUE) * .Machine$double.eps, function(n) c(NA, Inf, rnorm(n)), function(n) -1e6 * rexp(n)
  )
  withr::with_seed(12, for (k in 1:400) {
    x <- sample(makers, 1)[[1]](sample(c(1, 2, 3, 5, 40), 1))
    method <- sample(civicatlas:::class_methods, 1)
    if (method == "geometric" && any(x[is.finite(x)] <= 0)) next
    breaks <- quiet(class_breaks(x, sample(12, 1), method, rounded = k %% 4 == 0))
    cuts <- as.double(breaks)
    steps <- diff(cuts)
    holds <- all(steps >= 0) && all(which(steps == 0) == 1) && sum(attr(breaks, "counts")) == sum(is.finite(x)) && !anyDuplicated(civicatlas:::class_labels(breaks))
    expect_true(holds, info = paste(method, paste(utils::head(x, 6), collapse = " ")))
  })
  expect_identical(as.double(class_breaks(c(rep(0, 50), 1:10), 4, "quantile")), c(0, 0, 4, 7, 10))
  expect_warning(class_breaks(1:10, method = "head-tail"), "one class", class = "civicatlas_warning_classes")
  expect_s3_class(quiet(draw_classes(class_breaks(c(1, 2, 3), 5, "equal"))), "ggplot")
})

test_that("values outside one's own breaks have classes of their own on a map", {
  withr::local_options(civicatlas.quiet = FALSE, cli.width = 500)
  x <- toy_frame(v = c(10, 55, 65, 90, NA), geometry = point_shapes(1:5, 1:5))
  expect_message(map <- choropleth_map(x, v, at = c(50, 60, 70)), "outside them 1 below 50, 1 over 70; 1 without data")
  expect_identical(unname(attr(map, "class_labels")), c("below 50", "50 to 60", "61 to 70", "over 70", "no data"))
  expect_identical(as.integer(map$layers[[1]]$data$.class), c(1L, 2L, 3L, 4L, NA))
})

test_that("lines and polygons are built from points in order", {
  wards <- read_layer(demo_file("wards.shp"))
  expect_identical(wkt_of(shapes_from_coordinates(coordinates_of(wards), kind = "polygon", crs = wards)), wkt_of(wards))
  walk <- data.frame(id = c("a", "b", "a", "b", "a", "c"), minute = c(3, 1, 1, 2, 2, 1), lon = c(2, 5, 0, 6, 1, 9), lat = c(0, 5, 0, 5, 1, 9))
  out <- shapes_from_coordinates(walk, by = id, order = minute, crs = 4326)
  expect_identical(wkt_of(out), c("LINESTRING (0 0, 1 1, 2 0)", "LINESTRING (5 5, 6 5)", NA))
  expect_identical(out$id, c("a", "b", "c"))
  ring <- shapes_from_coordinates(data.frame(x = c(0, 0, 4), y = c(0, 4, 0)), kind = "polygon")
  expect_identical(wkt_of(ring), "POLYGON ((0 0, 4 0, 0 4, 0 0))")
  expect_error(shapes_from_coordinates(data.frame(a = 1)), "Which columns", class = "civicatlas_error_column")
})

test_that("rates of small bases are smoothed, and intervals are exact", {
  count <- c(1, 0, 50, 3)
  base <- c(10, 20, 10000, 500)
  # Marshall (1991): the moments by hand.
  m <- sum(count) / sum(base)
  between <- max(0, sum(base * (count / base - m)^2) / sum(base) - m / mean(base))
  expected <- m + between / (between + m / base) * (count / base - m)
  expect_equal(quiet(rate_of(count, base, per = 1, smooth = "global")), expected)
  wards <- read_layer(demo_file("wards.shp"))
  near <- neighbours_of(wards)
  local <- rate_of(wards$over_65, wards$residents, per = 1, smooth = "local", neighbours = near)
  i <- c(5L, near$neighbour[near$row == 5])
  expect_equal(local[5], rate_of(wards$over_65[i], wards$residents[i], per = 1, smooth = "global")[1])
  limits <- quiet(rate_of(c(0, 10), 100, per = 1, interval = 0.95))
  expect_equal(limits$low[2], stats::poisson.test(10, 100)$conf.int[1])
  expect_equal(limits$high, c(stats::poisson.test(0, 100)$conf.int[2], stats::poisson.test(10, 100)$conf.int[2]))
  sure <- class_probability(c(50, 5000), c(500, 50000), c(0.05, 0.101, 0.2), per = 1)
  expect_lt(sure[1], sure[2])
  expect_error(rate_of(1, 10, interval = 2), class = "civicatlas_error_argument")
})

test_that("words of practitioners, names of the user's objects and expressions are understood", {
  wards <- read_layer(demo_file("wards.shp"))
  expect_error(neighbours_of(wards, "queen"), "Nearest: \"point\"", class = "civicatlas_error_choice")
  expect_error(class_breaks(1:9, 3, "jenks"), "Nearest: \"natural\"")
  expect_error(choropleth_map(wards, residents, breaks = 1:3), "Nearest: \"at\"")
  expect_no_match(conditionMessage(expect_error(choropleth_map(wards, population))), "Nearest")
  expect_error(buffer_by(wards), "buffer_by\\(wards, 400", class = "civicatlas_error_argument")
  expect_error(area_of(point_shapes(1, 2), "ha"), "into \"ha\"", class = "civicatlas_error_crs")
  expect_equal(crs("WGS84"), crs(4326))
  expect_equal(crs("utm 18n"), crs(32618))
  expect_identical(find_crs("epsg 4326")$code, "EPSG:4326")
  expect_match(find_crs("state plane new york")$name, "New York", all = FALSE)
  districts <- dissolve_by(wards, district = substr(ward_id, 1, 1), people = sum(residents))
  expect_identical(districts$district, c("0", "1", "2"))
  expect_identical(sum(districts$people), sum(wards$residents))
  expect_identical(names(dissolve_by(wards, dplyr::across(dplyr::all_of("name")), dplyr::across(c(residents, over_65), sum)))[1:3], c("name", "residents", "over_65"))
  expect_identical(nrow(as_spatial_frame(data.frame(lon = 1:2, lat = 3:4), crs = 4326)), 2L)
  expect_identical(autocorrelation_of(wards$residents, neighbours_of(wards), permutations = 99, seed = 1)$assumption, "permutation")
  expect_error(autocorrelation_of(wards$residents, neighbours_of(wards), assumption = "normality", permutations = 99), class = "civicatlas_error_argument")
  odd <- toy_frame(v = c(Inf, NaN, 1), geometry = point_shapes(1:3, 1:3, 4326))
  file <- withr::local_tempfile(fileext = ".geojson")
  expect_warning(write_layer(odd, file), "2 values Inf or NaN", class = "civicatlas_warning_data")
  plain <- tibble::as_tibble(civicatlas:::plain(wards))
  expect_error(join_where(plain, wards), "as_spatial_frame\\(plain\\)", class = "civicatlas_error_argument")
})

test_that("maps unwrap layers over the antimeridian, keep proportions on a sheet and find free corners", {
  strait <- spatial_frame(v = 1:2, geometry = shapes_from_wkt(c("POLYGON ((177 -19, 179 -19, 179 -16, 177 -16, 177 -19))",
                                                              "POLYGON ((-179 -19, -177 -19, -177 -16, -179 -16, -179 -19))"), 4326))
  map <- quiet(choropleth_map(strait, v))
  expect_lt(diff(map$coordinates$limits$x), 8)
  expect_lt(diff((map + map_view(strait[2, ]))$coordinates$limits$x), 4)
  expect_gt(min((map + map_view(strait[2, ]))$coordinates$limits$x), 180)
  arranged <- civicatlas:::arrangement(c(1, 0.25), 10, 7)
  expect_length(arranged$heights, 2)
  equal <- civicatlas:::arrangement(c(1, 1), 10, 5)
  expect_true(equal$equal && length(equal$widths) == 2)
  wards <- read_layer(demo_file("wards.shp"))
  dressed <- civicatlas:::furnished(quiet(choropleth_map(wards, residents)) + map_scale_bar() + map_north_arrow() + map_theme("dark"))
  corners <- unlist(lapply(dressed$layers, function(layer) layer$geom_params$corner))
  expect_identical(anyDuplicated(corners), 0L)
  inks <- unique(unlist(lapply(dressed$layers, function(layer) layer$geom_params$ink)))
  expect_identical(inks, civicatlas:::map_inks$dark$ink)
  dense <- withr::with_seed(1, 3.65607 + 9 * rexp(3000))
  key <- civicatlas:::class_labels(civicatlas:::map_breaks(dense, 5, "natural", NULL, NULL, TRUE, FALSE, NULL))
  expect_lte(max(nchar(key)), 12)
})

test_that("a datum without a shift is told with codes of the same area that have one", {
  here <- quiet(declare_crs(point_shapes(23, 38), 4120))
  expect_error(reproject_to(here, 4326), "EPSG:4121", class = "civicatlas_error_crs")
  expect_no_error(quiet(reproject_to(declare_crs(here, 4121), 4326)))
})
