#' What was done to a frame
#'
#' Every verb of the package adds a line to the frame it returns; dplyr's verbs carry the lines along.
#' @param x A spatial frame.
#' @return A tibble of one row a step: `step`, `verb`, `call` (text), `rows_in`, `rows_out`, `note` (what was dropped or
#'   changed and why; `NA` where nothing was) and `seconds`.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' history_of(wards)
#' @export
history_of <- function(x) {
  if (!is_spatial_frame(x)) fail("argument", "Only a spatial frame has a history.", call = rlang::current_env())
  steps <- attr(x, "history", exact = TRUE)
  pick <- function(field, type) vapply(steps, `[[`, type, field)
  tibble::tibble(
    step = seq_along(steps), verb = pick("verb", ""), call = pick("call", ""), rows_in = pick("rows_in", 0L),
    rows_out = pick("rows_out", 0L), note = pick("note", ""), seconds = pick("seconds", 0)
  )
}

clock <- function() proc.time()[["elapsed"]]

# Adds a step to `out`, which a verb made of `from`; shape vectors carry no history. `stale`: columns that held measures of shapes which
# the verb changed, as measure_columns() gives them.
record <- function(out, from, verb, call, rows_in, note = NULL, started = clock(), stale = NULL) {
  if (!is_spatial_frame(out)) return(out)
  step <- list(
    verb = verb, call = said$command %||% call_text(call), rows_in = as.integer(rows_in), rows_out = nrow(out),
    note = if (length(note)) paste(note, collapse = "; ") else NA_character_, seconds = round(clock() - started, 3), stale = stale
  )
  earlier <- if (is_spatial_frame(from)) attr(from, "history", exact = TRUE) else list()
  attr(out, "history") <- c(earlier, list(step))
  out
}

call_text <- function(call) {
  text <- paste(trimws(deparse(call, width.cutoff = 200L)), collapse = " ")
  text <- without_secrets(text)
  if (nchar(text) > 160) paste0(substr(text, 1, 157), "...") else text
}
