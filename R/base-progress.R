# Progress bars: shown after a second, on a terminal alone; work that is interrupted takes its bar away.

# Runs `expr`; the core tells how far each of its steps is. Work within work has the bar of the outer one.
with_progress <- function(label, expr) {
  if (progress_now$shown || isTRUE(getOption("civicatlas.quiet"))) return(expr)
  bar <- NULL
  here <- rlang::current_env()
  core_set_progress(function(done) {
    if (is.null(bar)) bar <<- new_progress(label, here)
    bar(done)
  })
  progress_now$shown <- TRUE
  on.exit({
    core_set_progress(NULL)
    progress_now$shown <- FALSE
  })
  expr
}

progress_now <- new.env(parent = emptyenv())
progress_now$shown <- FALSE

# The command that is at work, or the verb that a call of the core works for.
work_of <- function(call) {
  if (!is.null(said$record)) return(said$record$name)
  call <- if (is.environment(call)) call_of_verb(call)
  if (is.call(call) && is.symbol(call[[1]])) rlang::as_string(call[[1]]) else "Working"
}

shows_progress <- function() !isTRUE(getOption("civicatlas.quiet")) && cli::is_dynamic_tty()

# A function that takes the fraction done, or NULL where it is not known. The bar goes with the frame `env`, and is no other's: bars of the same
# frame would end each other.
new_progress <- function(label, env = rlang::caller_env()) {
  if (!shows_progress()) return(function(done) invisible())
  old <- options(cli.progress_show_after = 1)
  on.exit(options(old))
  bar <- rlang::env()
  id <- displayed(cli::cli_progress_bar(label, total = 1000, clear = TRUE, auto_terminate = FALSE, current = FALSE, .auto_close = FALSE, .envir = bar,
                                        format = "{cli::pb_name}{cli::pb_bar} {cli::pb_percent}{cli::pb_status}"))
  end <- function() displayed(cli::cli_progress_done(id, .envir = bar))
  do.call(on.exit, list(as.call(list(end)), add = TRUE), envir = env)
  step <- 1
  last <- 0
  function(done) {
    now <- min(1000, round(1000 * (done %||% 0)))
    if (now < last - 100) step <<- step + 1  # the next of several, each from its beginning; threads tell of one out of order
    last <<- now
    displayed(cli::cli_progress_update(set = now, status = if (step > 1) paste0(" (step ", step, ")") else "", id = id, .envir = bar))
  }
}

# A display that fails does not end the work.
displayed <- function(expr) tryCatch(expr, error = function(e) NULL)
