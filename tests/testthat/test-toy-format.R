# A format is one record: this one is registered here, and nothing else of the package knows of it. A line holds x, y and a name.

read_toy <- function(source, query) {
  text <- rawToChar(civicatlas:::core_read_bytes(source$content, -1))
  lines <- strsplit(strsplit(text, "\n")[[1]], ";", fixed = TRUE)
  bad <- which(lengths(lines) != 3)
  if (length(bad)) civicatlas:::fail("format", "Cannot read {.file {source$name}}: line {bad[1]} is no point.", call = query$call)
  columns <- list(name = vapply(lines, `[`, "", 3))
  axis <- function(k) as.double(vapply(lines, `[`, "", k))
  shapes <- point_shapes(axis(1), axis(2), crs = 32757)
  query <- civicatlas:::settle_window(query, crs_of(shapes))
  wanted <- civicatlas:::chosen_columns(query, columns)
  civicatlas:::where_columns(query, names(columns))
  rows <- civicatlas:::rows_where(query, columns, length(shapes))
  rows <- rows[civicatlas:::rows_within(query, shapes[rows])]
  pick <- function(column) column[rows]
  civicatlas:::layer_content(lapply(stats::setNames(columns[wanted], names(wanted)), pick), shapes[rows], length(shapes), query)
}

write_toy <- function(x, target, options, call) {
  places <- coordinates_of(x)
  lines <- paste(places$x, places$y, x$name, sep = ";")
  civicatlas:::write_files(stats::setNames(list(charToRaw(paste0(lines, "\n", collapse = ""))), target), call)
}

local_toy_format <- function(env = rlang::caller_env()) {
  formats <- civicatlas:::formats
  makers <- formats$makers
  civicatlas:::register_format("toy", function() {
    civicatlas:::new_format("Toy", "this test", c("shapes", "columns"), endings = "toy", first_text = "^[0-9.]+;[0-9.]+;",
                            media_types = c("text/x-toy" = "toy"), read = read_toy, write = write_toy)
  })
  withr::defer({
    formats$makers <- makers
    formats$records <- NULL
  }, env)
}

test_that("a format that is registered is read, written and told as the others are", {
  local_toy_format()
  rooms <- read_layer(demo_file("rooms.geojson")) |> reproject_to(32757)
  file <- withr::local_tempfile(fileext = ".toy")
  write_layer(rooms, file)
  expect_error(write_layer(rooms, file), "is there already", class = "civicatlas_error_file")
  expect_error(write_layer(rooms, file, layer = "x"), "single layer", class = "civicatlas_error_argument")
  expect_error(write_layer(rooms, file, append = TRUE), "GeoPackage or PostgreSQL", class = "civicatlas_error_argument")
  expect_error(write_layer(attribute_table(rooms), withr::local_tempfile(fileext = ".toy")), "without shapes", class = "civicatlas_error_argument")
  back <- read_layer(file)
  expect_equal(coordinates_of(back), coordinates_of(rooms))
  expect_identical(nrow(read_layer(file, where = name == rooms$name[2])), 1L)
  expect_identical(names(read_layer(file, columns = c(called = name))), c("called", "geometry"))
  window <- extent_of(rooms[3, ]) + c(-1, -1, 1, 1)
  expect_identical(read_layer(file, within = unname(window))$name, rooms$name[3])
  expect_identical(list_layers(file)$format, "toy")
  expect_identical(describe_layer(file)$rows, nrow(rooms))
  expect_true("Toy" %in% layer_formats()$format)
})

test_that("it is known by its first bytes, in archives, on the command line and in stores", {
  local_toy_format()
  folder <- withr::local_tempdir()
  rooms <- read_layer(demo_file("rooms.geojson")) |> reproject_to(32757)
  file <- file.path(folder, "rooms.toy")
  write_layer(rooms, file)
  bare <- file.path(folder, "rooms")
  file.copy(file, bare)
  expect_identical(nrow(read_layer(bare)), nrow(rooms))
  withr::with_dir(folder, utils::zip("rooms.zip", "rooms.toy", flags = "-q"))
  expect_identical(read_layer(file.path(folder, "rooms.zip"))$name, rooms$name)
  expect_identical(civicatlas:::ending_of_type("text/x-toy"), "toy")
  store <- file.path(folder, "store.gpkg")
  expect_identical(load_layers(file, store)$problem, NA_character_)
  expect_identical(read_layer(store)$name, rooms$name)
  wider <- file.path(folder, "wider.toy")
  suppressMessages(expect_identical(civicatlas:::run_arguments(c("convert", file, wider)), 0L))
  expect_identical(readLines(wider), readLines(file))
})

test_that("a damaged file of it is an error that names it", {
  local_toy_format()
  file <- withr::local_tempfile(fileext = ".toy", lines = c("1;2;a", "3;4"))
  expect_error(read_layer(file), "line 2 is no point", class = "civicatlas_error_format")
})
