# What verbs count: the same as data, as the line that is said, and in the history.

counted_by <- function(x) {
  found <- utils::tail(account_of(x), sum(account_of(x)$step == nrow(history_of(x))))
  stats::setNames(found$count, found$what)
}

test_that("what became of rows can be asked for, by step", {
  wards <- read_layer(demo_file("wards.shp"))
  rooms <- read_layer(demo_file("rooms.geojson"), where = seats > 50) |> reproject_to(wards)
  joined <- join_where(rooms, wards, unmatched = "drop")
  found <- account_of(joined)
  expect_named(found, c("step", "verb", "count", "of", "what", "fate"))
  inside <- length(unique(related_pairs(rooms, wards)$x))
  expect_identical(found$count[found$what == "matched"], as.double(inside))
  expect_identical(found$count[found$what == "unmatched"], as.double(nrow(rooms) - inside))
  expect_identical(found$fate[found$what == "unmatched"], "dropped")
  expect_identical(found$count[found$verb == "read_layer"], 140 - nrow(rooms))
  expect_identical(found$step, match(found$verb, history_of(joined)$verb))
  expect_identical(nrow(account_of(spatial_frame(a = 1, geometry = point_shapes(1, 2)))), 0L)
  expect_error(account_of(mtcars), class = "civicatlas_error_argument")
})

test_that("line and history are views of the account", {
  wards <- read_layer(demo_file("wards.shp"))
  rooms <- read_layer(demo_file("rooms.geojson")) |> reproject_to(wards)
  zone <- buffer_by(rooms[1:3, ], 2000, merged = TRUE)
  verbs <- list(
    quote(join_where(rooms, wards)), quote(pick_where(wards, rooms, take = name, rank_by = seats)), quote(clip_to(wards, zone)),
    quote(overlay_with(wards, zone, keep = "union")), quote(summarise_into(wards, rooms, n = n())), quote(dissolve_by(wards, district)),
    quote(join_nearest(rooms, wards)), quote(buffer_by(wards, -500)), quote(simplify_by(wards, 100))
  )
  wards$district <- substr(wards$ward_id, 1, 1)
  withr::local_options(civicatlas.quiet = FALSE, cli.width = 500)
  for (verb in verbs) {
    said <- character()
    out <- withCallingHandlers(eval(verb), civicatlas_message = function(message) said <<- c(said, conditionMessage(message)))
    last <- account_of(out)[account_of(out)$step == nrow(history_of(out)), ]
    words <- paste0(ifelse(is.na(last$count), "", paste0(format(last$count, big.mark = ",", trim = TRUE), " ")),
                    ifelse(last$of %in% "row" | is.na(last$of), "", paste0(ifelse(last$of == "vertex", "vertices", paste0(last$of, "s")), " ")), last$what,
                    ifelse(is.na(last$fate), "", paste0(" (", last$fate, ")")))
    line <- grep(paste0(verb[[1]], "()"), said, fixed = TRUE, value = TRUE)
    expect_length(line, 1)
    for (one in words) expect_match(line, sub("^1 (\\w+)s ", "1 \\1 ", one), fixed = TRUE)
    note <- utils::tail(history_of(out)$note, 1)
    expect_identical(if (is.na(note)) 0L else length(strsplit(note, "; ", fixed = TRUE)[[1]]), nrow(last))
  }
})

test_that("counts add up to the rows", {
  wards <- read_layer(demo_file("wards.shp"))
  rooms <- read_layer(demo_file("rooms.geojson")) |> reproject_to(wards)
  joined <- counted_by(join_where(rooms, wards))
  expect_identical(sum(joined[c("matched", "unmatched")], na.rm = TRUE), as.double(nrow(rooms)))
  summed <- counted_by(summarise_into(wards, rooms, n = n()))
  expect_identical(sum(summed[c("in one region", "in several", "in none")], na.rm = TRUE), as.double(nrow(rooms)))
  nothing <- counted_by(suppressWarnings(join_where(rooms, wards[0, ])))
  expect_identical(nothing[["matched"]], 0)
})

test_that("the account goes with a layer through a pipe, and into the answer of --json", {
  file <- withr::local_tempfile(fileext = ".geojson")
  answer <- utils::capture.output(code <- run_command_line(c("join", demo_file("rooms.geojson"), demo_file("wards.shp"), file, "--match-crs", "--json")))
  found <- jsonlite::fromJSON(answer)$account
  expect_true(all(c("step", "verb", "count", "of", "what", "fate") %in% names(found)))
  expect_identical(sum(found$count[found$what %in% c("matched", "unmatched")]), 140L)
})

test_that("a run of a workflow tells what its steps counted, each once", {
  folder <- withr::local_tempdir()
  path <- file.path(folder, "w.yaml")
  writeLines(c(
    "version: 1", "inputs:", paste0("  rooms: {type: layer, default: ", demo_file("rooms.geojson"), "}"),
    paste0("  wards: {type: layer, default: ", demo_file("wards.shp"), "}"), "steps:", "  near: {command: reproject, layer: rooms, crs: EPSG:32757}",
    "  joined: {command: join, layer: near, other: wards}", "  more: {command: compute, layer: joined, set: more = seats + 1}"
  ), path)
  for (time in 1:2) {
    run <- suppressWarnings(run_workflow(path, folder = folder))
    counted <- stats::setNames(run$steps$counted, run$steps$step)
    expect_match(counted[["joined"]], "136 matched; 4 unmatched (kept with NA)", fixed = TRUE)
    expect_identical(counted[["more"]], "")
  }
  log <- lapply(readLines(file.path(folder, "run.jsonl")), jsonlite::fromJSON)
  expect_true(any(vapply(log, function(line) identical(line$counted, counted[["joined"]]), NA)))
})
