# Runs the core's own tests and the tests through R, and ends with the line "N passed, N failed, N skipped".
# usage: Rscript tests/run.R [pattern of R test files]

build <- ".build/kernel-tests"
run <- function(command, args) if (system2(command, args)) stop(command, " failed", call. = FALSE)

kernel_counts <- function() {
  cat("== the core, without R ==\n")
  cores <- max(1L, parallel::detectCores(), na.rm = TRUE)
  run("cmake", c("-S", "tests/kernel", "-B", build, "-DCMAKE_BUILD_TYPE=Debug", "-Wno-dev", "--log-level=WARNING"))
  run("cmake", c("--build", build, "-j", cores, "--", "-s"))
  report <- file.path(build, "report.xml")
  unlink(report)
  system2(file.path(build, "kernel_tests"), c("--reporter", "xml", "--out", report))
  lines <- if (file.exists(report)) readLines(report) else character()
  counts <- utils::tail(sub(".*<OverallResultsCases ", "", grep("<OverallResultsCases ", lines, value = TRUE)), 1)  # the last is of all
  if (!length(counts)) {
    cat("the core's tests broke off\n", utils::tail(lines, 20), sep = "\n")
    return(c(passed = 0, failed = 1, skipped = 0))
  }
  number <- function(name) as.integer(sub(paste0(".*", name, '="([0-9]+)".*'), "\\1", counts))
  if (number("failures")) system2(file.path(build, "kernel_tests"))
  c(passed = number("successes"), failed = number("failures"), skipped = 0)
}

r_counts <- function(pattern) {
  cat("== the public interface, in R ==\n")
  results <- as.data.frame(testthat::test_dir("tests/testthat", filter = pattern, package = "civicatlas", load_package = "installed",
                                              reporter = "summary", stop_on_failure = FALSE))
  bad <- results$failed > 0 | results$error
  c(passed = sum(!bad & !results$skipped), failed = sum(bad), skipped = sum(!bad & results$skipped))
}

pattern <- commandArgs(TRUE)
counts <- if (length(pattern)) r_counts(pattern) else kernel_counts() + r_counts(NULL)
cat(sprintf("\n%d passed, %d failed, %d skipped\n", counts[["passed"]], counts[["failed"]], counts[["skipped"]]))
quit(status = counts[["failed"]] > 0)
