# Runs the core's own tests, beside them the tests through R, and ends with the line "N passed, N failed, N skipped".
# usage: Rscript tests/run.R [pattern of R test files]

core_log <- ".build/core-tests.log"

start <- function(...) processx::process$new(file.path(R.home("bin"), "Rscript"), ...)

start_core <- function() {
  dir.create(".build", showWarnings = FALSE)
  start("tests/core.R", stdout = core_log, stderr = "2>&1")
}

core_counts <- function(process) {
  process$wait()
  lines <- readLines(core_log, warn = FALSE)
  cat("\n== the core, without R ==\n")
  cat(grep("^\\[ *[0-9]+%\\]", lines, invert = TRUE, value = TRUE), sep = "\n")  # what the compiler said, not how far it was
  found <- regmatches(lines, regexec("^core: ([0-9]+) passed, ([0-9]+) failed$", lines))
  found <- as.integer(Filter(length, found)[1][[1]][2:3])
  if (length(found) == 2) c(passed = found[1], failed = found[2], skipped = 0) else c(passed = 0, failed = 1, skipped = 0)
}

# A folder in which the names of test files wait, the largest first, as those tend to take longest.
queue_of_tests <- function(pattern) {
  files <- list.files("tests/testthat", "^test-.*[.]R$", full.names = TRUE)
  files <- files[order(-file.size(files))]
  names <- grep(pattern, sub("^test-(.*)[.]R$", "\\1", basename(files)), value = TRUE)
  folder <- tempfile("tests")
  for (part in c("waiting", "taken", "done")) dir.create(file.path(folder, part), recursive = TRUE)
  file.create(file.path(folder, "waiting", sprintf("%03d-%s", seq_along(names), names)))
  folder
}

# Shows what each file printed, whole, as it is done; ends with the processes that run them.
show_tests <- function(folder, workers) {
  shown <- character()
  repeat {
    working <- any(vapply(workers, function(worker) worker$is_alive(), TRUE))
    fresh <- setdiff(list.files(file.path(folder, "done"), "[.]rds$", full.names = TRUE), shown)
    for (file in sub("rds$", "log", fresh)) cat(readLines(file, warn = FALSE), sep = "\n")
    shown <- c(shown, fresh)
    if (!working) return(shown)
    Sys.sleep(0.2)
  }
}

# Each core has a process that takes file after file.
r_counts <- function(pattern) {
  cat("== the public interface, in R ==\n")
  folder <- queue_of_tests(pattern)
  names <- list.files(file.path(folder, "waiting"))
  workers <- lapply(seq_len(min(parallel::detectCores(), length(names))), function(i) start(c("tests/files.R", folder), stdout = "", stderr = ""))
  done <- show_tests(folder, workers)
  broken <- lapply(setdiff(names, sub("[.]rds$", "", basename(done))), function(name) {
    data.frame(file = name, test = "R ended in it, or before", failed = 1L, skipped = FALSE, error = TRUE, why = "")
  })
  results <- do.call(rbind, c(lapply(done, readRDS), broken))
  bad <- results$failed > 0 | results$error
  failures <<- sprintf("failed: %s: %s\n    %s", results$file[bad], results$test[bad], results$why[bad])
  c(passed = sum(!bad & !results$skipped), failed = sum(bad), skipped = sum(!bad & results$skipped))
}

pattern <- commandArgs(TRUE)
failures <- character()  # said once more at the very end, below all that was printed
core <- if (!length(pattern)) start_core()
counts <- r_counts(if (length(pattern)) pattern else "")
if (!is.null(core)) counts <- counts + core_counts(core)
cat("", failures, sep = "\n")
cat(sprintf("\n%d passed, %d failed, %d skipped\n", counts[["passed"]], counts[["failed"]], counts[["skipped"]]))
quit(status = counts[["failed"]] > 0)
