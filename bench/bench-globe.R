# Longitude and latitude against the plane: the same layers, with the label of degrees and without, or on a projected CRS.

source("bench/coverage.R")

# A coverage of some 3,200 regions of 100 vertices over 58 by 24 degrees.
regions <- local({
  plane <- coverage(57, points = 25)
  at <- coordinates_of(plane)
  extent <- extent_of(plane)
  at$x <- -125 + 58 * (at$x - extent[["xmin"]]) / (extent[["xmax"]] - extent[["xmin"]])
  at$y <- 25 + 24 * (at$y - extent[["ymin"]]) / (extent[["ymax"]] - extent[["ymin"]])
  shapes_from_coordinates(at, kind = "polygon", crs = 4326)
})
flat <- suppressWarnings(declare_crs(regions, NULL))
projected <- suppressWarnings(reproject_to(regions, 5070))
places <- local({
  set.seed(5)
  spatial_frame(geometry = point_shapes(runif(20000, -125, -67), runif(20000, 25, 49), 4326))
})
flat_places <- suppressWarnings(declare_crs(places, NULL))
set.seed(6)
some <- sample(nrow(regions), 200)
others <- sample(nrow(regions), 200)

against_the_plane <- function(what, globe, plane, most) {
  report(paste0(what, ", on the globe against the plane"), times(globe, plane), paste("at most", most), globe / plane <= most)
}
against_the_plane("distance_matrix, 200 by 200 regions", seconds(distance_matrix(regions[some, ], regions[others, ]), 3),
                  seconds(distance_matrix(flat[some, ], flat[others, ]), 3), 10)
against_the_plane("join_nearest, 20,000 points to 3,249 regions", seconds(join_nearest(places, regions), 3), seconds(join_nearest(flat_places, flat), 3), 5)
against_the_plane("related_pairs within 10 km, 3,249 regions", seconds(related_pairs(regions, regions, "within distance", 10, "km"), 3),
                  seconds(related_pairs(flat, flat, "within distance", 0.1), 3), 4)
for (metres in c(1000, 10000)) {
  against_the_plane(paste("buffers of", metres, "m, 3,249 regions"), seconds(suppressWarnings(buffer_by(regions, metres)), 3),
                    seconds(suppressWarnings(buffer_by(projected, metres)), 3), 2)
}

# Regions over the globe: few vertices and long edges as of countries at a small scale, and as many vertices as of a detailed world.
over_the_globe <- function(side, points) {
  plane <- coverage(side, points = points)
  at <- coordinates_of(plane)
  extent <- extent_of(plane)
  at$x <- -179 + 358 * (at$x - extent[["xmin"]]) / (extent[["xmax"]] - extent[["xmin"]])
  at$y <- -60 + 140 * (at$y - extent[["ymin"]]) / (extent[["ymax"]] - extent[["ymin"]])
  shapes_from_coordinates(at, kind = "polygon", crs = 4326)
}
under <- function(what, took, most) report(what, sprintf("%.2f s", took), paste("under", most, "s"), took < most)
coarse <- over_the_globe(13, 15)
for (metres in c(1000, 50000, 200000)) {
  under(paste("buffers of", metres / 1000, "km, 169 regions over the globe"), seconds(suppressWarnings(buffer_by(coarse, metres)), 2), 3)
}
detailed <- over_the_globe(14, 690)
under("neighbours_of, 196 regions of 541,000 vertices over the globe", seconds(neighbours_of(detailed), 2), 3)
under("simplify_by 5 km, the same", seconds(suppressWarnings(simplify_by(detailed, 5000)), 2), 3)
