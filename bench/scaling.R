# What many daemons would give: the costs of a tile are measured here, and runs of a billion rows are simulated with them for 10 to 1,000 daemons, with
# tiles of unequal cost and daemons that fail. The same simulation is held against runs here of 1, 2 and 4 daemons.
# usage: Rscript bench/scaling.R; writes docs/scaling.md
suppressPackageStartupMessages(library(civicatlas))
options(civicatlas.quiet = TRUE, civicatlas.threads = 1)
source("bench/harness.R")
source("bench/make-data.R")
folder <- tempfile("scaling")
dir.create(folder)

# --- what a tile costs ----------------------------------------------------------------------------------------------------

rows <- 50000
polygons <- star_polygons(rows, 8:12)
vertices <- sum(civicatlas:::core_vertex_counts(civicatlas:::handles_of(polygons$geometry), civicatlas:::store_of(polygons$geometry)))
tiled <- tile_up(polygons, file.path(folder, "one"))
path <- file.path(folder, "one", "tile-00001.parquet")
bytes <- file.size(path)
cost <- list(
  read = seconds(readBin(path, "raw", bytes)) / bytes,
  decode = seconds(civicatlas:::read_tile(tiled$source, 1)) / vertices,
  buffer = seconds(buffer_by(polygons, 10), 2) / vertices,
  write = seconds(civicatlas:::write_tile(polygons, file.path(folder, "again.parquet"))) / vertices
)
frame <- dplyr::collect(tiled)
cost$send <- seconds(unserialize(serialize(frame, NULL))) / vertices

# What handing out a tile and taking what comes of it costs beyond the work on it: tiles of no work.
small <- tile_up(polygons[1:400, ], file.path(folder, "small"), rows_per_tile = 1)
mirai::daemons(1)
run_tiles(keep_rows(small, "TRUE"), file.path(folder, "warm"))
here <- system.time(for (k in 1:400) civicatlas:::read_tile(small$source, k))[["elapsed"]]
handing <- system.time(run_tiles(keep_rows(small, "TRUE"), file.path(folder, "out")))
mirai::daemons(0)
cost$handing <- handing[["user.self"]] / 400 + handing[["sys.self"]] / 400  # of the process that hands out

# --- a run, event by event ------------------------------------------------------------------------------------------------

# Seconds that `daemons` take for tiles that need `work` seconds each. Whoever hands out takes `handing` for each tile, one after the other; a daemon is
# lost once in `lifetime` seconds on average, its tile is done again by another, and it comes back after a minute.
simulate <- function(work, daemons, handing, lifetime = Inf) {
  free <- rep(0, daemons)
  coordinator <- 0
  queue <- sort(work, decreasing = TRUE)
  done <- 0
  while (length(queue)) {
    d <- which.min(free)
    coordinator <- max(coordinator, free[d]) + handing
    fails <- stats::rexp(1, 1 / lifetime)
    if (is.finite(lifetime) && fails < queue[1]) {
      free[d] <- coordinator + fails + 60
      queue <- c(queue[-1], queue[1])
    } else {
      free[d] <- coordinator + queue[1]
      done <- max(done, free[d])
      queue <- queue[-1]
    }
  }
  done
}

# --- against runs here ----------------------------------------------------------------------------------------------------

many <- tile_up(polygons, file.path(folder, "many"), rows_per_tile = 1250)
runs <- lapply(c(1, 2, 4), function(count) {
  mirai::daemons(count)
  on.exit(mirai::daemons(0))
  run_tiles(keep_rows(many, "TRUE"), file.path(folder, paste0("warm", count)))
  system.time(run_tiles(buffer_by(many, 40, segments = 32), file.path(folder, paste0("out", count))))[["elapsed"]]
})
of_tile <- runs[[1]] / 40
cores <- civicatlas:::core_processors()
foreseen <- vapply(c(1, 2, 4), function(count) simulate(rep(of_tile * max(1, count / cores), 40), count, cost$handing), 0)

# --- the table ------------------------------------------------------------------------------------------------------------

set.seed(1)
tiles <- 1000  # of a million rows of 12 vertices each
mean_work <- 12e6 * (cost$decode + cost$buffer + cost$write)
work <- stats::rlnorm(tiles, 0, 0.6)
work <- work / mean(work) * mean_work
table <- do.call(rbind, lapply(c(10, 30, 100, 300, 1000), function(daemons) {
  alone <- sum(work)
  plain <- simulate(work, daemons, cost$handing)
  failing <- simulate(work, daemons, cost$handing, lifetime = 3600)
  sent <- simulate(work, daemons, cost$handing + 2 * 12e6 * cost$send)
  fine <- simulate(rep(work / 10, 10), daemons, cost$handing)
  data.frame(daemons, plain, efficiency = alone / plain / daemons, fine = alone / fine / daemons, failing = alone / failing / daemons, sent = alone / sent / daemons)
}))

percent <- function(x) sprintf("%.0f %%", 100 * x)
lines <- c(
  "# What many daemons would give", "", "Written by `Rscript bench/scaling.R`. Measured on this machine, one core:", "",
  "| what | cost |", "|---|---|",
  sprintf("| reading a file that the system holds | %.2f ns a byte |", 1e9 * cost$read),
  sprintf("| decoding a tile, reading included | %.0f ns a vertex |", 1e9 * cost$decode),
  sprintf("| buffers, as an example of work | %.0f ns a vertex |", 1e9 * cost$buffer),
  sprintf("| writing a tile | %.0f ns a vertex |", 1e9 * cost$write),
  sprintf("| packing and unpacking rows to send them | %.0f ns a vertex |", 1e9 * cost$send),
  sprintf("| handing out a tile and taking its result, where folders are shared | %.1f ms |", 1e3 * cost$handing), "",
  sprintf("Runs of 40 tiles here, on %d cores, against the simulation:", cores), "", "| daemons | measured | foreseen |", "|---|---|---|",
  sprintf("| %d | %.1f s | %.1f s |", c(1L, 2L, 4L), unlist(runs), foreseen), "",
  sprintf("A billion polygons of 12 vertices, buffered: 1,000 tiles of a million, whose costs spread by a log-normal of 0.6 (the dearest %.0f times the middle),", max(work) / stats::median(work)),
  sprintf("%.1f hours on one core. Efficiency is the time of one daemon over that of all together.", sum(work) / 3600), "",
  "| daemons | hours | efficiency | with tiles of 100,000 | each lost once an hour | tiles sent both ways |", "|---|---|---|---|---|---|",
  sprintf("| %d | %.2f | %s | %s | %s | %s |", table$daemons, table$plain / 3600, percent(table$efficiency), percent(table$fine), percent(table$failing), percent(table$sent)), "",
  "**Where it saturates.** With as many daemons as tiles the dearest tile decides, not whoever hands out: smaller tiles lift that (fourth column). Handing out",
  sprintf("saturates at about the work of a tile over what handing it out costs: %.0f daemons for tiles of a million rows, %.0f for tiles of 100,000, where folders are shared.", mean_work / cost$handing, mean_work / 10 / cost$handing),
  sprintf("Where tiles are sent over the connection of one process it is %.0f, whatever their size: a shared folder, or an object store that daemons read themselves, lifts that.",
          mean_work / (cost$handing + 2 * 12e6 * cost$send)), "",
  "**What the model leaves out.** The network's own speed, disks that many daemons share, memory: a daemon holds about three tiles."
)
writeLines(lines, "docs/scaling.md")
cat(lines, sep = "\n")
unlink(folder, recursive = TRUE)
