demo_wards <- function() read_layer(demo_file("wards.shp"))
built <- function(map) ggplot2::ggplot_build(map)$data
# Draws at a size and gives the colour of every pixel.
pixels_of <- function(map, width = 600, height = 400) {
  capture <- ragg::agg_capture(width, height, units = "px", res = 96)
  on.exit(grDevices::dev.off())
  print(map)
  seen <- capture()
  grDevices::rgb(t(grDevices::col2rgb(seen)), maxColorValue = 255)
}
bare <- function(map) map + ggplot2::theme_void() + ggplot2::theme(legend.position = "none", plot.caption = ggplot2::element_blank())

test_that("several columns and a column of panels share their breaks", {
  wards <- demo_wards()
  wards$side <- ifelse(wards$ward_id > "12", "north", "south")
  map <- choropleth_map(wards, c(All = residents, Old = over_65), classes = 4)
  breaks <- class_breaks(c(wards$residents, wards$over_65), 4)
  layout <- ggplot2::ggplot_build(map)$layout$layout
  expect_identical(as.character(layout$.panel), c("All", "Old"))
  data <- built(map)[[1]]
  expected <- map_colours(4)[findInterval(c(wards$residents, wards$over_65), unclass(breaks)[2:4], left.open = TRUE) + 1]
  expect_identical(data$fill[order(data$PANEL, data$row)], expected)
  by_side <- choropleth_map(wards, residents, panels = side)
  expect_identical(as.vector(table(built(by_side)[[1]]$PANEL)), c(12L, 12L))
  before <- before_and_after(wards, dplyr::mutate(wards, residents = residents * 2), residents, classes = 3, labels = c("now", "then"))
  expect_identical(as.character(ggplot2::ggplot_build(before)$layout$layout$.panel), c("now", "then"))
})

test_that("the midpoint is a break with equal shades on both sides", {
  wards <- demo_wards()
  wards$off <- wards$residents - 15000
  map <- choropleth_map(wards, off, classes = 6, palette = "tide", midpoint = 0)
  data <- built(map)[[1]]
  shown <- data$fill[order(data$row)]
  left <- grDevices::col2rgb(shown[wards$off <= 0])
  right <- grDevices::col2rgb(shown[wards$off > 0])
  expect_true(all(left["blue", ] > left["red", ]) && all(right["blue", ] < right["red", ]))
})

test_that("what has no data is grey, in the key and told; notes warn of counts and crowded classes", {
  withr::local_options(civicatlas.quiet = FALSE)
  wards <- suppressMessages(demo_wards())
  wards$residents[3] <- NA
  said <- character()
  map <- withCallingHandlers(choropleth_map(wards, residents, counts = TRUE), message = function(m) {
    said <<- c(said, conditionMessage(m))
    invokeRestart("muffleMessage")
  })
  expect_match(said[1], "23 shapes in 5 classes, natural breaks, variance fit 0.9\\d; 1 without data")
  expect_match(said[2], "look like counts.*rate")
  key <- ggplot2::get_guide_data(map, "fill")
  expect_identical(key$.label[6], "no data  (1)")
  expect_identical(key$fill[6], "#c9c9c9")
  expect_no_message(expect_message(choropleth_map(wards, residents / 2), "classes"), message = "look like counts")
  wards$lump <- c(seq(1, 3.1, 0.1), 50, 100)
  expect_message(expect_message(suppressWarnings(choropleth_map(wards, lump, method = "equal")), "22 of 24 shapes fall in one class"), "24 shapes")
})

test_that("a continuous key spans the values, about the midpoint on request", {
  wards <- demo_wards()
  map <- choropleth_map(wards, residents, method = "continuous")
  scale <- map$scales$get_scales("fill")
  expect_identical(scale$limits, as.double(range(wards$residents)))
  centred <- choropleth_map(wards, residents, method = "continuous", palette = "thaw", midpoint = 20000)
  expect_identical(mean(centred$scales$get_scales("fill")$limits), 20000)
})

test_that("classes and palettes out of range are refused", {
  wards <- demo_wards()
  expect_error(choropleth_map(wards, residents, classes = 13), "2 to 12", class = "civicatlas_error_argument")
  expect_error(choropleth_map(wards, residents, classes = 1), "2 to 12", class = "civicatlas_error_argument")
  expect_error(choropleth_map(wards, residents, method = "quantil"), "Nearest.*quantile", class = "civicatlas_error_choice")
  expect_error(choropleth_map(wards, name), "category_map", class = "civicatlas_error_column")
  expect_warning(choropleth_map(dplyr::mutate(wards, residents = ifelse(ward_id == "01", Inf, residents)), residents), "1 infinite value", class = "civicatlas_warning_classes")
  empty <- wards
  empty$geometry <- shapes_from_wkt(rep(NA_character_, 24), 32757)
  expect_error(choropleth_map(empty, residents), "no shapes", class = "civicatlas_error_argument")
})

test_that("a category keeps its colour across maps", {
  rooms <- read_layer(demo_file("rooms.geojson"))
  all <- category_map(rooms, kind)
  colour_of <- function(map, x) {
    data <- built(map)[[1]]
    tapply(data$fill[order(data$row)], x$kind, unique)
  }
  first <- colour_of(all, rooms)
  expect_length(unique(first), 7)
  some <- rooms[rooms$kind %in% c("school", "museum"), ]
  expect_identical(colour_of(category_map(some, kind), some), first[c("museum", "school")])
  own <- category_map(some, kind, colours = c(school = "#123456"))
  expect_identical(colour_of(own, some)[["school"]], "#123456")
  rooms$kind[1:3] <- NA
  key <- ggplot2::get_guide_data(category_map(rooms, kind, counts = TRUE), "fill")
  expect_identical(key$.label[8], "no data  (3)")
  expect_error(category_colours(rooms$name), "categories", class = "civicatlas_error_argument")
  expect_error(category_map(rooms, knd), "Nearest.*kind", class = "civicatlas_error_column")
})

test_that("circles are true in area, the largest lowest, with a key of round values", {
  wards <- demo_wards()
  map <- symbol_map(wards, residents, largest = 10)
  data <- built(map)[[2]]
  expect_equal(data$diameter^2 / max(data$diameter)^2, sort(wards$residents, decreasing = TRUE) / max(wards$residents))
  expect_identical(max(data$diameter), 10)
  inside <- keep_where(toy_frame(geometry = point_shapes(data$xmin, data$ymin, wards)), wards)
  expect_identical(nrow(inside), 24L)
  alone <- bare(symbol_map(toy_frame(v = 5, geometry = point_shapes(0, 0, 32757)), v, largest = 20, colour = "#000000"))
  side <- sqrt(sum(pixels_of(alone + map_view(c(xmin = -1, ymin = -1, xmax = 1, ymax = 1))) != "#FFFFFF") * 4 / pi)
  expect_equal(side, 20 / 25.4 * 96, tolerance = 0.03)
  expect_error(symbol_map(dplyr::mutate(wards, residents = -1), residents), "below 0", class = "civicatlas_error_argument")
  expect_identical(civicatlas:::key_values(41334), c(2000, 10000, 20000))
})

test_that("flows are as wide as their values, largest kept, both directions apart", {
  withr::local_options(civicatlas.quiet = FALSE)
  wards <- suppressMessages(demo_wards())
  trips <- suppressMessages(read_layer(demo_file("trips.csv")))
  flows <- suppressMessages(flows_between(wards, trips, from, to, ward_id, trips = sum(trips)))
  expect_message(map <- flow_map(flows, trips, most = 20, widest = 4), "20 flows, [0-9.]+ % of the total between places, 513 smaller ones left out")
  data <- built(map)[[1]]
  expect_equal(sort(data$width), sort(utils::head(sort(flows$trips, decreasing = TRUE), 20)) / max(flows$trips) * 4)
  there <- civicatlas:::flow_band(c(0, 0), c(50, 0), 1, 0.2)
  back <- civicatlas:::flow_band(c(50, 0), c(0, 0), 1, 0.2)
  expect_true(max(there[, 2]) > 2 && min(back[, 2]) < -2)
  width <- abs(there[13, 2] - there[nrow(there) - 12, 2])
  expect_equal(unname(width), 1, tolerance = 0.05)
  expect_error(suppressMessages(flow_map(wards, residents)), "must be lines", class = "civicatlas_error_argument")
})

test_that("two variables give nine colours by their thirds", {
  wards <- demo_wards()
  map <- bivariate_map(wards, over_65 / residents, residents)
  data <- built(map)[[1]]
  third <- function(v) findInterval(v, stats::quantile(v, c(1, 2) / 3), left.open = TRUE) + 1
  expected <- civicatlas:::both_colours[paste(third(wards$over_65 / wards$residents), third(wards$residents))]
  expect_identical(data$fill[order(data$row)], unname(expected))
})

test_that("plain maps stack points on lines on polygons, and plot() gives a map at once", {
  wards <- demo_wards()
  rooms <- read_layer(demo_file("rooms.geojson"))
  tramways <- read_layer(demo_file("tramways.kml"))
  map <- plain_map(Rooms = rooms, Wards = wards, Tramways = tramways)
  expect_identical(vapply(built(map), nrow, 0L), c(24L, nrow(tramways), 140L))
  expect_identical(ggplot2::get_guide_data(map, "fill")$.label, c("Rooms", "Tramways", "Wards"))
  expect_identical(map$coordinates$crs, crs_of(wards))
  expect_s3_class(ggplot2::autoplot(wards), "ggplot")
  expect_identical(ggplot2::get_labs(ggplot2::autoplot(wards, residents))$fill, "residents")
  expect_identical(ggplot2::get_labs(ggplot2::autoplot(rooms, kind))$fill, "kind")
  grDevices::pdf(NULL)
  withr::defer(grDevices::dev.off())
  expect_s3_class(plot(rooms), "ggplot")
  expect_error(plain_map(), "nothing to map", class = "civicatlas_error_argument")
})

test_that("thinning leaves no gaps between neighbours, keeps small islands and closes no large hole", {
  # Two polygons with a wild common border of 20,000 vertices, drawn at 400 pixels.
  set.seed(3)
  y <- seq(0, 100, length.out = 20000)
  border <- paste(50 + runif(20000, -3, 3), y)
  left <- sprintf("POLYGON ((0 0, %s, 0 100, 0 0))", paste(border, collapse = ", "))
  right <- sprintf("POLYGON ((100 0, 100 100, %s, 100 0))", paste(rev(border), collapse = ", "))
  x <- toy_frame(side = c("a", "b"), geometry = shapes_from_wkt(c(left, right), 32757))
  seen <- pixels_of(bare(category_map(x, side, colours = c(a = "#101010", b = "#E0E0E0"), outline = NA) +
                           map_view(c(xmin = 5, ymin = 5, xmax = 95, ymax = 95))), 400, 400)
  # Every pixel is one of the two colours or between them, none shows the white ground.
  grey <- grDevices::col2rgb(seen)[1, ]
  expect_length(grey, 400 * 400)
  expect_lt(max(grey), 0xE0 + 6)
  drawn <- civicatlas:::core_thinned(1:2, civicatlas:::store_of(x$geometry), c(0, 0, 100, 100), 0.1, 0.1)
  expect_lt(length(drawn$x), 40000)
  islet <- toy_frame(geometry = shapes_from_wkt("POLYGON ((5 5, 5.0001 5, 5.0001 5.0001, 5 5))", 32757))
  drawn <- civicatlas:::core_thinned(1L, civicatlas:::store_of(islet$geometry), c(0, 0, 10, 10), 0.1, 0.1)
  expect_length(drawn$x, 5)
})

test_that("the scale bar is true on the ground and the arrow points to true north", {
  wards <- demo_wards()
  frame_of <- function(map) c(map$coordinates$limits, list(crs = map$coordinates$crs))
  frame <- frame_of(plain_map(wards))
  metres <- civicatlas:::metres_across(frame)
  scale <- distortion_of(toy_frame(geometry = point_shapes(mean(frame$x), mean(frame$y), wards)))$least_scale
  expect_equal(metres, 1 / scale, tolerance = 1e-6)
  feet <- frame_of(plain_map(read_layer(demo_file("districts.shp"))))
  expect_equal(civicatlas:::metres_across(feet), 1200 / 3937, tolerance = 1e-3)
  bearing <- civicatlas:::grid_bearing_of_north(frame, 0.5, 0.5)
  convergence <- distortion_of(toy_frame(geometry = point_shapes(mean(frame$x), mean(frame$y), wards)))$convergence
  expect_equal(bearing, convergence, tolerance = 1e-3)
  expect_error(plain_map(declare_crs(wards, NULL)) + map_scale_bar(), "declare_crs", class = "civicatlas_error_crs")
  expect_error(map_scale_bar("left"), "bottom left", class = "civicatlas_error_choice")
})

test_that("the graticule runs along meridians and parallels", {
  wards <- demo_wards()
  lines <- civicatlas:::graticule_lines(c(xmin = 160.1, ymin = -47.5, xmax = 160.3, ymax = -47.3), 0.05, crs_of(wards))
  expect_equal(lines$degrees[lines$meridian], seq(160.1, 160.3, 0.05))
  back <- coordinates_of(reproject_to(lines, 4326))
  expect_equal(tapply(back$x, back$shape, sd)[lines$meridian], rep(0, 5), tolerance = 1e-7, ignore_attr = TRUE)
  plain <- pixels_of(bare(plain_map(wards)))
  expect_gt(sum(pixels_of(bare(plain_map(wards) + map_graticule(step = 0.05))) != plain), 500)
})

test_that("labels neither overlap nor leave the map", {
  set.seed(5)
  n <- 60
  at <- civicatlas:::core_label_places(runif(n, 0, 100), runif(n, 0, 60), rep(16, n), rep(3, n), rep(TRUE, n), 100, 60, 0.5)
  shown <- which(!is.nan(at$x))
  expect_gt(length(shown), 25)
  expect_true(all(at$x[shown] >= 8 & at$x[shown] <= 92 & at$y[shown] >= 1.5 & at$y[shown] <= 58.5))
  pairs <- utils::combn(shown, 2)
  clash <- abs(at$x[pairs[1, ]] - at$x[pairs[2, ]]) < 16 & abs(at$y[pairs[1, ]] - at$y[pairs[2, ]]) < 3
  expect_false(any(clash))
})

test_that("sheets hold maps of equal size, and views and insets stay on the CRS", {
  wards <- demo_wards()
  sheet <- side_by_side(choropleth_map(wards, residents), choropleth_map(wards, over_65, palette = "ember"), title = "Two")
  file <- withr::local_tempfile(fileext = ".png")
  expect_gt(file.size(save_map(sheet, file, 800, 400, "px", 72)), 5000)
  map <- choropleth_map(wards, residents) + map_view(wards[1:2, ]) + map_inset(wards)
  extent <- extent_of(wards[1:2, ])
  expect_true(map$coordinates$limits$x[1] < extent[["xmin"]] && map$coordinates$limits$x[1] > extent[["xmin"]] - 0.1 * (extent[["xmax"]] - extent[["xmin"]]))
  expect_no_error(print_nowhere(side_by_side(choropleth_map(wards, residents), choropleth_map(wards, over_65))))  # without a title
  expect_error(side_by_side(1), class = "civicatlas_error_argument")
  expect_error(map_view(1), class = "civicatlas_error_argument")
})

test_that("draw_classes shows the counts in the colours of the map", {
  wards <- demo_wards()
  breaks <- class_breaks(wards$residents, 4)
  map <- draw_classes(breaks)
  bars <- built(map)[[1]]
  expect_setequal(unique(bars$fill), map_colours(4))
  expect_identical(sum(as.integer(sub(".*\\((\\d+)\\)$", "\\1", ggplot2::get_guide_data(map, "fill")$.label))), 24L)
  expect_equal(built(map)[[2]]$xintercept, as.double(breaks))
  expect_no_error(print_nowhere(draw_classes(suppressWarnings(class_breaks(c(4, 4))))))
  expect_error(draw_classes(1:3), "class_breaks", class = "civicatlas_error_argument")
})

test_that("an interactive map shows values on hover, and its key picks out a class", {
  skip_if_not_installed("ggiraph")
  skip_without_browser()
  wards <- demo_wards()
  file <- withr::local_tempfile(fileext = ".html")
  interactive_map(choropleth_map(wards, residents, classes = 4), file, tooltip = c(name, residents))
  text <- paste(readLines(file, warn = FALSE), collapse = "\n")
  expect_false(grepl("<script src=|<link href=", text))
  browser <- opened_browser()
  withr::defer(browser$close())
  withr::local_options(chromote.timeout = 600)
  browser$Page$navigate(paste0("file://", file))
  ask <- function(code) browser$Runtime$evaluate(code)$result$value
  until <- function(code) for (i in 1:6000) if (isTRUE(ask(code))) return(TRUE) else Sys.sleep(0.1)
  expect_true(until("document.querySelectorAll('[data-id]').length == 24"))
  hover <- function(element) {
    at <- jsonlite::fromJSON(ask(paste0("(function () { var r = (", element, ").getBoundingClientRect(); return JSON.stringify([(r.left + r.right) / 2, (r.top + r.bottom) / 2]); })()")))
    browser$Input$dispatchMouseEvent(type = "mouseMoved", x = at[1], y = at[2])
  }
  hover("document.querySelector('[data-id$=\"-row6\"]')")
  expect_true(until("Array.from(document.querySelectorAll('[class*=tooltip]')).some(function (d) { return d.textContent.indexOf('Tern Hill') >= 0; })"))
  expect_true(ask("Array.from(document.querySelectorAll('[class*=tooltip]')).some(function (d) { return d.textContent.indexOf('12,657') >= 0; })"))
  expect_true(until("Array.from(document.querySelectorAll('text')).filter(function (t) { return t.style.cursor == 'pointer'; }).length == 4"))
  hover("Array.from(document.querySelectorAll('text')).filter(function (t) { return t.textContent == LABELS[0]; })[0]")
  highest <- sum(wards$residents > unclass(class_breaks(wards$residents, 4))[4])
  expect_true(until(paste0("Array.from(document.querySelectorAll('[data-id]')).filter(function (s) { return s.style.opacity == 1; }).length == ", highest)))
})
