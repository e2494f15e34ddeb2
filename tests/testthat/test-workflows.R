# Workflows: their language, what is told of mistakes, and runs that go on where they were.

ready <- function(name) system.file("workflows", paste0(name, ".yaml"), package = "civicatlas")

nodes <- function(...) civicatlas:::read_yaml_nodes(strsplit(paste(c(...), collapse = "\n"), "\n")[[1]])
plain <- function(node) if (node$kind == "text") node$value else lapply(node$value, plain)

test_that("the YAML of workflows is read as YAML 1.2 has it", {
  found <- plain(nodes("a: 1  # comment", "b: 'it''s # no comment'", "\"c d\": \"x\\\"y\\n\"", "e:", "  - one", "  - two: 2", "    three: 3", "  - [x, 'y, z', \"q\"]", "f: {g: 1, h: no}",
                       "i: |", "  line one", "    line two", "", "j: >-", "  folded", "  text", "k: http://a/b#c", "l:", "- same column", "m:", "n: seats > 100"))
  expect_identical(found, list(a = "1", b = "it's # no comment", "c d" = "x\"y\n", e = list("one", list(two = "2", three = "3"), list("x", "y, z", "q")), f = list(g = "1", h = "no"),
                               i = "line one\n  line two", j = "folded text", k = "http://a/b#c", l = list("same column"), m = "", n = "seats > 100"))
  told <- function(...) tryCatch(nodes(...), civicatlas_yaml_problem = function(e) c(e$line, e$column, conditionMessage(e)))
  expect_identical(told("a: 1", "\tb: 2")[1:2], c("2", "1"))
  expect_match(told("a: 1", "\tb: 2")[3], "tab")
  expect_identical(told("a: 1", "  b: 2")[1:2], c("2", "3"))
  expect_match(told("a: 1", "b")[3], "colon")
  expect_match(told("a: 1", "a: 2")[3], "twice")
  expect_match(told("a: 'x")[3], "quote is not closed")
  expect_match(told("a: [1, 2")[3], "bracket")
  expect_match(told("a: b: c")[3], "second colon")
  expect_match(told("a: &b c")[3], "cannot begin")
  expect_match(told("# nothing")[3], "empty")
})

test_that("mutated workflows are read or told, and R goes on", {
  text <- readLines(ready("out-of-reach"))
  file <- withr::local_tempfile(fileext = ".yaml")
  runs <- as.integer(Sys.getenv("CIVIC_FUZZ_RUNS", "150"))
  withr::with_seed(4, for (i in seq_len(runs)) {
    bytes <- charToRaw(paste(text, collapse = "\n"))
    at <- sample(length(bytes), 3)
    bytes[at] <- as.raw(sample(c(32:126, 9, 10), 3))
    if (i %% 3 == 0) bytes <- utils::head(bytes, at[1])
    writeBin(bytes, file)
    expect_s3_class(check_workflow(file), "tbl_df")
  })
})

write_workflow <- function(..., env = rlang::caller_env()) {
  file <- withr::local_tempfile(fileext = ".yaml", .local_envir = env)
  writeLines(c(...), file)
  file
}

test_that("all mistakes are told at once, by line and column, with what to write", {
  file <- write_workflow(
    "version: 1", "titel: x", "inputs:", "  rooms: {type: layer, shapes: point, default: rooms.geojson}", "  far: {type: number, unit: m, default: -5, least: 1}",
    "  odd: {type: nombre}", "steps:", "  reach:", "    command: bufer", "    layer: rooms", "  near:", "    command: buffer", "    layer: room", "    distance: \"{fa}\"", "    merged: yes",
    "    radius: 5", "  kept:", "    command: keep", "    layer: near", "    condition: seats > 1, kind = 'x'", "  a: {command: centroid, layer: b}", "  b: {command: centroid, layer: a}",
    "  run: {command: batch, layer: rooms}", "outputs:", "  ../out.gpkg: kept", "  out.xyz: kept", "  x.gpkg: nothing"
  )
  found <- check_workflow(file)
  lines <- function(pattern) found$line[grepl(pattern, found$problem)]
  expect_identical(lines("has no \"titel\""), 2L)
  expect_identical(lines("at least 1"), 5L)
  expect_identical(lines("no known type"), 6L)
  expect_identical(lines("no command \"bufer\""), 9L)
  expect_identical(found$remedy[grepl("bufer", found$problem)], "Nearest: buffer.")
  expect_identical(lines("no input or step \"room\""), 13L)
  expect_identical(lines("no input \\{fa\\}"), 14L)
  expect_identical(lines("true or false"), 15L)
  expect_identical(lines("has no \"radius\""), 16L)
  expect_identical(lines("a comma does not join"), 20L)
  expect_true(any(grepl("wait for each other", found$problem)))
  expect_identical(lines("no command \"batch\""), 23L)
  expect_identical(lines("does not lie in the folder"), 25L)
  expect_identical(lines("names no format"), 26L)
  expect_identical(lines("names no step"), 27L)
  expect_error(read_workflow(file), "mistakes", class = "civicatlas_error_workflow")
  for (place in c(demo_file("wards.prj"), "wards.prj", "../x", "~/x")) {
    reads <- write_workflow("version: 1", "inputs:", "  rooms: {type: layer}", "steps:", paste0("  moved: {command: reproject, layer: rooms, crs: '", place, "'}"))
    expect_match(check_workflow(reads)$problem, "not the file", info = place)
  }
  for (command in c("run", "load", "convert", "describe", "demo", "completions", "explain")) {
    calls <- write_workflow("version: 1", "inputs:", "  rooms: {type: layer}", "steps:", paste0("  one: {command: ", command, ", layer: rooms}"))
    if (command != "explain") expect_match(check_workflow(calls)$problem[1], "no command", info = command)
  }
})

test_that("the ready workflows give the numbers of R, of the command line and of the script", {
  folder <- withr::local_tempdir()
  run <- run_workflow(ready("out-of-reach"), distance = 500, folder = folder)
  wards <- read_layer(demo_file("wards.shp"))
  reach <- read_layer(demo_file("rooms.geojson")) |> reproject_to(32757) |> buffer_by(500, merged = TRUE)
  far <- erase_by(wards, reach)
  expect_identical(wkt_of(read_layer(file.path(folder, "far.gpkg"))), wkt_of(far))
  expect_identical(read_layer(file.path(folder, "far.gpkg"))$far_ha, area_of(far, "ha"))
  expect_equal(run$results$far_share$share, round(100 * area_of(far, "ha") / area_of(wards, "ha"), 1))
  expect_gt(file.size(file.path(folder, "map.png")), 5000)
  expect_identical(sum(run$steps$kept), 0L)
  log <- lapply(readLines(file.path(folder, "run.jsonl")), jsonlite::fromJSON)
  expect_identical(log[[1]]$inputs$distance, "500")
  expect_identical(vapply(log[-1], `[[`, "", "step"), run$steps$step)
  expect_match(readLines(file.path(folder, "run.log")), "reach: buffer, 140 rows in, 1 out", all = FALSE)

  skip_on_os("windows")
  other <- withr::local_tempdir()
  script <- file.path(other, "steps.sh")
  workflow_shell(ready("out-of-reach"), distance = 500, file = script)
  dir.create(bin <- file.path(other, "bin"))
  file.symlink(system.file("exec", "civicatlas", package = "civicatlas"), file.path(bin, "civicatlas"))
  done <- processx::run("bash", script, wd = other, env = c("current", PATH = paste0(bin, ":", Sys.getenv("PATH"))), error_on_status = FALSE)
  expect_identical(done$status, 0L, info = done$stderr)
  expect_identical(readLines(file.path(other, "shares.csv")), readLines(file.path(folder, "shares.csv")))
  third <- withr::local_tempdir()
  suppressMessages(expect_identical(run_command_line(c("run", ready("out-of-reach"), "--set", "distance=500", "--folder", third, "--json", "--quiet")) |> utils::capture.output() |> length() > 5, TRUE))
  expect_identical(readLines(file.path(third, "shares.csv")), readLines(file.path(folder, "shares.csv")))

  largest <- run_workflow(ready("largest-room"), folder = third)$results$largest
  rooms <- keep_where(reproject_to(read_layer(demo_file("rooms.geojson")), 32757), wards) |> keep_rows("kind IN ('library', 'school', 'sports hall')")
  expect_identical(sum(largest$seats, na.rm = TRUE), sum(pick_where(wards, rooms, seats, rank_by = seats)$seats, na.rm = TRUE))
})

test_that("a step runs again when its content changed, and only then", {
  folder <- withr::local_tempdir()
  rooms <- file.path(folder, "rooms.geojson")
  file.copy(demo_file("rooms.geojson"), rooms)
  run <- function(...) run_workflow(ready("out-of-reach"), rooms = rooms, folder = folder, ...)
  first <- run()
  times <- file.mtime(file.path(folder, c("far.gpkg", "map.png")))
  expect_identical(sum(run()$steps$kept), 9L)  # all but the picture
  expect_identical(file.mtime(file.path(folder, c("far.gpkg", "map.png"))), times)
  Sys.setFileTime(rooms, Sys.time() + 60)
  expect_identical(sum(run()$steps$kept), 9L)
  longer <- run(distance = 600)
  expect_identical(longer$steps$step[longer$steps$kept], c("on_grid", "whole", "open"))
  again <- run(from = "far")
  expect_identical(again$steps$step[again$steps$kept], c("on_grid", "whole", "open", "reach"))
  writeLines("damaged", file.path(folder, ".kept", list.files(file.path(folder, ".kept"), "rds$")[1]))
  expect_identical(run()$results$far_share$share, first$results$far_share$share)
  fewer <- read_layer(rooms)[1:50, ]
  write_layer(fewer, rooms, replace = TRUE)
  expect_identical(sum(run()$steps$kept), 1L)  # of the wards alone
  expect_gt(forget_runs(folder), 5)
  expect_identical(sum(run()$steps$kept), 0L)
  withr::local_options(civicatlas.kept_bytes = 1)
  run()
  expect_length(list.files(file.path(folder, ".kept"), "rds$"), 0)
})

test_that("inputs that do not fit are told before anything runs", {
  folder <- withr::local_tempfile()
  run <- function(...) run_workflow(ready("out-of-reach"), folder = folder, ...)
  expect_error(run(distance = "far"), "is a number \\(m\\)", class = "civicatlas_error_argument")
  expect_error(run(distance = 1e6), "at most 20000", class = "civicatlas_error_argument")
  expect_error(run(distanc = 5), "distance", class = "civicatlas_error_argument")
  expect_error(run(which = "seats >"), "ends where", class = "civicatlas_error_argument")
  expect_error(run(rooms = "nowhere.shp"), "no file", class = "civicatlas_error_argument")
  expect_false(dir.exists(folder))
  expect_error(run(rooms = demo_file("wards.shp")), "polygon", class = "civicatlas_error_argument")
  expect_error(run(rooms = dplyr::select(read_layer(demo_file("rooms.geojson")), "kind")), "seats", class = "civicatlas_error_column")
  expect_false(file.exists(file.path(folder, "run.log")))
  expect_identical(list.files(folder, "gpkg$"), character())
})

test_that("options that name files take inputs of type file, and a log that a GeoPackage has not taken in counts as content", {
  folder <- withr::local_tempdir()
  file <- write_workflow("version: 1", "inputs:", "  rooms: {type: layer}", "  grids: {type: file}", "steps:",
                         "  moved: {command: reproject, layer: rooms, crs: EPSG:32757, grids: grids}")
  expect_identical(nrow(check_workflow(file)), 0L)
  # The path has come where grids are looked for.
  expect_error(run_workflow(file, rooms = demo_file("rooms.geojson"), grids = folder, folder = folder), "No grid file", class = "civicatlas_error_workflow")
  wrong <- write_workflow("version: 1", "inputs:", "  rooms: {type: layer}", "steps:", "  moved: {command: reproject, layer: rooms, crs: EPSG:32757, grids: rooms}")
  expect_match(check_workflow(wrong)$problem, "no input of type file")
  store <- file.path(folder, "x.gpkg")
  write_layer(read_layer(demo_file("rooms.geojson")), store)
  before <- civicatlas:::key_of_input(list(type = "layer"), store)
  writeLines("new", paste0(store, "-wal"))
  expect_false(identical(civicatlas:::key_of_input(list(type = "layer"), store), before))
})

test_that("a run that is killed leaves outputs whole or absent, and the next goes on", {
  skip_on_os("windows")
  whole <- withr::local_tempdir()
  run_workflow(ready("out-of-reach"), folder = whole)
  expected <- readLines(file.path(whole, "shares.csv"))
  folder <- withr::local_tempdir()
  code <- sprintf("suppressMessages(library(civicatlas)); run_workflow(\"%s\", folder = \"%s\")", ready("out-of-reach"), folder)
  kills <- as.integer(Sys.getenv("CIVIC_KILLS", "4"))
  withr::with_seed(5, for (i in seq_len(kills)) {
    process <- processx::process$new(file.path(R.home("bin"), "Rscript"), c("-e", code))
    Sys.sleep(stats::runif(1, 0.6, 2.5))
    process$kill()
    for (file in list.files(folder, "^shares.csv$", full.names = TRUE)) expect_identical(readLines(file), expected)
    for (file in list.files(folder, "^far.gpkg$", full.names = TRUE)) expect_identical(nrow(read_layer(file)), 24L)
    if (i %% 2 == 0) forget_runs(folder)
  })
  run_workflow(ready("out-of-reach"), folder = folder)
  expect_identical(readLines(file.path(folder, "shares.csv")), expected)
})

test_that("a sweep lays the results of several values side by side", {
  folder <- withr::local_tempdir()
  found <- sweep_workflow(ready("out-of-reach"), list(distance = c(250, 500)), folder = folder)
  expect_identical(found$distance, c(250, 250, 500, 500))
  one <- run_workflow(ready("out-of-reach"), distance = 250, folder = withr::local_tempdir())
  expect_equal(found$far_ha[1], sum(one$results$measured$far_ha))
  expect_true(file.exists(file.path(folder, "distance=500", "map.png")))
  out <- utils::capture.output(code <- run_command_line(c("run", ready("out-of-reach"), "--sweep", "distance=250,500", "--folder", folder, "--quiet")))
  expect_identical(code, 0L)
  expect_match(out[1], "distance +output")
})

test_that("a report is one page with the numbers, and shows values as they are", {
  folder <- withr::local_tempdir()
  rooms <- read_layer(demo_file("rooms.geojson"))
  rooms$name[1] <- "<script>alert('x')</script> & \"more\""
  write_layer(rooms, file.path(folder, "rooms.geojson"))
  run <- run_workflow(ready("largest-room"), rooms = file.path(folder, "rooms.geojson"), which = "seats > 0 AND seats < 1000", folder = folder)
  page <- file.path(folder, "report.html")
  atlas_report(run, page)
  expect_error(atlas_report(run, page), "there already", class = "civicatlas_error_file")
  html <- xml2::read_html(page)
  expect_length(xml2::xml_find_all(html, "//script"), 1)
  expect_identical(xml2::xml_text(xml2::xml_find_first(html, "//h1")), "The largest cool room by ward")
  expect_match(xml2::xml_text(xml2::xml_find_all(html, "//section[h2 = 'What was asked']")), "seats > 0 AND seats < 1000")
  table <- xml2::xml_find_first(html, "//section[h2 = 'largest']")
  expect_length(xml2::xml_find_all(table, ".//tbody/tr"), 24)
  link <- xml2::xml_attr(xml2::xml_find_first(table, ".//a"), "href")
  csv <- utils::read.csv(text = rawToChar(jsonlite::base64_dec(sub(".*base64,", "", link))))
  expect_identical(csv$seats, run$results$largest$seats)
  expect_match(xml2::xml_text(xml2::xml_find_all(html, "//section[h2 = 'Data used']")), unname(tools::md5sum(file.path(folder, "rooms.geojson"))))
  text <- paste(readLines(page), collapse = "")
  expect_false(grepl("<script>alert", text, fixed = TRUE))
  expect_false(grepl("(src|href)=\"(?!data:)", text, perl = TRUE))  # nothing from elsewhere
  picture <- file.path(folder, "out.html")
  expect_identical(suppressMessages(run_command_line(c("run", ready("out-of-reach"), "--folder", folder, "--report", picture, "--json", "--quiet"))) |>
                     utils::capture.output() |> utils::tail(1), "[1] 0")
  expect_match(paste(readLines(picture), collapse = ""), "data:image/png;base64")
})
