# Kills daemons and the process that hands out tiles at random moments, again and again, until so many were killed. After each the run is called once
# more; in the end no tile may be lost or there twice, and the result must be that of a run without kills.
# With `sent` the daemons do not see the folder, and are killed while the files of tiles, which are large, are sent to them and back.
# usage: Rscript tests/chaos/kills.R [kills] [sent]
suppressMessages(library(civicatlas))
options(civicatlas.quiet = TRUE)
wanted_kills <- as.integer(c(commandArgs(TRUE), "100")[1])
sent <- identical(commandArgs(TRUE)[2], "sent")
folder <- tempfile("kills")
dir.create(folder)

set.seed(5)
n <- 12000
x <- spatial_frame(id = seq_len(n), geometry = point_shapes(stats::runif(n, 3e6, 4e6), stats::runif(n, 2e6, 3e6), 3035))
if (sent) x$note <- vapply(seq_len(n), function(i) paste(sample(c(letters, 0:9), 1000, replace = TRUE), collapse = ""), "")
tiled <- tile_up(x, file.path(folder, "layer"), rows_per_tile = 200)
alone <- run_tiles(buffer_by(tiled, 5000, segments = 64))

# One run with two daemons in a process of its own; the processes of the daemons stand in a file.
script <- file.path(folder, "run.R")
writeLines(sprintf("suppressMessages(library(civicatlas)); options(civicatlas.quiet = TRUE, civicatlas.no_shared_folder = %2$s)
mirai::daemons(2, autoexit = tools::SIGKILL)
writeLines(as.character(unlist(lapply(mirai::everywhere(Sys.getpid()), function(m) m[]))), '%1$s/daemons')
run_tiles(buffer_by(read_layer('%1$s/layer'), 5000, segments = 64), '%1$s/out')", folder, sent), script)

kills <- 0
runs <- 0
bad <- 0
while (kills < wanted_kills) {
  runs <- runs + 1
  unlink(file.path(folder, c("out", "daemons")), recursive = TRUE)
  repeat {
    process <- processx::process$new("Rscript", script, stdout = NULL, stderr = file.path(folder, "errors"))
    while (process$is_alive() && !file.exists(file.path(folder, "daemons"))) Sys.sleep(0.02)
    Sys.sleep(stats::runif(1, 0, 1.5))
    if (process$is_alive() && kills < wanted_kills) {
      if (stats::runif(1) < 0.5) {
        process$kill()
        kills <- kills + 1
      } else {
        daemon <- sample(as.integer(readLines(file.path(folder, "daemons"))), 1)
        kills <- kills + tools::pskill(daemon, tools::SIGKILL)
      }
    }
    process$wait()
    unlink(file.path(folder, "daemons"))
    if (identical(process$get_exit_status(), 0L)) break
  }
  found <- dplyr::collect(read_layer(file.path(folder, "out")))
  if (!identical(found$id, alone$id) || !identical(wkb_of(found), wkb_of(alone))) bad <- bad + 1
}
left <- setdiff(list.files(folder, all.files = TRUE, no.. = TRUE), c("layer", "out", "run.R", "errors"))
cat(sprintf("%d kills in %d runs: %d results that differ; left behind: %s\n", kills, runs, bad, if (length(left)) toString(left) else "nothing"))
quit(status = bad > 0)
