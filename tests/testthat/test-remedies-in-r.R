# The code in backticks of each message, run as it stands: it works, and the message does not come again.

# What an expression signals, in one text: its error, or all its warnings and accounts.
signals_of <- function(expr, env) {
  withr::local_options(civicatlas.quiet = FALSE)
  told <- character()
  add <- function(cnd) told <<- c(told, cli::ansi_strip(conditionMessage(cnd)))
  value <- withCallingHandlers(tryCatch(eval(expr, env), error = function(e) add(e)), warning = function(w) {
    add(w)
    invokeRestart("muffleWarning")
  }, message = function(m) {
    add(m)
    invokeRestart("muffleMessage")
  })
  list(text = gsub("\\s+", " ", paste(told, collapse = " ")), value = value)
}

remedy_in <- function(text, pattern) {
  code <- gsub("`", "", regmatches(text, gregexpr("`[^`]+`", text))[[1]])
  found <- grep(pattern, code, value = TRUE)
  expect_gte(length(found), 1, label = paste0("remedies like ", pattern, " in \"", text, "\""))
  found[1]
}

# `expr` says `pattern` as its remedy. A remedy that is a call is run on the same layers, perhaps assigned to `to`, and one that is an argument is
# added to the call; after that the expression says it no more.
expect_mended <- function(expr, pattern, env, to = NULL) {
  code <- remedy_in(signals_of(expr, env)$text, pattern)
  parsed <- parse(text = code)[[1]]
  argument <- rlang::is_call(parsed, "=")
  if (argument) expr <- rlang::call_modify(expr, !!as.character(parsed[[2]]) := parsed[[3]])
  else if (is.null(to)) eval(parsed, env)
  else assign(to, suppressWarnings(eval(parsed, env)), env)
  after <- signals_of(expr, env)
  expect_false(grepl(paste0("`", code, "`"), after$text, fixed = TRUE), label = code)
  expect_false(is.null(after$value), label = rlang::expr_label(expr))
  after$value
}

layers_for_remedies <- function() {
  env <- new.env(parent = globalenv())
  env$x <- read_layer(demo_file("wards.shp"))
  env$rooms <- reproject_to(read_layer(demo_file("rooms.geojson")), env$x)
  env
}

# Coordinates beside the origin of a projected CRS look like degrees, which is warned of.
shapes_on <- function(crs, ...) suppressWarnings(spatial_frame(id = seq_along(c(...)), geometry = shapes_from_wkt(c(...), crs = crs)))

test_that("labels and CRSs: what is advised is what helps", {
  env <- layers_for_remedies()
  env$x <- shapes_on(4326, "POLYGON ((200 0, 210 0, 210 10, 200 10, 200 0))")
  env$y <- shapes_on(4326, "POINT (-155 5)")
  expect_mended(quote(join_where(x, y)), "cut_at_antimeridian", env)
  env$x <- shapes_on(32633, "POINT (15 50)")
  code <- remedy_in(signals_of(quote(declare_crs(x, 32633)), env)$text, "EPSG:4326")
  mended <- signals_of(parse(text = code)[[1]], env)
  expect_equal(crs_of(mended$value), crs(4326))
  expect_no_match(mended$text, "do not fit")
  env$x <- shapes_on(NULL, "POINT (15 50)")
  code <- remedy_in(signals_of(quote(reproject_to(x, 3035)), env)$text, "declare_crs")
  env$x <- eval(parse(text = sub("\u2026", "4326", code, fixed = TRUE)), env)
  expect_no_error(reproject_to(env$x, 3035))
  expect_null(crs_of(eval(parse(text = remedy_in(signals_of(quote(reproject_to(x, NULL)), env)$text, "NULL")), env)))
  env$x <- shapes_on(4326, "LINESTRING (15 50, 16 50)")
  env$x <- reproject_to(env$x, 3857)
  expect_mended(quote(add_measures(x, length = "km")), "ellipsoidal = TRUE", env)
  expect_mended(quote(add_measures(x, length = "km")), "crs_for", env, to = "x")
  env$x <- reproject_to(shapes_on(4326, "POINT (15 60)"), 3857)
  expect_mended(quote(buffer_by(x, 1000)), "reproject_to\\(x, \"EPSG", env, to = "x")
})

test_that("planar measures of longitude and latitude: the CRS that is advised has them", {
  env <- layers_for_remedies()
  env$x <- shapes_on(4326, "POLYGON ((15 50, 15.1 50, 15.1 50.1, 15 50))")
  expect_mended(quote(area_of(x, ellipsoidal = FALSE)), "reproject_to", env, to = "x") |> expect_gt(1e6)
})

test_that("tables: keys, totals and columns", {
  env <- layers_for_remedies()
  env$table <- data.frame(ward = env$x$ward_id, heat = 1)
  code <- remedy_in(signals_of(quote(join_table(x, table)), env)$text, "^by")
  expect_identical(parse(text = code)[[1]][[3]][[1]], quote(c))
  expect_true("heat" %in% names(join_table(env$x, env$table, by = c("ward_id" = "ward"))))
  env$table <- data.frame(ward_id = rep(env$x$ward_id, 2), heat = 1:48)
  expect_mended(quote(join_table(x, table, by = "ward_id")), "multiple", env)
  env$table <- data.frame(ward_id = env$x$ward_id, heat = 1)
  env$twice <- rbind(env$x, env$x)
  once <- remedy_in(signals_of(quote(join_table(twice, table, by = "ward_id")), env)$text, "^[.]once")
  env$joined <- suppressMessages(join_table(env$twice, env$table, by = "ward_id"))
  expect_identical(sum(eval(parse(text = paste0("dissolve_by(joined, ward_id, ", once, ")")), env)$heat), 24)
  env$codes <- data.frame(n = c("001", "002"), v = "1")
  code <- remedy_in(signals_of(quote(mend_numbers(codes, n)), env)$text, "mend_numbers.codes")
  expect_identical(eval(parse(text = code), env)$n, env$codes$n)
  env$either <- data.frame(n = c("1,234", "2,345"))
  expect_identical(expect_mended(quote(mend_numbers(either)), "decimal", env)$n, c(1.234, 2.345))
  env$regions <- env$x
  env$features <- dplyr::rename(env$rooms, value = seats)
  advised <- remedy_in(signals_of(quote(summarise_into(regions, features, sum(value))), env)$text, "summarise_into")
  expect_type(eval(parse(text = advised), env)$total, "integer")
  env$features <- reproject_to(read_layer(demo_file("districts.shp")), env$x)
  number <- names(Filter(is.numeric, attribute_table(env$features)))[1]
  ranks <- function(summary, ...) rlang::call2("summarise_into", quote(x), quote(features), m = summary, ...)
  text <- signals_of(ranks(rlang::call2("median", rlang::sym(number)), .share = "area"), env)$text
  total <- parse(text = remedy_in(text, "^sum"))[[1]]
  expect_type(eval(ranks(total, .share = "area"), env)$m, "double")
  mean <- parse(text = remedy_in(text, "^weighted.mean"))[[1]]
  intensive <- parse(text = remedy_in(text, "^.intensive"))[[1]]
  expect_type(eval(ranks(mean, .share = "area", .intensive = intensive[[3]]), env)$m, "double")
  pointed <- remedy_in(signals_of(quote(summarise_into(x, features, count = dplyr::n(), intensive = c(area))), env)$text, "^[.]")
  expect_identical(pointed, ".intensive = c(area)")
  expect_error(summarise_into(env$x, env$features, .shar = "area"), "[.]share", class = "civicatlas_error_choice")
})

test_that("overlays, slivers and joins", {
  env <- layers_for_remedies()
  env$y <- shapes_on(32757, "POLYGON ((0 0, 9 0, 9 9, 0 9, 0 0))", "POLYGON ((5 5, 14 5, 14 14, 5 14, 5 5))")
  env$x <- shapes_on(32757, "POLYGON ((1 1, 12 1, 12 12, 1 12, 1 1))")
  expect_mended(quote(overlay_with(x, y, keep = "union")), "flatten_layer", env, to = "y")
  env$x <- shapes_on(32757, "POLYGON ((0 0, 9 0, 9 9, 0 9, 0 0))", "POLYGON ((9 0, 18 0, 18 9, 9 9, 9 0))")
  expect_mended(quote(close_gaps(x, 100)), "force = TRUE", env)
  env$points <- shapes_on(32757, rep("POINT (1 1)", 3000))
  env$same <- shapes_on(32757, rep("POINT (1 1)", 1200))
  ties <- signals_of(quote(join_nearest(points[1:10, ], same)), env)
  code <- remedy_in(ties$text, "most_ties")
  expect_identical(nrow(eval(parse(text = paste0("join_nearest(points[1:10, ], same, ", code, ")")), env)), 12000L)
})

test_that("maps: another way to draw what was refused", {
  env <- layers_for_remedies()
  env$x$skewed <- c(rep(1:23) / 1000, 1e6)
  expect_mended(quote(choropleth_map(x, skewed, method = "equal")), "method = \"quantile\"", env)
  env$wide <- shapes_on(4326, "POLYGON ((60 10, 70 10, 70 20, 60 10))")
  env$map <- plain_map(reproject_to(env$x, 32757))
  refused <- signals_of(quote(map + map_inset(wide)), env)
  env$ward_map <- env$map
  env$x <- env$wide
  expect_s3_class(eval(parse(text = paste("ward_map +", remedy_in(refused$text, "map_inset"))), env), "ggplot")
})

test_that("files: arguments that are advised are arguments that help", {
  env <- layers_for_remedies()
  folder <- withr::local_tempdir()
  env$file <- file.path(folder, "two.gpkg")
  write_layer(env$x, env$file, layer = "wards")
  write_layer(env$rooms, env$file, layer = "rooms")
  layer <- remedy_in(signals_of(quote(read_layer(file)), env)$text, "^layer")
  expect_identical(nrow(eval(parse(text = paste0("read_layer(file, ", layer, " = \"wards\")")), env)), 24L)
  env$file <- file.path(folder, "wards.csv")
  code <- remedy_in(signals_of(quote(write_layer(rooms, file)), env)$text, "^crs = ")
  expect_true(crs_of(eval(parse(text = paste0("read_layer(file, ", code, ")")), env)) == crs_of(env$rooms))
  env$file <- file.path(folder, "rooms.wkb")
  code <- remedy_in(signals_of(quote(write_layer(rooms, file)), env)$text, "^crs = ")
  expect_true(crs_of(eval(parse(text = paste0("read_layer(file, ", code, ")")), env)) == crs_of(env$rooms))
  env$file <- file.path(folder, "cut.shp")
  write_layer(env$x, env$file)
  write_layer(env$x[1:20, ], file.path(folder, "fewer.shp"))
  file.copy(file.path(folder, "fewer.dbf"), file.path(folder, "cut.dbf"), overwrite = TRUE)
  expect_identical(nrow(expect_mended(quote(read_layer(file)), "damaged = \"skip\"", env)), 20L)
  env$file <- demo_file("rooms.geojson")
  withr::local_options(civicatlas.unpack_limit = 10)
  env$zip <- demo_file("cells.zip")
  expect_s3_class(expect_mended(quote(read_layer(zip)), "options", env), "spatial_frame")
})

test_that("permutations too few for the adjustment: the method that needs none", {
  env <- layers_for_remedies()
  cells <- outer(0:19, 0:19, function(row, column) sprintf("POLYGON ((%1$d %2$d, %3$d %2$d, %3$d %4$d, %1$d %4$d, %1$d %2$d))", column, row, column + 1L, row + 1L))
  env$around <- neighbours_of(shapes_on(32757, cells), "point")
  env$values <- as.double(row(cells) > 15 & col(cells) > 15) * 100 + seq_along(cells) %% 7
  found <- expect_mended(quote(local_clusters(values, around, permutations = 99, seed = 1)), "^method", env)
  expect_true("high" %in% found$cluster)
})

test_that("the web: what was refused comes once it is allowed as the message says", {
  env <- layers_for_remedies()
  folder <- withr::local_tempdir()
  file.copy(demo_file("rooms.geojson"), folder)
  base <- local_server("web", folder)
  withr::local_options(civicatlas.web_bytes = 1000, civicatlas.web_hosts = NULL)
  env$address <- paste0(base, "/rooms.geojson")
  expect_identical(nrow(expect_mended(quote(read_layer(address)), "^options", env)), 140L)
  env$address <- paste0(base, "/moved?to=", sub("127.0.0.1", "localhost", base), "/rooms.geojson")
  expect_identical(nrow(expect_mended(quote(read_layer(address)), "^options", env)), 140L)
})

test_that("buffers without a distance, decimal commas and workflows: what is advised works", {
  env <- layers_for_remedies()
  code <- remedy_in(signals_of(quote(buffer_by(rooms)), env)$text, "^buffer_by.rooms")
  expect_identical(nrow(eval(parse(text = code), env)), 140L)
  env$file <- withr::local_tempfile(fileext = ".csv")
  writeLines(c("a;b", "1,5;1.234", "2,5;2.500"), env$file)
  told <- signals_of(quote(read_layer(file)), env)$text
  code <- remedy_in(told, "^decimal")
  expect_identical(eval(parse(text = paste0("read_layer(file, ", code, ")")), env)$b, c(1234L, 2500L))
  env$some <- dplyr::filter(env$x, residents > 10000)
  expect_match(signals_of(quote(workflow_of(buffer_by(some, 10))), env)$text, "`keep_rows\\(\\)` chooses rows")
  env$some <- keep_rows(env$x, residents > 10000)
  expect_type(workflow_of(buffer_by(env$some, 10)), "character")
})

test_that("every file whose messages advise code is named here or in the tests of remedies beside", {
  skip_if_not(dir.exists("../../R"), "the sources are not there")
  lines <- lapply(list.files("../../R", full.names = TRUE), readLines)
  names(lines) <- list.files("../../R")
  advise <- vapply(lines, function(file) any(grepl("^(?!#).*\\bi = .*[{][.]code ", file, perl = TRUE)), NA)
  tested <- c(
    "base-conditions.R", "base-core.R", "data-antimeridian.R", "data-crs.R", "data-reproject.R", "fmt-geopackage-write.R", "fmt-shapefile.R", "io-source.R", "io-write.R",
    "verb-distortion.R", "verb-join-table.R", "verb-join.R", "verb-measure.R", "verb-mend.R", "verb-overlay.R", "verb-regions.R", "verb-slivers.R",
    "verb-summaries.R", "map-sheet.R", "verb-buffer.R", "fmt-table.R", "flow-history.R",
    "data-tiled.R", "io-tiles.R", "tile-verbs.R", "tile-layer.R", "stat-classes.R",  # these in test-tiles.R
    "stat-autocorrelation.R", "io-web.R", "flow-kept.R", "cli-run.R", "data-shapes.R"  # the last three in test-workflows.R and test-terminal.R
  )
  expect_identical(setdiff(names(lines)[advise], tested), character())
})
