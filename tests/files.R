# Runs files of R tests, each time the next that no other such process has taken.
# usage: Rscript tests/files.R FOLDER. Names of test files wait in FOLDER/waiting; FOLDER/done gets the results of each (.rds)
# and what it printed (.log).
folder <- commandArgs(TRUE)[1]
testthat::set_max_fails(Inf)
suppressPackageStartupMessages(library(civicatlas))

# Of two processes that rename one file, one succeeds.
take <- function(name) suppressWarnings(file.rename(file.path(folder, "waiting", name), file.path(folder, "taken", name)))

run <- function(name) {
  sink(file.path(folder, "done", paste0(name, ".log")))
  on.exit(sink())
  found <- testthat::test_dir("tests/testthat", filter = paste0("^", sub("^[0-9]+-", "", name), "$"), package = "civicatlas",
                              load_package = "installed", reporter = "summary", stop_on_failure = FALSE)
  cbind(as.data.frame(found)[c("file", "test", "failed", "skipped", "error")], why = vapply(found, function(test) why_failed(test$results), ""))
}

# The first failure of a test, with its line.
why_failed <- function(results) {
  bad <- Filter(function(result) inherits(result, c("expectation_failure", "expectation_error")), results)
  if (!length(bad)) return("")
  paste(c(sprintf("line %d", as.integer(bad[[1]]$srcref)[1]), strsplit(conditionMessage(bad[[1]]), "\n")[[1]]), collapse = "\n    ")
}

for (name in list.files(file.path(folder, "waiting"))) {
  if (take(name)) saveRDS(run(name), file.path(folder, "done", paste0(name, ".rds")))
}
