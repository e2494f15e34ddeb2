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

test_that("a writer that is killed leaves the old file or the new one", {
  skip_on_os("windows")
  folder <- withr::local_tempdir()
  kills <- as.integer(Sys.getenv("CIVIC_KILLS", "3"))
  writer <- "library(civicatlas); options(civicatlas.quiet = TRUE); a <- commandArgs(TRUE)
             x <- suppressWarnings(point_shapes(runif(2e4), runif(2e4), 4326)); i <- 0
             repeat { i <- i + 1; suppressWarnings(write_layer(spatial_frame(run = rep(i, 2e4), geometry = x), a[1], replace = TRUE, layer = if (grepl('gpkg', a[1])) 'points')) }"
  script <- file.path(folder, "writer.R")
  writeLines(writer, script)
  for (ending in c("geojson", "csv", "gpkg", "parquet")) {
    if (ending == "parquet") skip_if_not_installed("nanoparquet")
    file <- file.path(folder, paste0("points.", ending))
    for (kill in seq_len(kills)) {
      pid <- system2("bash", c("-c", shQuote(sprintf("%s %s %s >/dev/null 2>&1 & echo $!", shQuote(file.path(R.home("bin"), "Rscript")), script, file))), stdout = TRUE)
      for (wait in 1:600) if (file.exists(file)) break else Sys.sleep(0.1)
      Sys.sleep(stats::runif(1, 0, 0.4))
      tools::pskill(as.integer(pid), tools::SIGKILL)
      system2("pkill", c("-9", "-f", shQuote(script)))
      Sys.sleep(0.05)
      found <- suppressWarnings(read_layer(file))
      expect_identical(nrow(found), 20000L, label = ending)
      expect_length(unique(found$run), 1)
      expect_no_error(suppressWarnings(write_layer(found, file, replace = TRUE, layer = if (ending == "gpkg") "points")))
    }
  }
})
