# Layers in tiles: what comes of a verb on tiles is what comes of it on a frame of all rows, row for row and bit for bit.
cases <- as.integer(Sys.getenv("CIVIC_TILE_CASES", "3"))  # 200 by hand

star_text <- function(x, y, reach, corners) {
  angle <- sort(stats::runif(corners, 0, 2 * pi))
  far <- reach * stats::runif(corners, 0.4, 1)
  x <- x + far * cos(angle)
  y <- y + far * sin(angle)
  sprintf("POLYGON ((%s))", paste(sprintf("%.6f %.6f", c(x, x[1]), c(y, y[1])), collapse = ", "))
}

# Shapes that lie across the borders of tiles, some of them missing; `wide` has one that lies across all.
random_layer <- function(n, kind, span = 1000, wide = FALSE) {
  reach <- span / sqrt(n)
  x <- 4.2e6 + stats::runif(n, 0, span)
  y <- 3.1e6 + stats::runif(n, 0, span)
  walk <- function(from) paste(sprintf("%.6f", from + cumsum(stats::rnorm(5, 0, reach / 2))))
  texts <- switch(kind,
    points = sprintf("POINT (%.6f %.6f)", x, y),
    polygons = mapply(star_text, x, y, stats::runif(n, reach / 4, reach * 1.5), sample(3:12, n, TRUE)),
    lines = mapply(function(x, y) sprintf("LINESTRING (%s)", paste(walk(x), walk(y), collapse = ", ")), x, y)
  )
  if (wide && kind == "polygons") texts[1] <- star_text(4.2e6 + span / 2, 3.1e6 + span / 2, span, 40)
  if (n > 5 && stats::runif(1) < 0.3) texts[sample(n, 2)] <- NA
  spatial_frame(id = seq_len(n), group = sample(letters[1:5], n, TRUE), value = round(stats::rnorm(n, 10, 5), 3), whole = sample(c(1:9, NA), n, TRUE),
                geometry = shapes_from_wkt(texts, 3035))
}

in_tiles <- function(x, tiles = sample(1:7, 1), env = parent.frame()) {
  folder <- withr::local_tempfile(.local_envir = env)
  tile_up(x, folder, rows_per_tile = max(1, ceiling(nrow(x) / tiles)))
}

expect_same_layer <- function(found, wanted, exact = TRUE) {
  expect_equal(as.data.frame(attribute_table(found)), as.data.frame(attribute_table(wanted)), tolerance = 1e-9)
  if (exact) return(expect_identical(wkb_of(found), wkb_of(wanted)))
  expect_identical(is.na(found$geometry), is.na(wanted$geometry))
  expect_equal(area_of(found$geometry), area_of(wanted$geometry), tolerance = 1e-9)
  expect_equal(length_of(found$geometry), length_of(wanted$geometry), tolerance = 1e-9)
}

# Other values for names of the package.
local_binding <- function(..., env = parent.frame()) {
  values <- list(...)
  space <- asNamespace("civicatlas")
  set <- function(values) {
    for (name in names(values)) {
      (get("unlockBinding", baseenv()))(name, space)
      assign(name, values[[name]], envir = space)
    }
  }
  before <- mget(names(values), envir = space)
  withr::defer(set(before), env)
  set(values)
}

quiet <- function(expr) suppressWarnings(expr, classes = "civicatlas_warning")

each_case <- function(seed, check) {
  withr::local_options(civicatlas.quiet = TRUE)
  withr::local_seed(seed)
  for (case in seq_len(cases)) {
    kind <- c("polygons", "points", "lines")[(case - 1) %% 3 + 1]
    frame <- random_layer(sample(c(1, 3, 10, 60, 150), 1), kind, wide = stats::runif(1) < 0.3)
    other <- random_layer(sample(c(1, 5, 30, 80), 1), "polygons")
    quiet(check(list(x = in_tiles(frame), y = in_tiles(other), kind = kind, given = frame)))
  }
}

test_that("a folder of tiles is put into others, and rows that wait for the next tile hold no other shapes in memory", {
  withr::local_seed(78)
  x <- random_layer(300, "polygons")
  folder <- withr::local_tempdir()
  first <- tile_up(x, file.path(folder, "a"), rows_per_tile = 100)
  second <- tile_up(file.path(folder, "a"), file.path(folder, "b"), rows_per_tile = 40)
  expect_identical(second$source$tiles$rows, c(rep(40, 7), 20))
  expect_same_layer(dplyr::collect(second), dplyr::collect(first))
  waiting <- civicatlas:::rows_of_their_own(x, 101:300)
  expect_same_layer(waiting, x[101:300, ])
  expect_length(civicatlas:::store_of(waiting$geometry)$types, sum(!is.na(waiting$geometry)))
  expect_null(civicatlas:::rows_of_their_own(x, integer()))
})

test_that("ranges that are too large to be sorted are cut again, and nothing changes", {
  withr::local_seed(77)
  n <- 3000
  at <- function() c(stats::runif(n / 2, 0, 1000), rep(500, n / 2))  # half of them in one place
  x <- toy_frame(id = seq_len(n), name = sprintf("room %d", seq_len(n)), geometry = point_shapes(at(), at()))
  folder <- function() file.path(withr::local_tempdir(.local_envir = parent.frame(2)), "tiles")
  for (source in list(x, attribute_table(x))) {
    at_once <- tile_up(source, folder(), rows_per_tile = 40)
    again <- withr::with_options(list(civicatlas.open_files = 3), tile_up(source, folder(), rows_per_tile = 40))
    expect_identical(again$source$tiles$rows, at_once$source$tiles$rows)
    expect_identical(as.data.frame(again), as.data.frame(at_once))
  }
})

test_that("all rows are in the tiles, with their values", {
  each_case(1, function(layer) {
    x <- dplyr::collect(layer$x)
    back <- x[order(x$id), ]
    expect_identical(as.data.frame(attribute_table(back)), as.data.frame(attribute_table(layer$given)))
    expect_true(all(is.na(layer$given$geometry) | relation_of(back, layer$given) == relation_of(back, back)))
    expect_identical(nrow(layer$x), nrow(layer$given))
    expect_identical(names(layer$x), names(layer$given))
    expect_identical(unname(extent_of(layer$x)), unname(extent_of(layer$given)))
    expect_identical(dplyr::pull(layer$x, value), x$value)
    expect_identical(wkb_of(utils::head(layer$x, 3)), wkb_of(utils::head(x, 3)))
  })
})

test_that("verbs by rows give what they give of a frame", {
  limit <- 11
  verbs <- list(
    function(x) keep_rows(x, "value > 9 AND group <> 'a'"), function(x) drop_rows(x, whole > 4), function(x) dplyr::filter(x, value > limit),
    function(x) dplyr::mutate(x, twice = value * 2, .above = value > limit), function(x) dplyr::select(x, group, number = id),
    function(x) dplyr::rename(x, number = id), function(x) reproject_to(x, 4326), function(x) buffer_by(x, 20), function(x) buffer_by(x, abs(value)),
    function(x) centroid_of(x), function(x) inner_point_of(x), function(x) hull_of(x), function(x) repair_shapes(x),
    function(x) simplify_by(x, 5, keep_borders = FALSE), function(x) add_measures(x, area = "ha", perimeter = "m"),
    function(x) join_table(x, data.frame(group = letters[1:4], rank = 1:4), by = "group"), function(x) declare_crs(x, 3034)
  )
  each_case(2, function(layer) {
    x <- dplyr::collect(layer$x)
    for (verb in verbs) expect_same_layer(run_tiles(verb(layer$x)), verb(x))
  })
})

test_that("verbs on two layers give what they give of frames, whichever of them is tiled", {
  verbs <- list(
    function(x, y) if (is_tiled(y)) keep_where(x, y) else keep_rows(x, "S_INTERSECTS(geometry, places)", places = y),
    clip_to, erase_by, overlay_with, keep_where, drop_where, join_where, join_nearest,
    function(x, y) overlay_with(x, y, keep = "identity"), function(x, y) overlay_with(x, y, keep = "difference"),
    function(x, y) keep_where(x, y, "within distance", distance = 30), function(x, y) join_where(x, y, multiple = "largest"),
    function(x, y) join_nearest(x, y, count = 2), function(x, y) join_nearest(x, y, within = 40, unit = "m")
  )
  each_case(3, function(layer) {
    x <- dplyr::collect(layer$x)
    y <- dplyr::collect(layer$y)
    for (verb in verbs) {
      wanted <- verb(x, y)
      expect_same_layer(run_tiles(verb(layer$x, y)), wanted)
      expect_same_layer(run_tiles(verb(layer$x, layer$y)), wanted)
      expect_same_layer(run_tiles(verb(x, layer$y)), wanted)
    }
  })
})

test_that("summaries, picks and dissolving over tiles give what they give of a frame", {
  each_case(4, function(layer) {
    x <- dplyr::collect(layer$x)
    y <- dplyr::collect(layer$y)
    summaries <- list(
      function(x) summarise_into(y, x, n = n(), total = sum(value), mean = mean(whole, na.rm = TRUE)),
      function(x) summarise_into(y, x, middle = median(value), first = dplyr::first(id), .by = group),
      function(x) summarise_into(y, x, total = sum(value), .by = group, .form = "wide"),
      function(x) summarise_into(y, x, across(c(value, id), mean)),
      function(x) pick_where(y, x, take = c(best = id), rank_by = whole),
      function(x) pick_where(y, x, take = c(best = id, group), rank_by = value, highest = FALSE)
    )
    for (verb in summaries) expect_same_layer(run_tiles(verb(layer$x)), verb(x))
    if (layer$kind == "polygons") {
      share <- function(x) summarise_into(y, x, total = sum(value), .share = "area")
      expect_same_layer(run_tiles(share(layer$x)), share(x))
    }
    dissolve <- function(x) dissolve_by(x, group, n = n(), total = sum(value), most = max(id))
    expect_same_layer(run_tiles(dissolve(layer$x)), dissolve(x), exact = FALSE)
    expect_same_layer(run_tiles(dissolve_by(layer$x)), dissolve_by(x), exact = FALSE)
  })
})

test_that("flows and cross tables over tiles are those of the frame", {
  each_case(19, function(layers) {
    regions <- quiet(repair_shapes(dplyr::collect(layers$y)))
    flows <- tibble::tibble(from = sample(c(regions$id, 999L), 200, TRUE), to = sample(regions$id, 200, TRUE), trips = sample(40, 200, TRUE) / 4)
    tiled <- in_tiles(flows)
    expect_same_layer(run_tiles(flows_between(regions, tiled, from, to, id, all = sum(trips), most = max(trips))),
                      flows_between(regions, flows, from, to, id, all = sum(trips), most = max(trips)))
    expect_same_layer(run_tiles(flows_between(regions, tiled, from, "to", id, .group = group)), flows_between(regions, flows, from, to, id, .group = group))
    expect_identical(quiet(distance_matrix(layers$x, layers$y, names_x = id)), quiet(distance_matrix(dplyr::collect(layers$x), dplyr::collect(layers$y), names_x = id)))
    if (layers$kind != "polygons") return()
    whole <- repair_shapes(dplyr::collect(layers$x))
    wanted <- cross_table(whole, regions, group, whole, unit = "m2")
    for (y in list(regions, in_tiles(regions))) expect_equal(run_tiles(cross_table(repair_shapes(layers$x), y, group, whole, unit = "m2")), wanted)
    expect_error(cross_table(whole, in_tiles(regions), group, whole), "let x be in tiles too")
  })
  tiled <- quiet(in_tiles(tibble::tibble(from = 1:4, to = c(2L, 2L, 1L, 1L), trips = 1:4), 2))
  regions <- random_layer(2, "polygons")
  withr::local_options(civicatlas.quiet = FALSE)
  told <- testthat::capture_messages(quiet(run_tiles(flows_between(regions, tiled, from, to, id, trips = sum(trips)))))
  expect_match(told[1], "4 rows, 2 pairs: 1 pair within one region, 2 with a region that is not there")
})

test_that("chains give what they give of frames, where shapes are cut after they changed too", {
  each_case(5, function(layer) {
    x <- dplyr::collect(layer$x)
    y <- dplyr::collect(layer$y)
    chain <- function(x, y) x |> keep_rows("value > 5") |> buffer_by(10) |> clip_to(buffer_by(y, 15)) |> dplyr::mutate(a = value + 1)
    expect_same_layer(run_tiles(chain(layer$x, layer$y)), chain(x, y))
    twice <- function(x, y) {
      near <- function(distance) buffer_by(y, distance)
      x |> keep_where(near(30)) |> drop_where(near(2))
    }
    expect_same_layer(run_tiles(twice(layer$x, layer$y)), twice(x, y))
    whole <- function(x, y) x |> buffer_by(10) |> dissolve_by(group) |> keep_rows("group <> 'b'") |> clip_to(y)
    expect_same_layer(run_tiles(whole(layer$x, layer$y)), whole(x, y), exact = FALSE)
  })
})

test_that("tiles across the antimeridian find their neighbours, and distances on the ellipsoid theirs", {
  withr::local_options(civicatlas.quiet = TRUE)
  withr::local_seed(6)
  turned <- function(lon) ifelse(lon > 180, lon - 360, lon)
  points <- function(n) spatial_frame(id = seq_len(n), geometry = point_shapes(turned(stats::runif(n, 178, 182)), stats::runif(n, -20, -16), 4326))
  x <- in_tiles(points(60), 5)
  y <- in_tiles(points(40), 4)
  expect_same_layer(run_tiles(join_nearest(x, y)), join_nearest(dplyr::collect(x), dplyr::collect(y)))
  near <- function(x, y) keep_where(x, y, "within distance", distance = 20, unit = "km")
  expect_same_layer(run_tiles(near(x, y)), near(dplyr::collect(x), dplyr::collect(y)))
  single <- tile_up(points(12), withr::local_tempfile(), rows_per_tile = 1)
  frame <- dplyr::collect(single)
  expect_gt(extent_of(frame)[["xmin"]], extent_of(frame)[["xmax"]])
  expect_identical(extent_of(single), extent_of(frame))
  expect_equal(extent_of(keep_rows(single, id > 2)), extent_of(keep_rows(frame, id > 2)))
  expect_match(paste(format(single), collapse = " "), "extent  x 178[.0-9]* to -178", perl = TRUE)
})

test_that("merged buffers, bands and parts over tiles are those of the frame", {
  withr::local_options(civicatlas.quiet = TRUE)
  withr::local_seed(41)
  same_ground <- function(a, b) {
    expect_identical(names(a), names(b))
    expect_equal(area_of(a), area_of(b), tolerance = 1e-9)
    expect_equal(area_of(overlay_with(a, b, "symmetric difference")) |> sum(), 0, tolerance = 1e-6 * sum(area_of(a)))
    expect_true(all(check_shapes(a)$valid))
  }
  for (kind in c("points", "polygons")) {
    x <- in_tiles(repair_shapes(random_layer(60, kind)), 4)
    frame <- dplyr::collect(x)
    same_ground(run_tiles(buffer_by(x, 30, merged = TRUE)), buffer_by(frame, 30, merged = TRUE))
    bands <- run_tiles(bands_around(x, c(20, 50)))
    expect_identical(bands[c("from", "to")], bands_around(frame, c(20, 50))[c("from", "to")])
    expect_equal(area_of(bands), area_of(bands_around(frame, c(20, 50))), tolerance = 1e-9)
    within <- buffer_by(frame[1:5, ], 40, merged = TRUE)
    expect_equal(area_of(run_tiles(bands_around(x, 30, within = within))), area_of(bands_around(frame, 30, within = within)), tolerance = 1e-9)
    expect_same_layer(run_tiles(parts_of(x)), parts_of(frame))
  }
  none <- run_tiles(buffer_by(keep_rows(x, id < 0), 30, merged = TRUE))
  expect_identical(wkt_of(none), wkt_of(buffer_by(frame[0, ], 30, merged = TRUE)))
})

test_that("what cannot be done on tiles says how it can be done", {
  withr::local_options(civicatlas.quiet = TRUE)
  x <- tile_up(read_layer(demo_file("wards.shp")), withr::local_tempfile(), rows_per_tile = 10)
  for (verb in list(absorb_slivers, flatten_layer, refresh_measures, account_of, history_of, workflow_of, check_shapes, area_of)) {
    expect_error(verb(x), "dplyr::collect", class = "civicatlas_error_argument")
  }
  expect_error(stack_layers(x, x), "dplyr::collect", class = "civicatlas_error_argument")
  expect_error(class_breaks(x), "dplyr::pull", class = "civicatlas_error_argument")
  expect_length(class_breaks(dplyr::pull(x, residents), 3), 4)
  expect_identical(summary(x)$rows, describe_layer(x)$rows)
  grDevices::pdf(NULL)
  withr::defer(grDevices::dev.off())
  expect_s3_class(plot(x, residents), "ggplot")
})

# --- making tiles --------------------------------------------------------------------------------------------------------

test_that("sources of all formats are streamed, and tiles are balanced and along the curve", {
  withr::local_options(civicatlas.quiet = TRUE)
  withr::local_seed(7)
  local_binding(stream_bytes = 5000, batch_rows = 100L)
  frame <- random_layer(900, "points")
  frame$day <- as.Date("2026-01-01") + frame$id
  folder <- withr::local_tempdir()
  for (ending in c("shp", "gpkg", "parquet", "csv", "geojsonl", "geojson", "csv.gz", "zip")) {
    file <- file.path(folder, paste0("layer.", ending))
    quiet(write_layer(frame, file))
    wanted <- quiet(read_layer(file))
    tiled <- quiet(tile_up(file, file.path(folder, paste0("tiles-", sub("[.]", "-", ending))), rows_per_tile = 250))
    expect_equal(tiled$source$tiles$rows, c(250, 250, 250, 150), info = ending)
    found <- dplyr::collect(tiled)
    found <- found[order(found$id), ]
    expect_equal(as.data.frame(attribute_table(found)), as.data.frame(attribute_table(wanted)), info = ending)
    expect_identical(wkb_of(found), wkb_of(wanted), info = ending)
  }
  area <- with(tiled$source$tiles, sum((xmax - xmin) * (ymax - ymin)))
  whole <- extent_of(tiled)
  expect_lt(area, 2 * (whole[["xmax"]] - whole[["xmin"]]) * (whole[["ymax"]] - whole[["ymin"]]))  # rows in their order would have 4 times the whole
})

test_that("a column of several types becomes text where they do not fit, and one that is missing in places stays", {
  withr::local_options(civicatlas.quiet = TRUE)
  local_binding(stream_bytes = 64)
  folder <- withr::local_tempdir()
  lines <- c("{\"type\":\"Feature\",\"properties\":{\"a\":1,\"b\":0.1},\"geometry\":{\"type\":\"Point\",\"coordinates\":[1,2]}}",
             "{\"type\":\"Feature\",\"properties\":{\"a\":\"x\",\"c\":true},\"geometry\":{\"type\":\"Point\",\"coordinates\":[2,2]}}",
             "{\"type\":\"Feature\",\"properties\":{\"a\":2.5,\"b\":7},\"geometry\":null}")
  writeLines(lines, file.path(folder, "l.geojsonl"))
  expect_warning(tiled <- tile_up(file.path(folder, "l.geojsonl"), file.path(folder, "tiles")), "became text")
  found <- dplyr::collect(tiled)
  expect_identical(sort(found$a), c("1", "2.5", "x"))
  expect_identical(found$b[match(c("1", "x", "2.5"), found$a)], c(0.1, NA, 7))
  expect_identical(found$c[match(c("1", "x", "2.5"), found$a)], c(NA, TRUE, NA))
  expect_identical(sum(is.na(found$geometry)), 1L)
})

test_that("all rows in one place, no rows, and tables without shapes make tiles", {
  withr::local_options(civicatlas.quiet = TRUE)
  same <- spatial_frame(id = 1:100, geometry = point_shapes(rep(4e6, 100), rep(3e6, 100), 3035))
  tiled <- quiet(in_tiles(same, 4))
  expect_equal(tiled$source$tiles$rows, rep(25, 4))
  expect_identical(dplyr::collect(tiled)$id, 1:100)
  none <- quiet(in_tiles(same[0, ], 1))
  expect_identical(nrow(none), 0L)
  expect_identical(nrow(dplyr::collect(none)), 0L)
  expect_identical(nrow(run_tiles(buffer_by(none, 5))), 0L)
  expect_identical(sum(run_tiles(summarise_into(buffer_by(same[1, ], 5), none))$count), 0L)
  table <- in_tiles(data.frame(a = 1:10, b = letters[1:10]), 3)
  expect_identical(dplyr::collect(keep_rows(table, "a > 8"))$b, c("i", "j"))
})

test_that("tiles of many vertices have fewer rows", {
  withr::local_options(civicatlas.quiet = TRUE)
  withr::local_seed(19)
  large <- mapply(star_text, 4.2e6 + 1:8, 3.1e6, 50, 3000)
  frame <- spatial_frame(id = 1:408, geometry = shapes_from_wkt(c(large, sprintf("POINT (%d 3100900)", 4.2e6 + 1:400)), 3035))
  tiled <- tile_up(frame, withr::local_tempfile(), rows_per_tile = 400, memory = 8e5)
  rows <- dplyr::collect(tiled)
  expect_setequal(rows$id, frame$id)
  expect_gt(nrow(tiled$source$tiles), 4)
  expect_lt(max(tiled$source$tiles$bytes), 3e5)
})

test_that("an outlier does not put all others into one tile", {
  withr::local_options(civicatlas.quiet = TRUE)
  withr::local_seed(8)
  frame <- random_layer(400, "points")
  frame$geometry[1] <- point_shapes(1e15, 1e15, 3035)
  tiles <- quiet(in_tiles(frame, 4))$source$tiles
  ordinary <- tiles[tiles$xmax < 1e14, ]
  expect_gte(nrow(ordinary), 3)
  expect_lt(max(with(ordinary, (xmax - xmin) * (ymax - ymin))), 0.8 * 1000^2)
})

test_that("windows and conditions read the tiles that they need, and no others", {
  withr::local_options(civicatlas.quiet = TRUE)
  withr::local_seed(9)
  frame <- random_layer(400, "points")
  folder <- withr::local_tempfile()
  tiled <- tile_up(frame, folder, rows_per_tile = 50)
  window <- c(4.2e6, 3.1e6, 4.2e6 + 100, 3.1e6 + 100)
  for (k in which(tiled$source$tiles$xmin > window[3] | tiled$source$tiles$ymin > window[4])) {
    path <- file.path(folder, tiled$source$tiles$file[k])
    bytes <- readBin(path, "raw", file.size(path))
    writeBin(rev(bytes), path)  # as long, and no Parquet file
  }
  x <- core_boxes(handles_of(frame$geometry), store_of(frame$geometry))[1, ]
  y <- core_boxes(handles_of(frame$geometry), store_of(frame$geometry))[2, ]
  inside <- which(x >= window[1] & x <= window[3] & y >= window[2] & y <= window[4])
  expect_identical(sort(dplyr::collect(read_layer(folder, within = window))$id), frame$id[inside])
  expect_error(dplyr::collect(read_layer(folder)), "tile-0000")
})

test_that("the window of a layer holds where it is the other layer, over the antimeridian, and for the extent after steps", {
  withr::local_options(civicatlas.quiet = TRUE)
  withr::local_seed(20)
  folder <- withr::local_tempfile()
  y <- tile_up(random_layer(300, "polygons"), folder, rows_per_tile = 60)
  x <- in_tiles(random_layer(80, "points"), 3)
  window <- c(4.2e6 + 200, 3.1e6 + 200, 4.2e6 + 500, 3.1e6 + 500)
  windowed <- read_layer(folder, within = window)
  inside <- dplyr::collect(windowed)
  expect_gt(nrow(inside), 5)
  expect_lt(nrow(inside), 150)
  expect_same_layer(quiet(run_tiles(join_where(x, windowed))), quiet(join_where(dplyr::collect(x), inside)))
  expect_false(hash_of_run(windowed) == hash_of_run(read_layer(folder, within = window + 1)))
  expect_identical(extent_of(buffer_by(x, 50)), extent_of(buffer_by(dplyr::collect(x), 50)))
  lon <- c(179.5, -179.5, 170, -170, 0)
  globe <- withr::local_tempfile()
  tile_up(spatial_frame(id = 1:5, geometry = point_shapes(lon, rep(0, 5), 4326)), globe, rows_per_tile = 2)
  expect_setequal(dplyr::collect(read_layer(globe, within = c(179, -1, -179, 1)))$id, 1:2)
  expect_setequal(dplyr::collect(read_layer(globe, within = c(-1, -1, 1, 1)))$id, 5L)
})

test_that("conditions read the tiles alone that they may hold for, and choose the rows of a frame", {
  withr::local_options(civicatlas.quiet = TRUE)
  withr::local_seed(25)
  x <- spatial_frame(east = 1:400 / 7, n = sample(c(1:50, NA), 400, TRUE), day = as.Date("2026-01-01") + 1:400, kind = rep(c("a", "b"), 200),
                     geometry = point_shapes(4.2e6 + 1:400, 3.1e6 + runif(400), 3035))
  folder <- withr::local_tempfile()
  tile_up(x, folder, rows_per_tile = 25)
  tiled <- read_layer(folder)
  x <- dplyr::collect(tiled)
  needed <- function(layer) civicatlas:::tiles_in(civicatlas:::tiles_needed(layer))
  least <- 30
  few <- list(
    keep_rows(tiled, "east BETWEEN 20 AND 25"), dplyr::filter(tiled, east > least, kind == "a", east <= 35), keep_rows(tiled, "12 > east AND n IS NOT NULL"),
    keep_rows(drop_rows(tiled, "n = 3"), east == 30), keep_rows(tiled, "east = 10"), keep_rows(tiled, east < -1), dplyr::filter(tiled, (east >= 50) & n > 3)
  )
  for (layer in few) expect_lte(needed(layer), 6)
  east <- 1e6  # a variable of the name of a column, which later steps leave out
  expect_identical(needed(dplyr::select(dplyr::filter(tiled, n > east), n)), 16L)
  all <- list(
    keep_rows(tiled, "east < 3 OR n > 3"), dplyr::filter(tiled, east + 0 < 3), drop_rows(tiled, "east < 3"), dplyr::filter(dplyr::mutate(tiled, east = -east), east < -50),
    dplyr::filter(dplyr::rename(tiled, other = east, east = n), east > 49), dplyr::filter(tiled, day > as.Date("2026-12-31")), keep_rows(tiled, "east <> 3")
  )
  for (layer in all) expect_identical(needed(layer), 16L)
  same <- list(
    keep_rows(x, "east BETWEEN 20 AND 25"), dplyr::filter(x, east > least, kind == "a", east <= 35), keep_rows(x, "12 > east AND n IS NOT NULL"),
    keep_rows(drop_rows(x, "n = 3"), east == 30), keep_rows(x, "east = 10"), keep_rows(x, east < -1), dplyr::filter(x, (east >= 50) & n > 3)
  )
  for (i in seq_along(few)) expect_same_layer(quiet(run_tiles(few[[i]])), same[[i]])
  for (edge in sample(x$east, 20)) {
    for (relation in c("<", "<=", "=", ">=", ">")) {
      text <- sprintf("east %s %.17g", relation, edge)
      expect_identical(nrow(quiet(run_tiles(keep_rows(tiled, text)))), nrow(keep_rows(x, text)), info = text)
    }
  }
  regions <- spatial_frame(id = 1L, geometry = shapes_from_wkt("POLYGON ((4199000 3099000, 4300000 3099000, 4300000 3200000, 4199000 3200000, 4199000 3099000))", 3035))
  expect_identical(quiet(run_tiles(summarise_into(regions, keep_rows(tiled, "east > 1000"), count = n())))$count, 0L)
})

test_that("summaries of shares ask for what is shared", {
  withr::local_options(civicatlas.quiet = TRUE)
  withr::local_seed(21)
  x <- in_tiles(random_layer(60, "polygons"), 4)
  y <- random_layer(10, "polygons")
  share <- function(x) quiet(summarise_into(y, x, mean = weighted.mean(value, .shared), .share = "area", .intensive = value))
  expect_same_layer(quiet(run_tiles(share(x))), share(dplyr::collect(x)))
})

test_that("folders that others made are opened, in groups of rows", {
  skip_if_not_installed("nanoparquet")
  withr::local_options(civicatlas.quiet = TRUE)
  withr::local_seed(10)
  frame <- random_layer(60, "polygons")
  folder <- withr::local_tempdir()
  quiet(write_layer(frame[1:40, ], file.path(folder, "a.parquet")))
  quiet(write_layer(frame[41:60, ], file.path(folder, "b.parquet")))
  tiled <- read_layer(folder)
  expect_identical(nrow(tiled), 60L)
  expect_identical(dplyr::collect(tiled)$id, frame$id)
  expect_false(anyNA(tiled$source$tiles$xmin))
  quiet(write_layer(frame["id"], file.path(folder, "c.parquet")))
  expect_error(read_layer(folder), "another schema")
})

# --- runs ----------------------------------------------------------------------------------------------------------------

test_that("results go into folders and files of all kinds", {
  withr::local_options(civicatlas.quiet = TRUE)
  withr::local_seed(11)
  tiled <- in_tiles(random_layer(80, "polygons"), 4)
  wanted <- quiet(dplyr::collect(buffer_by(tiled, 3)))
  folder <- withr::local_tempdir()
  for (target in c("tiles", "one.gpkg", "one.parquet", "one.geojson", "one.shp", "one.csv")) {
    quiet(write_layer(buffer_by(tiled, 3), file.path(folder, target)))
    found <- quiet(dplyr::collect(read_layer(file.path(folder, target))))
    expect_identical(found$id, wanted$id, info = target)
    expect_error(write_layer(tiled, file.path(folder, target)), "is there already", info = target)
    quiet(write_layer(keep_rows(tiled, "id < 9"), file.path(folder, target), replace = TRUE))
    expect_identical(sort(quiet(dplyr::collect(read_layer(file.path(folder, target))))$id), 1:8, info = target)
  }
  expect_identical(list.files(folder, "^[.]", all.files = TRUE, no.. = TRUE), character())
})

test_that("a run whose process is killed goes on where it was, and ends in the same result", {
  withr::local_options(civicatlas.quiet = TRUE)
  withr::local_seed(12)
  folder <- withr::local_tempdir()
  tiled <- tile_up(random_layer(3000, "polygons"), file.path(folder, "layer"), rows_per_tile = 100)
  wanted <- quiet(dplyr::collect(buffer_by(tiled, 7)))
  code <- sprintf("run_tiles(buffer_by(read_layer('%s/layer'), 7), '%s/out')", folder, folder)
  kept <- 0
  for (kill in 1:30) {
    process <- in_r(code)
    results <- file.path(folder, ".out.run")
    done <- function() length(list.files(results, "^[0-9]+[.]kept$", recursive = TRUE))
    while (process$is_alive() && done() < min(28, kept + 5)) Sys.sleep(0.005)
    if (!process$is_alive()) break
    process$kill()
    expect_false(file.exists(file.path(folder, "out")))
    expect_gte(done(), kept)
    kept <- done()
    if (kept >= 20) break
  }
  expect_gte(kept, 5)
  out <- quiet(run_tiles(buffer_by(tiled, 7), file.path(folder, "out")))
  log <- file.path(folder, ".out.run")
  expect_false(file.exists(log))
  expect_identical(wkb_of(dplyr::collect(out)), wkb_of(wanted))
})

test_that("what a run is asked for decides whether results are taken, not when it was asked", {
  withr::local_options(civicatlas.quiet = TRUE)
  withr::local_seed(13)
  tiled <- in_tiles(random_layer(50, "polygons"), 3)
  mask <- random_layer(5, "polygons")
  expect_identical(hash_of_run(clip_to(tiled, mask)), hash_of_run(clip_to(tiled, mask)))
  expect_false(hash_of_run(clip_to(tiled, mask)) == hash_of_run(clip_to(tiled, mask[1:4, ])))
  by <- function(limit) dplyr::filter(tiled, value > limit)
  expect_identical(hash_of_run(by(3)), hash_of_run(by(3)))
  expect_false(hash_of_run(by(3)) == hash_of_run(by(4)))
})

test_that("two runs into one target do not meet", {
  skip_on_os("windows")
  withr::local_options(civicatlas.quiet = TRUE)
  tiled <- in_tiles(spatial_frame(id = 1:20, geometry = point_shapes(1:20, 1:20, 3035)), 2) |> quiet()
  folder <- withr::local_tempdir()
  other <- in_r("Sys.sleep(60)")
  dir.create(file.path(folder, ".out.run"))
  writeLines(as.character(other$get_pid()), file.path(folder, ".out.run", "owner"))
  expect_error(run_tiles(tiled, file.path(folder, "out")), "is being made by process")
  other$kill()
  expect_identical(nrow(run_tiles(tiled, file.path(folder, "out"))), 20L)
})

# --- daemons -------------------------------------------------------------------------------------------------------------

# What the same run gives where no daemons are set.
run_sequentially <- function(x) {
  local_binding(daemons_set = function() 0)
  quiet(run_tiles(x))
}

test_that("daemons give what one process gives, and so do those that see no folder", {
  local_daemons(2)
  withr::local_options(civicatlas.quiet = TRUE)
  withr::local_seed(14)
  tiled <- in_tiles(random_layer(150, "polygons"), 6)
  other <- in_tiles(random_layer(60, "polygons"), 3)
  regions <- dplyr::collect(other)
  works <- list(function() buffer_by(tiled, 3), function() clip_to(tiled, other), function() summarise_into(regions, tiled, n = n(), total = sum(value)),
                function() dissolve_by(tiled, group))
  here <- lapply(works, function(work) run_sequentially(work()))
  for (shared in c(TRUE, FALSE)) {
    withr::local_options(civicatlas.no_shared_folder = !shared)
    for (i in seq_along(works)) expect_same_layer(quiet(run_tiles(works[[i]]())), here[[i]])
    folder <- withr::local_tempfile()
    expect_identical(wkb_of(dplyr::collect(quiet(run_tiles(works[[1]](), folder)))), wkb_of(here[[1]]))
  }
})

test_that("a tile whose daemon is killed is done by another, once", {
  skip_on_os("windows")
  local_daemons(3)
  withr::local_options(civicatlas.quiet = TRUE)
  withr::local_seed(15)
  tiled <- in_tiles(random_layer(2000, "polygons"), 40)
  wanted <- run_sequentially(buffer_by(tiled, 5))
  processes <- unlist(lapply(mirai::everywhere(Sys.getpid()), function(m) m[]))
  killer <- in_r(sprintf("Sys.sleep(0.3); tools::pskill(%d, 9); Sys.sleep(0.3); tools::pskill(%d, 9)", processes[1], processes[2]))
  found <- quiet(run_tiles(buffer_by(tiled, 5)))
  killer$wait()
  expect_same_layer(found, wanted)
})

test_that("a tile that is more than a daemon's share goes out in pieces, and nothing changes", {
  local_daemons(3)
  withr::local_options(civicatlas.quiet = TRUE)
  withr::local_seed(17)
  folder <- withr::local_tempdir()
  large <- random_layer(900, "polygons")
  write_layer(large, file.path(folder, "large.parquet"))
  write_layer(random_layer(30, "polygons"), file.path(folder, "small.parquet"))
  tiled <- quiet(read_layer(folder))
  regions <- random_layer(40, "polygons")
  works <- list(
    function() buffer_by(tiled, 3), function() summarise_into(regions, tiled, n = n(), total = sum(value), most = max(whole)),
    function() dissolve_by(tiled, group, total = sum(value)), function() join_nearest(tiled, regions), function() clip_to(tiled, regions)
  )
  task <- function(work) list(layer = work())
  cut <- vapply(works, function(work) length(jobs_of_tiles(task(work), 1:2, 3)) > 2, NA)
  expect_identical(cut, c(TRUE, TRUE, TRUE, TRUE, FALSE))  # what is cut with its neighbours needs these
  for (shared in c(TRUE, FALSE)) {
    withr::local_options(civicatlas.no_shared_folder = !shared)
    for (work in works) expect_same_layer(quiet(run_tiles(work())), run_sequentially(work()), exact = !"dissolve_by" %in% all.names(body(work)))
    target <- withr::local_tempfile()
    quiet(run_tiles(buffer_by(tiled, 3), target))
    expect_identical(wkb_of(quiet(dplyr::collect(read_layer(target)))), wkb_of(run_sequentially(buffer_by(tiled, 3))))
  }
  at <- 4.2e6 + 20 * 1:900
  squares <- sprintf("POLYGON ((%1$d 0, %2$d 0, %2$d 9, %1$d 9, %1$d 0))", at, at + 9)
  squares[700] <- "POLYGON ((0 0, 9 9, 9 0, 0 9, 0 0))"
  write_layer(spatial_frame(id = 1:900, geometry = shapes_from_wkt(squares, 3035)), file.path(folder, "large.parquet"), replace = TRUE)
  write_layer(spatial_frame(id = 1:30, geometry = shapes_from_wkt(squares[1:30], 3035)), file.path(folder, "small.parquet"), replace = TRUE)
  told <- testthat::capture_warnings(run_tiles(buffer_by(read_layer(folder), 3)))
  told <- gsub("\n", " ", grep("counted from row", told, value = TRUE))
  expect_length(told, 1)
  row <- as.integer(sub(".*First rows?: ([0-9]+);.*", "\\1", told))
  expect_identical(as.integer(sub(".*counted from row ([0-9]+).*", "\\1", told)) + row - 1L, 700L)
})

test_that("a tile that takes far longer than others is shared out among those who are idle", {
  tiled <- quiet(tiles_of_frame(spatial_frame(id = 1:9, geometry = point_shapes(1:9, 1:9, 3035)), 3))
  running <- function(job, since) list(c(job, list(started = clock() - since)))
  again <- function(...) jobs_again(list(seconds = c(0.1, 0.2), running = c(...)), list(layer = tiled), 4)
  whole <- jobs_of_tile(2, 1)[[1]]
  pieces <- jobs_of_tile(3, 2)
  expect_identical(again(running(whole, 5), running(jobs_of_tile(1, 1)[[1]], 0)), jobs_of_tile(2, 4))
  expect_identical(again(running(pieces[[1]], 5), running(pieces[[2]], 0)), pieces[1])
  expect_null(again(running(whole, 5), running(whole, 0)))
  expect_null(again(running(whole, 5), running(jobs_of_tile(2, 4)[[3]], 0)))
  expect_null(again(running(whole, 0)))
})

test_that("daemons of another version are refused by name, and errors in one name the tile", {
  local_daemons(1)
  withr::local_options(civicatlas.quiet = TRUE)
  x <- spatial_frame(id = 1:20, geometry = point_shapes(4e6 + 1:20, 3e6 + 1:20, 3035))
  tiled <- tile_up(x, withr::local_tempfile(), rows_per_tile = 10)
  second <- file.path(tiled$source$folder, "tile-00002.parquet")
  writeBin(readBin(second, "raw", file.size(second) - 50), second)
  told <- expect_error(run_tiles(buffer_by(tiled, 5)), "failed at tile 2")
  expect_match(gsub("\\s+", " ", conditionMessage(told)), "The work on .?tile-00002.parquet.? failed.*missing or damaged")
  local_binding(own_version = function() "0.0.1")
  expect_error(run_tiles(buffer_by(tiled, 5)), "has version")
})

test_that("a tile that is written again by another daemon does not disturb who reads it", {
  folder <- withr::local_tempdir()
  dir.create(file.path(folder, "tiles"))
  task <- list(work = folder, numbers = FALSE)
  x <- spatial_frame(id = 1:20, geometry = point_shapes(4e6 + 1:20, 3e6 + 1:20, 3035))
  written <- civicatlas:::write_tile_of_run(x, task, 1)$tile
  path <- file.path(folder, "tiles", written$file)
  reader <- file(path, "rb")
  withr::defer(close(reader))
  civicatlas:::write_tile_of_run(x[1:2, ], task, 1)
  seen <- withr::local_tempfile()
  writeBin(readBin(reader, "raw", 2 * written$bytes), seen)
  expect_identical(unname(tools::md5sum(seen)), written$md5)
  expect_identical(list.files(folder, all.files = TRUE, no.. = TRUE, recursive = TRUE), file.path("tiles", written$file))
})

# --- bad input -----------------------------------------------------------------------------------------------------------

test_that("tiles that are missing, cut off or of another schema are named, and the rest is taken where asked", {
  withr::local_options(civicatlas.quiet = TRUE)
  withr::local_seed(16)
  folder <- withr::local_tempfile()
  tile_up(random_layer(90, "points"), folder, rows_per_tile = 30)
  first <- file.path(folder, "tile-00001.parquet")
  bytes <- readBin(first, "raw", file.size(first))
  writeBin(utils::head(bytes, 500), first)
  told <- expect_error(read_layer(folder), "tile-00001.parquet was cut off", class = "civicatlas_error_format")
  remedy <- sub(".*`(read_layer[^`]*)`.*", "\\1", gsub("\n", " ", cli::ansi_strip(conditionMessage(told))))
  expect_warning(rest <- eval(parse(text = remedy)), "tile-00001.parquet")
  expect_identical(nrow(rest), 60L)
  expect_identical(nrow(dplyr::collect(rest)), 60L)
  unlink(first)
  expect_error(read_layer(folder), "tile-00001.parquet is missing")
  writeBin(bytes, first)
  text <- grep("\"checksum\"", readLines(file.path(folder, "tiles.json"), warn = FALSE), invert = TRUE, value = TRUE)
  writeLines(sub("\"civicatlas_tiles\": 1", "\"civicatlas_tiles\": 2", text), file.path(folder, "tiles.json"))
  expect_error(read_layer(folder), "version 2")
  writeLines(text[1:4], file.path(folder, "tiles.json"))
  expect_error(read_layer(folder), "no JSON")
  writeLines(sub("tile-00002", "../tile-00002", text), file.path(folder, "tiles.json"))
  expect_error(read_layer(folder), "outside the folder")
  writeLines(sub("\"rows\": 30,", "\"rows\": 31,", text), file.path(folder, "tiles.json"))
  expect_error(read_layer(folder), "not as many rows as it says")
  writeLines(sub("\"name\": \"value\"", "\"name\": \"valu\"", text), file.path(folder, "tiles.json"))
  expect_error(dplyr::collect(read_layer(folder)), "no column \"valu\"")
})

test_that("a full disk leaves no folder behind, and the one that was there as it was", {
  skip_on_os("windows")
  folder <- withr::local_tempdir()
  code <- sprintf("x <- spatial_frame(id = 1:50000, geometry = point_shapes(1:50000, 1:50000, 3035))\ntile_up(x[1:10, ], '%s/t')\ntile_up(x, '%s/t', replace = TRUE)",
                  folder, folder)
  script <- withr::local_tempfile(fileext = ".R", lines = c("suppressWarnings(suppressMessages(library(civicatlas)))", code))
  found <- processx::run("sh", c("-c", sprintf("trap '' XFSZ; ulimit -f 400; '%s' '%s'", file.path(R.home("bin"), "Rscript"), script)), error_on_status = FALSE,
                         env = c("current", R_LIBS = paste(.libPaths(), collapse = ":")))
  expect_gt(found$status, 0)
  expect_match(found$stderr, "cannot write")
  expect_identical(list.files(folder, all.files = TRUE, no.. = TRUE), "t")
  expect_identical(nrow(quiet(read_layer(file.path(folder, "t")))), 10L)
})

test_that("what cannot be done tile by tile is refused with a way that can", {
  withr::local_options(civicatlas.quiet = TRUE)
  withr::local_seed(17)
  x <- in_tiles(random_layer(30, "polygons"), 2)
  y <- random_layer(5, "polygons")
  expect_error(overlay_with(x, y, keep = "union"), "identity")
  expect_error(overlay_with(x, y, tolerance = 5), "tile by tile")
  expect_error(simplify_by(x, 5), "keep_borders = FALSE")
  expect_error(keep_where(x, y, "disjoint"), "disjoint")
  expect_error(summarise_into(x, y), "frame")
  expect_error(dplyr::mutate(x, share = value / sum(value)), "all rows")
  for (refused in list(quote(dplyr::mutate(x, rows = dplyr::n())), quote(dplyr::mutate(x, number = dplyr::row_number())), quote(keep_rows(x, value == max(value))),
                       quote(drop_rows(x, value > mean(value))), quote(buffer_by(x, value / max(value))), quote(dplyr::filter(x, dplyr::row_number() < 3)))) {
    expect_error(eval(refused), "all rows", info = deparse(refused))
  }
  limit <- max(3, 5)
  expect_identical(dplyr::collect(keep_rows(x, value > max(limit, 4)))$id, keep_rows(dplyr::collect(x), value > 5)$id)
  refused <- expect_error(neighbours_of(x), "tiled layer")
  expect_match(conditionMessage(refused), "dplyr::collect(x)", fixed = TRUE)
  expect_s3_class(quiet(neighbours_of(dplyr::collect(x))), class(quiet(neighbours_of(y))))
  expect_error(keep_rows(x, "nothing > 1"), "nothing")
  expect_error(clip_to(x, reproject_to(y, 4326)), "CRS")
  expect_error(stack_layers(x, y), "dplyr::collect")
})

test_that("a map is drawn of simplified shapes, of which no measure is taken", {
  withr::local_options(civicatlas.quiet = TRUE)
  withr::local_seed(18)
  x <- in_tiles(random_layer(60, "polygons"), 3)
  map <- quiet(choropleth_map(x, value))
  expect_identical(nrow(map$layers[[1]]$data), sum(!is.na(dplyr::collect(x)$geometry)))
  expect_error(choropleth_map(x, value / area_of(geometry)), "geometry")
  expect_s3_class(plain_map(x), "ggplot")
  for (layer in list(x, quiet(in_tiles(reproject_to(dplyr::collect(x), 4258), 3)))) {
    drawn <- quiet(for_map(layer))
    expect_equal(quiet(sum(area_of(drawn$simplified), na.rm = TRUE)), quiet(sum(area_of(dplyr::collect(layer)), na.rm = TRUE)), tolerance = 1e-3)
  }
  expect_identical(class_breaks(dplyr::pull(x, value)), class_breaks(dplyr::collect(x)$value))
})

# --- the command line and workflows --------------------------------------------------------------------------------------

test_that("commands and workflows work on tiles as on files", {
  withr::local_options(civicatlas.quiet = TRUE)
  folder <- withr::local_tempdir()
  at <- function(name) file.path(folder, name)
  command <- function(...) {
    out <- utils::capture.output(code <- suppressMessages(run_command_line(c(..., "--quiet"))))
    expect_identical(code, 0L, info = paste(c(...), collapse = " "))
    out
  }
  cells <- mend_numbers(read_layer(demo_file("cells.zip")))
  write_layer(cells, at("cells.gpkg"))
  made <- jsonlite::fromJSON(command("tile", at("cells.gpkg"), at("cells"), "--rows-per-tile", "700", "--json"))
  expect_identical(made$rows, nrow(cells))
  expect_identical(made$tiles, 4L)
  with <- "cells = count(), people = sum(pop_total)"
  command("summarise", demo_file("wards.shp"), at("cells"), at("tiled.gpkg"), "--with", with)
  command("summarise", demo_file("wards.shp"), at("cells.gpkg"), at("whole.gpkg"), "--with", with)
  expect_identical(as.data.frame(attribute_table(read_layer(at("tiled.gpkg")))), as.data.frame(attribute_table(read_layer(at("whole.gpkg")))))
  command("compute", at("cells"), at("more"), "--set", "per_cell = pop_total / 2")
  expect_equal(sum(dplyr::pull(read_layer(at("more")), per_cell)), sum(cells$pop_total) / 2)
  command("sort", at("cells"), at("sorted.csv"), "--order", "cell_id")  # in memory
  expect_identical(quiet(read_layer(at("sorted.csv")))$cell_id, sort(cells$cell_id, method = "radix"))
  writeLines(c("version: 1", "inputs:", "  cells: {type: layer, default: cells, columns: [ward_id]}",
               paste0("  wards: {type: layer, default: ", demo_file("wards.shp"), "}"), "steps:", "  some: {command: keep, layer: cells, condition: pop_total > 100}",
               "  counted: {command: summarise, layer: wards, other: some}", "outputs:", "  counted.gpkg: counted"), at("w.yaml"))
  run_workflow(at("w.yaml"), folder = at("out"))
  expect_identical(read_layer(at("out/counted.gpkg"))$count, summarise_into(read_layer(demo_file("wards.shp")), keep_rows(cells, pop_total > 100))$count)
})

test_that("tiles are what their manifest promised, byte by byte, and none is left out", {
  skip_on_os("windows")
  folder <- file.path(withr::local_tempdir(), "tiles")
  quiet(tile_up(random_layer(90, "polygons"), folder, rows_per_tile = 30))
  first <- file.path(folder, "tile-00001.parquet")
  bytes <- readBin(first, "raw", file.size(first))
  rows <- function() nrow(quiet(dplyr::collect(read_layer(folder))))
  expect_identical(rows(), 90L)
  for (at in c(200, length(bytes) %/% 2)) {
    writeBin(replace(bytes, at, xor(bytes[at], as.raw(1))), first)
    expect_error(rows(), "checksum is another", class = "civicatlas_error")
  }
  for (at in length(bytes) - seq(10, 600, by = 17)) {  # its schema, which may become one that another reader reads
    writeBin(replace(bytes, at, xor(bytes[at], as.raw(1))), first)
    expect_error(rows(), class = "civicatlas_error")
  }
  writeBin(bytes, first)
  expect_identical(rows(), 90L)
  beside <- file.path(folder, "tile-00009.parquet")
  file.copy(first, beside)
  expect_error(rows(), "tile-00009.parquet is not in the manifest", class = "civicatlas_error_format")
  expect_warning(left <- read_layer(folder, damaged = "skip"), "not in the manifest")
  expect_identical(nrow(left), 90L)
  unlink(beside)
  manifest <- file.path(folder, "tiles.json")
  text <- readLines(manifest, warn = FALSE)
  writeLines(sub("\"xmin\": -?[0-9.]+", "\"xmin\": 0.5", text), manifest)
  expect_error(rows(), "not what was written: its checksum is another", class = "civicatlas_error_format")
  text <- grep("\"checksum\"", text, invert = TRUE, value = TRUE)  # as other programs write it
  spoilt <- function(pattern, by) {
    changed <- sub(pattern, by, text)
    expect_false(identical(changed, text), info = pattern)
    writeLines(changed, manifest)
    expect_error(rows(), class = "civicatlas_error_format", info = pattern)
  }
  secret <- withr::local_tempfile(lines = "root:x:0", fileext = ".prj")
  spoilt("\"crs\": \\{", sprintf("\"crs\": {\"code\": \"%s\"}, \"o\": {", secret))
  spoilt("\"crs\": \\{", "\"crs\": 7, \"o\": {")
  for (member in c("tiles", "columns", "ranges")) for (by in c("5", "\"x\"", "[1]")) spoilt(sprintf("\"%s\": ", member), sprintf("\"%1$s\": %2$s, \"o%1$s\": ", member, by))
  spoilt("\"shape\": ", "\"shape\": 3, \"o\": ")
  spoilt("\"xmin\": [^,]*,", "\"xmin\": \"a\",")
  spoilt("\"file\": \"tile-00002", "\"fi\": \"tile-00002")
  for (whole in c("[1]", "\"x\"", "null", "{}")) {
    writeLines(whole, manifest)
    expect_error(rows(), class = "civicatlas_error_format")
  }
  writeLines(text, manifest)
  unlink(first)
  system2("mkfifo", shQuote(first))
  expect_error(rows(), "tile-00001.parquet is missing", class = "civicatlas_error_format")
})
