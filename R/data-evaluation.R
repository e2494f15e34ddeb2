# Expressions on the columns of a frame.

# Are the variables of an expression columns, or values where it was written? An error as of need_column() where not: a function or a
# table that happens to have the name of a misspelt column is no value to calculate with.
need_variables <- function(quosure, data, what, call) {
  uses <- uses_in(tree_of_code(quosure))
  uses <- uses[!names(uses) %in% c(".data", ".env", names(data), NA)]
  for (k in seq_along(uses)) {
    value <- rlang::env_get(rlang::quo_get_env(quosure), names(uses)[k], default = NULL, inherit = TRUE)
    fits <- switch(uses[k], number = is.atomic(value), argument = !is.function(value), TRUE)
    if (is.null(value) || !fits) need_column(data, names(uses)[k], what, call = call)
  }
}

# How an expression uses its variables, by name: as a "number" (alone, or under an operator or a function of base's groups), as an
# "argument" of another function, or as "anything" (what is taken apart, and functions that are handed on). What formulas name does not count;
# what stands within such a call may be anything too, unless it is calculated with.
uses_in <- function(node, use = "number") {
  if (node$kind == "column") return(stats::setNames(use, node$value))
  if (node$kind != "operation" && node$value == "~") return(character())
  if (node$kind == "operation" || node$value %in% calculates) {
    use <- "number"
  } else if (node$value %in% c("$", "@", "[[", "[", takes_functions)) {
    use <- "anything"
  } else if (use != "anything") {
    use <- "argument"
  }
  unlist(lapply(unname(node$args), uses_in, use))
}

calculates <- c("+", "-", "%%", "%/%", "&&", "||", "abs", "sqrt", "exp", "log", "log10", "round", "sum", "mean", "min", "max")

takes_functions <- c("sapply", "lapply", "vapply", "mapply", "Map", "Filter", "Reduce", "Find", "do.call", "tapply", "ave", "outer", "across",
                     "if_any", "if_all", "match.fun")

# What a quosure gives on the columns of a frame: a column, also one named by a string, or an expression on them.
column_values <- function(x, quosure, what, call) {
  if (rlang::quo_is_missing(quosure)) fail("argument", "{.arg {what}} is missing: which column is it?", call = call)
  data <- plain_data_frame(dplyr::ungroup(x))
  if (rlang::quo_is_symbol(quosure)) need_column(data, rlang::as_name(quosure), what, call = call)
  need_variables(quosure, data, what, call)
  values <- value_on(quosure, data, what, call)
  if (rlang::is_string(values) && values %in% names(data)) data[[values]] else values
}

# What an expression gives on columns; its own errors say where they arose, and are no errors of a source that is read meanwhile.
value_on <- function(quosure, data, what, call) {
  tryCatch(rlang::eval_tidy(quosure, data), error = function(e) {
    if (inherits(e, "civicatlas_error")) rlang::cnd_signal(e)
    fail("argument", c("{.arg {what}} cannot be worked out: {.code {rlang::as_label(quosure)}}.", x = "{said_by(e)}"), call = call, parent = e)
  })
}

# dplyr::select() whose error for a column that is not there is need_column()'s.
choose_columns <- function(data, columns, what, call) {
  tryCatch(dplyr::select(data, !!columns), vctrs_error_subscript_oob = function(e) {
    need_column(data, as.character(e$i)[1], what, call = call)
    rlang::cnd_signal(e)
  })
}

# Does the column exist? An error with the nearest name where it does not.
need_column <- function(data, column, what, call = rlang::caller_env(2)) {
  if (column %in% names(data)) return(invisible())
  known <- names(data)[!vapply(data, is_shapes, NA)]
  nearest <- if (length(known)) nearest_word(column, known)
  fail("column", c("{.arg {what}} names the column {.val {column}}, which is not there.",
                   i = "Columns: {.val {known}}.", if (length(nearest)) c(i = "Nearest: {.val {nearest}}.")), call = call)
}
