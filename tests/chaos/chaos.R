# See tests/chaos/chaos.sh. A layer is of one run: its rows say which in their places, and where the format has columns in these too.
# usage: Rscript tests/chaos/chaos.R watch MINUTES, or: write FOLDER RUN
suppressMessages(library(civicatlas))
options(civicatlas.quiet = TRUE, warn = -1)
given <- commandArgs(TRUE)
endings <- c("shp", "dbf", "geojson", "geojsonl", "geojson.gz", "gpkg", "kml", "kmz", "csv", "zip", "parquet", "wkt")

layer_of_run <- function(run) {
  rows <- 200 + run %% 7
  places <- point_shapes(rep(run / 1000, rows), seq_len(rows) / rows, 4326)
  spatial_frame(run = rep(run, rows), geometry = places)
}

# What is wrong with a layer that was read, or nothing.
fault_of <- function(found) {
  spatial <- inherits(found, "spatial_frame")
  run <- unique(if ("run" %in% names(found)) found$run else round(coordinates_of(found)$x * 1000))
  if (length(run) != 1) return("rows of several runs")
  if (nrow(found) != 200 + run %% 7) return("rows missing")
  if (spatial && any(abs(coordinates_of(found)$x - run / 1000) > 1e-6)) return("shapes of one run, values of another")
  NULL
}

# Others hold the file, there is no room, or a tile was replaced while its layer was read: errors that are meant to come.
is_expected <- function(e) {
  said <- gsub("\\s+", " ", conditionMessage(e))
  inherits(e, "civicatlas_error_file") || grepl("checksum is another|was replaced while|is missing|not in the manifest|was cut off or replaced", said)
}

workflow_of <- function(folder) {
  path <- file.path(folder, "steps.yaml")
  lines <- c("version: 1", "title: chaos", "inputs: {points: {type: layer}}", "steps:", "  all: {command: keep, layer: points, condition: run > 0}",
             "outputs: {layer.gpkg: all, layer.shp: all}")
  if (!file.exists(path)) writeLines(lines, path)
  path
}

# Files, tiles in a folder, and the outputs of a workflow.
write_once <- function(kind, x, folder) {
  if (kind == "tiles") return(tile_up(x, file.path(folder, "tiles"), rows_per_tile = 50, replace = TRUE))
  if (kind == "run") return(run_workflow(workflow_of(folder), points = x, folder = file.path(folder, "run"), replace = TRUE))
  if (kind == "dbf") return(write_layer(as.data.frame(x["run"]), file.path(folder, "table.dbf"), replace = TRUE))
  write_layer(x, file.path(folder, paste0("layer.", kind)), replace = TRUE, layer = if (kind == "gpkg") "points")
}

write_for_ever <- function(folder, first) {
  repeat {
    kind <- sample(c(endings, "tiles", "run"), 1)
    x <- layer_of_run(first + sample(1000, 1))
    tryCatch(write_once(kind, x, folder),
             error = function(e) if (!is_expected(e)) cat(kind, class(e)[1], conditionMessage(e), "\n", file = file.path(folder, "faults"), append = TRUE))
  }
}

places_to_read <- function(folder) {
  there <- list.files(folder, paste0("^(tiles|table[.]dbf|layer[.](", paste(endings, collapse = "|"), "))$"), full.names = TRUE)
  made <- file.path(folder, "run", c("layer.gpkg", "layer.shp"))
  c(there[basename(there) != "layer.dbf"], made[file.exists(made)])  # a member of the shapefile
}

read_whole <- function(file) {
  found <- read_layer(file, layer = if (endsWith(file, "gpkg")) list_layers(file)$layer[1])
  if (inherits(found, "tiled_layer")) dplyr::collect(found) else found
}

start_writer <- function(k, folder) {
  poor <- if (k == 3) "trap '' XFSZ; ulimit -f 4;" else ""  # no file beyond 4 kB, as on a full disk
  command <- sprintf("%s exec %s tests/chaos/chaos.R write %s %d", poor, file.path(R.home("bin"), "Rscript"), folder, 1000 * k)
  processx::process$new("bash", c("-c", command))
}

watch <- function(minutes) {
  folder <- tempfile("chaos")
  dir.create(folder)
  writers <- lapply(1:3, start_writer, folder = folder)
  counts <- c(reads = 0, kills = 0, busy = 0)
  faults <- character()
  ends <- Sys.time() + 60 * minutes
  while (Sys.time() < ends) {
    there <- places_to_read(folder)
    file <- c(there, NA)[sample(max(1, length(there)), 1)]
    found <- if (!is.na(file)) tryCatch(read_whole(file), error = identity)
    if (inherits(found, "error") && is_expected(found)) counts["busy"] <- counts["busy"] + 1
    fault <- if (inherits(found, "error")) if (!is_expected(found)) conditionMessage(found) else NULL else if (!is.null(found)) fault_of(found)
    if (length(fault)) faults <- c(faults, paste(basename(file), fault))
    counts["reads"] <- counts["reads"] + !is.null(found)
    if (stats::runif(1) < 0.1) {
      k <- sample(3, 1)
      writers[[k]]$kill()
      writers[[k]] <- start_writer(k, folder)
      counts["kills"] <- counts["kills"] + 1
    }
    if (is.na(file)) Sys.sleep(0.1)
  }
  lapply(writers, function(writer) writer$kill())
  told <- file.path(folder, "faults")
  faults <- c(faults, if (file.exists(told)) readLines(told))
  cat(sprintf("%d reads, %d of them refused as busy, %d kills, %d faults\n", counts["reads"], counts["busy"], counts["kills"], length(faults)))
  cat(utils::head(unique(faults), 20), sep = "\n")
  quit(status = length(faults) > 0)
}

if (given[1] == "write") write_for_ever(given[2], as.integer(given[3])) else watch(as.double(given[2]))
