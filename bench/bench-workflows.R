# A workflow of twelve steps against the same verbs in R, the same run again with nothing changed, its report, and the shapes of a page.

folder <- tempfile("flow")
dir.create(folder)
rooms <- demo_file("rooms.geojson")
wards <- demo_file("wards.shp")
# So many squares a side over an extent, as texts.
squares_over <- function(extent, side) {
  width <- diff(extent[c("xmin", "xmax")]) / side
  height <- diff(extent[c("ymin", "ymax")]) / side
  left <- rep(extent[["xmin"]] + (seq_len(side) - 1) * width, side)
  low <- rep(extent[["ymin"]] + (seq_len(side) - 1) * height, each = side)
  sprintf("POLYGON ((%1$f %2$f, %3$f %2$f, %3$f %4$f, %1$f %4$f, %1$f %2$f))", left, low, left + width, low + height)
}
towns <- read_layer(wards)
squares <- squares_over(extent_of(towns), 400)
cells <- spatial_frame(ward_id = rep_len(towns$ward_id, length(squares)), geometry = shapes_from_wkt(squares, crs_of(towns)))
write_layer(cells, file.path(folder, "cells.gpkg"))
path <- file.path(folder, "twelve.yaml")
writeLines(c(
  "version: 1", "inputs:", "  cells: {type: layer, default: cells.gpkg}", paste0("  rooms: {type: layer, default: ", rooms, "}"),
  paste0("  wards: {type: layer, default: ", wards, "}"), "steps:",
  "  s01: {command: reproject, layer: rooms, crs: EPSG:32757}", "  s02: {command: keep, layer: s01, condition: seats > 20}",
  "  s03: {command: buffer, layer: s02, distance: 400, merged: true}", "  s04: {command: erase, layer: cells, other: s03}",
  "  s05: {command: compute, layer: s04, set: far_ha = area('ha')}", "  s06: {command: dissolve, layer: s05, by: ward_id, with: far_ha = sum(far_ha)}",
  "  s07: {command: columns, layer: s06, keep: [ward_id, far_ha]}", "  s08: {command: compute, layer: wards, set: ward_ha = area('ha')}",
  "  s09: {command: join-table, layer: s08, table: s07, key: ward_id}", "  s10: {command: compute, layer: s09, set: share = far_ha / ward_ha}",
  "  s11: {command: overlay, layer: cells, other: wards, pieces: union}", "  s12: {command: simplify, layer: s11, tolerance: 5}"
), path)
by_hand <- function() {
  cells <- read_layer(file.path(folder, "cells.gpkg"))
  wards <- read_layer(wards)
  reach <- read_layer(rooms) |> reproject_to(32757) |> keep_rows("seats > 20") |> buffer_by(400, merged = TRUE)
  far <- erase_by(cells, reach)
  far$far_ha <- area_of(far, "ha")
  sums <- dissolve_by(far, ward_id, far_ha = sum(far_ha, na.rm = TRUE))
  wards$ward_ha <- area_of(wards, "ha")
  joined <- join_table(wards, sums[c("ward_id", "far_ha")], by = "ward_id")
  joined$share <- joined$far_ha / joined$ward_ha
  simplify_by(overlay_with(cells, wards, "union"), 5)
}
in_r <- seconds(suppressWarnings(by_hand()), 5)
bare <- seconds(suppressWarnings(run_workflow(path, folder = folder, keep = FALSE)), 5)
report("a workflow of 12 steps on 160,000 cells, against its verbs by hand", sprintf("%.2f s, %.2f times", bare, bare / in_r), "at most 1.05 times", bare <= 1.05 * in_r)
suppressWarnings(run_workflow(path, folder = folder))
kept <- seconds(suppressWarnings(run_workflow(path, folder = folder)), 5)
report("the same run with nothing changed", sprintf("%.2f s", kept), "under 1 s", kept < 1)

ready <- system.file("workflows", "canopy-along-tramways.yaml", package = "civicatlas")
run <- suppressWarnings(run_workflow(ready, folder = folder))
run$outputs <- c(run$outputs, second.png = run$outputs[["map.png"]], third.png = run$outputs[["map.png"]])
page <- seconds(atlas_report(run, file.path(folder, "report.html"), replace = TRUE))
report("a report of three maps", sprintf("%.2f s", page), "under 6 s", page < 6)

squares <- squares_over(c(xmin = 1, ymin = 1, xmax = 317, ymax = 317), 316)
many <- spatial_frame(id = seq_along(squares), geometry = shapes_from_wkt(squares))
view <- list(window = list(0, 0, 318, 318), width = 2560)
drawn <- seconds(civicatlas:::drawn_bytes(many, view))
report("99,856 polygons thinned for a page", sprintf("%.2f s", drawn), "under 0.5 s", drawn < 0.5)
unlink(folder, recursive = TRUE)
rm(by_hand, many, squares_over)
