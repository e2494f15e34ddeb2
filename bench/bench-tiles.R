# Layers in tiles: what reading them costs, and what working on them costs beyond that; one tile against a frame; two daemons against one.
# CIVIC_BENCH_POINTS=1e8 for the hundred million points of a national layer; 4 million by default.

points <- as.double(Sys.getenv("CIVIC_BENCH_POINTS", "4e6"))
folder <- tempfile("tiles")
dir.create(folder)

# A text of points, written a million at a time, as from a survey.
source_of_points <- file.path(folder, "points.csv")
for (first in seq(0, points - 1, by = 1e6)) {
  n <- min(1e6, points - first)
  rows <- data.frame(id = first + seq_len(n), value = round(stats::runif(n), 4), x = round(stats::runif(n, 3e6, 5e6), 1), y = round(stats::runif(n, 2e6, 4e6), 1))
  data.table::fwrite(rows, source_of_points, append = first > 0)
}
making <- sprintf("tile_up('%s', '%s/points', crs = 3035)", source_of_points, folder)
made <- peak_memory(sprintf("started <- proc.time()[[3]]; %s; writeLines(format(proc.time()[[3]] - started), '%s/seconds')", making, folder))
took <- as.double(readLines(file.path(folder, "seconds")))
report("tile_up of points in CSV", sprintf("%.2f s a million", took / points * 1e6), "none set", TRUE)
report("tile_up, peak memory", sprintf("%.2f GB for %.0f million points", made[["with"]] / 1e9, points / 1e6), "at most 1.5 GB", made[["with"]] <= 1.5e9)
unlink(source_of_points)

side <- 20000
cells <- expand.grid(x = 3e6 + side * 0:99, y = 2e6 + side * 0:99)
regions <- spatial_frame(region = seq_len(nrow(cells)), geometry = shapes_from_wkt(with(cells, sprintf(
  "POLYGON ((%1$.0f %2$.0f, %3$.0f %2$.0f, %3$.0f %4$.0f, %1$.0f %4$.0f, %1$.0f %2$.0f))", x, y, x + side, y + side)), 3035))
saveRDS(regions, file.path(folder, "regions.rds"))
tiled <- read_layer(file.path(folder, "points"))
read <- seconds(for (k in seq_len(nrow(tiled$source$tiles))) civicatlas:::read_tile(tiled$source, k), 1)
summed <- seconds(run_tiles(summarise_into(regions, tiled, n = n(), total = sum(value))), 1)
report(sprintf("%.0f million points summed into 10,000 regions, against reading the tiles", points / 1e6), times(summed, read), "at most 3", summed / read <= 3)
memory <- peak_memory(sprintf("run_tiles(summarise_into(readRDS('%1$s/regions.rds'), read_layer('%1$s/points'), n = n(), total = sum(value)))", folder))
report("the same, peak memory", sprintf("%.2f GB", memory[["with"]] / 1e9), "at most 1.5 GB", memory[["with"]] <= 1.5e9)

x <- star_polygons(1e5, 8:12)
one <- tile_up(x, file.path(folder, "one"))
frame <- dplyr::collect(one)
of_frame <- seconds(buffer_by(frame, 10), 3)
of_tile <- seconds(run_tiles(buffer_by(one, 10)), 3)
report("buffers of 100,000 polygons, in one tile against a frame", sprintf("%.1f %% more, %.2f s", 100 * (of_tile / of_frame - 1), of_tile), "at most 10 %",
       of_tile / of_frame <= 1.1)

if (requireNamespace("mirai", quietly = TRUE)) {
  many <- tile_up(x, file.path(folder, "many"), rows_per_tile = 2500)
  with_daemons <- function(count) {
    mirai::daemons(count)
    on.exit(mirai::daemons(0))
    run_tiles(keep_rows(many, "TRUE"), file.path(folder, "warm"), replace = TRUE)
    old <- options(civicatlas.threads = 1L)
    on.exit(options(old), add = TRUE)
    seconds(run_tiles(buffer_by(many, 40, segments = 32), file.path(folder, "out"), replace = TRUE), 2)
  }
  alone <- with_daemons(1)
  both <- with_daemons(2)
  report("buffers of 40 tiles on two daemons against one, of one core each", sprintf("%.2f times faster, %.1f s", alone / both, both), "at least 1.7", alone / both >= 1.7)
}
unlink(folder, recursive = TRUE)
