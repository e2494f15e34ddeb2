# Every remedy that a message names works as it is typed.

message_of <- function(expr) gsub("\\s+", " ", cli::ansi_strip(conditionMessage(tryCatch(expr, error = identity, warning = identity))))
code_in <- function(text) gsub("`", "", regmatches(text, gregexpr("`[^`]+`", text))[[1]])

test_that("layers on different CRSs meet by what the error says, in the words of each verb", {
  layers <- function() list(x = read_layer(demo_file("wards.shp")), y = read_layer(demo_file("rooms.geojson"), where = seats > 100))
  verbs <- list(
    quote(join_where(y, x)), quote(join_nearest(y, x)), quote(keep_where(y, x)), quote(drop_where(y, x)), quote(clip_to(y, x)), quote(erase_by(y, x)),
    quote(overlay_with(y, x, keep = "difference")), quote(pick_where(x, y, take = name, rank_by = seats)), quote(distance_between(x[1, ], y)),
    quote(summarise_into(x, y, n = dplyr::n()))
  )
  for (verb in verbs) {
    env <- list2env(layers())
    text <- message_of(eval(verb, env))
    on_the_fly <- grep("match", code_in(text), value = TRUE)
    expect_length(on_the_fly, 1)
    argument <- strsplit(on_the_fly, " = ")[[1]][1]
    expect_no_error(eval(rlang::call_modify(verb, !!argument := "match"), env))
    line <- grep("reproject_to", code_in(text), value = TRUE)
    name <- sub(" <-.*", "", line)
    renamed <- c(features = "y", mask = "x", y = if (identical(verb[[2]], quote(y))) "x" else "y")[[name]]
    assign(name, env[[renamed]], env)
    eval(parse(text = line), env)
    assign(renamed, env[[name]], env)
    expect_no_error(suppressWarnings(eval(verb, env)))
  }
  for (verb in list(quote(stack_layers(x = x, y = y)), quote(rbind(x, y)), quote(dplyr::bind_rows(x, y)), quote(c(x$geometry, y$geometry)))) {
    env <- list2env(layers())
    text <- message_of(eval(verb, env))
    expect_no_match(text, "match\"", fixed = TRUE)
    eval(parse(text = grep("reproject_to", code_in(text), value = TRUE)), env)
    expect_no_error(eval(verb, env))
  }
  env <- list2env(layers())
  env$x <- suppressWarnings(declare_crs(env$x, NULL))
  text <- message_of(rbind(env$x, env$y))
  suppressWarnings(eval(parse(text = grep("declare_crs", code_in(text), value = TRUE)), env))
  expect_true(crs_of(env$x) == crs(4326))
})

test_that("reading within and appending name what they can do", {
  file <- demo_file("wards.shp")
  within <- read_layer(demo_file("rooms.geojson"))
  text <- message_of(read_layer(file, within = within))
  expect_no_match(text, "match\"", fixed = TRUE)
  eval(parse(text = grep("reproject_to", code_in(text), value = TRUE)))
  expect_identical(nrow(read_layer(file, within = within)), 24L)
  store <- withr::local_tempfile(fileext = ".gpkg")
  x <- read_layer(demo_file("rooms.geojson"))
  write_layer(reproject_to(x, 32757), store, layer = "rooms")
  text <- message_of(write_layer(x, store, layer = "rooms", append = TRUE))
  expect_no_match(text, "match\"", fixed = TRUE)
  eval(parse(text = grep("reproject_to", code_in(text), value = TRUE)))
  expect_no_error(write_layer(x, store, layer = "rooms", append = TRUE))
  text <- message_of(write_layer(x, store, layer = "rooms"))
  arguments <- intersect(code_in(text), c("replace = TRUE", "append = TRUE"))
  expect_length(arguments, 2)
  for (argument in arguments) expect_no_error(eval(parse(text = paste0("write_layer(x, store, layer = \"rooms\", ", argument, ")"))))
  text <- message_of(write_layer(x, file.path(withr::local_tempdir(), "a.csv")) |> write_layer(demo_file("heat.csv")))
  expect_true("replace = TRUE" %in% code_in(text))
})

test_that("the command line names its own options, which work", {
  folder <- withr::local_tempdir()
  at <- function(name) file.path(folder, name)
  run <- function(...) {
    said <- utils::capture.output(code <- run_command_line(c(...)), type = "message")
    list(code = code, text = gsub("\\s+", " ", paste(said, collapse = " ")))
  }
  works_with <- function(args, options) {
    failed <- run(args)
    expect_identical(failed$code, 1L)
    expect_no_match(failed$text, "= TRUE|crs = \"match\"|damaged =")
    found <- intersect(options, code_in(failed$text))
    expect_identical(found, options)
    for (option in found) expect_identical(run(args, option)$code, 0L)
  }
  rooms <- demo_file("rooms.geojson")
  wards <- demo_file("wards.shp")
  works_with(c("join", rooms, wards, at("joined.geojson")), "--match-crs")
  works_with(c("clip", rooms, wards, at("clipped.geojson")), "--match-crs")
  expect_identical(run("convert", wards, at("w.shp"))$code, 0L)
  works_with(c("convert", wards, at("w.shp")), "--replace")
  expect_identical(run("convert", wards, at("w.gpkg"))$code, 0L)
  works_with(c("convert", wards, at("w.gpkg")), c("--replace", "--append"))
  expect_identical(run("convert", rooms, at("w.gpkg"), "--to-layer", "rooms")$code, 0L)
  several <- run("describe", at("w.gpkg"))
  expect_identical(several$code, 1L)
  expect_true("--layer" %in% code_in(several$text))
  expect_identical(run("measure", at("w.gpkg"), at("out.csv"), "--layer", "w")$code, 0L)
  write_layer(read_layer(wards)[1:20, ], at("fewer.shp"))
  file.copy(at("fewer.dbf"), at("w.dbf"), overwrite = TRUE)
  works_with(c("convert", at("w.shp"), at("cut.geojson")), "--skip-damaged")
})

test_that("a misspelt column is not taken for a function or a table of its name", {
  wards <- read_layer(demo_file("wards.shp"))
  rates <- data.frame(a = 1)
  for (expression in rlang::exprs(df, 100 * df / residents, rates, residents / rates, residents > nchar, sqrt(mean))) {
    expect_error(choropleth_map(wards, !!expression), "not there", class = "civicatlas_error_column", label = rlang::as_label(expression))
  }
  limits <- list(most = 10)
  factor <- 2
  share <- 0.5
  keep <- TRUE
  for (expression in rlang::exprs(pmin(residents, stats::quantile(residents, probs = share)), residents - mean(residents, na.rm = keep), residents * factor, residents * limits$most, sapply(residents, sqrt), residents / area_of(geometry, "km2"), residents * rates$a)) {
    expect_s3_class(choropleth_map(wards, !!expression), "ggplot")
  }
  rooms <- reproject_to(read_layer(demo_file("rooms.geojson")), wards)
  expect_error(summarise_into(wards, rooms, n = sum(df)), "not there", class = "civicatlas_error_column")
  every <- summarise_into(wards, rooms, dplyr::across(dplyr::where(is.numeric), list(total = sum, most = max)), across(where(is.numeric), list(least = min)))
  expect_true(all(c("seats_total", "seats_most", "seats_least") %in% names(every)))
  expect_identical(summarise_into(wards, rooms, n = sum(!is.na(geometry)))$n, summarise_into(wards, rooms, n = dplyr::n())$n)
  expect_equal(dissolve_by(wards, size = sum(area_of(geometry, "km2")))$size, sum(area_of(wards, "km2")))
  expect_identical(nrow(pick_where(wards, rooms, take = name, rank_by = coordinates_of(geometry)$x)), 24L)
})

test_that("stacking many columns is told in a line for each kind of news", {
  withr::local_options(civicatlas.quiet = FALSE)
  wide <- function(prefix) as.data.frame(stats::setNames(as.list(1:30), paste0(prefix, 1:30)))
  said <- testthat::capture_messages(stack_layers(cbind(wide("a"), k = 1L), cbind(wide("b"), k = "x")))
  expect_length(said, 3)
  expect_match(said[1], "and 55 more")
  expect_match(said[2], "k \\(.*: now text\\)")
})
