# The tool as it is met: installed, in a pseudo-terminal of several widths, in a locale of ASCII, with layers that take long enough for progress to show.

skip_on_os("windows")
skip_if(!nzchar(Sys.which("script")), "no pseudo-terminal here")

tool_folder <- withr::local_tempdir(.local_envir = teardown_env())
file.symlink(system.file("exec", "civicatlas", package = "civicatlas"), file.path(tool_folder, "civicatlas"))
tool_path <- c("current", PATH = paste0(tool_folder, ":", Sys.getenv("PATH")), R_LIBS = paste(.libPaths(), collapse = ":"))

# Runs lines of a shell in a terminal of some columns: the exit code, and what was shown.
in_terminal <- function(code, columns = 80, folder = withr::local_tempdir(.local_envir = rlang::caller_env()), env = character()) {
  shown <- withr::local_tempfile()
  steps <- withr::local_tempfile(fileext = ".sh")
  writeLines(c(paste("stty cols", columns), code), steps)
  found <- processx::run("script", c("-qec", paste("bash", steps), shown), wd = folder, env = c(tool_path, env), error_on_status = FALSE, timeout = 900)
  lines <- readLines(shown, warn = FALSE, encoding = "UTF-8")
  text <- paste(lines[!grepl("^Script (started|done)", lines)], collapse = "\n")
  list(code = found$status, raw = text, text = gsub("\r", "", cli::ansi_strip(text)))
}

# Lines of a shell without a terminal.
in_shell <- function(code, folder, env = character()) {
  processx::run("bash", c("-c", code), wd = folder, env = c(tool_path, env), error_on_status = FALSE, timeout = 300)
}

as_xy <- function(x) as.double(regmatches(wkt_of(x), gregexpr("[0-9.]+", wkt_of(x)))[[1]])

data <- system.file("extdata", package = "civicatlas")
workflow <- function(name) system.file("workflows", paste0(name, ".yaml"), package = "civicatlas")

# Cells with wavy borders, as many vertices as make work last.
write_cells <- function(path, n, shift = 0) {
  t <- seq(0, 300, length.out = 41)[-41]
  wave <- function(t, k) 12 * sin(t * 2 * pi / 100 + k)
  ring <- function(i, j) {
    x <- i * 300
    y <- j * 300
    xy <- rbind(cbind(x + t, y + wave(x + t, j)), cbind(x + 300 + wave(y + t, i + 1), y + t),
                cbind(x + 300 - t, y + 300 + wave(x + 300 - t, j + 1)), cbind(x + wave(y + 300 - t, i), y + 300 - t))
    paste0("POLYGON ((", paste(sprintf("%.3f %.3f", c(xy[, 1], xy[1, 1]) + shift + 5e5, c(xy[, 2], xy[1, 2]) + shift + 4.7e6), collapse = ", "), "))")
  }
  grid <- expand.grid(i = seq_len(n), j = seq_len(n))
  suppressMessages(write_layer(spatial_frame(id = seq_len(n * n), people = seq_len(n * n) %% 97, geometry = shapes_from_wkt(mapply(ring, grid$i, grid$j), 32757)), path))
}

test_that("every line of the documentation's script runs in terminals of 60, 80 and 160 columns, and in a locale of ASCII", {
  script <- test_path("..", "..", "docs", "commands.sh")
  skip_if_not(file.exists(script), "the script belongs to the checkout")
  asked <- list(list(60, character()), list(80, c(LC_ALL = "C", LANG = "C")), list(160, character()))
  lines <- paste("bash", shQuote(normalizePath(script)), shQuote(data))
  # Side by side, as each takes its time.
  jobs <- lapply(asked, function(one) {
    folder <- withr::local_tempdir(.local_envir = teardown_env())
    shown <- file.path(folder, ".shown")
    writeLines(c(paste("stty cols", one[[1]]), lines), file.path(folder, ".steps.sh"))
    process <- processx::process$new("script", c("-qec", paste("bash", file.path(folder, ".steps.sh")), shown), wd = folder, env = c(tool_path, one[[2]]))
    list(process = process, shown = shown, columns = one[[1]])
  })
  for (job in jobs) {
    job$process$wait(1200000)
    shown <- cli::ansi_strip(gsub("\r", "", readLines(job$shown, warn = FALSE, encoding = "UTF-8")))
    expect_identical(job$process$get_exit_status(), 0L, info = paste(utils::tail(shown, 20), collapse = "\n"))
    expect_match(shown, "`run`: 10 steps", all = FALSE)
    expect_no_match(shown, "<c3>|Cannot find progress bar|could not find function|object '.*' not found")
  }
})

test_that("work that lasts shows its progress, and ends well, in a terminal", {
  folder <- withr::local_tempdir()
  write_cells(file.path(folder, "a.gpkg"), 45)
  write_cells(file.path(folder, "b.gpkg"), 45, 137)
  commands <- c("overlay a.gpkg b.gpkg o.gpkg", "bands a.gpkg r.gpkg --distances 20,50", "close-gaps a.gpkg c.gpkg --tolerance 0.5 --force", "flatten a.gpkg f.gpkg",
                "summarise a.gpkg b.gpkg s.gpkg --share area --with 'people = sum(people)'", "buffer a.gpkg m.gpkg --distance 60 --merged")
  shown <- 0
  for (k in seq_along(commands)) {
    found <- in_terminal(paste("civicatlas", commands[k]), c(60, 160)[k %% 2 + 1], folder)
    expect_identical(found$code, 0L, info = paste(commands[k], found$text))
    expect_match(found$text, "Wrote '?[a-z]+.gpkg")
    shown <- shown + grepl("\u25a0|ETA", found$text)
  }
  expect_gt(shown, 1)
  quiet <- in_shell("civicatlas overlay a.gpkg b.gpkg o.gpkg --replace", folder)
  expect_no_match(quiet$stderr, "ETA")
})

test_that("a display that fails does not end the work", {
  expect_null(civicatlas:::displayed(stop("no bar")))
  withr::local_options(cli.dynamic = TRUE, civicatlas.quiet = FALSE)
  expect_true(civicatlas:::shows_progress())
  ended <- function() {
    one <- civicatlas:::new_progress("one")
    two <- civicatlas:::new_progress("two")
    one(0.2)
    two(0.4)
    one(1)
    one(0.1)
    two(1)
    "done"
  }
  expect_identical(suppressMessages(ended()), "done")
})

test_that("reports, drawings and scripts are made from the shell, and what is there is replaced where that is asked for alone", {
  folder <- withr::local_tempdir()
  run <- paste("civicatlas run", shQuote(workflow("largest-room")))
  expect_identical(in_terminal(paste(run, "--folder out --report r.html --quiet"), 80, folder)$code, 0L)
  expect_match(readLines(file.path(folder, "r.html"), encoding = "UTF-8"), "22 wards have such a room", all = FALSE)
  expect_identical(in_terminal(paste(run, "--drawing d.svg"), 80, folder)$code, 0L)
  expect_match(in_shell(paste(run, "--folder out --report r.html"), folder)$stderr, "r.html.* is there already.*--replace")
  expect_identical(in_shell(paste(run, "--folder out --report r.html --replace --quiet"), folder)$status, 0L)
  for (wrong in c("--report nowhere/r.html", "--report r.docx", "--drawing d.xyz")) expect_gt(in_shell(paste(run, "--folder fresh", wrong), folder)$status, 0)
  expect_false(dir.exists(file.path(folder, "fresh")))
  expect_identical(in_shell(paste(run, "--folder results --report results/report.html --quiet"), folder)$status, 0L)  # whose folder the run makes
  shell <- in_terminal(paste(run, "--folder out"), 80, folder)
  expect_match(shell$text, "22 wards have such a room")
  json <- jsonlite::fromJSON(in_shell(paste("civicatlas run", shQuote(workflow("out-of-reach")), "--folder far --json --quiet --input distance=500"), folder)$stdout)
  expect_identical(json$inputs$distance, 500L)
  expect_match(json$answer, "farther than 500 m")
})

test_that("a locale of ASCII takes texts, names and paths as they are", {
  folder <- withr::local_tempdir()
  name <- "n\u00e4m\u00e9"
  place <- enc2utf8("Z\u00fcrich")
  file <- file.path(folder, enc2utf8("g\u00e4rten.geojson"))
  line <- sprintf("{\"type\":\"Feature\",\"properties\":{\"%s\":\"%s\"},\"geometry\":{\"type\":\"Point\",\"coordinates\":[1,2]}}", name, c(place, "Bern"))
  writeLines(enc2utf8(sprintf("{\"type\":\"FeatureCollection\",\"features\":[%s]}", paste(line, collapse = ","))), file, useBytes = TRUE)
  for (env in list(c(LC_ALL = "C"), c(LC_ALL = "", LANG = "", LC_CTYPE = "POSIX"))) {
    found <- in_shell(enc2utf8(sprintf("civicatlas keep g\u00e4rten.geojson \"%s = '%s'\" - | civicatlas head -", name, place)), folder, env)
    expect_identical(found$status, 0L)
    Encoding(found$stdout) <- "UTF-8"
    expect_identical(trimws(strsplit(found$stdout, "\n")[[1]]), c(name, place))
  }
})

test_that("help is at the terminal's width and needs no package; the functions of expressions are listed", {
  narrow <- in_terminal("civicatlas help buffer", 60)
  lines <- strsplit(narrow$text, "\n")[[1]]
  expect_true(all(nchar(lines[!startsWith(lines, "  civicatlas")]) <= 60))  # an example stays on its line
  expect_match(narrow$text, "civicatlas buffer rooms.geojson reach.geojson --distance 400 --merged")
  folder <- withr::local_tempdir()
  words <- in_shell("civicatlas help expressions", folder)$stdout
  for (word in names(as.list(civicatlas:::words))) expect_match(words, paste0("\n  ", word, "("), fixed = TRUE)
  written <- paste0(paste(readLines(system.file("cli", "overview.txt", package = "civicatlas"), encoding = "UTF-8"), collapse = "\n"), "\n")
  expect_identical(written, enc2utf8(civicatlas:::overview()))
  expect_identical(in_shell("civicatlas --version", folder)$stdout, paste0("civicatlas ", utils::packageVersion("civicatlas"), "\n"))
})

test_that("a stream goes to standard output as it is open, and what cannot be written is told", {
  folder <- withr::local_tempdir()
  copy <- file.path(folder, "tool")
  file.copy(file.path(tool_folder, "civicatlas"), copy)
  before <- unname(tools::md5sum(copy))
  convert <- paste(shQuote(copy), "convert", shQuote(file.path(data, "rooms.geojson")), "-")
  closed <- in_shell(paste(convert, ">&-"), folder)
  expect_identical(closed$status, 1L)
  expect_match(closed$stderr, "standard output is closed")
  expect_identical(unname(tools::md5sum(copy)), before)
  expect_identical(in_shell(paste("{ echo first;", convert, "--quiet; } > out.txt"), folder)$status, 0L)
  lines <- readLines(file.path(folder, "out.txt"))
  expect_identical(lines[1], "first")
  expect_length(lines, 143)  # with the first and the last of the stream
  expect_identical(in_shell(paste(convert, "--quiet | head -n 1 | wc -l"), folder)$stdout, "1\n")
  if (file.exists("/dev/full")) expect_match(in_shell(paste(convert, "> /dev/full"), folder)$stderr, "standard output: No space")
})

test_that("an interrupt exits with 130", {
  folder <- withr::local_tempdir()
  write_cells(file.path(folder, "a.gpkg"), 60)
  process <- processx::process$new("civicatlas", c("buffer", "a.gpkg", "m.gpkg", "--distance", "900", "--merged"), wd = folder, env = tool_path, stderr = file.path(folder, "err"))
  for (i in 1:200) if (any(grepl("Read", readLines(file.path(folder, "err"), warn = FALSE)))) break else Sys.sleep(0.1)
  process$interrupt()
  process$wait(60000)
  expect_identical(process$get_exit_status(), 130L)
  expect_false(file.exists(file.path(folder, "m.gpkg")))
})

test_that("outputs are looked at before the work, layers stand behind files, and variables are options", {
  folder <- withr::local_tempdir()
  shell <- function(...) in_shell(paste(...), folder)
  rooms <- file.path(data, "rooms.geojson")
  wards <- file.path(data, "wards.shp")
  for (target in c("nowhere/x.gpkg", "x.foo", "x.gpkg --replace --append")) {
    refused <- shell("civicatlas buffer", shQuote(rooms), target, "--distance 3")
    expect_gt(refused$status, 0)
    expect_no_match(refused$stderr, "Read ")
  }
  expect_identical(shell("civicatlas load", shQuote(wards), shQuote(rooms), "--to store.gpkg --crs EPSG:32757 --quiet")$status, 0L)
  expect_match(shell("civicatlas join store.gpkg#rooms store.gpkg j.gpkg")$stderr, "store.gpkg#")
  expect_identical(shell("civicatlas join store.gpkg#rooms store.gpkg#wards j.gpkg --quiet")$status, 0L)
  expect_identical(sum(!is.na(read_layer(file.path(folder, "j.gpkg"))$ward_id)), 136L)
  expect_match(shell("civicatlas join store.gpkg#rooms store.gpkg#wards j.gpkg")$stderr, "has a layer \"j\" already")
  expect_identical(shell("civicatlas map", shQuote(wards), "m.png --fill residents --quiet --dpi 40")$status, 0L)
  expect_match(shell("civicatlas map", shQuote(wards), "m.png --fill residents")$stderr, "--replace")
  writeLines(c("id,eastwards,northwards", "1,590000,4750000"), file.path(folder, "points.csv"))
  expect_match(shell("civicatlas centroid points.csv c.gpkg")$stderr, "civicatlas convert INPUT OUTPUT --coords x,y --declare-crs")
  expect_identical(shell("civicatlas convert points.csv points.gpkg --coords eastwards,northwards --declare-crs EPSG:32757 --quiet")$status, 0L)
  expect_identical(as_xy(read_layer(file.path(folder, "points.gpkg"))), c(590000, 4750000))
  writeLines(c("NAME,seats", "Tide Parade Church hall,7"), file.path(folder, "table.csv"))
  expect_identical(shell("civicatlas join-table", shQuote(rooms), "table.csv named.gpkg --key name=NAME --quiet")$status, 0L)
  expect_named(read_layer(file.path(folder, "named.gpkg")), c("room_id", "name", "kind", "seats", "opens", "closes", "seats_table", "geometry"))
  expect_identical(shell("civicatlas join", shQuote(wards), "named.gpkg#named both.gpkg --match-crs --quiet")$status, 0L)
  expect_match(shell("civicatlas overlay a b c.gpkg --keep union")$stderr, "--keep is --pieces now")
  expect_match(shell("CIVICATLAS_UNPACK_LIMIT=1000 civicatlas describe", shQuote(file.path(data, "cells.zip")))$stderr, "CIVICATLAS_UNPACK_LIMIT=10000000000")
  remedied <- shell("CIVICATLAS_UNPACK_LIMIT=10000000000 civicatlas describe", shQuote(file.path(data, "cells.zip")))
  expect_identical(remedied$status, 0L)
})

test_that("every command gives an account, and tables of pairs name their rows", {
  folder <- withr::local_tempdir()
  wards <- shQuote(file.path(data, "wards.shp"))
  expect_match(in_shell(paste("civicatlas compute", wards, "x.gpkg --set 'a = 1'"), folder)$stderr, "`compute`: 24 rows in, 24 out; new: a.", fixed = TRUE)
  expect_match(in_shell(paste("civicatlas sort", wards, "y.gpkg --order name"), folder)$stderr, "`sort`: 24 rows in, 24 out.", fixed = TRUE)
  expect_match(in_shell(paste("civicatlas compute", wards, "z.gpkg --set 'a = 1000 * residents / 0'"), folder)$stderr, "in 24 rows: a division by 0")
  pairs <- strsplit(in_shell(paste("civicatlas neighbours", wards, "--names name --quiet"), folder)$stdout, "\n")[[1]]
  expect_match(pairs[1:2], "^(name +neighbour +weight|Gannet Point +Lanternfield +0.5)")
  table <- in_shell(paste("civicatlas cross-table", wards, shQuote(file.path(data, "districts.shp")), "--column name --other-column district --area-unit ha --match-crs --quiet"), folder)$stdout
  expect_match(table, "^name +district +area_ha\n")
  expect_no_match(table, "e[+]0")
  expect_match(in_shell(paste("civicatlas clusters", wards, "k.csv --fill residents"), folder)$stderr, "after adjustment by fdr; [0-9]+ below it before")
  expect_named(suppressMessages(read_layer(file.path(folder, "k.csv"))), c("ward_id", "name", "residents", "over_65", "cluster", "p_value", "p_adjusted"))
})
