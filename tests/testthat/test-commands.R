# The grammar of the command line, batches and pipes; and every command once, as docs/commands.sh has them.

quietly_read <- function(path) suppressWarnings(read_layer(path))

parsed <- function(command, ...) civicatlas:::parse_arguments(civicatlas:::operation_record(command), c(...))
refused <- function(...) tryCatch(parsed(...), civicatlas_error_usage = conditionMessage)

test_that("options have one grammar, and what does not follow it is told", {
  found <- parsed("buffer", "a.shp", "b.shp", "--distance=-5.5", "--merged", "--unit", "ft")
  expect_identical(found$inputs, c("a.shp", "b.shp"))
  expect_identical(found$options[c("distance", "merged", "unit", "segments", "replace")], list(distance = "-5.5", merged = TRUE, unit = "ft", segments = 16L, replace = FALSE))
  expect_identical(parsed("head", "a", "--within", "-10,35,30,60")$options$within, c(-10, 35, 30, 60))
  expect_identical(parsed("head", "--", "--odd.shp")$inputs, "--odd.shp")
  expect_identical(parsed("convert", "-", "-")$inputs, c("-", "-"))
  expect_match(refused("buffer", "a", "b", "--dist", "4"), "did you mean --distance?", fixed = TRUE)
  expect_match(refused("buffer", "a", "b", "--distance", "4", "--distance", "5"), "given twice")
  expect_match(refused("buffer", "a", "b", "--distance"), "needs a value")
  expect_match(refused("buffer", "a", "b", "--distance", "--merged"), "needs a value")
  expect_match(refused("buffer", "a", "b", "--distance", "4", "--merged=yes"), "takes no value")
  expect_match(refused("buffer", "a", "b"), "--distance is missing")
  expect_match(refused("buffer", "a", "b", "--distance", "4", "--ends", "rund"), "Nearest: round")
  expect_match(refused("buffer", "a", "b", "--distance", "4", "--segments", "1.5"), "whole number")
  expect_match(refused("bands", "a", "b", "--distances", "1,x"), "numbers separated by commas")
  expect_match(refused("convert", "a", "b", "--where", "kind", "=", "library"), "double quotes: --where")
  expect_match(refused("head"), "it takes LAYER [OUTPUT]; given: nothing", fixed = TRUE)
})

test_that("lines of a batch are taken apart as a shell does", {
  words <- civicatlas:::words_of_line
  expect_identical(words("keep a.shp \"kind = 'x y'\" b.shp # comment"), c("keep", "a.shp", "kind = 'x y'", "b.shp"))
  expect_identical(words("a 'b \"c\" d' e\\ f \"g\\\"h\" ''"), c("a", "b \"c\" d", "e f", "g\"h", ""))
  expect_identical(words("a#b  # c"), "a#b")
  expect_identical(words("   "), character())
  expect_error(words("a 'b"), class = "civicatlas_error_usage")
})

test_that("every command of the documentation's script runs, and every command is in it", {
  script <- test_path("..", "..", "docs", "commands.sh")
  skip_if_not(file.exists(script), "the script belongs to the checkout")
  skip_on_os("windows")
  lines <- readLines(script, encoding = "UTF-8")
  used <- unique(c(regmatches(lines, regexpr("(?<=civicatlas )[a-z-]+", lines, perl = TRUE)), "history"))
  expect_setequal(setdiff(civicatlas:::operation_names(), "demo"), setdiff(used, "help"))
  folder <- withr::local_tempdir()
  dir.create(bin <- file.path(folder, "bin"))
  file.symlink(system.file("exec", "civicatlas", package = "civicatlas"), file.path(bin, "civicatlas"))
  result <- processx::run("bash", c(normalizePath(script), system.file("extdata", package = "civicatlas")), wd = folder, error_on_status = FALSE, timeout = 600,
                          env = c("current", PATH = paste0(bin, ":", Sys.getenv("PATH"))))
  expect_identical(result$status, 0L, info = result$stderr)
  read <- function(name) quietly_read(file.path(folder, name))
  wards <- read_layer(demo_file("wards.shp"))
  rooms <- reproject_to(read_layer(demo_file("rooms.geojson")), wards)
  counted <- summarise_into(wards, rooms, rooms = dplyr::n(), seats = sum(seats))
  expect_equal(read("counted.gpkg")$seats, counted$seats)
  expect_equal(read("counted.gpkg")$per_1000, 1000 * counted$seats / counted$residents)
  expect_identical(nrow(read("large.geojson")), sum(rooms$seats > 100 & rooms$kind != "school"))
  expect_equal(read("far.gpkg")$ward_id, erase_by(wards, buffer_by(rooms, 400, merged = TRUE))$ward_id)
  expect_equal(read("shares.shp")$km2, area_of(wards, "km2"))
  expect_setequal(names(read("renamed.gpkg")), c("ward_id", "name", "people", "elderly", "geometry"))
  expect_match(result$stdout, "No row has kind = 'Library'; near it: 'library' (26 rows)", fixed = TRUE)
})

test_that("a batch checks all lines first, keeps layers between them, and ends where one fails", {
  folder <- withr::local_tempdir()
  steps <- file.path(folder, "steps.txt")
  rooms <- demo_file("rooms.geojson")
  wards <- demo_file("wards.shp")
  out <- file.path(folder, "reach.gpkg")
  writeLines(c("# a comment", paste("reproject", rooms, "@rooms --crs {crs}"), "", "keep @rooms \"seats > {least}\" @large", paste("civicatlas buffer @large", out, "--distance 400 --merged"),
               paste("head", out, "--rows 1")), steps)
  expect_match(run("batch", steps, "--check")$err, "2: nothing is set for \\{crs\\}.*4: nothing is set for \\{least\\}")
  checked <- run("batch", steps, "--check", "--input", "crs=EPSG:32757,least=100")
  expect_identical(checked$code, 0L)
  expect_false(file.exists(out))
  expect_identical(run("batch", steps, "--input", "crs=EPSG:32757,least=100")$code, 0L)
  here <- read_layer(rooms) |> reproject_to(32757) |> keep_rows("seats > 100") |> buffer_by(400, merged = TRUE)
  expect_identical(wkt_of(quietly_read(out)), wkt_of(here))
  writeLines(c("bufer a b", "buffer @nothing b.shp --distance 4", "keep nowhere.shp \"a = 1\" c.shp", paste("keep", rooms, "\"seats > 1, b\" d.geojson"), paste("head", rooms, "--rows 'a"),
               paste("describe", wards)), steps)
  told <- run("batch", steps)
  expect_identical(told$code, 2L)
  expect_match(told$err, "1: there is no command \"bufer\".*2: no line before this one makes @nothing.*3: There is no file.*5: a quote is not closed.*5 mistakes|5 mistakes")
  writeLines(c(paste("reproject", rooms, "@r --crs EPSG:32757"), paste("convert @r", out, "--keep name,seats --replace")), steps)
  expect_identical(run("batch", steps)$code, 0L)
  expect_named(quietly_read(out), c("name", "seats", "geometry"))
  writeLines(c(paste("keep", rooms, "\"seatz > 1\"", file.path(folder, "x.geojson")), paste("convert", rooms, file.path(folder, "y.geojson"))), steps)
  failed <- run("batch", steps)
  expect_identical(failed$code, 1L)
  expect_match(failed$err, "Line 1 failed.*seatz")
  expect_false(file.exists(file.path(folder, "y.geojson")))
})

test_that("layers go through pipes with their CRS, types and history", {
  x <- read_layer(demo_file("rooms.geojson")) |> reproject_to(32757)
  x$opened <- as.Date("2026-01-01") + seq_len(nrow(x))
  x$at <- as.POSIXct("2026-01-01 06:30:00", tz = "UTC")
  x$none <- NA_character_
  x$whole <- as.double(seq_len(nrow(x)))
  file <- withr::local_tempfile()
  civicatlas:::write_stream(x, function(bytes) writeBin(bytes, file))
  back <- civicatlas:::read_stream_bytes(readBin(file, "raw", 1e7), withr::local_tempfile(fileext = ".geojsonl"))
  expect_identical(wkt_of(back), wkt_of(x))
  expect_true(crs_of(back) == crs_of(x))
  expect_identical(lapply(attribute_table(back), identity), lapply(attribute_table(x), identity))
  expect_identical(history_of(back)$verb, history_of(x)$verb)
  civicatlas:::write_stream(x[0, ], function(bytes) writeBin(bytes, file))
  expect_warning(none <- civicatlas:::read_stream_bytes(readBin(file, "raw", 1e7), withr::local_tempfile(fileext = ".geojsonl")), "gave no rows")
  expect_identical(names(none), c(setdiff(names(x), "geometry"), "geometry"))
  expect_identical(nrow(none), 0L)
})

test_that("damaged streams are read or told", {
  x <- read_layer(demo_file("rooms.geojson"))[1:5, ]
  file <- withr::local_tempfile()
  civicatlas:::write_stream(x, function(bytes) writeBin(bytes, file))
  bytes <- readBin(file, "raw", 1e7)
  runs <- as.integer(Sys.getenv("CIVIC_FUZZ_RUNS", "60"))
  withr::with_seed(8, for (i in seq_len(runs)) {
    damaged <- bytes
    at <- sample(min(400, length(bytes)), 2)
    damaged[at] <- as.raw(sample(32:126, 2))
    if (i %% 3 == 0) damaged <- utils::head(damaged, sample(length(damaged), 1))
    found <- tryCatch(suppressWarnings(civicatlas:::read_stream_bytes(damaged, withr::local_tempfile(fileext = ".geojsonl"))), civicatlas_error = identity)
    expect_true(is.data.frame(found) || inherits(found, "civicatlas_error"))
  })
})

test_that("results and errors are data under --json", {
  rooms <- demo_file("rooms.geojson")
  head <- jsonlite::fromJSON(run("head", rooms, "--rows", "2", "--json", "--quiet")$out)
  expect_identical(head$seats, attribute_table(read_layer(rooms))$seats[1:2])
  crs <- jsonlite::fromJSON(run("describe", demo_file("wards.shp"), "--json", "--quiet")$out)$crs
  expect_identical(crs$code, "EPSG:32757")
  usage <- run("buffer", "--json")
  expect_identical(jsonlite::fromJSON(usage$out)$error$kind, "usage")
  expect_identical(usage$code, 2L)
  expect_identical(jsonlite::fromJSON(run("keep", rooms, "seatz > 1", "x.shp", "--json", "--quiet")$out)$error$kind, "column")
  explained <- jsonlite::fromJSON(run("explain", rooms, "seats > 100 AND kind = 'school'", "--json", "--quiet")$out)
  expect_identical(explained$parts$holds[1], 10L)
  inside <- run("keep", rooms, "S_DISJOINT(geometry, wards)", withr::local_tempfile(fileext = ".geojson"), "--layers", paste0("wards=", demo_file("wards.shp")),
                "--json", "--quiet")
  expect_identical(jsonlite::fromJSON(inside$out)$rows, 4L)
  odd <- run("compute", rooms, withr::local_tempfile(fileext = ".gpkg"), "--set", "problem = seats + 1, tree = 2, at = 3", "--json", "--quiet")
  expect_true(all(c("problem", "tree", "at") %in% jsonlite::fromJSON(odd$out)$columns))
  expect_identical(jsonlite::fromJSON(run("show", rooms, "--row", "3", "--json", "--quiet")$out)$room_id, "CR057")
})

test_that("expressions and summaries have R's values, and missing ones are told", {
  folder <- withr::local_tempdir()
  cells <- file.path(folder, "cells.gpkg")
  expect_identical(run("convert", demo_file("cells.zip"), cells, "--mend-numbers")$code, 0L)
  x <- quietly_read(cells)
  out <- file.path(folder, "out.gpkg")
  told <- run("dissolve", cells, out, "--by", "ward_id", "--with",
              "cells = count(), known = count(pop_total), total = sum(pop_total), middle = median(pop_total), most = max(pop_total), high = quantile(pop_total, 0.9), kinds = count_distinct(cell_id), w = weighted_mean(pop_0_14, pop_total), young = share(pop_0_14 > 100)")
  expect_identical(told$code, 0L)
  expect_match(told$err, "Rows without a value are left out of summaries")
  y <- quietly_read(out)
  one <- attribute_table(x)[x$ward_id == y$ward_id[3], ]
  expect_identical(y$cells[3], nrow(one))
  expect_identical(y$known[3], sum(!is.na(one$pop_total)))
  expect_equal(y$total[3], sum(one$pop_total, na.rm = TRUE))
  expect_equal(y$middle[3], stats::median(one$pop_total, na.rm = TRUE))
  expect_equal(y$most[3], max(one$pop_total, na.rm = TRUE))
  expect_equal(y$high[3], unname(stats::quantile(one$pop_total, 0.9, na.rm = TRUE)))
  there <- !is.na(one$pop_0_14) & !is.na(one$pop_total)
  expect_equal(y$w[3], sum((one$pop_0_14 * one$pop_total)[there]) / sum(one$pop_total[there]))
  expect_equal(y$young[3], mean(one$pop_0_14 > 100, na.rm = TRUE))
  expect_match(run("summarise", demo_file("wards.shp"), cells, out, "--replace", "--with", "a = area('ha')")$err, "stands in no summary|no many|is of")
  expect_match(run("compute", cells, out, "--replace", "--set", "a = sum(pop_total)")$err, "many rows")
  expect_identical(run("compute", cells, out, "--replace", "--set", "a = pop_total + 1, b = a * 2, note = CASE WHEN a > 1000 THEN 'large' ELSE 'small' END")$code, 0L)
  z <- quietly_read(out)
  expect_equal(z$b, 2 * (x$pop_total + 1))
  expect_identical(z$note, ifelse(!is.na(x$pop_total) & x$pop_total + 1 > 1000, "large", "small"))
})

test_that("completions and the manual page have every command and option", {
  texts <- civicatlas:::completions()
  manual <- paste(civicatlas:::manual_page(), collapse = "\n")
  for (name in civicatlas:::operation_names()) {
    for (shell in names(texts)) expect_true(any(grepl(name, texts[[shell]], fixed = TRUE)), info = paste(shell, name))
    for (option in civicatlas:::operation_record(name)$options) expect_true(grepl(gsub("-", "\\-", option$name, fixed = TRUE), manual, fixed = TRUE), info = option$name)
  }
  skip_if(!nzchar(Sys.which("bash")))
  file <- withr::local_tempfile(lines = texts$bash)
  shell <- function(line) system2("bash", c("-c", shQuote(paste("source", file, ";", line))), stdout = TRUE)
  expect_identical(shell("COMP_WORDS=(civicatlas buf); COMP_CWORD=1; _civicatlas; echo ${COMPREPLY[@]}"), "buffer")
  expect_identical(shell("COMP_WORDS=(civicatlas buffer --dist); COMP_CWORD=2; _civicatlas; echo ${COMPREPLY[@]}"), "--distance")
  expect_match(shell("COMP_WORDS=(civicatlas buffer --ends r); COMP_CWORD=3; _civicatlas; echo ${COMPREPLY[@]}"), "round")
})

test_that("formats of inputs and outputs whose names do not tell are named, and folders are loaded", {
  folder <- withr::local_tempdir()
  bare <- file.path(folder, "bare")
  file.copy(demo_file("rooms.geojson"), bare)
  target <- file.path(folder, "result")
  expect_identical(run("convert", bare, target, "--from-format", "geojson", "--to-format", "gpkg", "--to-layer", "rooms")$code, 0L)
  expect_identical(list_layers(target)$layer, "rooms")
  located <- file.path(folder, "located.gpkg")
  expect_identical(run("join", bare, demo_file("wards.shp"), located, "--from-format", "geojson", "--match-crs")$code, 0L)  # --from-format is not of the other layer
  expect_match(run("convert", bare, target, "--from-format", "geojson", "--to-format", "shp")$err, "several files")
  expect_match(run("convert", bare, target, "--from-format", "geojson", "--to-format", "gpkg")$err, "there already")
  dir.create(many <- file.path(folder, "many"))
  file.copy(demo_file(c("rooms.geojson", "heat.csv")[1]), many)
  file.copy(demo_file("heat.csv"), many)
  loaded <- jsonlite::fromJSON(run("load", many, "--to", file.path(folder, "store.gpkg"), "--tables", "a,b", "--table-prefix", "x_", "--json", "--quiet")$out)
  expect_identical(loaded$table, c("x_a", "x_b"))
  part <- jsonlite::fromJSON(run("load", demo_file("heat.csv"), "nowhere.shp", "--to", file.path(folder, "part.gpkg"), "--json", "--quiet")$out)
  expect_identical(part$error$kind, "file")
  expect_identical(is.na(part$result$problem), c(TRUE, FALSE))
  both <- file.path(folder, "both.gpkg")
  expect_identical(run("stack", demo_file("rooms.geojson"), target, both, "--match-crs", "--source-column", "file")$code, 0L)
  expect_identical(nrow(quietly_read(both)), 280L)
})

test_that("messages name commands and options", {
  verbs <- civicatlas:::words_by_verb()
  expect_true(all(names(verbs) %in% getNamespaceExports("civicatlas")))
  expect_identical(verbs[["drop_where"]], "select --others")
  words <- civicatlas:::code_in_words
  expect_identical(words("reproject_to(x, \"EPSG:32757\")"), "civicatlas reproject LAYER OUTPUT --crs EPSG:32757")
  expect_identical(words("declare_crs(x, \"EPSG:4326\")"), "civicatlas convert LAYER OUTPUT --declare-crs EPSG:4326")
  expect_identical(words("join_where(x, y, multiple = \"first\")"), "civicatlas join LAYER OTHER OUTPUT --multiple first")
  expect_identical(words(c("force = TRUE", "most_ties = 500", "options(digits = 3)", "--match-crs")), c("--force", "--most-ties 500", "options(digits = 3)", "--match-crs"))
  told <- run("join", demo_file("rooms.geojson"), demo_file("wards.shp"), "x.shp")
  expect_match(told$err, "civicatlas reproject")
  expect_match(run("pick", demo_file("wards.shp"), demo_file("rooms.geojson"), "x.shp", "--take", "name", "--rank-by", "seatz", "--match-crs")$err, "`--rank-by` names")
})

test_that("options have the names and defaults of R's arguments, but where they are listed here", {
  shared <- c("layer", "where", "within", "encoding", "from-format", "match-crs", "shapes", "replace", "append", "to-layer", "to-format", "decimals", "quiet", "json", "help", "daemons")
  own_words <- list(
    tile = "skip-damaged", run = c("input", "input-file", "sweep", "check", "forget", "report", "script", "drawing"),
    convert = c("mend-numbers", "skip-damaged"), build = "as", keep = "layers", drop = "layers", rates = "name", classes = c("fill", "palette", "title"), join = c("nearest", "most-ties"), nearest = "distance",
    select = "others", pick = "lowest", summarise = c("with", "set"), relate = c("names", "other-names"), distances = c("names", "other-names"), "cross-table" = c("column", "other-column"),
    flows = c("from-column", "to-column", "with"), neighbours = c("neighbours", "names"), autocorrelation = c("fill", "count", "distance", "unit"),
    clusters = c("fill", "count", "distance", "unit"), crs = c("find", "suggest"), simplify = "each-alone", dissolve = c("by", "with"),
    map = c("as", "after", "key", "outlines", "points", "labels", "graticule", "scale-bar", "north-arrow", "dark", "size-unit")
  )
  verbs <- civicatlas:::words_by_verb()
  for (name in civicatlas:::operation_names()) {
    functions <- lapply(names(verbs)[sub(" .*", "", verbs) == name], get, envir = asNamespace("civicatlas"))
    if (!length(functions)) next
    arguments <- unlist(lapply(functions, formals), recursive = FALSE)
    names(arguments) <- gsub("_", "-", sub("^[.]", "", names(arguments)))
    options <- Filter(function(option) !option$name %in% shared, civicatlas:::operation_record(name)$options)
    names(options) <- vapply(options, function(option) intersect(c(option$name, option$former), names(arguments))[1], "")
    names(options) <- ifelse(is.na(names(options)), vapply(options, `[[`, "", "name"), names(options))
    expect_setequal(setdiff(names(options), names(arguments)), own_words[[name]] %||% character())
    for (argument in intersect(names(options), names(arguments))) {
      option <- options[[argument]]
      if (rlang::is_missing(arguments[[argument]]) || option$type == "flag" || is.null(option$default)) next
      expect_equal(option$default, eval(arguments[[argument]]), info = paste(name, argument))
    }
  }
})

test_that("choices of options are those that R's arguments are checked against", {
  x <- read_layer(demo_file("wards.shp"))
  y <- suppressMessages(reproject_to(read_layer(demo_file("rooms.geojson")), x))
  refused <- function(call) rlang::catch_cnd(eval(call), "civicatlas_error_choice")
  verbs <- list(
    crs = quote(crs_for(x, measuring = "?")), buffer = quote(buffer_by(x, 1, ends = "?")), buffer = quote(buffer_by(x, 1, corners = "?")),
    buffer = quote(buffer_by(x, 1, side = "?")), buffer = quote(buffer_by(x, 1, unit = "?")), repair = quote(repair_shapes(x, rule = "?")),
    absorb = quote(absorb_slivers(x, narrower_than = 1, into = "?")), overlay = quote(overlay_with(x, y, keep = "?")),
    join = quote(join_where(x, y, relation = "?")), join = quote(join_where(x, y, unmatched = "?")), join = quote(join_where(x, y, multiple = "?")),
    "join-table" = quote(join_table(x, data.frame(ward_id = "1"), "ward_id", multiple = "?")), summarise = quote(summarise_into(x, y, .share = "?")),
    summarise = quote(summarise_into(x, y, .form = "?")), map = quote(choropleth_map(x, residents, numbers = "?")),
    map = quote(choropleth_map(x, residents, method = "?")), map = quote(choropleth_map(x, residents, palette = "?")),
    autocorrelation = quote(autocorrelation_of(x$residents, neighbours_of(x), statistic = "?"))
  )
  for (i in seq_along(verbs)) {
    call <- verbs[[i]]
    argument <- sub("^[.]", "", names(call)[vapply(as.list(call), identical, NA, "?")])
    told <- conditionMessage(refused(call))
    options <- civicatlas:::operation_record(names(verbs)[i])$options
    listed <- if (argument == "palette") names(civicatlas:::palettes) else options[[civicatlas:::now_named(argument, options) %||% argument]]$values
    expect_true(length(listed) > 1 && all(vapply(listed, grepl, NA, gsub("\\s+", " ", told), fixed = TRUE)), label = paste(names(verbs)[i], argument, told))
  }
})

test_that("tables are fitted to a width", {
  x <- tibble::tibble(id = 1:2, name = c(strrep("x", 80), "short"), more = c(strrep("y", 30), "z"), number = c(1.5, 2))
  lines <- capture.output(civicatlas:::print_table(x, "", 60))
  expect_true(all(nchar(lines, "width") <= 60))
  expect_match(lines[1], "id  name +more +number")
  narrow <- capture.output(civicatlas:::print_table(x, "", 24))
  expect_true(all(nchar(narrow[-length(narrow)], "width") <= 24))
  expect_match(narrow[length(narrow)], "more column")
  expect_identical(max(nchar(capture.output(civicatlas:::print_table(x, "")))), 2L + 2L + 80L + 2L + 30L + 2L + 6L)
})
