# The installed tool, as its users call it.
civic <- function(...) {
  script <- system.file("exec", "civicatlas", package = "civicatlas")
  out <- tempfile()
  err <- tempfile()
  code <- suppressWarnings(system2("Rscript", c("--vanilla", shQuote(script), shQuote(c(...))), stdout = out, stderr = err))
  list(code = code, out = paste(readLines(out, warn = FALSE), collapse = "\n"), err = paste(readLines(err, warn = FALSE), collapse = "\n"))
}

test_that("help, wrong usage and failures have their exit codes", {
  expect_identical(civic("--help")$code, 0L)
  help <- civic("join", "--help")
  expect_identical(help$code, 0L)
  expect_match(help$out, "Example:\n  civicatlas join")
  unknown <- civic("descripe")
  expect_identical(unknown$code, 2L)
  expect_match(unknown$err, "nearest is \"describe\"")
  expect_identical(civic("convert", "one.shp")$code, 2L)
  expect_identical(civic("describe", demo_file("wards.shp"), "--no-such-option")$code, 2L)
  missing <- civic("describe", "nowhere.shp")
  expect_identical(missing$code, 1L)
  expect_match(missing$err, "no file")
  expect_identical(missing$out, "")
})

test_that("describe gives data on standard output, as text and as JSON", {
  text <- civic("describe", demo_file("wards.shp"))
  expect_match(text$out, "24.*multipolygons.*EPSG:32757")
  json <- jsonlite::fromJSON(civic("describe", demo_file("wards.shp"), "--json", "--quiet")$out)
  expect_identical(json$rows, 24L)
  expect_identical(json$fields$name, c("ward_id", "name", "residents", "over_65"))
  failed <- civic("describe", "nowhere.shp", "--json")
  expect_identical(jsonlite::fromJSON(failed$out)$error$kind, "file")
})

test_that("the story's steps run from the command line and agree with R", {
  folder <- withr::local_tempdir()
  path <- function(name) file.path(folder, name)
  wards <- demo_file("wards.shp")
  rooms <- demo_file("rooms.geojson")
  expect_identical(civic("convert", demo_file("cells.zip"), path("cells.geojson"), "--decimals", "6", "--columns", "cell_id,pop_total")$code, 0L)
  expect_named(read_layer(path("cells.geojson")), c("cell_id", "pop_total", "geometry"))
  expect_identical(civic("reproject", rooms, path("rooms.shp"), "--crs", "EPSG:32757")$code, 0L)
  refused <- civic("join", rooms, wards, path("joined.geojson"))
  expect_identical(refused$code, 1L)
  expect_match(refused$err, "different CRSs")
  expect_identical(civic("join", path("rooms.shp"), wards, path("joined.geojson"), "--unmatched", "drop")$code, 0L)
  expect_identical(nrow(read_layer(path("joined.geojson"))), 136L)
  expect_identical(civic("join", path("rooms.shp"), wards, path("again.geojson"), "--unmatched", "drip")$code, 2L)
  expect_identical(civic("pick", wards, rooms, path("largest.shp"), "--take", "name,seats", "--rank-by", "seats", "--match-crs")$code, 0L)
  picked <- read_layer(path("largest.shp"))
  summed <- civic("summarise", wards, rooms, path("out.shp"), "--match-crs", "--json", "--quiet", "--with", "rooms = n(), seats = sum(seats)",
                  "--compute", "per_1000 = 1000 * seats / residents")
  expect_identical(summed$code, 0L)
  expect_identical(jsonlite::fromJSON(summed$out)$rows, 24L)
  out <- read_layer(path("out.shp"))
  expect_equal(out$per_1000, 1000 * out$seats / out$residents)
  here <- summarise_into(read_layer(wards), reproject_to(read_layer(rooms), 32757), seats = sum(seats), most = max(seats))
  expect_equal(out$seats, here$seats)
  expect_equal(picked$seats, here$most)
  expect_identical(civic("map", path("out.shp"), path("map.png"), "--fill", "per_1000", "--points", rooms, "--outlines", wards, "--dpi", "60")$code, 0L)
  expect_gt(file.size(path("map.png")), 5000)
  expect_identical(civic("map", path("out.shp"), path("map.png"), "--fill", "per_1001")$code, 1L)
})

test_that("the demo tells its story and writes its files", {
  folder <- withr::local_tempdir()
  told <- civic("demo", folder)
  expect_identical(told$code, 0L)
  for (fact in c("24", "different CRSs", "CR140", "seats_per_1000", "\"O8\", \"1 9\"", "natural")) expect_match(told$out, fact, fixed = TRUE)
  expect_setequal(list.files(folder), c("rooms-with-wards.zip", "seats-by-ward.png", "wards-with-rooms.geojson"))
})

test_that("the examples of the documentation run", {
  examples <- c("shapes", "read_layer", "join_where", "summarise_into", "class_breaks", "crs", "history_of", "choropleth_map", "write_layer")
  for (topic in examples) {
    expect_no_error(suppressMessages(utils::example(topic, package = "civicatlas", character.only = TRUE, echo = FALSE, ask = FALSE, local = TRUE)))
  }
})
