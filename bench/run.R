# Benchmarks of the core's work as users call it. usage: Rscript bench/run.R
suppressPackageStartupMessages(library(civicatlas))
options(civicatlas.quiet = TRUE)
source("bench/harness.R")
source("bench/make-data.R")
baselines <- new.env()
Rcpp::sourceCpp("bench/baselines.cpp", env = baselines)
for (file in sort(list.files("bench", "^bench-.*[.]R$", full.names = TRUE))) {
  cat("\n", file, "\n", sep = "")
  source(file, local = new.env())  # whose objects go with it
}
machine <- sprintf("%d cores, R %s, %s", parallel::detectCores(), getRversion(), format(Sys.Date()))
table <- do.call(rbind, results)
lines <- c("# Recorded results", "", paste0(machine, ". Written by `make bench`; every figure is a ratio within one run."), "",
           "| what | figure | goal | |", "|---|---|---|---|", sprintf("| %s | %s | %s | %s |", table$what, table$figure, table$goal, table$met))
writeLines(lines, "bench/RESULTS.md")
