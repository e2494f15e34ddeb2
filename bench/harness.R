# Times and prints. Every figure is a ratio against a baseline measured in the same run.

# Least of some repetitions, in seconds, after one run that does not count.
seconds <- function(expr, times = 5) {
  expr <- substitute(expr)
  frame <- parent.frame()
  eval(expr, frame)
  min(vapply(seq_len(times), function(i) {
    gc(FALSE)
    system.time(eval(expr, frame), gcFirst = FALSE)[["elapsed"]]
  }, 0))
}

times <- function(took, baseline) sprintf("%.2f times, %.2f s", took / baseline, took)

# How time grows from n to 4n: 1 is linear.
exponent <- function(small, large) log(large / small) / log(4)

results <- list()
report <- function(what, figure, goal, met) {
  results[[length(results) + 1]] <<- data.frame(what, figure, goal, met = if (met) "met" else "missed")
  cat(sprintf("%-66s %-34s goal %-22s %s\n", what, figure, goal, if (met) "met" else "MISSED"))
}

# Least of three times that `code` takes in an R process of its own, in which no other bench has left its strings and memory.
fresh_seconds <- function(code) {
  script <- tempfile(fileext = ".R")
  writeLines(c("suppressPackageStartupMessages(library(civicatlas)); options(civicatlas.quiet = TRUE)",
               sprintf("cat(min(replicate(4, {gc(FALSE); system.time(x <- %s, gcFirst = FALSE)[['elapsed']]})[-1]))", code)), script)
  as.numeric(system2("Rscript", c("--vanilla", script), stdout = TRUE))
}

# Peak memory of a fresh R process that runs `code`, in bytes, and of one that only loads the package.
peak_memory <- function(code) {
  run <- function(code) {
    script <- tempfile(fileext = ".R")
    writeLines(c("suppressPackageStartupMessages(library(civicatlas)); options(civicatlas.quiet = TRUE)", code), script)
    out <- system2("/usr/bin/time", c("-f", "%M", "Rscript", "--vanilla", script), stdout = TRUE, stderr = TRUE)
    as.numeric(utils::tail(out, 1)) * 1024
  }
  c(with = run(code), without = run("invisible()"))
}
