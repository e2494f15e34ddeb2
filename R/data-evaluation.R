# Expressions on the columns of a frame.

# Are the variables of an expression columns, or values where it was written? An error as of need_column() where not: a function or a
# table that happens to have the name of a misspelt column is no value to calculate with.
need_variables <- function(quosure, data, what, call) {
  uses <- uses_in(rlang::quo_get_expr(quosure))
  uses <- uses[!names(uses) %in% c(".data", ".env", names(data))]
  for (k in seq_along(uses)) {
    value <- rlang::env_get(rlang::quo_get_env(quosure), names(uses)[k], default = NULL, inherit = TRUE)
    fits <- switch(uses[k], number = is.atomic(value), argument = !is.function(value), TRUE)
    if (is.null(value) || !fits) need_column(data, names(uses)[k], what, call = call)
  }
}

# How an expression uses its variables, by name: as a "number" (alone, or under an operator or a function of base's groups), as an
# "argument" of another function, or as "anything" (what is taken apart, and functions that are handed on). What
# package::function, formulas and functions written in place name does not count; what stands within such a call may be anything too, unless
# it is calculated with.
uses_in <- function(expression, use = "number") {
  if (rlang::is_symbol(expression)) return(stats::setNames(use, rlang::as_name(expression)))
  if (!is.call(expression) || rlang::is_call(expression, c("::", ":::", "~", "function"))) return(character())
  arguments <- as.list(expression)[-1]
  arguments <- arguments[!vapply(arguments, rlang::is_missing, NA)]
  if (rlang::is_call(expression, c("$", "@"))) arguments <- arguments[1]
  if (rlang::is_call(expression, calculates)) {
    use <- "number"
  } else if (rlang::is_call(expression, c("$", "@", "[[", "[", takes_functions))) {
    use <- "anything"
  } else if (use != "anything") {
    use <- "argument"
  }
  if (is.call(expression[[1]])) arguments <- c(as.list(expression)[1], arguments)
  unlist(lapply(unname(arguments), uses_in, use))
}

calculates <- c("(", "+", "-", "*", "/", "^", "%%", "%/%", "==", "!=", "<", ">", "<=", ">=", "&", "|", "!", "&&", "||", "%in%",
                "is.na", "abs", "sqrt", "exp", "log", "log10", "round", "sum", "mean", "min", "max")

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

# What an expression may name: its variables, and what it takes from .data by a string, or by a value that is not known yet.
columns_named <- function(expression, names) {
  if (rlang::is_symbol(expression)) return(rlang::as_name(expression))
  if (!is.call(expression)) return(character())
  if (rlang::is_call(expression, "[[") && identical(expression[[2]], quote(.data))) {
    return(if (rlang::is_string(expression[[3]])) expression[[3]] else names)
  }
  unlist(lapply(as.list(expression), columns_named, names))
}

# Does an expression say of a row what it says of it among others?
is_by_row <- function(expression, has_columns) {
  if (!is.call(expression) || !has_columns(expression)) return(TRUE)
  if (rlang::is_call(expression, c("$", "[["))) return(identical(expression[[2]], quote(.data)))
  if (!rlang::is_call(expression, row_functions) || (rlang::is_call(expression, "%in%") && has_columns(expression[[3]]))) return(FALSE)
  all(vapply(as.list(expression)[-1], is_by_row, NA, has_columns))
}

row_functions <- c("(", "!", "&", "|", "==", "!=", "<", "<=", ">", ">=", "+", "-", "*", "/", "^", "%%", "%/%", "%in%", "is.na", "abs", "sqrt",
                   "exp", "log", "log10", "round", "floor", "ceiling", "nchar", "substr", "substring", "startsWith", "endsWith", "grepl", "tolower", "toupper",
                   "trimws", "ifelse", "as.Date", "as.numeric", "as.double", "as.integer", "as.character")
