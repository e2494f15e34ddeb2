# Which tiles a layer's first conditions can hold for, by the ranges of columns in the manifest: the others are not read.

tiles_needed <- function(x) {
  ranges <- x$source$ranges
  if (!length(ranges)) return(x$source)
  may <- rep(TRUE, tiles_in(x$source))
  for (step in x$steps) {
    if (!step$verb %in% c("filter", "keep_rows", "drop_rows")) break
    bounds <- if (step$verb != "drop_rows") bounds_of_step(step, names(x$prototype))
    for (bound in bounds) if (!is.null(ranges[[bound$column]])) may <- may & may_hold(ranges[[bound$column]], bound)
  }
  if (!any(may)) may[1] <- TRUE  # of no rows, what comes of them is still of its columns
  if (all(may)) x$source else keep_tiles(x$source, which(may))
}

# Whether a value between two lies within a bound. Manifests have 15 digits.
may_hold <- function(range, bound) {
  slack <- 1e-14 * pmax(abs(range$least), abs(range$greatest), abs(bound$value))
  outside <- (bound$relation %in% c("<", "<=", "=") & range$least - slack > bound$value) | (bound$relation %in% c(">", ">=", "=") & range$greatest + slack < bound$value)
  !outside | is.na(outside)
}

# Bounds that all rows lie within for which a condition holds: lists of `column`, `relation` and `value`.
bounds_of_step <- function(step, columns) {
  asked <- Filter(rlang::is_quosure, step$args)
  unlist(unname(lapply(asked, function(one) {
    text <- if (step$verb == "keep_rows" && !rlang::is_symbol(rlang::quo_get_expr(one), columns)) text_of_quosure(one)
    if (!is.null(text)) bounds_of_tree(parse_text(text, "where")) else bounds_of_code(rlang::quo_get_expr(one), columns, rlang::quo_get_env(one))
  })), recursive = FALSE)
}

turned_relations <- c("<" = ">", "<=" = ">=", ">" = "<", ">=" = "<=", "=" = "=")

bound_of <- function(left, relation, right, column_of, value_of) {
  if (!is.null(column <- column_of(left)) && !is.null(value <- value_of(right))) return(list(list(column = column, relation = relation, value = value)))
  if (!is.null(column <- column_of(right)) && !is.null(value <- value_of(left))) list(list(column = column, relation = turned_relations[[relation]], value = value))
}

bounds_of_tree <- function(node) {
  if (is_operation(node, "and")) return(unlist(lapply(node$args, bounds_of_tree), recursive = FALSE))
  column_of <- function(node) if (node$kind == "column") node$value
  value_of <- function(node) if (node$kind == "number") node$value
  args <- node$args
  if (is_operation(node, names(turned_relations))) return(bound_of(args[[1]], node$value, args[[2]], column_of, value_of))
  if (is_operation(node, "between")) c(bound_of(args[[1]], ">=", args[[2]], column_of, value_of), bound_of(args[[1]], "<=", args[[3]], column_of, value_of))
}

bounds_of_code <- function(code, columns, env) {
  if (rlang::is_call(code, c("(", "{"), n = 1)) return(bounds_of_code(code[[2]], columns, env))
  if (rlang::is_call(code, "&", n = 2)) return(c(bounds_of_code(code[[2]], columns, env), bounds_of_code(code[[3]], columns, env)))
  column_of <- function(code) if (is.name(code) && as.character(code) %in% columns) as.character(code)
  value_of <- function(code) number_known(code, columns, env)
  if (!rlang::is_call(code, c(setdiff(names(turned_relations), "="), "=="), n = 2)) return(NULL)
  bound_of(code[[2]], sub("==", "=", as.character(code[[1]])), code[[3]], column_of, value_of)
}

# A number that stands in some code, or in a variable that it names; NULL for all else.
number_known <- function(code, columns, env) {
  if (rlang::is_call(code, "-", n = 1) && is.numeric(code[[2]])) return(-code[[2]])
  if (is.name(code) && !as.character(code) %in% columns) code <- get0(as.character(code), env)
  if (is.numeric(code) && !is.object(code) && length(code) == 1 && is.finite(code)) as.double(code)
}
