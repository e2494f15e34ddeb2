# Projections, geodesics and texts of coordinate reference systems.

n <- 1e7
set.seed(5)
lon <- runif(n, 156, 162)
lat <- runif(n, -80, 0)
geographic <- unclass(crs(4326))
utm <- unclass(crs(32757))
core <- function(name) get(name, asNamespace("civicatlas"))
transform_points <- core("core_transform_points")
threads <- function(n) core("core_set_limits")(n, 0, 1.6e8)

threads(1L)
loop <- seconds(baselines$plain_loop(lon * pi / 180, lat * pi / 180), 3)
forward <- seconds(transform_points(lon, lat, geographic, utm), 3)
report("transverse Mercator forward of 10 million points, one thread, against a plain loop", sprintf("%.2f times, %.0f ns a point", forward / loop, 1e9 * forward / n),
       "at most 3", forward / loop <= 3)
at <- transform_points(lon, lat, geographic, utm)
inverse <- seconds(transform_points(at$x, at$y, utm, geographic), 3)
report("its inverse, one thread, against the loop", sprintf("%.2f times, %.0f ns a point", inverse / loop, 1e9 * inverse / n), "none set", TRUE)
threads(2L)
both <- seconds(transform_points(lon, lat, geographic, utm), 3)
report("the forward projection on two threads against one", sprintf("%.2f times faster", forward / both), "at least 1.7", forward / both >= 1.7)

m <- 1e6
few <- sample(n, m)
other <- sample(n, m)
threads(1L)
geodesic <- core("core_geodesic_inverse")
wide <- function(lon) (lon - 156) * 60 - 180  # over the whole world
near <- seconds(geodesic(lon[few], lat[few], lon[other], lat[other], geographic), 3)
report("geodesic inverse within a zone, a pair against a turn of the loop", sprintf("%.1f times, %.2f microseconds", near / m / (loop / n), 1e6 * near / m),
       "at most 30", near / m / (loop / n) <= 30)
far <- seconds(geodesic(wide(lon[few]), -lat[few], wide(lon[other]), lat[other], geographic), 3)
report("geodesic inverse over the whole world, a pair against a turn of the loop", sprintf("%.1f times, %.2f microseconds", far / m / (loop / n), 1e6 * far / m),
       "at most 30", far / m / (loop / n) <= 30)
threads(0L)

points <- point_shapes(lon[seq_len(m)], lat[seq_len(m)], crs = 4326)
took <- seconds(reproject_to(points, 32757), 3)
report("reproject_to of 1 million points, with their boxes and history", sprintf("%.0f ns a point", 1e9 * took / m), "none set", TRUE)
stars <- star_polygons(50000, 8:12) |> reproject_to(4326)
planar <- seconds(area_of(reproject_to(stars, 32757)), 3)
ground <- seconds(area_of(stars), 3)
report("area_of 50,000 polygons along the ellipsoid, an edge", sprintf("%.2f microseconds", 1e6 * ground / 5e5), "none set", TRUE)
