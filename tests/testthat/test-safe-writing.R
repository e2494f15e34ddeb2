# The promise: a file is the old one or the new one, whole, and nobody else's file is touched.


test_that("names are names, not patterns, and side files of others stay", {
  folder <- withr::local_tempdir()
  at <- function(name) file.path(folder, name)
  wards <- suppressWarnings(two_wards(4326))
  for (name in c("a.shp", "b.shp")) write_layer(wards, at(name))
  suppressWarnings(write_layer(declare_crs(wards, NULL), at("[ab].shp")))
  expect_true(all(file.exists(at(c("a.prj", "b.prj")))))
  expect_false(file.exists(at("[ab].prj")))
  writeLines("mine", at("roads.dbf"))
  expect_error(write_layer(wards, at("roads.shp")), "roads.dbf.*already", class = "civicatlas_error_file")
  expect_identical(readLines(at("roads.dbf")), "mine")
  expect_false(file.exists(at("roads.shp")))
  write_layer(wards, at("roads.shp"), replace = TRUE)
  expect_identical(suppressWarnings(read_layer(at("roads.shp")))$ward, wards$ward)
  writeLines("mine", at("data.csv.part"))
  write_layer(wards, at("data.csv"))
  expect_identical(readLines(at("data.csv.part")), "mine")
  expect_length(list.files(folder, "part-|old-", all.files = TRUE), 0)
})

test_that("files that belong together change together or not at all", {
  folder <- withr::local_tempdir()
  at <- function(name) file.path(folder, name)
  wards <- suppressWarnings(two_wards(4326))
  write_layer(wards, at("a.shp"))
  before <- tools::md5sum(list.files(folder, full.names = TRUE))
  unlink(at("a.cpg"))
  dir.create(at("a.cpg"))
  changed <- dplyr::mutate(wards, ward = rev(ward))
  expect_error(write_layer(changed, at("a.shp"), replace = TRUE), "a.cpg.*folder", class = "civicatlas_error_file")
  left <- setdiff(names(before), at("a.cpg"))
  expect_identical(tools::md5sum(left), before[left])
  expect_length(list.files(folder, "part-|old-", all.files = TRUE), 0)
})

test_that("permissions and links of what is replaced stay", {
  skip_on_os("windows")
  folder <- withr::local_tempdir()
  at <- function(name) file.path(folder, name)
  dir.create(at("store"))
  write_layer(two_wards(4326), at("store/real.geojson"))
  Sys.chmod(at("store/real.geojson"), "0600", use_umask = FALSE)
  file.symlink(at("store/real.geojson"), at("link.geojson"))
  write_layer(dplyr::mutate(two_wards(4326), ward = "new"), at("link.geojson"), replace = TRUE)
  expect_identical(Sys.readlink(at("link.geojson")), at("store/real.geojson"))
  expect_identical(format(file.mode(at("store/real.geojson"))), "600")
  expect_identical(unique(suppressWarnings(read_layer(at("link.geojson")))$ward), "new")
})

# Processes of their own that write layers to `file` over and over; each row of a layer says in its attribute and in its
# place which of the writer's layers it is of. They end with the test.
start_writers <- function(file, count = 1, env = parent.frame()) {
  script <- withr::local_tempfile(fileext = ".R", .local_envir = env)
  writeLines("library(civicatlas); options(civicatlas.quiet = TRUE); given <- commandArgs(TRUE)
              layer <- if (grepl('gpkg', given[1])) 'points'
              repeat {
                run <- as.integer(given[2]) + as.integer(stats::runif(1, 0, 1000)); rows <- 500 + run %% 7
                places <- point_shapes(rep(run / 1000, rows), seq_len(rows) / rows, 4326)
                x <- spatial_frame(run = rep(run, rows), geometry = places)
                tryCatch(write_layer(x, given[1], replace = TRUE, layer = layer), civicatlas_error_file = function(e) if (!grepl('held by', conditionMessage(e))) stop(e))
              }", script)
  lapply(seq_len(count), function(k) {
    writer <- processx::process$new(file.path(R.home("bin"), "Rscript"), c(script, file, 1000 * k), stderr = paste0(script, ".err"))
    withr::defer(writer$kill(), envir = env)
    while (!file.exists(file) && writer$is_alive()) Sys.sleep(0.05)
    writer
  })
}

expect_one_layer <- function(file) {
  found <- suppressWarnings(read_layer(file))
  run <- unique(found$run)
  expect_length(run, 1)
  expect_identical(nrow(found), as.integer(500 + run %% 7))
  expect_equal(unique(unname(x_of(found))), run / 1000, tolerance = 1e-6)
}
x_of <- function(frame) civicatlas:::core_boxes(unclass(frame$geometry), attr(frame$geometry, "store"))[1, ]

test_that("a writer that is killed leaves the old file or the new one", {
  skip_on_os("windows")
  folder <- withr::local_tempdir()
  kills <- as.integer(Sys.getenv("CIVIC_KILLS", "3"))
  for (ending in c("shp", "geojson", "csv", "gpkg", "kml", "zip", "parquet")) {
    if (ending == "parquet") skip_if_not_installed("nanoparquet")
    file <- file.path(folder, paste0("points.", ending))
    for (kill in seq_len(kills)) {
      writer <- start_writers(file)[[1]]
      Sys.sleep(stats::runif(1, 0, 0.4))
      expect_true(writer$is_alive(), label = ending)
      writer$kill()
      expect_one_layer(file)
      x <- suppressWarnings(read_layer(file))
      expect_no_error(suppressWarnings(write_layer(x, file, replace = TRUE, layer = if (ending == "gpkg") "points")))
    }
  }
})

test_that("readers get one of the layers that several writers write at a time", {
  skip_on_os("windows")
  folder <- withr::local_tempdir()
  for (ending in c("shp", "gpkg")) {
    file <- file.path(folder, paste0("points.", ending))
    writers <- start_writers(file, 2)
    for (read in 1:15) expect_one_layer(file)
    expect_true(all(vapply(writers, function(writer) writer$is_alive(), NA)), label = ending)
  }
})

test_that("a shapefile that is being changed is waited for, and who changes it is named", {
  skip_on_os("windows")
  folder <- withr::local_tempdir()
  file <- file.path(folder, "a.shp")
  wards <- suppressWarnings(two_wards(4326))
  write_layer(wards, file)
  journal <- file.path(folder, ".a.civicatlas-change")
  writeBin(c(charToRaw("civicatlas change 1"), as.raw(0), charToRaw("process 7 on a machine"), as.raw(0)), journal)
  skip_if(!nzchar(Sys.which("flock")), "no flock here")
  holder <- processx::process$new("flock", c(journal, "sleep", "100"))
  withr::defer(holder$kill_tree())
  while (system2("flock", c("-n", journal, "true")) == 0) Sys.sleep(0.01)
  withr::local_options(civicatlas.busy_wait = 100)
  expect_error(read_layer(file), "a.shp is being changed by process 7 on a machine", class = "civicatlas_error_file")
  expect_error(write_layer(wards, file, replace = TRUE), "is being changed", class = "civicatlas_error_file")
  holder$kill_tree()
  options(civicatlas.busy_wait = 10000)
  expect_identical(suppressWarnings(read_layer(file))$ward, wards$ward)
  expect_false(file.exists(journal))
})

test_that("what ended processes left beside a file goes a day later, and nothing else", {
  wards <- read_layer(demo_file("wards.shp"))
  folder <- withr::local_tempdir()
  at <- function(names) file.path(folder, names)
  left <- c("w.shp.part-0123abcd", "w.dbf.part-89abcdef", ".w.gpkg.part-1a2b3c4d5e6f")
  others <- c("w.shp.part-mine", "v.shp.part-0123abcd", "w.shp.part", "w.geojson.part-0123abcd")
  file.create(at(c(left, others)))
  Sys.setFileTime(at(c(left, others)), Sys.time() - 2 * 86400)
  file.create(young <- at("w.shx.part-0123abcd"))
  write_layer(wards, at("w.shp"))
  write_layer(wards, at("w.gpkg"))
  expect_false(any(file.exists(at(left))))
  expect_true(all(file.exists(c(at(others), young))))
})

test_that("what is no file is not replaced by one", {
  skip_on_os("windows")
  folder <- withr::local_tempdir()
  wards <- read_layer(demo_file("wards.shp"))
  places <- file.path(folder, c("pipe.geojson", "link.gpkg", "link.shp", "link.parquet", "link.csv"))
  system2("mkfifo", shQuote(places[1]))
  file.symlink(file.path(folder, "nowhere"), places[-1])
  for (place in places) expect_error(suppressWarnings(write_layer(wards, place, replace = TRUE)), "a device, a pipe, or a link to a file that is not there", class = "civicatlas_error_file")
  expect_setequal(list.files(folder), basename(places))
  there <- file.path(folder, "there.geojson")
  writeLines("old", there)
  link <- file.path(folder, "to-there.geojson")
  file.symlink(there, link)
  suppressMessages(write_layer(wards, link, replace = TRUE))
  expect_identical(Sys.readlink(link), there)
  expect_identical(nrow(read_layer(there)), nrow(wards))
})

test_that("processes that make one GeoPackage at once each find their layer in it", {
  skip_on_os("windows")
  folder <- withr::local_tempdir()
  file <- file.path(folder, "store.gpkg")
  code <- "library(civicatlas); x <- read_layer(demo_file('rooms.geojson')); while (!file.exists('%1$s/go')) Sys.sleep(0.001); write_layer(x, '%1$s/store.gpkg', layer = 'l%2$d')"
  here <- rlang::current_env()
  started <- lapply(1:4, function(k) in_r(sprintf(code, folder, k), here))
  Sys.sleep(3)
  file.create(file.path(folder, "go"))
  for (process in started) process$wait(60000)
  expect_identical(vapply(started, function(process) process$get_exit_status(), 0L), rep(0L, 4))
  expect_setequal(list_layers(file)$layer, paste0("l", 1:4))
  for (k in 1:4) expect_identical(nrow(read_layer(file, paste0("l", k))), 140L)
})
