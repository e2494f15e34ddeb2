#' What was done to a frame
#'
#' Every verb of the package adds a line to the frame it returns; dplyr's verbs carry the lines along. Where rows or columns were changed in
#' between by other means, the note of the next step says so of rows, and [workflow_of()] refuses the frame.
#' @param x A spatial frame.
#' @return A tibble of one row a step: `step`, `verb`, `call` (text), `rows_in`, `rows_out`, `note` (what was dropped or
#'   changed and why; `NA` where nothing was) and `seconds`.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' history_of(wards)
#' @export
history_of <- function(x) {
  need_frame(x, "history_of", rlang::current_env())
  steps <- attr(x, "history", exact = TRUE)
  pick <- function(field, type) vapply(steps, `[[`, type, field)
  tibble::tibble(
    step = seq_along(steps), verb = pick("verb", ""), call = pick("call", ""), rows_in = pick("rows_in", 0L),
    rows_out = pick("rows_out", 0L), note = pick("note", ""), seconds = pick("seconds", 0)
  )
}

change_of_rows <- function(x, state) {
  if (nrow(x) != state$rows) paste0(format_count(state$rows), " rows had become ", format_count(nrow(x)), " by other means")
}

# What tells whether a frame is still as a verb left it: rows by their shapes, and columns by where they lie in memory, which holds in one process.
state_of <- function(x) {
  columns <- as.list(plain(x))
  list(rows = nrow(x), shapes = rlang::hash(handles_of(as_shapes(x))), columns = vapply(columns[!vapply(columns, is_shapes, NA)], rlang::obj_address, ""),
       process = process_id())
}

process_id <- function() paste(Sys.getpid(), said$process <- said$process %||% rlang::hash(Sys.time()))

# What became of a frame since its last step by other means than verbs, in words; NULL where nothing did.
change_since <- function(x, last) {
  state <- if (length(last) && is_spatial_frame(x)) last[[1]]$state
  if (is.null(state)) return(NULL)
  rows <- change_of_rows(x, state)
  if (!is.null(rows)) return(rows)
  now <- state_of(x)
  if (now$shapes != state$shapes) return("rows had been put in another order, or shapes changed, by other means")
  changed <- setdiff(names(now$columns), names(state$columns))
  if (now$process == state$process) changed <- names(now$columns)[!now$columns %in% state$columns]
  gone <- setdiff(names(state$columns), names(now$columns))
  if (length(c(changed, gone))) paste("columns had been changed by other means:", paste(unique(c(changed, gone)), collapse = ", "))
}

# The values of a verb's arguments that are worked out by now, by name: short vectors, the code of expressions, CRSs as text; of other frames
# their history, so that a workflow can be made of it (see workflow_of()).
given_values <- function(frame, arguments, earlier) {
  arguments <- setdiff(arguments, "...")
  lazy <- rlang::env_binding_are_lazy(frame, arguments)
  known <- lapply(stats::setNames(nm = arguments[!lazy]), get0, frame, inherits = FALSE)
  columns <- unlist(lapply(Filter(is.data.frame, known), names))
  found <- c(lapply(known, given_value), lapply(stats::setNames(nm = arguments[lazy]), variable_given, frame, columns))
  Filter(function(value) !is.null(value) && !(is.list(value) && identical(value$history, earlier) && length(earlier)), found)
}

# The value of an argument that a verb looked at as an expression, where that names a variable and no column.
variable_given <- function(name, frame, columns) {
  asked <- eval(call("enquo", as.name(name)), list(enquo = rlang::enquo), frame)
  if (!rlang::quo_is_symbol(asked) || as.character(rlang::quo_get_expr(asked)) %in% columns) return(NULL)
  given_value(get0(as.character(rlang::quo_get_expr(asked)), rlang::quo_get_env(asked)))
}

given_value <- function(value) {
  if (rlang::is_quosure(value)) return(code_given(value))
  if (inherits(value, "crs")) return(crs_given(value))
  if (is.data.frame(value)) return(frame_given(value))
  if (is.atomic(value) && !is.object(value)) short_vector(value)
}

frame_given <- function(frame) {
  history <- short_history(frame)
  crs <- crs_given(if (is_spatial_frame(frame)) crs_of(frame))
  Filter(Negate(is.null), list(history = history, crs = crs, change = change_since(frame, utils::tail(history, 1))))
}

code_given <- function(asked) if (!rlang::quo_is_null(asked) && !rlang::quo_is_missing(asked)) list(code = without_secrets(rlang::quo_text(asked)))

crs_given <- function(crs) if (!is.na(crs$code %||% NA)) crs$code else if (!is.null(crs)) tryCatch(crs_text(crs), error = function(e) NULL)

# One value where a verb spread it over its rows, and none of those that fill columns.
short_vector <- function(value) {
  if (length(unique(value)) == 1) value <- value[1]
  if (length(value) <= 50) without_secrets_in(value)
}

# Histories hold those of other frames, which hold others: of more steps than any workflow has nothing is kept.
short_history <- function(frame) {
  history <- attr(frame, "history", exact = TRUE)
  if (steps_within(history) <= 200) history
}

steps_within <- function(history) {
  sum(vapply(history, function(step) 1 + sum(vapply(step$given, function(value) if (is.list(value)) steps_within(value$history) else 0, 0)), 0))
}

without_secrets_in <- function(value) {
  if (is.character(value)) value[] <- vapply(value, without_secrets, "", USE.NAMES = FALSE)
  value
}

call_text <- function(call) {
  text <- paste(trimws(deparse(call, width.cutoff = 200L)), collapse = " ")
  text <- without_secrets(text)
  if (nchar(text) > 160) paste0(substr(text, 1, 157), "...") else text
}
