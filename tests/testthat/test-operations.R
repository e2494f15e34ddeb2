# An operation is one record; every door does with it what the others do.

quiet <- function(expr) suppressWarnings(suppressMessages(expr))

workflow_file <- function(lines, env = rlang::caller_env()) {
  path <- withr::local_tempfile(fileext = ".yaml", .local_envir = env)
  writeLines(lines, path)
  path
}

# --- one record --------------------------------------------------------------------------------------------------------------

local_toy_operation <- function(env = rlang::caller_env()) {
  makers <- civicatlas:::operation_makers
  before <- makers$all
  civicatlas:::register_operation("shift", function() {
    civicatlas:::new_operation("Shapes", "move shapes by a distance", c("LAYER", "OUTPUT"), list(
      civicatlas:::new_option("azimuth", "number", "degrees from north", required = TRUE),
      civicatlas:::new_option("far", "number", "how far", required = TRUE, argument = "distance"), civicatlas:::unit_option("the distance")
    ), "civicatlas shift rooms.geojson moved.geojson --azimuth 90 --far 100", verb = "destination_of")
  })
  withr::defer({
    makers$all <- before
    makers$made <- makers$words <- NULL
  }, env)
}

test_that("an operation that is registered is a command, a step, a script and a remedy", {
  local_toy_operation()
  rooms <- read_layer(demo_file("rooms.geojson"))
  expected <- destination_of(rooms, 90, 2, "km")
  expect_match(civicatlas:::first_page(), "shift\tmove shapes by a distance", all = FALSE)
  expect_match(run("help", "shift")$out, "--far NUMBER +how far")
  for (text in c(civicatlas:::completions(), list(paste(civicatlas:::manual_page(), collapse = "\n")))) expect_match(paste(text, collapse = "\n"), "azimuth")
  expect_match(run("shift", "a.shp", "b.shp", "--far", "3")$err, "--azimuth is missing")
  out <- withr::local_tempfile(fileext = ".geojson")
  expect_identical(run("shift", demo_file("rooms.geojson"), out, "--azimuth", "90", "--far", "2", "--unit", "km")$code, 0L)
  expect_equal(coordinates_of(quiet(read_layer(out))), coordinates_of(expected))
  expect_identical(wkb_of(perform_command("shift", rooms, azimuth = 90, far = 2, unit = "km")), wkb_of(expected))
  path <- workflow_file(c("version: 1", "inputs:", paste0("  rooms: {type: layer, default: '", demo_file("rooms.geojson"), "'}"), "steps:",
                          "  moved: {command: shift, layer: rooms, azimuth: 90, far: 2, unit: km}"))
  expect_identical(wkb_of(run_workflow(path, folder = withr::local_tempdir())$results$moved), wkb_of(expected))
  expect_identical(utils::tail(workflow_script(path), 2)[1], "moved <- destination_of(rooms, 90, distance = 2, unit = \"km\")")
  expect_match(workflow_schema(), "\"const\": \"shift\"")
  expect_identical(civicatlas:::code_in_words("destination_of(x, distance = 5)"), "civicatlas shift LAYER OUTPUT --far 5")
})

test_that("what an option is of a verb is known of every option", {
  for (name in civicatlas:::operation_names()) {
    record <- civicatlas:::operation_record(name)
    for (verb in record$verb) {
      known <- names(formals(civicatlas:::function_of(verb)))
      taken <- unlist(lapply(record$options, function(option) option$argument[verb]))
      expect_true(all(stats::na.omit(taken) %in% c(known, "...", "result")), label = paste(name, verb, toString(taken)))
      expect_false(anyDuplicated(setdiff(stats::na.omit(taken), "...")) > 0, label = paste(name, verb))
    }
  }
  expect_error(civicatlas:::new_operation("Shapes", "x", "LAYER", list(civicatlas:::new_option("odd", "number", "x", required = TRUE)), "x", verb = "buffer_by"), "no verb takes --odd")
})

# --- every door --------------------------------------------------------------------------------------------------------------

steps <- list(
  c(command = "buffer", layer = "rooms", distance = "400", merged = "true"), c(command = "buffer", layer = "rooms", distance = "seats", unit = "ft"),
  c(command = "buffer", layer = "tram", distance = "50", ends = "flat", corners = "mitred", side = "left"), c(command = "bands", layer = "rooms", distances = "[200, 400]"),
  c(command = "simplify", layer = "wards", tolerance = "50"), c(command = "simplify", layer = "wards", tolerance = "50", "each-alone" = "true"),
  c(command = "centroid", layer = "wards"), c(command = "inner-point", layer = "wards"), c(command = "parts", layer = "wards"), c(command = "boundary", layer = "wards"),
  c(command = "flatten", layer = "reach"), c(command = "hull", layer = "rooms", merged = "true"), c(command = "hull", layer = "wards"),
  c(command = "dissolve", layer = "rooms", by = "kind", with = "n = count(), seats = sum(seats)"), c(command = "repair", layer = "districts", rule = "winding"),
  c(command = "reproject", layer = "wards", crs = "EPSG:4326"), c(command = "measure", layer = "wards", area = "ha", perimeter = "km"), c(command = "measure", layer = "tram"),
  c(command = "gaps", layer = "districts", "narrower-than" = "30"), c(command = "slivers", layer = "pieces", "narrower-than" = "30"),
  c(command = "close-gaps", layer = "districts", tolerance = "30"), c(command = "absorb", layer = "pieces", "narrower-than" = "30", into = "longest border"),
  c(command = "overlay", layer = "wards", other = "districts", pieces = "union"), c(command = "overlay", layer = "wards", other = "districts", touches = "true", apportion = "residents"),
  c(command = "clip", layer = "tram", other = "wards"), c(command = "erase", layer = "wards", other = "reach"), c(command = "split", layer = "wards", other = "tram"),
  c(command = "join", layer = "rooms", other = "wards", multiple = "first"), c(command = "join", layer = "rooms", other = "wards", nearest = "2", distance = "900"),
  c(command = "nearest", layer = "wards", other = "rooms", count = "2", distance = "2", unit = "km"), c(command = "select", layer = "rooms", other = "reach"),
  c(command = "select", layer = "rooms", other = "wards", others = "true"), c(command = "pick", layer = "wards", other = "rooms", take = "[name, seats]", "rank-by" = "seats", lowest = "true"),
  c(command = "summarise", layer = "wards", other = "rooms", with = "n = count(), seats = sum(seats)", set = "each = seats / n"),
  c(command = "summarise", layer = "districts", other = "wards", with = "residents = sum(residents)", share = "area"),
  c(command = "keep", layer = "rooms", condition = "seats > 100 AND kind <> 'school'"), c(command = "drop", layer = "rooms", condition = "seats > 100"),
  c(command = "compute", layer = "wards", set = "share = over_65 / residents, twice = share * 2"), c(command = "rename", layer = "wards", columns = "people=residents"),
  c(command = "columns", layer = "wards", keep = "[ward_id, name]"), c(command = "columns", layer = "wards", drop = "[name]"), c(command = "head", layer = "rooms", rows = "4"),
  c(command = "sample", layer = "rooms", rows = "5", seed = "3"), c(command = "sort", layer = "rooms", order = "[kind, seats]", descending = "true"),
  c(command = "rates", layer = "wards", counted = "over_65", base = "residents", per = "100"), c(command = "clusters", layer = "wards", fill = "over_65 / residents"),
  c(command = "neighbours", layer = "wards", neighbours = "point"), c(command = "relate", layer = "wards", other = "districts", relation = "overlaps"),
  c(command = "distances", layer = "wards", other = "rooms", unit = "km", names = "ward_id", "other-names" = "room_id"),
  c(command = "cross-table", layer = "wards", other = "districts", column = "ward_id", "other-column" = "district", "area-unit" = "ha"),
  c(command = "build", layer = "rooms", by = "kind", order = "room_id"), c(command = "join-table", layer = "wards", table = "heat", key = "ward_id"),
  c(command = "hull", layer = "rooms", where = "seats > 100", within = "[590000, 4740000, 600000, 4760000]")
)
names(steps) <- sprintf("step_%d", seq_along(steps))

# The layers as files, on one CRS.
local_layers <- function(env = rlang::caller_env()) {
  folder <- withr::local_tempdir(.local_envir = env)
  on_grid <- function(name, ...) quiet(reproject_to(read_layer(demo_file(name), ...), 32757))
  wards <- on_grid("wards.shp")
  districts <- on_grid("districts.shp")
  layers <- list(rooms = on_grid("rooms.geojson"), wards = wards, districts = districts, tram = on_grid("tramways.kml"),
                 pieces = quiet(overlay_with(wards, districts)), reach = quiet(buffer_by(on_grid("rooms.geojson"), 400)))
  for (name in names(layers)) quiet(write_layer(layers[[name]], file.path(folder, paste0(name, ".gpkg"))))
  file.copy(demo_file("heat.csv"), folder)
  c(stats::setNames(file.path(folder, paste0(names(layers), ".gpkg")), names(layers)), heat = file.path(folder, "heat.csv"))
}

yaml_of <- function(files, steps) {
  inputs <- sprintf("  %s: {type: layer, default: '%s'}", names(files), files)
  lines <- Map(function(step, name) c(paste0("  ", name, ":"), sprintf("    %s: %s", names(step), ifelse(grepl("^\\[", step), step, paste0("\"", step, "\"")))), steps, names(steps))
  gsub("\"(true|[0-9.]+)\"$", "\\1", c("version: 1", "inputs:", inputs, "steps:", unlist(lines)))
}

# What a door gave, without what tells the door.
content_of <- function(x) {
  if (!is.data.frame(x)) return(x)
  table <- as.list(tibble::as_tibble(x))
  lapply(table, function(column) if (inherits(column, "shapes")) list(wkb_of(column), crs_of(column)$code) else as.vector(column))
}

# A layer as the next command of a pipe gets it.
piped <- function(x) {
  bytes <- raw()
  civicatlas:::write_stream(x, function(more) bytes <<- c(bytes, more))
  civicatlas:::read_stream_bytes(bytes, withr::local_tempfile(fileext = ".geojsonl"))
}

# Rows in an order of their own, numbers to 12 digits, and of shapes what does not depend on where a ring begins.
measured <- function(x) {
  table <- as.data.frame(attribute_table(x))
  if (is_spatial_frame(x)) table <- cbind(table, kind = geometry_type_of(x), area = area_of(x), length = perimeter_of(x) + length_of(x))
  table[] <- lapply(table, function(column) if (is.list(column)) vapply(column, toString, "") else if (is.double(column)) signif(column, 11) else column)
  table <- table[do.call(order, unname(table)), , drop = FALSE]
  rownames(table) <- NULL
  table
}

# Commands that go by the order of rows, or tell their numbers; tiles lie in another order.
by_order <- c("flatten", "gaps", "slivers", "close-gaps", "head", "sample", "clusters", "neighbours", "relate")

# Whether it is done of tiles, or why it is refused.
of_tiles <- function(step, inputs, options) {
  tryCatch(quiet({
    out <- do.call(perform_command, c(list(step[["command"]]), inputs, options))
    if (inherits(out, "tiled_layer")) dplyr::collect(out) else out
  }), civicatlas_error = conditionMessage)
}

test_that("a workflow, its script, a batch, perform_command(), a pipe and tiles give the same rows and bits", {
  files <- local_layers()
  path <- workflow_file(yaml_of(files, steps))
  results <- quiet(run_workflow(path, folder = withr::local_tempdir()))$results
  expect_setequal(intersect(names(results), names(steps)), names(steps))

  from_script <- new.env(parent = globalenv())
  quiet(eval(parse(text = workflow_script(path)), from_script))
  in_batch <- new.env(parent = emptyenv())
  lines <- readLines(textConnection(workflow_shell(path)))
  lines <- lines[seq(grep("STEPS'$", lines) + 1, grep("^STEPS$", lines) - 1)]
  for (line in lines) quiet(utils::capture.output(civicatlas:::run_command(civicatlas:::words_of_line(line), in_batch)))
  frames <- lapply(files, function(file) quiet(read_layer(file)))
  of_pipe <- lapply(frames, function(x) if (is_spatial_frame(x)) quiet(piped(x)) else x)
  of_folder <- lapply(files, function(file) if (endsWith(file, ".gpkg")) quiet(tile_up(file, withr::local_tempfile(.local_envir = parent.frame(2)), rows_per_tile = 11)))
  in_tiles <- refused <- character()
  for (name in names(steps)) {
    step <- steps[[name]]
    label <- paste(names(step), step, collapse = " ")
    expected <- content_of(results[[name]])
    expect_identical(content_of(from_script[[name]]), expected, label = paste("the script's", label))
    taken <- step[intersect(names(step), c("layer", "other", "table"))]
    inputs <- function(layers) c(unname(layers[taken]), if ("condition" %in% names(step)) step[["condition"]])
    options <- as.list(step[setdiff(names(step), c("command", "layer", "other", "table", "condition"))])
    options <- lapply(options, function(text) if (text == "true") TRUE else gsub("\\[|\\]| ", "", text[grepl("^\\[", text)])[1] %||% text)
    options <- Map(function(option, text) if (isTRUE(option) || !is.na(option)) option else text, options, step[names(options)])
    names(options) <- gsub("-", "_", names(options))
    for (door in list(frames, of_pipe)) {
      found <- quiet(do.call(perform_command, c(list(step[["command"]]), inputs(door), options)))
      expect_identical(content_of(found), expected, label = paste(if (identical(door, frames)) "perform_command's" else "the pipe's", label))
    }
    tiled <- of_tiles(step, inputs(replace(frames, taken[1], of_folder[taken[1]])), options)
    if (is.character(tiled)) {
      refused <- c(refused, name)
      expect_match(tiled, "tile", label = label)
    } else if (is.data.frame(tiled)) {
      in_tiles <- c(in_tiles, name)
      in_memory <- if (step[["command"]] %in% by_order) of_tiles(step, inputs(replace(frames, taken[1], list(dplyr::collect(of_folder[[taken[1]]])))), options)
      expect_equal(measured(tiled), measured(if (is.null(in_memory)) results[[name]] else in_memory), label = paste("the tiles'", label))
    }
    if (!is.null(in_batch[[name]])) expect_identical(content_of(in_batch[[name]]), expected, label = paste("the batch's", label))
  }
  expect_gt(sum(names(steps) %in% ls(in_batch)), 40)
  expect_gt(length(in_tiles), 40)
  expect_lt(length(refused), 8)
  expect_lt(sum(grepl("perform_command", workflow_script(path))), 12)
})

# --- the same question -------------------------------------------------------------------------------------------------------

test_that("a window chooses by the shapes, whatever it is asked of", {
  wards <- read_layer(demo_file("wards.shp"))
  boxes <- matrix(unlist(lapply(seq_len(nrow(wards)), function(i) extent_of(wards[i, ]))), 4)
  corner <- function(i) c(boxes[1, i], boxes[2, i], boxes[1, i] + 300, boxes[2, i] + 300)
  as_box <- function(w) shapes_from_wkt(sprintf("POLYGON ((%1$f %2$f, %3$f %2$f, %3$f %4$f, %1$f %4$f, %1$f %2$f))", w[1], w[2], w[3], w[4]), 32757)
  asked <- lapply(seq_len(nrow(wards)), corner)
  met <- vapply(asked, function(w) sum(boxes[1, ] <= w[3] & boxes[3, ] >= w[1] & boxes[2, ] <= w[4] & boxes[4, ] >= w[2]), 0L)
  rows <- lapply(asked, function(w) quiet(related_pairs(wards, as_box(w)))$x)
  window <- asked[[which(lengths(rows) > 0 & lengths(rows) < met)[1]]]  # where boxes alone would give more
  expected <- sort(keep_where(wards, spatial_frame(geometry = as_box(window)))$ward_id)
  folder <- withr::local_tempdir()
  for (ending in c("shp", "gpkg", "parquet")) {
    file <- file.path(folder, paste0("wards.", ending))
    quiet(write_layer(wards, file))
    expect_identical(sort(quiet(read_layer(file, within = window))$ward_id), expected, info = ending)
    expect_identical(sort(quiet(read_layer(file, within = as_box(window)))$ward_id), expected, info = ending)
  }
  tiles <- file.path(folder, "tiles")
  quiet(tile_up(file.path(folder, "wards.gpkg"), tiles, rows_per_tile = 7))
  expect_identical(sort(dplyr::collect(quiet(read_layer(tiles, within = window)))$ward_id), expected)
  text <- paste(format(window, digits = 15, trim = TRUE), collapse = ",")
  expect_identical(sort(quiet(perform_command("head", wards, rows = 100, within = window))$ward_id), expected)
  out <- file.path(folder, "out.gpkg")
  expect_identical(run("head", demo_file("wards.shp"), out, "--rows", "100", "--within", text)$code, 0L)
  expect_identical(sort(quiet(read_layer(out))$ward_id), expected)
  expect_identical(nrow(quiet(read_layer(demo_file("rooms.geojson"), within = rep(unname(unlist(coordinates_of(read_layer(demo_file("rooms.geojson"))[3, ])[c("x", "y")])), 2)))), 1L)
})

test_that("a window over the antimeridian chooses by the shapes too", {
  x <- spatial_frame(i = 1:4, geometry = shapes_from_wkt(c("POLYGON ((170 0, 174 0, 170 4, 170 0))", "POLYGON ((-179 0, -175 0, -175 4, -179 0))",
                                                            "POLYGON ((178 0, 182 0, 182 2, 178 2, 178 0))", "POINT (0 1)"), 4326))
  file <- withr::local_tempfile(fileext = ".gpkg")
  quiet(write_layer(x, file))
  expect_identical(quiet(read_layer(file, within = c(173, 3, -170, 5)))$i, 2L)
  expect_identical(sort(quiet(read_layer(file, within = c(173, 1.5, -170, 5)))$i), 2:3)
  expect_identical(sort(quiet(read_layer(file, within = c(-180, -1, 180, 5)))$i), 1:4)
})

test_that("a column comes before a variable of its name, in every source", {
  rooms <- read_layer(demo_file("rooms.geojson"))
  rooms$open <- rooms$seats > 40
  open <- "seats > 10000"
  large <- "seats > 100"
  folder <- withr::local_tempdir()
  for (ending in c("geojson", "gpkg", "shp", "parquet", "csv", "kml")) {
    file <- file.path(folder, paste0("rooms.", ending))
    quiet(write_layer(rooms, file))
    expect_identical(nrow(quiet(read_layer(file, where = open))), sum(rooms$open), info = ending)
    expect_identical(nrow(quiet(read_layer(file, where = large))), sum(rooms$seats > 100), info = ending)
  }
  expect_identical(nrow(keep_rows(rooms, open)), sum(rooms$open))
  open <- "this ( is no condition"
  expect_identical(nrow(quiet(read_layer(file.path(folder, "rooms.gpkg"), where = open))), sum(rooms$open))
  broken <- "this ( is no condition"
  expect_error(quiet(read_layer(file.path(folder, "rooms.gpkg"), where = broken)), "Cannot read `where`", class = "civicatlas_error_argument")
})

test_that("texts of conditions that are put together or lie in lists are one in every source, and nothing is evaluated twice", {
  rooms <- read_layer(demo_file("rooms.geojson"))
  file <- withr::local_tempfile(fileext = ".gpkg")
  quiet(write_layer(rooms, file))
  limit <- 100
  seats <- "seats > 100"  # a column too
  asked <- 0
  config <- new.env()
  makeActiveBinding("where", function() {
    asked <<- asked + 1
    "seats > 100"
  }, config)
  makeActiveBinding("all", function() {
    asked <<- asked + 1
    TRUE
  }, config)
  for (rows in list(function(where) quiet(read_layer(file, where = {{ where }})), function(where) quiet(keep_rows(rooms, {{ where }})))) {
    large <- sum(rooms$seats > 100)
    expect_identical(nrow(rows(paste("seats >", limit))), large)
    expect_identical(nrow(rows(sprintf("seats > %d", 100L))), large)
    asked <- 0
    expect_identical(nrow(rows(config$where)), large)
    expect_identical(nrow(rows(config$all)), nrow(rooms))
    expect_identical(asked, 2)
    expect_identical(nrow(rows(.data$seats > limit)), large)
    expect_error(rows(seats), "TRUE` or `FALSE", class = "civicatlas_error_argument")
    expect_error(rows(paste(seats)), "TRUE` or `FALSE", class = "civicatlas_error_argument")
    expect_error(rows(seats > stop("it is locked")), "it is locked", class = "civicatlas_error_argument")
  }
})

test_that("a layer that is not given is told by the verb", {
  wards <- read_layer(demo_file("wards.shp"))
  verbs <- c("join_where", "join_nearest", "pick_where", "keep_where", "drop_where", "clip_to", "erase_by", "overlay_with", "split_by", "summarise_into", "related_pairs",
             "relation_of", "distance_between", "distance_matrix", "cross_table", "azimuth_between", "nearly_equal", "join_table", "unmatched_keys", "before_and_after")
  for (verb in verbs) {
    told <- rlang::catch_cnd(rlang::inject((!!as.name(verb))(wards)), "civicatlas_error_argument")
    expect_match(conditionMessage(told), "is missing: which layer?", fixed = TRUE, label = verb)
    expect_identical(rlang::call_name(told$call), verb)
  }
  expect_match(conditionMessage(rlang::catch_cnd(buffer_by(), "civicatlas_error_argument")), "`x` is missing")
})

test_that("layers that a condition names may have any name", {
  out <- withr::local_tempfile(fileext = ".gpkg")
  wards <- withr::local_tempfile(fileext = ".gpkg")
  rooms <- read_layer(demo_file("rooms.geojson"))
  quiet(write_layer(reproject_to(read_layer(demo_file("wards.shp")), rooms), wards))
  for (name in c("w", "wh", "cr", "wards")) {
    condition <- sprintf("S_INTERSECTS(geometry, %s)", name)
    told <- run("keep", demo_file("rooms.geojson"), condition, out, "--layers", paste0(name, "=", wards), "--replace")
    expect_identical(told$code, 0L, info = told$err)
    expect_identical(quiet(read_layer(out))$room_id, quiet(keep_where(rooms, read_layer(wards)))$room_id)
    expect_identical(run("explain", demo_file("rooms.geojson"), condition, "--layers", paste0(name, "=", wards))$code, 0L)
  }
})

test_that("commands work tile by tile where their verbs do", {
  folder <- withr::local_tempdir()
  tiles <- file.path(folder, "tiles")
  quiet(tile_up(demo_file("wards.shp"), tiles, rows_per_tile = 7))
  for (command in list(c("bands", "--distances", "100,200"), "parts", c("simplify", "--tolerance", "10", "--each-alone"))) {
    told <- run(command[1], tiles, file.path(folder, paste0(command[1], ".gpkg")), command[-1])
    expect_identical(told$code, 0L, info = told$err)
    expect_false(grepl("in memory", told$err), info = command[1])
  }
  expect_match(run("simplify", tiles, file.path(folder, "s.gpkg"), "--tolerance", "10")$err, "in memory")
  expect_identical(run("neighbours", demo_file("wards.shp"), "--neighbours", "point")$code, 0L)
})

test_that("a pipe knows which measures are older than the shapes, and what it says of them is no trusted text", {
  measured <- quiet(buffer_by(add_measures(read_layer(demo_file("wards.shp")), area = "ha"), 10))
  file <- withr::local_tempfile(fileext = ".geojsonl")
  civicatlas:::write_stream(measured, function(bytes) writeBin(bytes, file))
  text <- readLines(file)
  back <- function(lines) civicatlas:::read_stream_bytes(charToRaw(paste0(paste(lines, collapse = "\n"), "\n")), withr::local_tempfile(fileext = ".geojsonl"))
  fresh <- quiet(refresh_measures(back(text)))
  expect_equal(fresh$area_ha, area_of(measured, "ha"))
  odd <- quiet(back(sub("\"unit\":\"ha\"", "\"unit\":\"system()\"", text, fixed = TRUE)))
  expect_identical(civicatlas:::stale_columns(odd), list())
  expect_identical(quiet(refresh_measures(odd))$area_ha, measured$area_ha)
})

test_that("what messages advise on the command line is a command there", {
  folder <- withr::local_tempdir()
  out <- function(name) file.path(folder, name)
  x <- spatial_frame(id = 1, geometry = shapes_from_wkt("POLYGON ((178 -2, 182 -2, 182 2, 178 2, 178 -2), (179 -1, 181 -1, 181 1, 179 1, 179 -1))", 4326))
  quiet(write_layer(x, out("x.gpkg")))
  expect_identical(run("cut-at-antimeridian", out("x.gpkg"), out("cut.gpkg"))$code, 0L)
  expect_equal(area_of(quiet(read_layer(out("cut.gpkg")))), area_of(x), tolerance = 1e-3)  # edges along parallels are cut into shorter ones
  expect_identical(run("outer-ring", out("x.gpkg"), out("outer.gpkg"))$code, 0L)
  expect_identical(run("unmatched-keys", demo_file("wards.shp"), demo_file("heat.csv"), out("keys.csv"), "--key", "ward_id")$code, 0L)
  wards <- read_layer(demo_file("wards.shp"))
  expect_identical(quiet(read_layer(out("keys.csv")))$key, unmatched_keys(wards, quiet(read_layer(demo_file("heat.csv"))), "ward_id")$key)
})
