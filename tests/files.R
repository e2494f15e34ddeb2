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
  as.data.frame(found)[c("file", "test", "failed", "skipped", "error")]
}

for (name in list.files(file.path(folder, "waiting"))) {
  if (take(name)) saveRDS(run(name), file.path(folder, "done", paste0(name, ".rds")))
}
