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

# Others hold the file, or there is no room: errors that are meant to come.
is_expected <- function(e) inherits(e, "civicatlas_error_file")

write_for_ever <- function(folder, first) {
  repeat {
    ending <- sample(endings, 1)
    run <- first + sample(1000, 1)
    x <- layer_of_run(run)
    if (ending == "dbf") x <- as.data.frame(x["run"])
    target <- file.path(folder, paste0(if (ending == "dbf") "table." else "layer.", ending))
    tryCatch(write_layer(x, target, replace = TRUE, layer = if (ending == "gpkg") "points"),
             error = function(e) if (!is_expected(e)) cat(ending, class(e)[1], conditionMessage(e), "\n", file = file.path(folder, "faults"), append = TRUE))
  }
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
    there <- list.files(folder, paste0("^(table[.]dbf|layer[.](", paste(endings, collapse = "|"), "))$"), full.names = TRUE)
    there <- there[basename(there) != "layer.dbf"]  # a member of the shapefile
    file <- c(there, NA)[sample(max(1, length(there)), 1)]
    found <- if (!is.na(file)) tryCatch(read_layer(file), error = identity)
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
