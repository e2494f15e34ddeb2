# Drawing 3,000 polygons of 500 vertices that share their borders, against ggplot2's own polygon layer with as many.

source("bench/coverage.R")
polygons <- coverage(55, points = 125)
polygons$value <- seq_len(nrow(polygons))
at <- coordinates_of(polygons)
at$value <- at$shape
drawn_by_ggplot <- ggplot2::ggplot(at) + ggplot2::geom_polygon(ggplot2::aes(x, y, group = shape, fill = value)) + ggplot2::coord_fixed()
file <- tempfile(fileext = ".png")
draw <- function(map, width, height, dpi) {
  ragg::agg_png(file, width, height, units = "px", res = dpi)
  print(map)
  grDevices::dev.off()
}
map <- function() choropleth_map(polygons, value, method = "continuous")

theirs <- seconds(draw(drawn_by_ggplot, 2835, 1890, 300), 2)
ours <- seconds(draw(map(), 2835, 1890, 300), 2)
report("a map of 1.5 million vertices as a print of 24 by 16 cm, against ggplot2's polygons", sprintf("%.2f times, %.2f s", ours / theirs, ours),
       "at most 2", ours / theirs <= 2)
theirs <- seconds(draw(drawn_by_ggplot, 1280, 800, 96), 2)
ours <- seconds(draw(map(), 1280, 800, 96), 2)
report("the map at 1280 by 800 pixels, against ggplot2's polygons", sprintf("%.2f times, %.2f s", ours / theirs, ours), "under 0.2", ours / theirs < 0.2)

# Three thousand regions of some eighty vertices, as an analyst maps them: built and saved, in seconds of processor time, with and without labels.
regions <- coverage(57, points = 20)
regions$rate <- seq_len(nrow(regions)) %% 100 / 7
regions$name <- paste("Ward", seq_len(nrow(regions)))
processor <- function(expr) {
  expression <- substitute(expr)
  frame <- parent.frame()
  min(vapply(1:3, function(i) sum(system.time(eval(expression, frame))[1:2]), 0))
}
plain <- processor(save_map(choropleth_map(regions, rate), file, 1280, 800, "px"))
labelled <- processor(save_map(choropleth_map(regions, rate) + map_labels(regions, name), file, 1280, 800, "px"))
report("a choropleth of 3,249 regions, built and saved", sprintf("%.2f s of processor time", plain), "at most 0.8 s", plain <= 0.8)
report("labels of 3,249 regions on it", sprintf("%.2f s of processor time more", labelled - plain), "under 1 s", labelled - plain < 1)

# Distinct shapes among the first n of two million points: linear in n.
points <- point_shapes(seq_len(2e6) %% 1000, seq_len(2e6) %/% 1000)
few <- seconds(unique(points[1:150000]), 3)
many <- seconds(unique(points[1:600000]), 3)
report("unique() of 600,000 of 2 million points, against 150,000 of them", sprintf("%.1f times, %.3f s", many / few, many), "at most 6", many / few <= 6)
