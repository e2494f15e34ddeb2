# Runs the core's own tests and the tests through R, and ends with the line "N passed, N failed, N skipped".
# usage: Rscript tests/run.R [pattern of R test files]

build <- ".build/kernel-tests"
run <- function(command, args) if (system2(command, args)) stop(command, " failed", call. = FALSE)

kernel_counts <- function() {
  cat("== the core, without R ==\n")
  cores <- max(1L, parallel::detectCores(), na.rm = TRUE)
  run("cmake", c("-S", "tests/kernel", "-B", build, "-DCMAKE_BUILD_TYPE=Debug", "-Wno-dev", "--log-level=WARNING"))
  run("cmake", c("--build", build, "-j", cores, "--", "-s"))
  report <- file.path(build, "report.txt")
  code <- system2(file.path(build, "kernel_tests"), stdout = report, stderr = report)
  lines <- readLines(report, warn = FALSE)
  if (code != 0) cat(lines, sep = "\n")  # each failing test with its line and its values
  counts_of_report(lines, code)
}

# From the last line of a report: "All tests passed (… in 90 test cases)", or "test cases: 90 | 88 passed | 2 failed".
counts_of_report <- function(lines, code) {
  number <- function(pattern) {
    found <- regmatches(lines, regexec(pattern, lines))
    found <- Filter(length, found)
    if (length(found)) as.integer(found[[length(found)]][2]) else 0L
  }
  passed <- number("^All tests passed .* in ([0-9]+) test case")
  if (code == 0 && passed > 0) return(c(passed = passed, failed = 0, skipped = 0))
  if (!any(grepl("^test cases:", lines))) cat("the core's tests broke off\n")
  c(passed = number("^test cases:.*[ |]([0-9]+) passed"), failed = max(1L, number("^test cases:.*[ |]([0-9]+) failed")), skipped = 0)
}

r_counts <- function(pattern) {
  cat("== the public interface, in R ==\n")
  testthat::set_max_fails(Inf)
  results <- as.data.frame(testthat::test_dir("tests/testthat", filter = pattern, package = "civicatlas", load_package = "installed",
                                              reporter = "summary", stop_on_failure = FALSE))
  bad <- results$failed > 0 | results$error
  c(passed = sum(!bad & !results$skipped), failed = sum(bad), skipped = sum(!bad & results$skipped))
}

pattern <- commandArgs(TRUE)
counts <- if (length(pattern)) r_counts(pattern) else kernel_counts() + r_counts(NULL)
cat(sprintf("\n%d passed, %d failed, %d skipped\n", counts[["passed"]], counts[["failed"]], counts[["skipped"]]))
quit(status = counts[["failed"]] > 0)
