# Conditions in CQL2 against dplyr's filter of the same rows, and a batch of commands against the same verbs in R.

n <- 1e6
set.seed(1)
many <- spatial_frame(v = stats::runif(n), kind = sample(c("school", "library", "hall", NA), n, TRUE),
                      geometry = point_shapes(5e5 + 1e5 * stats::runif(n), 5e6 + 1e5 * stats::runif(n)), crs = 32757)
by_r <- seconds(dplyr::filter(many, v > 0.5 & (kind == "school" | kind == "library")))
by_text <- seconds(keep_rows(many, "v > 0.5 AND (kind = 'school' OR kind = 'library')"))
report("a condition over 1,000,000 rows, against dplyr::filter()", sprintf("%.3f s, %.2f times", by_text, by_text / by_r), "at most 1.5 times", by_text <= 1.5 * by_r)
like <- seconds(keep_rows(many, "kind LIKE '%r%y'"))
report("LIKE over 1,000,000 texts, against the same", sprintf("%.3f s, %.2f times", like, like / by_r), "at most 2 times", like <= 2 * by_r)

folder <- tempfile("batch")
dir.create(folder)
rooms <- demo_file("rooms.geojson")
wards <- demo_file("wards.shp")
out <- function(name) file.path(folder, name)
steps <- file.path(folder, "steps.txt")
writeLines(c(sprintf("reproject %s @rooms --crs EPSG:32757", rooms), "keep @rooms \"seats > 50\" @large", "buffer @large @reach --distance 400 --merged",
             sprintf("erase %s @reach @far", wards), sprintf("measure @far %s --area ha --replace", out("far.gpkg")),
             sprintf("convert @reach %s --replace", out("reach.gpkg"))), steps)
by_hand <- function() {
  rooms <- reproject_to(read_layer(rooms), 32757)
  reach <- buffer_by(keep_rows(rooms, "seats > 50"), 400, merged = TRUE)
  far <- add_measures(erase_by(read_layer(wards), reach), area = "ha")
  write_layer(far, out("far.gpkg"), replace = file.exists(out("far.gpkg")))
  write_layer(reach, out("reach.gpkg"), replace = file.exists(out("reach.gpkg")))
}
in_r <- seconds(by_hand(), 10)
batch <- seconds(run_command_line(c("batch", steps, "--quiet")), 10)
report("a batch of six commands, against the same in R", sprintf("%.3f s, %.2f times", batch, batch / in_r), "at most 1.1 times", batch <= 1.1 * in_r)
unlink(folder, recursive = TRUE)
rm(many, by_hand)
