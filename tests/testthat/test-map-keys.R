wards_with_rate <- function() {
  wards <- read_layer(demo_file("wards.shp"))
  wards$rate <- 1000 * wards$over_65 / wards$residents
  wards$rate[3] <- NA
  wards
}
# Fill and class of each region as built, in the order of the rows.
regions_of <- function(map) {
  data <- ggplot2::ggplot_build(map)$data[[1]]
  data[order(data$row), ]
}
key_of <- function(map) ggplot2::get_guide_data(map, "fill")
numbers_in <- function(label) as.double(gsub(",", "", regmatches(label, gregexpr("-?[0-9][0-9,]*\\.?[0-9]*", label))[[1]]))
# All texts that a map draws, in the order of drawing.
drawn_texts <- function(map, width = 10, height = 7) {
  grDevices::pdf(NULL, width, height)
  on.exit(grDevices::dev.off())
  print(map)
  grid::grid.force()
  texts_in <- function(grob) if (inherits(grob, "text")) as.character(grob$label) else unlist(lapply(grob$children, texts_in))
  texts_in(grid::grid.grab())
}

test_that("every value lies in the class whose printed bounds hold it", {
  withr::local_seed(8)
  samples <- list(
    skewed = exp(stats::rnorm(2007, 3, 2)), tiny = stats::runif(400) * 1e-6, large = stats::rnorm(300, 1e9, 1e5), few = c(0.1, 0.25, 0.7, 0.7001, 9),
    ties = round(stats::rexp(500), 1), counts = stats::rpois(600, 3), signed = stats::rnorm(200), wide = c(-1e12, stats::rnorm(50), 1e12)
  )
  for (name in names(samples)) for (method in c("natural", "quantile", "equal", "pretty", "maximum gaps")) for (rounded in c(FALSE, TRUE)) {
    values <- samples[[name]]
    breaks <- suppressWarnings(class_breaks(values, 5, method, rounded = rounded))
    labels <- civicatlas:::class_labels(breaks)
    class <- civicatlas:::core_class_of(values, breaks)
    expect_false(anyDuplicated(labels) > 0, label = paste(name, method))
    if (any(grepl("e", labels))) next
    bounds <- t(vapply(labels, function(label) range(numbers_in(label)), double(2)))
    low <- bounds[class, 1]
    high <- bounds[class, 2]
    whole <- all(values == round(values))
    inside <- values <= high + 1e-9 * abs(high) & (values > low | class == 1 | whole & values >= low)
    expect_true(all(inside, na.rm = TRUE), label = paste(name, method, rounded, "holds its values"))
  }
})

test_that("labels say what classes hold, with scales, prefixes and open ends", {
  wards <- wards_with_rate()
  labels <- function(...) key_of(choropleth_map(wards, ...))$.label
  wards$rooms <- c(0, 0, 0, 0, 0, 0, 1, 1, 1, 2, 2, 3, 3, 4, 4, 4, 5, 6, 7, 8, 9, 9, 9, 9)
  expect_identical(labels(rooms, at = c(-Inf, 0, 1, 4, Inf)), c("up to 0", "1", "2 to 4", "5 and over"))
  expect_identical(labels(rooms, at = c(0, 0.5, 4, 9)), c("0", "1 to 4", "5 to 9"))
  expect_identical(labels(rate, at = c(-Inf, 170, 200, Inf)), c("up to 170", "170 to 200", "over 200", "no data"))
  expect_identical(labels(residents, at = c(5000, 10000, 45000), numbers = "thousand", prefix = "\u20ac"), c("\u20ac5 to \u20ac10 thousand", "\u20ac10 to \u20ac45 thousand"))
  expect_identical(labels(over_65 / residents, at = c(0.1, 0.2, 0.3), numbers = "percent"), c("10 to 20%", "20 to 30%"))
  expect_identical(labels(residents, at = c(0, 2e4, 5e4), numbers = "million", unit = "people"), c("0.00 to 0.02 million people", "0.02 to 0.05 million people"))
  expect_identical(labels(rate, at = c(100, 180, 300), numbers = function(v) paste0("~", v))[1:2], c("~100 to ~180", "~180 to ~300"))
  expect_identical(labels(as.Date("2026-01-01") + rooms, at = as.Date(c("2026-01-01", "2026-01-04", "2026-01-31"))), c("2026-01-01 to 2026-01-04", "2026-01-05 to 2026-01-31"))
  expect_error(choropleth_map(wards, rate, numbers = function(v) "one"), "a text for each", class = "civicatlas_error_argument")
  expect_error(choropleth_map(wards, rate, numbers = "thousands"), "thousand", class = "civicatlas_error_choice")
  rounded <- class_breaks(wards$residents, 5, rounded = TRUE)
  expect_true(all(as.double(rounded) %% 200 == 0))
  expect_identical(sum(attr(rounded, "counts")), 24L)
  expect_identical(attr(rounded, "counts"), tabulate(findInterval(wards$residents, as.double(rounded), left.open = TRUE, rightmost.closed = TRUE), 5))
  caption <- ggplot2::get_labs(choropleth_map(wards, rate))$caption
  expect_no_match(caption, "variance|meaning")
  expect_match(caption, "natural breaks")
})

test_that("any scale keeps the order of classes and leaves missing values to na.value", {
  wards <- wards_with_rate()
  map <- choropleth_map(wards, rate, classes = 5, counts = TRUE)
  class <- civicatlas:::core_class_of(wards$rate, class_breaks(wards$rate, 5))
  labels <- key_of(map)$.label
  expect_identical(labels[6], "no data  (1)")
  scales <- list(
    brewer = list(ggplot2::scale_fill_brewer(na.value = "#010203"), scales::brewer_pal()(5)),
    grey = list(ggplot2::scale_fill_grey(na.value = "#010203"), scales::grey_pal()(5)),
    manual = list(ggplot2::scale_fill_manual(values = c("#000001", "#000002", "#000003", "#000004", "#000005"), na.value = "#010203"),
                  c("#000001", "#000002", "#000003", "#000004", "#000005")),
    viridis = list(ggplot2::scale_fill_viridis_d(na.value = "#010203"), scales::viridis_pal()(5))
  )
  for (name in names(scales)) {
    other <- suppressMessages(map + scales[[name]][[1]])
    fill <- regions_of(other)$fill
    expect_identical(toupper(fill[-3]), toupper(scales[[name]][[2]][class[-3]]), label = name)
    expect_identical(fill[3], "#010203", label = name)
    expect_identical(key_of(other)$.label, labels, label = name)
  }
  for (palette in list("harbour", "ember", "moss", "dusk", "slate", "tide", "thaw", c("#ffffff", "#004488"), c("red", "white", "blue", "black", "grey10"))) {
    shown <- regions_of(choropleth_map(wards, rate, palette = palette))$fill
    expect_identical(toupper(shown[-3]), toupper(map_colours(5, palette))[class[-3]], label = palette[1])
    expect_false(shown[3] %in% shown[-3])
  }
  expect_identical(map_colours(2, c("red", "blue")), c("red", "blue"))
  expect_error(choropleth_map(wards, rate, palette = c("red", "bleu")), "bleu", class = "civicatlas_error_argument")
})

test_that("the key stands with the highest class on top, and lies with the lowest to the left", {
  map <- choropleth_map(wards_with_rate(), rate)
  labels <- key_of(map)$.label
  order_drawn <- function(map) {
    texts <- drawn_texts(map)
    match(texts[texts %in% labels], labels)
  }
  expect_identical(order_drawn(map), c(5L, 4L, 3L, 2L, 1L, 6L))
  expect_identical(order_drawn(map + ggplot2::theme(legend.position = "bottom")), 1:6)
  expect_identical(order_drawn(map + ggplot2::theme(legend.position = "inside", legend.position.inside = c(0.8, 0.8))), c(5L, 4L, 3L, 2L, 1L, 6L))
  expect_identical(order_drawn(suppressMessages(map + ggplot2::scale_fill_brewer())), c(5L, 4L, 3L, 2L, 1L, 6L))
  expect_length(order_drawn(map + ggplot2::guides(fill = "none")), 0)
})

test_that("shapes are a geom of ggplot2, on coordinates that keep the scale", {
  wards <- wards_with_rate()
  rooms <- keep_where(read_layer(demo_file("rooms.geojson")), wards, crs = "match")
  plot <- ggplot2::ggplot(wards, ggplot2::aes(fill = rate)) + geom_shapes() + ggplot2::facet_wrap(~ residents > 10000)
  expect_identical(as.vector(table(regions_of(plot)$PANEL)), as.vector(table(wards$residents > 10000)))
  expect_no_error(print_nowhere(plot))
  grDevices::pdf(NULL, 11, 7)
  expect_identical(range(ggplot2::ggplot_build(plot)$layout$layout$COL), c(1L, 2L))
  expect_identical(max(ggplot2::ggplot_build(choropleth_map(wards, rate, panels = name))$layout$layout$COL), 5L)
  grDevices::dev.off()
  both <- ggplot2::ggplot(wards) + geom_shapes() + geom_shapes(ggplot2::aes(fill = kind), data = rooms) + geom_shape_labels(ggplot2::aes(label = name)) +
    map_scale_bar() + map_north_arrow() + map_graticule()
  points <- ggplot2::ggplot_build(both)$data[[3]]
  expect_true(all(points$xmin > 5e5 & points$xmin < 7e5))
  expect_true(all(c("Tern Hill", "N") %in% drawn_texts(both)))
  expect_error(ggplot2::ggplot(mtcars) + geom_shapes(), "spatial frame", class = "civicatlas_error_argument")
  map <- choropleth_map(wards, rate)
  for (coord in list(ggplot2::coord_flip(), ggplot2::coord_polar(), ggplot2::coord_cartesian())) {
    expect_error(print_nowhere(suppressMessages(map + coord)), "map|Shapes", class = "civicatlas_error_argument")
  }
  expect_error(print_nowhere(map + ggplot2::scale_x_log10()), "coordinates")
  expect_no_error(print_nowhere(suppressMessages(map + ggplot2::coord_fixed())))
  pixels <- function(map) {
    capture <- ragg::agg_capture(300, 300, units = "px", res = 96)
    on.exit(grDevices::dev.off())
    print(map + ggplot2::theme_void() + ggplot2::theme(legend.position = "none", plot.caption = ggplot2::element_blank()))
    matrix(grDevices::col2rgb(capture())[1, ], 300)
  }
  straight <- pixels(map)
  mirrored <- pixels(map + ggplot2::scale_x_reverse())
  expect_gt(length(unique(as.vector(straight))), 5)
  expect_lt(mean(abs(mirrored - straight[, 300:1]) > 60), 0.02)
})

test_that("lines and points are coloured by their class, and graduated sizes have a key", {
  tramways <- read_layer(demo_file("tramways.kml"))
  tramways$rides <- seq_len(nrow(tramways))
  map <- choropleth_map(tramways, rides, classes = 2, linewidth = 2)
  capture <- ragg::agg_capture(500, 400, units = "px", res = 96)
  print(map)
  seen <- toupper(substr(as.character(capture()), 1, 7))
  grDevices::dev.off()
  for (colour in toupper(map_colours(2))) expect_gt(sum(seen == colour), 100)
  rooms <- read_layer(demo_file("rooms.geojson"))
  expect_setequal(toupper(unique(regions_of(choropleth_map(rooms, seats, classes = 3, size = 4))$fill)), toupper(map_colours(3)))
  wards <- wards_with_rate()
  both <- choropleth_map(wards, rate) + map_symbols(rooms, seats, classes = 3, largest = 12, key_title = "Seats") + map_lines(tramways, rides, classes = 2)
  sizes <- ggplot2::ggplot_build(both)$data[[2]]$diameter
  breaks <- class_breaks(rooms$seats, 3)
  expect_equal(sort(unique(sizes)), 12 * sqrt(as.double(breaks)[-1] / max(rooms$seats)))
  expect_identical(as.vector(table(sizes)), attr(breaks, "counts"))
  expect_true(all(c("Seats", civicatlas:::class_labels(breaks)) %in% drawn_texts(both)))
  expect_error(map_lines(wards, rate), "lines", class = "civicatlas_error_argument")
})

test_that("categories that say nothing are grey, ordered ones run from light to dark, many are put together", {
  wards <- wards_with_rate()
  fill_of <- function(values, ...) {
    wards$kind <- values
    tapply(regions_of(category_map(wards, kind, ...))$fill, as.character(values), unique)
  }
  clusters <- fill_of(rep(c("high among high", "low among low", "none", "not significant"), 6))
  channels <- grDevices::col2rgb(clusters)
  expect_gt(channels["red", "high among high"], channels["blue", "high among high"])
  expect_lt(channels["red", "low among low"], channels["blue", "low among low"])
  expect_lt(max(apply(channels[, c("none", "not significant")], 2, function(c) diff(range(c)))), 5)
  levels <- c("low", "middle", "high")
  ranked <- fill_of(factor(rep(levels, 8), levels, ordered = TRUE))
  expect_identical(toupper(as.vector(ranked[levels])), toupper(map_colours(3)))
  many <- fill_of(factor(1:24, ordered = TRUE))
  expect_length(unique(many), 24)
  withr::local_options(civicatlas.quiet = FALSE)
  wards$many <- c(rep("often", 4), rep("twice", 2), paste("once", 1:18))
  expect_message(map <- category_map(wards, many, most = 3), "18 rare categories.*other") |> suppressMessages()
  expect_identical(key_of(map)$.label, c("often", "twice", "other"))
  expect_identical(unname(regions_of(map)$fill[24]), civicatlas:::other_colour)
})

test_that("texts are broken to fit, and left out where they would take the map's room", {
  long <- paste(rep("A title of many words", 12), collapse = " ")
  map <- choropleth_map(wards_with_rate(), rate, title = long, subtitle = long, source = long, key_title = long)
  grDevices::pdf(NULL, 8, 20)
  fitted <- civicatlas:::fit_texts(map, c(8, 20))
  theme <- civicatlas:::whole_theme(map)
  for (part in c("title", "subtitle", "caption")) {
    element <- ggplot2::calc_element(paste0("plot.", part), theme)
    lines <- strsplit(fitted$labels[[part]], "\n")[[1]]
    expect_gt(length(lines), 1)
    expect_lt(max(civicatlas:::text_widths(lines, civicatlas:::font_of(element))), 8)
  }
  expect_gt(lengths(strsplit(fitted$labels$fill, "\n")), 3)
  font <- grid::gpar(fontsize = 12)
  wide <- function(text) civicatlas:::text_widths(text, font)
  expect_identical(civicatlas:::wrap_line("aaa bbb ccc", wide, wide("aaa bbb") * 1.05), c("aaa bbb", "ccc"))
  expect_gt(length(civicatlas:::wrap_line(strrep("x", 200), wide, 2)), 3)
  grDevices::dev.off()
  withr::local_options(civicatlas.quiet = FALSE)
  small <- withr::local_tempfile(fileext = ".png")
  expect_message(save_map(map + map_scale_bar(), small, 400, 300, "px"), "no room for the caption and subtitle") |>
    expect_message("less than") |> expect_message("Wrote")
})

test_that("a sheet is a ggplot: themes and titles hold for all its maps, captions stand once", {
  wards <- wards_with_rate()
  sheet <- side_by_side(choropleth_map(wards, rate), choropleth_map(wards, residents)) + ggplot2::theme(legend.position = "bottom") +
    ggplot2::labs(title = "Both", subtitle = "side by side")
  texts <- drawn_texts(sheet)
  expect_identical(sum(grepl("natural breaks", texts)), 1L)
  expect_true(all(c("Both", "side by side") %in% texts))
  grDevices::pdf(NULL, 12, 4)
  withr::defer(grDevices::dev.off())
  expect_length(civicatlas:::sheet_grob(sheet, c(12, 4))$widths, 2)
  expect_length(civicatlas:::sheet_grob(sheet, c(4, 9))$widths, 1)
  expect_length(civicatlas:::sheet_grob(side_by_side(choropleth_map(wards, rate), choropleth_map(wards, rate), columns = 1), c(12, 4))$widths, 1)
  map <- choropleth_map(wards[1:6, ], rate)
  wider <- map + map_inset(wards)
  expect_gt(diff(wider$coordinates$limits$x), diff(map$coordinates$limits$x))
  expect_identical((map + map_inset(wards, "top right"))$coordinates$limits, map$coordinates$limits)
  expect_no_error(print_nowhere(map + map_inset(plain_map(wards))))
  degrees <- reproject_to(wards, 4326)
  box <- civicatlas:::inset_box(plain_map(degrees), 0.2, plain_map(degrees)$coordinates)
  limits <- plain_map(degrees)$coordinates$limits
  expect_equal(box[2] / box[1], diff(limits$y) / diff(limits$x))
  antipode <- toy_frame(geometry = shapes_from_wkt("POLYGON ((-75 10, -70 10, -70 15, -75 10))", 4326))
  expect_error(map + map_inset(antipode), "domain", class = "civicatlas_error_argument")
})

test_that("layers of the world are drawn on a projection of the world, with the outline of the globe", {
  withr::local_options(civicatlas.quiet = FALSE)
  world <- toy_frame(geometry = shapes_from_wkt(c("POLYGON ((-160 -60, -20 -60, -20 60, -160 60, -160 -60))", "POLYGON ((20 -60, 160 -60, 160 60, 20 60, 20 -60))"), 4326))
  expect_message(map <- ggplot2::autoplot(world), "Equal Earth")
  expect_identical(map$coordinates$crs$method, "Equal Earth")
  expect_no_error(print_nowhere(map))
  globe <- civicatlas:::outline_of_globe(map$coordinates$crs)
  ellipsoid <- 510065621724078  # m2 of WGS 84 (NIMA TR8350.2, table 3.3)
  expect_equal(area_of(globe), ellipsoid, tolerance = 1e-3)
  places <- toy_frame(geometry = point_shapes(seq(-170, 170, 20), rep(c(-60, 0, 60), 6), 4326))
  for (around in c(3571, 3035)) {  # a pole, and a place between
    azimuthal <- suppressMessages(ggplot2::autoplot(reproject_to(places, around)))
    globe <- civicatlas:::outline_of_globe(azimuthal$coordinates$crs)
    expect_equal(area_of(globe), ellipsoid, tolerance = 1e-4)
    expect_equal(mean(azimuthal$coordinates$limits$x), mean(extent_of(globe)[c("xmin", "xmax")]), tolerance = 1e-6)
    expect_gt(diff(azimuthal$coordinates$limits$x), diff(extent_of(globe)[c("xmin", "xmax")]))
    expect_no_error(print_nowhere(azimuthal))
  }
  rooms <- suppressMessages(read_layer(demo_file("rooms.geojson")))
  expect_message(ggplot2::autoplot(rooms), "UTM zone 57S")
  over <- toy_frame(geometry = shapes_from_wkt(c("POINT (160 -20)", "POINT (-165 -10)"), 4326))
  expect_message(map <- ggplot2::autoplot(over), "Lambert Azimuthal|Albers")
  expect_lt(diff(map$coordinates$limits$x), 6e6)
})

test_that("a class of one value is labelled by it, however numbers are written", {
  many <- c(rep(1000, 19), 1200.5, 1300.25, 1400.5, 1500, 1600)
  labels <- function(style) civicatlas:::class_labels(class_breaks(many, 4), style)
  plain <- labels(civicatlas:::number_style())
  expect_match(plain[1], "^1,?000$")
  expect_match(plain[2], "^over 1,?000 to ")
  points <- function(values) format(values, big.mark = ".", decimal.mark = ",", trim = TRUE)
  expect_identical(labels(civicatlas:::number_style(points))[1], points(as.double(class_breaks(many, 4)))[1])
})
