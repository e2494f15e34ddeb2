# Runs a command: its exit code, and what came to standard output and standard error.
run <- function(...) {
  err <- character()
  out <- utils::capture.output(code <- withCallingHandlers(run_command_line(c(...)), message = function(m) {
    err <<- c(err, conditionMessage(m))
    rlang::cnd_muffle(m)
  }))
  list(code = code, out = paste(out, collapse = "\n"), err = paste(err, collapse = ""))
}
