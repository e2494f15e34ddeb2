# JSON that is written: numbers keep all their digits, wherever they stand.

test_that("numbers read back as the same doubles, and texts stay texts", {
  withr::local_seed(31)
  x <- c(0.1 + 0.2, -178.02138468064368, 1e300 / 3, 5e-324, 1e8, 0, -1, stats::runif(50, -180, 180), 10^stats::runif(50, -300, 300))
  odd <- c("\u00021", "\u0002],\"a\":[1", "1.5", "\"", NA)
  text <- civicatlas:::write_json(list(numbers = x, rows = data.frame(a = x[1:2], b = odd[1:2]), missing = c(1.5, NA), texts = odd[2:5], none = NULL))
  back <- jsonlite::fromJSON(text)
  expect_identical(back$numbers, x)
  expect_identical(back$rows$a, x[1:2])
  expect_identical(back$missing, c(1.5, NA))
  expect_identical(back$texts, odd[2:5])
  expect_match(text, "100000000,0,-1,", fixed = TRUE)
})

test_that("conditions, manifests, bounding boxes and answers hold every digit", {
  edge <- -178.02138468064368
  x <- spatial_frame(v = c(0.1 + 0.2, 1, 2), geometry = point_shapes(c(edge, -178.5, -179), c(1, 2, 3), 4326))
  json <- condition_json(paste0("v = ", format(x$v[1], digits = 17)))
  expect_identical(keep_rows(x, json)$v, x$v[1])
  folder <- withr::local_tempfile()
  tiled <- tile_up(x, folder, rows_per_tile = 1)
  expect_identical(extent_of(tiled), extent_of(x))
  expect_identical(nrow(dplyr::collect(read_layer(folder, within = c(edge, 0, -170, 4)))), 1L)
  expect_identical(dplyr::collect(keep_rows(read_layer(folder), v == 0.1 + 0.2))$v, x$v[1])
  expect_identical(dplyr::collect(keep_rows(read_layer(folder), json))$v, x$v[1])
  answer <- withr::local_tempfile(fileext = ".geojson")
  write_layer(x, answer)
  told <- jsonlite::fromJSON(utils::capture.output(code <- run_command_line(c("describe", answer, "--json"))))
  expect_true(edge %in% unlist(told$extent))
})
