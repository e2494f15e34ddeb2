# Points in polygons.

points <- random_points(7000, 105)
polygons <- star_polygons(11000, 50:500)

took <- seconds(pick_where(polygons, points, take = name, rank_by = population))

# All pairs, from a sample of them: every edge of each polygon tested, as the slow obvious way does.
set.seed(3)
sampled <- 200000
pairs <- list(points = sample.int(nrow(points), sampled, TRUE), polygons = sample.int(nrow(polygons), sampled, TRUE))
a <- points$geometry
b <- polygons$geometry
at <- coordinates_of(a)
of_sample <- seconds(baselines$count_inside(at$x, at$y, civicatlas:::store_of(b), pairs$points, pairs$polygons), 3)
all_pairs <- of_sample * nrow(points) * nrow(polygons) / sampled
report("pick_where, 7,000 points, 11,000 polygons, against all pairs", sprintf("%.0f times faster, %.3f s", all_pairs / took, took),
       "200 times, under 0.1 s", all_pairs / took >= 200 && took < 0.1)

big_polygons <- star_polygons(44000, 50:500)
big_points <- random_points(28000, 210)
larger <- seconds(pick_where(big_polygons, big_points, take = name, rank_by = population), 3)
report("pick_where, growth from n to 4n", sprintf("exponent %.2f", exponent(took, larger)), "near 1", exponent(took, larger) < 1.15)

source("bench/coverage.R")
polygons <- coverage(100, points = 25)
edges <- extent_of(polygons)
# Points that all lie in one of the polygons, so that there are as many rows to join by place and by key.
points_in <- function(n) {
  set.seed(2)
  east <- runif(n, edges[["xmin"]] + 100, edges[["xmax"]] - 100)
  north <- runif(n, edges[["ymin"]] + 100, edges[["ymax"]] - 100)
  spatial_frame(name = paste("place", seq_len(n)), population = round(rexp(n, 1 / 900)), geometry = point_shapes(east, north, crs = crs_of(polygons)))
}
million <- points_in(1e6)
quarter <- points_in(250000)
took <- seconds(summarise_into(polygons, million, places = dplyr::n(), population = sum(population)), 5)
took_quarter <- seconds(summarise_into(polygons, quarter, places = dplyr::n(), population = sum(population)), 5)
# The same join with the answer known: as many rows by a key of whole numbers.
located <- related_pairs(polygons, million)
stopifnot(nrow(located) == nrow(million))
keyed <- data.table::data.table(region = located$x, population = million$population[located$y], key = "region")
regions <- data.table::data.table(region = seq_len(nrow(polygons)), key = "region")
by_key <- seconds(keyed[regions, list(places = .N, population = sum(population)), by = .EACHI, nomatch = NULL], 5)
joined_first <- seconds(keyed[regions, nomatch = NULL][, list(places = .N, population = sum(population)), by = region], 5)
report("1 million points summed into 10,000 polygons, against a keyed data.table join and sum",
       sprintf("%.1f times, %.1f where joined before summed, %.3f s", took / by_key, took / joined_first, took), "at most 4", took / by_key <= 4)
report("points into polygons, growth from n to 4n points", sprintf("exponent %.2f", exponent(took_quarter, took)), "at most 1.10",
       exponent(took_quarter, took) <= 1.10)

saved <- tempfile(fileext = ".rds")
saveRDS(list(regions = polygons, points = million), saved)
peak <- peak_memory(sprintf("x <- readRDS('%s'); y <- summarise_into(x$regions, x$points, places = n(), population = sum(population))", saved))
inputs <- as.numeric(utils::object.size(polygons) + utils::object.size(million))
report("points into polygons, peak memory above bare R against inputs and result", sprintf("%.1f times", (peak[["with"]] - peak[["without"]]) / inputs),
       "below 3", (peak[["with"]] - peak[["without"]]) / inputs < 3)

some <- points_in(1e5)
nearest <- seconds(civicatlas:::nearest_rows(million$geometry, some$geometry, 1, Inf, NULL), 3)
report("the nearest of 100,000 points to each of 1 million", sprintf("%.2f microseconds a point", nearest), "at most 1.5", nearest <= 1.5)

cells <- coverage(316, points = 4)
cells$people <- seq_len(nrow(cells))
zones <- coverage(32, 0.3, points = 8, spacing = 950)
shared <- seconds(summarise_into(zones, cells, people = sum(people), .share = "area"), 3)
report("share of area of 100,000 cells in 1,000 regions", sprintf("%.2f s", shared), "under 4 s", shared < 4)
