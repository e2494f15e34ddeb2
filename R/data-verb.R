# One way for all verbs: begin_verb() first, end_verb() last.

# `call` and `frame`: those of the function that asks, whose arguments the history keeps.
begin_verb <- function(name, call = call_of_verb(frame), frame = parent.frame()) {
  asking <- sys.function(sys.parent())
  list(name = name, call = call, frame = frame, arguments = names(formals(asking)), started = clock())
}

# Says what was done in a line, and adds the step to `out`, which the verb made of `from`. `line`: what stands before the account, NULL where
# nothing is said. `stale`: columns of `from` that held measures of shapes which the verb changed, as measure_columns() gives them.
end_verb <- function(verb, out, from, account = list(), rows_in = vctrs::vec_size(from), line = in_and_out(rows_in, out), stale = NULL) {
  account <- c(account_of_change(from), account)
  if (!is.null(line)) say_account(verb$name, line, account)
  record(verb, out, from, rows_in, account, tell_stale(stale, out))
}

# Adds a step to `out`, which a verb made of `from`; shape vectors carry no history.
record <- function(verb, out, from, rows_in, account, stale) {
  if (!is_spatial_frame(out)) return(out)
  earlier <- if (is_spatial_frame(from)) attr(from, "history", exact = TRUE) else list()
  change <- if (is.null(said$command)) change_since(from, utils::tail(earlier, 1))
  words <- account_in_words(account)
  step <- list(
    verb = verb$name, call = said$command %||% call_text(verb$call), rows_in = as.integer(rows_in), rows_out = nrow(out),
    note = if (length(words)) paste(words, collapse = "; ") else NA_character_, seconds = round(clock() - verb$started, 3),
    account = account, stale = stale, change = change,
    code = without_secrets(paste(deparse(verb$call, width.cutoff = 500L, nlines = 20), collapse = "\n")),
    given = given_values(verb$frame, verb$arguments, earlier)
  )
  step$state <- state_of(out)
  attr(out, "history") <- c(earlier, list(step))
  out
}

# That rows came or went since the last step, by dplyr or otherwise.
account_of_change <- function(x) {
  state <- if (is_spatial_frame(x) && is.null(said$command)) utils::tail(attr(x, "history", exact = TRUE), 1)[1][[1]]$state
  change <- if (!is.null(state)) change_of_rows(x, state)
  if (!is.null(change)) account(remark(change))
}

# "24 rows in, 12 out"
in_and_out <- function(rows_in, out, noun = "row") paste0(counted(rows_in, noun), " in, ", format_count(vctrs::vec_size(out)), " out")

say_account <- function(name, line, account) {
  line <- paste(c(line, if (length(account)) paste(account_in_words(account), collapse = ", ")), collapse = ": ")
  say("{.fn {name}}: {line}.")
}

# Of columns that held measures before shapes changed those that are still there; said once a verb.
tell_stale <- function(held, after) {
  if (!is_spatial_frame(after)) return(NULL)
  held <- held[names(held) %in% names(after)]
  if (!length(held)) return(NULL)
  say(c("!" = "Measured before the change of shapes: {.val {names(held)}}; {.fn refresh_measures} measures anew."))
  held
}
