# Reading a large polygon shapefile.

folder <- tempfile()
dir.create(folder)
write_polygons <- function(megabytes) {
  file <- file.path(folder, paste0("polygons-", megabytes, ".shp"))
  suppressWarnings(write_layer(star_polygons(round(megabytes * 1e6 / (16 * 276 + 56)), 50:500), file))
  file
}
large <- write_polygons(200)
small <- write_polygons(50)
size <- file.size(large)

raw_large <- seconds(readBin(large, "raw", size))
took <- seconds(read_layer(large), 3)
took_small <- seconds(read_layer(small), 3)
report(sprintf("read_layer of a %.0f MB polygon shapefile, against readBin", size / 1e6), sprintf("%.2f times, %.2f s", took / raw_large, took),
       "at most 4", took / raw_large <= 4)
report("read_layer, growth from 50 to 200 MB", sprintf("exponent %.2f", exponent(took_small, took)), "near 1", exponent(took_small, took) < 1.15)

memory <- peak_memory(sprintf("x <- read_layer('%s')", large))
report("read_layer, peak memory against the file", sprintf("%.2f times (%.2f above bare R)", memory[["with"]] / size, diff(rev(memory)) / size),
       "at most 3", memory[["with"]] / size <= 3)

rows <- read_layer(large)
transverse <- seconds(reproject_to(rows, 4326), 3)
report("reproject_to, UTM to longitude and latitude, against readBin of the file", sprintf("%.1f times, %.2f s for %.0f million vertices", transverse / raw_large,
       transverse, length(civicatlas:::store_of(rows$geometry)$x) / 1e6), "none set", TRUE)
unlink(folder, recursive = TRUE)
