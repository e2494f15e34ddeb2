# Reading and writing files.

folder <- tempfile()
dir.create(folder)
path <- function(name) file.path(folder, name)

# --- a large polygon shapefile against reading its bytes ---------------------------------------------------------------

write_polygons <- function(megabytes) {
  file <- path(paste0("polygons-", megabytes, ".shp"))
  suppressWarnings(write_layer(star_polygons(round(megabytes * 1e6 / (16 * 276 + 56)), 50:500), file))
  file
}
large <- write_polygons(320)
small <- write_polygons(80)  # large enough that its columns, too, are fresh memory to the allocator at each reading
size <- file.size(large)
raw_large <- seconds(readBin(large, "raw", size))
took <- seconds(read_layer(large), 3)
took_small <- seconds(read_layer(small), 3)
report(sprintf("read_layer of a %.0f MB polygon shapefile, against readBin", size / 1e6), times(took, raw_large), "at most 4", took / raw_large <= 4)
raw_small <- seconds(readBin(small, "raw", file.size(small)))
growth <- exponent(took_small, took) - exponent(raw_small, raw_large) + 1
report("read_layer, growth from 80 to 320 MB, that of readBin taken as 1", sprintf("exponent %.2f", growth), "near 1", growth < 1.15)
memory <- peak_memory(sprintf("x <- read_layer('%s')", large))
report("read_layer of the shapefile, peak memory against the file", sprintf("%.2f times (%.2f above bare R)", memory[["with"]] / size, diff(rev(memory)) / size),
       "at most 3", memory[["with"]] / size <= 3)
rows <- read_layer(large)
transverse <- seconds(reproject_to(rows, 4326), 3)
report("reproject_to, UTM to longitude and latitude, against readBin of the file", sprintf("%.1f times, %.2f s for %.0f million vertices", transverse / raw_large,
       transverse, length(civicatlas:::store_of(rows$geometry)$x) / 1e6), "none set", TRUE)

# --- whole or not at all, on the disk before it is named ------------------------------------------------------------------

bytes <- as.raw(seq_len(2e8) %% 251)
whole <- path("whole.bin")
turns <- replicate(4, {
  unlink(whole)
  plain <- system.time(writeBin(bytes, whole))[["elapsed"]]
  unlink(whole)
  c(plain, system.time(civicatlas:::write_files(stats::setNames(list(bytes), whole), NULL))[["elapsed"]])
})
plain <- min(turns[1, ])
took <- min(turns[2, ])
report("200 MB written beside their place, flushed and renamed, against writeBin", times(took, plain), "at most 1.05", took / plain <= 1.05)
unlink(whole)
rm(bytes)

# --- what is looked at where a layer comes in, against reading it ---------------------------------------------------------

million <- path("million.shp")
suppressWarnings(write_layer(reproject_to(star_polygons(1e6, 4:8), 4326), million))
took <- seconds(rows <- read_layer(million), 3)
looked <- seconds(civicatlas:::admitted(rows$geometry), 3)
report("checks at the door, against reading 1 million polygons", sprintf("%.2f %%, %.3f s", 100 * looked / took, looked), "at most 2 %", looked / took <= 0.02)

# --- a dBASE table against the same table as CSV -------------------------------------------------------------------------

n <- 1e6
set.seed(1)
table <- data.frame(
  id = seq_len(n), name = paste("place", sample(n)), kind = sample(c("school", "library", "hall"), n, TRUE), residents = round(rexp(n, 1 / 900)),
  under_15 = rpois(n, 150), over_65 = rpois(n, 120), share = round(runif(n), 4), hectares = round(rexp(n, 1 / 40), 3), code = sprintf("%05d", sample(99999, n, TRUE))
)
write_layer(table, path("table.dbf"))
utils::write.csv(table, path("table.csv"), row.names = FALSE)
# In turns, as the machine is not always as fast.
turns <- replicate(3, c(
  as_csv = fresh_seconds(sprintf("data.table::fread('%s', colClasses = list(character = 'code'))", path("table.csv"))),
  took = fresh_seconds(sprintf("read_layer('%s')", path("table.dbf")))
))
as_csv <- min(turns["as_csv", ])
took <- min(turns["took", ])
report("read_layer of a dBASE table of 1 million rows, against fread of it as CSV", times(took, as_csv), "at most 1", took / as_csv <= 1)
memory <- peak_memory(sprintf("x <- read_layer('%s')", path("table.dbf")))
data <- as.numeric(utils::object.size(read_layer(path("table.dbf"))))
report("read_layer of the table, peak memory above bare R against the data", sprintf("%.2f times", diff(rev(memory)) / data), "at most 3", diff(rev(memory)) / data <= 3)

# --- GeoJSON against simdjson's and jsonlite's parse ---------------------------------------------------------------------

polygons <- star_polygons(20000, 50:500)
polygons <- spatial_frame(id = polygons$id, name = paste("place", polygons$id), share = runif(20000), geometry = polygons$geometry) |> reproject_to(4326)
write_layer(polygons, path("large.geojson"))
write_layer(polygons[1:1000, ], path("small.geojson"))
text <- readBin(path("large.geojson"), "raw", file.size(path("large.geojson")))
parse <- seconds(RcppSimdJson::is_valid_json(text), 3)
took <- seconds(read_layer(path("large.geojson")), 3)
report(sprintf("read_layer of %.0f MB of GeoJSON, against simdjson's parse of it", length(text) / 1e6), times(took, parse), "at most 2.5", took / parse <= 2.5)
slow <- seconds(jsonlite::fromJSON(path("small.geojson"), simplifyVector = TRUE), 2)
took <- seconds(read_layer(path("small.geojson")), 3)
report("read_layer of GeoJSON, against jsonlite::fromJSON", sprintf("%.0f times faster", slow / took), "at least 20", slow / took >= 20)
memory <- peak_memory(sprintf("x <- read_layer('%s')", path("large.geojson")))
report("read_layer of GeoJSON, peak memory against the file", sprintf("%.2f times", memory[["with"]] / length(text)), "at most 3", memory[["with"]] / length(text) <= 3)

# --- a million features: GeoPackage, and a window that holds one in a hundred ---------------------------------------------

million <- star_polygons(1e6, 8:12)
million <- spatial_frame(!!!table, geometry = million$geometry)
write_layer(million, path("million.gpkg"))
suppressWarnings(write_layer(million, path("million.shp"), replace = TRUE))
edges <- unname(extent_of(million))
wide <- (edges[3] - edges[1]) / 10
window <- c(edges[1] + 4 * wide, edges[2] + 4 * wide, edges[1] + 5 * wide, edges[2] + 5 * wide)
sqlite <- function(sql) {
  con <- DBI::dbConnect(RSQLite::SQLite(), path("million.gpkg"))
  on.exit(DBI::dbDisconnect(con))
  DBI::dbGetQuery(con, sql)
}
blobs <- seconds(sqlite("SELECT geom FROM million"), 2)
took <- seconds(read_layer(path("million.gpkg"), columns = c()), 2)
report("read_layer of 1 million GeoPackage shapes, against their blobs by RSQLite", times(took, blobs), "at most 2", took / blobs <= 2)
whole <- seconds(sqlite("SELECT * FROM million"), 2)
took <- seconds(read_layer(path("million.gpkg")), 2)
report("read_layer of the GeoPackage with 9 columns, against the table by RSQLite", times(took, whole), "at most 2", took / whole <= 2)
for (name in c("million.gpkg", "million.shp")) {
  all <- seconds(read_layer(path(name)), 2)
  some <- seconds(read_layer(path(name), within = window), 5)
  report(sprintf("within a window of 1 %% of %s, against all of it", name), sprintf("%.0f times faster, %.3f s", all / some, some), "at least 20", all / some >= 20)
}
memory <- peak_memory(sprintf("x <- read_layer('%s')", path("million.gpkg")))
data <- as.numeric(utils::object.size(million))
report("read_layer of the GeoPackage, peak memory above bare R against the data", sprintf("%.2f times", diff(rev(memory)) / data), "at most 3", diff(rev(memory)) / data <= 3)
# What others wrote is read by a process of its own first, which a damaged file may end.
write_layer(million, path("million.parquet"))
ours <- seconds(read_layer(path("million.parquet")), 2)
Sys.setFileTime(path("million.parquet"), Sys.time() - 60)  # as one that others wrote
took <- seconds(read_layer(path("million.parquet")), 2)
report("read_layer of GeoParquet that others wrote, against our own", times(took, ours), "at most 2.5", took / ours <= 2.5)
unlink(folder, recursive = TRUE)
