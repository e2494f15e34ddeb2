# Builds the core and its tests without R, runs them, and ends with the line "core: N passed, N failed".
# usage: Rscript tests/core.R
build <- ".build/kernel-tests"
run <- function(command, args) if (system2(command, args)) stop(command, " failed", call. = FALSE)

# From the last line of a report: "All tests passed (… in 90 test cases)", or "test cases: 90 | 88 passed | 2 failed".
counts_of_report <- function(lines, code) {
  number <- function(pattern) {
    found <- regmatches(lines, regexec(pattern, lines))
    found <- Filter(length, found)
    if (length(found)) as.integer(found[[length(found)]][2]) else 0L
  }
  passed <- number("^All tests passed .* in ([0-9]+) test case")
  if (code == 0 && passed > 0) return(c(passed = passed, failed = 0))
  if (!any(grepl("^test cases:", lines))) cat("the core's tests broke off\n")
  c(passed = number("^test cases:.*[ |]([0-9]+) passed"), failed = max(1L, number("^test cases:.*[ |]([0-9]+) failed")))
}

main <- function() {
  cores <- max(1L, parallel::detectCores(), na.rm = TRUE)
  run("cmake", c("-S", "tests/kernel", "-B", build, "-DCMAKE_BUILD_TYPE=Debug", "-Wno-dev", "--log-level=WARNING"))
  run("cmake", c("--build", build, "-j", cores, "--", "-s"))
  report <- file.path(build, "report.txt")
  code <- system2(file.path(build, "kernel_tests"), stdout = report, stderr = report)
  lines <- readLines(report, warn = FALSE)
  if (code != 0) cat(lines, sep = "\n")  # each failing test with its line and its values
  counts <- counts_of_report(lines, code)
  cat(sprintf("core: %d passed, %d failed\n", counts[["passed"]], counts[["failed"]]))
}

if (sys.nframe() == 0) main()
