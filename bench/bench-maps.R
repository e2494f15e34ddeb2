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
