# Which tiles a layer's first conditions can hold for, by the ranges of columns in the manifest: the others are not read.

tiles_needed <- function(x) {
  bounds <- if (length(x$source$ranges)) first_bounds(x$steps, names(x$source$columns))
  may <- rep(TRUE, tiles_in(x$source))
  for (bound in bounds) may <- may & may_hold(x$source$ranges[[bound$column]], bound)
  if (!any(may)) may[1] <- TRUE  # of no rows, what comes of them is still of its columns
  if (all(may)) x$source else keep_tiles(x$source, which(may))
}

# The bounds of the conditions that stand before any other step.
first_bounds <- function(steps, columns) {
  verbs <- vapply(steps, `[[`, "", "verb")
  first <- steps[cumprod(verbs %in% c("filter", "keep_rows", "drop_rows")) == 1]
  unlist(lapply(Filter(function(step) step$verb != "drop_rows", first), bounds_of_step, columns), recursive = FALSE)
}

# Whether a value between two lies within a bound, where both are known. Manifests have 15 digits.
may_hold <- function(range, bound) {
  if (is.null(range)) return(TRUE)
  slack <- 1e-14 * pmax(abs(range$least), abs(range$greatest), abs(bound$value))
  above <- bound$relation %in% c("<", "<=", "=") & range$least - slack > bound$value
  below <- bound$relation %in% c(">", ">=", "=") & range$greatest + slack < bound$value
  !(above | below) | is.na(above | below)
}

# Bounds that all rows lie within for which a condition holds: lists of `column`, `relation` and `value`.
bounds_of_step <- function(step, columns) {
  asked <- Filter(rlang::is_quosure, step$args)
  unlist(unname(lapply(asked, function(one) {
    text <- if (step$verb == "keep_rows") asked_of_rows(one, columns)$text
    if (!is.null(text)) bounds_of_tree(parse_text(text, "where")) else bounds_of_code(rlang::quo_get_expr(one), columns, rlang::quo_get_env(one))
  })), recursive = FALSE)
}

turned_relations <- c("<" = ">", "<=" = ">=", ">" = "<", ">=" = "<=", "=" = "=")

# `left relation right` as a bound, where one side is a column and the other a number. `read(side)` gives a name, a number, or NULL for all else.
bound_of <- function(left, relation, right, read) {
  left <- read(left)
  right <- read(right)
  if (is.character(left) && is.numeric(right)) return(list(list(column = left, relation = relation, value = right)))
  if (is.numeric(left) && is.character(right)) list(list(column = right, relation = turned_relations[[relation]], value = left))
}

bounds_of_tree <- function(node) {
  args <- node$args
  read <- function(node) if (node$kind %in% c("column", "number")) node$value
  if (is_operation(node, "and")) return(unlist(lapply(args, bounds_of_tree), recursive = FALSE))
  if (is_operation(node, names(turned_relations))) return(bound_of(args[[1]], node$value, args[[2]], read))
  if (is_operation(node, "between")) c(bound_of(args[[1]], ">=", args[[2]], read), bound_of(args[[1]], "<=", args[[3]], read))
}

bounds_of_code <- function(code, columns, env) {
  if (rlang::is_call(code, c("(", "{"), n = 1)) return(bounds_of_code(code[[2]], columns, env))
  if (rlang::is_call(code, "&", n = 2)) return(c(bounds_of_code(code[[2]], columns, env), bounds_of_code(code[[3]], columns, env)))
  if (!rlang::is_call(code, c("<", "<=", ">", ">=", "=="), n = 2)) return(NULL)
  bound_of(code[[2]], sub("==", "=", as.character(code[[1]])), code[[3]], function(side) column_or_number(side, columns, env))
}

# The name of a column, or a number that stands there or in a variable.
column_or_number <- function(code, columns, env) {
  if (is.name(code) && as.character(code) %in% columns) return(as.character(code))
  if (is.name(code)) code <- get0(as.character(code), env)
  if (rlang::is_call(code, "-", n = 1)) code <- negated(code[[2]])
  if (is.numeric(code) && !is.object(code) && length(code) == 1) as.double(code)
}

negated <- function(code) if (is.numeric(code)) -code
