# Runs the core's own tests, beside them the tests through R, and ends with the line "N passed, N failed, N skipped".
# usage: Rscript tests/run.R [pattern of R test files]

core_log <- ".build/core-tests.log"

# Compiling takes both cores and the tests through R one, so that they go side by side.
start_core <- function() {
  dir.create(".build", showWarnings = FALSE)
  processx::process$new(file.path(R.home("bin"), "Rscript"), "tests/core.R", stdout = core_log, stderr = "2>&1")
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

r_counts <- function(pattern) {
  cat("== the public interface, in R ==\n")
  testthat::set_max_fails(Inf)
  results <- as.data.frame(testthat::test_dir("tests/testthat", filter = pattern, package = "civicatlas", load_package = "installed",
                                              reporter = "summary", stop_on_failure = FALSE))
  bad <- results$failed > 0 | results$error
  failures <<- sprintf("failed: %s: %s", results$file[bad], results$test[bad])
  c(passed = sum(!bad & !results$skipped), failed = sum(bad), skipped = sum(!bad & results$skipped))
}

pattern <- commandArgs(TRUE)
failures <- character()  # said once more at the very end, below all that was printed
core <- if (!length(pattern)) start_core()
counts <- r_counts(if (length(pattern)) pattern)
if (!is.null(core)) counts <- counts + core_counts(core)
cat("", failures, sep = "\n")
cat(sprintf("\n%d passed, %d failed, %d skipped\n", counts[["passed"]], counts[["failed"]], counts[["skipped"]]))
quit(status = counts[["failed"]] > 0)
