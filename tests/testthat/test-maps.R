drawn <- function(map) ggplot2::ggplot_build(map)$data

test_that("every region is filled with the colour of its class", {
  wards <- read_layer(demo_file("wards.shp"))
  map <- choropleth_map(wards, residents, classes = 4, key_title = "Residents", counts = TRUE)
  breaks <- class_breaks(wards$residents, 4)
  class <- findInterval(wards$residents, unclass(breaks)[2:4], left.open = TRUE) + 1
  colours <- map_colours(4, "harbour")
  data <- drawn(map)[[1]]
  expect_identical(toupper(data$fill[order(data$row)]), toupper(colours[class]))
  key <- ggplot2::get_guide_data(map, "fill")
  expect_setequal(toupper(key$fill), toupper(colours))
  expect_identical(sum(as.integer(sub(".*\\((\\d+)\\)$", "\\1", key$.label))), 24L)
  expect_identical(ggplot2::get_labs(map)$fill, "Residents")
})

test_that("holes stay open: drawn pixels follow the area", {
  wards <- two_wards()[1:2, ]
  map <- choropleth_map(wards, area, at = c(90, 98, 101), outline = NA) + ggplot2::theme_void() +
    ggplot2::theme(legend.position = "none", plot.caption = ggplot2::element_blank(), plot.margin = ggplot2::margin())
  capture <- ragg::agg_capture(1060, 560, units = "px", res = 96)
  print(map)
  pixels <- toupper(substr(as.character(capture()), 1, 7))
  grDevices::dev.off()
  colours <- toupper(map_colours(2, "harbour"))
  expect_equal(sum(pixels == colours[1]) / sum(pixels == colours[2]), 0.96, tolerance = 0.01)
})

test_that("layers on another CRS are put on the map's, and what lies outside is counted", {
  withr::local_options(civicatlas.quiet = FALSE)
  wards <- suppressMessages(read_layer(demo_file("wards.shp")))
  rooms <- suppressMessages(read_layer(demo_file("rooms.geojson")))
  said <- character()
  map <- withCallingHandlers(choropleth_map(wards, residents) + map_outlines(wards) + map_points(rooms), message = function(m) {
    said <<- c(said, conditionMessage(m))
    invokeRestart("muffleMessage")
  })
  expect_match(said[2], "look like counts")
  expect_match(said[3], "reprojected for drawing")
  expect_match(said[4], "outside the map")
  layers <- drawn(map)
  expect_length(layers, 3)
  extent <- extent_of(suppressMessages(reproject_to(rooms, wards)))
  expect_equal(range(layers[[3]]$xmin), unname(extent[c("xmin", "xmax")]))
})

test_that("maps on longitude and latitude keep shapes in proportion", {
  rooms <- declare_crs(point_shapes(c(160, 161), c(-60, -59)), 4326)
  x <- toy_frame(v = 1:2, geometry = rooms)
  map <- suppressWarnings(choropleth_map(x, v, classes = 2))
  expect_equal(map$coordinates$ratio, 1 / cos(59.5 * pi / 180))
})

test_that("files are written in each format, and wrong ones refused", {
  map <- choropleth_map(two_wards(), area, classes = 2)
  folder <- withr::local_tempdir()
  starts <- list(png = "89504e47", jpg = "ffd8ff", tif = "49492a00", pdf = "25504446", svg = "3c3f786d6c")
  for (ending in names(starts)) {
    file <- save_map(map, file.path(folder, paste0("map.", ending)), dpi = 72)
    bytes <- readBin(file, "raw", nchar(starts[[ending]]) / 2)
    expect_identical(paste(bytes, collapse = ""), starts[[ending]], info = ending)
  }
  expect_setequal(list.files(folder, all.files = TRUE, no.. = TRUE), paste0("map.", names(starts)))
  # Width and height stand in bytes 17 to 24 of a PNG.
  pixels <- function(file) readBin(readBin(file, "raw", 24)[17:24], "integer", 2, 4, endian = "big")
  expect_identical(pixels(save_map(map, file.path(folder, "a.png"), 640, 400, "px", dpi = 96)), c(640L, 400L))
  expect_identical(pixels(save_map(map, file.path(folder, "b.png"), 6, 4, "in", dpi = 50)), c(300L, 200L))
  expect_identical(pixels(save_map(map, file.path(folder, "c.png"), 25.4, 12.7, dpi = 100)), c(1000L, 500L))
  expect_error(save_map(map, file.path(folder, "a.png"), replace = FALSE), "already", class = "civicatlas_error_file")
  expect_error(save_map(map, file.path(folder, "a.png"), width = -1), "above 0", class = "civicatlas_error_argument")
  expect_error(save_map(map, file.path(folder, "map.doc")), "png", class = "civicatlas_error_argument")
  expect_error(save_map(map, file.path(folder, "no", "map.png")), "no folder", class = "civicatlas_error_file")
  expect_error(save_map(1, file.path(folder, "map.png")), class = "civicatlas_error_argument")
})

test_that("what cannot be mapped is refused with the reason", {
  wards <- two_wards()
  expect_error(choropleth_map(wards, ward), "numbers.*west", class = "civicatlas_error_column")
  expect_error(choropleth_map(wards, aera), "Nearest.*area", class = "civicatlas_error_column")
  expect_error(choropleth_map(wards[0, ], area), "no rows", class = "civicatlas_error_argument")
  expect_error(choropleth_map(dplyr::mutate(wards, area = NA_real_), area), "no values", class = "civicatlas_error_argument")
  expect_error(choropleth_map(wards, area, classes = 2, palette = "habour"), "harbour", class = "civicatlas_error_choice")
  expect_error(map_points(1), class = "civicatlas_error_argument")
})

test_that("missing values get a colour of their own, and missing shapes none", {
  x <- toy_frame(v = c(1, 2, NA, 4), geometry = c(two_wards()$geometry, shapes_from_wkt(NA_character_, crs = 32757)))
  data <- drawn(suppressWarnings(choropleth_map(x, v, classes = 2)))[[1]]
  expect_identical(nrow(data), 3L)
  expect_identical(data$fill[3], "#c9c9c9")
})

test_that("arguments of maps after the first few are named in full, and a misspelt one is told with the nearest", {
  wards <- read_layer(demo_file("wards.shp"))
  expect_error(choropleth_map(wards, residents, palete = "moss"), "Nearest.*palette", class = "civicatlas_error_argument")
  expect_error(choropleth_map(wards, residents, 4, "quantile"), "\"quantile\".* has no name.*classes.*method", class = "civicatlas_error_argument")
  expect_error(category_map(wards, name, NULL, not_there), "not_there.* has no name", class = "civicatlas_error_argument")
  expect_error(symbol_map(wards, residents, unt = "x"), "Nearest.*unit", class = "civicatlas_error_argument")
  expect_error(flow_map(wards, residents, 5, 5, 5), "has no name.*most.*widest", class = "civicatlas_error_argument")
  expect_error(bivariate_map(wards, residents, over_65, "equal", "Title"), "has no name.*method.*across_title", class = "civicatlas_error_argument")
})
