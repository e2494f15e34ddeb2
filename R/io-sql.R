# Conditions on columns as SQL says them.

# A condition on columns as far as SQL says the same, a list of
# * `sql`: what rows must hold, and the `values` of its parameters
# * `left`: a quosure of what is to be worked out here, NULL where that is nothing
# * `held`: SQL of truths that stand in `left` by their names, as the database compares by value what R has no numbers for (64 bits)
# `kinds` tells what each column holds; only "number" and "text" are known to SQL as to R. Parts without columns are computed here,
# and are bound as parameters.
sql_condition <- function(quosure, kinds, con, dialect) {
  context <- list(kinds = kinds, con = con, dialect = dialect, env = rlang::quo_get_env(quosure), bound = rlang::env(values = list(), held = character()))
  parts <- lapply(parts_of_and(rlang::quo_get_expr(quosure)), function(part) list(code = part, sql = sql_truth(part, context)))
  here <- vapply(parts, function(part) is.null(part$sql), NA)
  left <- lapply(parts[here], function(part) with_held(part$code, context))
  if (length(context$bound$values) > most_parameters) return(list(left = quosure))
  list(sql = unlist(lapply(parts[!here], `[[`, "sql")), values = context$bound$values, held = context$bound$held,
       left = if (length(left)) rlang::new_quosure(balanced("&", left), context$env))
}

most_parameters <- 1000L  # databases work out one comparison a row after the other, R all rows at once

parts_of_and <- function(expr) {
  if (rlang::is_call(expr, "(", n = 1) && rlang::is_call(expr[[2]], "&", n = 2)) return(parts_of_and(expr[[2]]))
  if (rlang::is_call(expr, "&", n = 2)) c(parts_of_and(expr[[2]]), parts_of_and(expr[[3]])) else list(expr)
}

# The SQL of a truth; NULL where SQL would not mean the same or cannot say it. What cannot be computed here fails where R works the
# condition out, and says so.
sql_truth <- function(expr, context) {
  bound <- context$bound$values
  term <- tryCatch(sql_term(expr, context), error = function(e) if (inherits(e, "civicatlas_error")) rlang::cnd_signal(e))
  if (identical(term$kind, "logical")) return(term$sql)
  context$bound$values <- bound
  NULL
}

# The code of a condition with names in place of those truths in it that SQL can say.
with_held <- function(expr, context) {
  if (!names_columns(expr, context)) return(expr)
  sql <- sql_truth(expr, context)
  if (!is.null(sql)) return(as.name(hold(sql, context)))
  if (rlang::is_call(expr, c("(", "!", "&", "|"))) expr[-1] <- lapply(as.list(expr)[-1], with_held, context)
  expr
}

hold <- function(sql, context) {
  taken <- c(names(context$kinds), names(context$bound$held))
  name <- utils::tail(make.unique(c(taken, "held"), sep = "_"), 1)
  context$bound$held[[name]] <- sql
  name
}

no_sql <- function() rlang::abort("", class = "civicatlas_no_sql")

# A list of `sql` and `kind` of the term's value.
sql_term <- function(expr, context) {
  column <- column_of_term(expr, context$kinds)
  if (!is.null(column)) return(sql_column(column, context))
  if (rlang::is_call(expr, "(", n = 1)) return(sql_term(expr[[2]], context))
  if (rlang::is_call(expr, "number_of_digits")) return(list(sql = expr[[2]], kind = "number"))
  if (!names_columns(expr, context)) return(sql_constant(rlang::eval_bare(expr, context$env), context))
  if (!rlang::is_call(expr)) no_sql()
  name <- rlang::call_name(expr) %||% ""
  term <- function(i) sql_term(expr[[i + 1]], context)
  switch(name,
    as.double = sql_number(term(1)),
    "!" = sql_logic("NOT", term(1)),
    "&" = , "&&" = sql_logic("AND", term(1), term(2)),
    "|" = , "||" = sql_logic("OR", term(1), term(2)),
    "==" = , "!=" = , "<" = , "<=" = , ">" = , ">=" = sql_comparison(name, term(1), term(2)),
    "+" = , "-" = , "*" = if (length(expr) == 3) sql_arithmetic(name, term(1), term(2)) else no_sql(),
    is_like = if (names_columns(expr[[3]], context)) no_sql() else sql_like(term(1), rlang::eval_bare(expr[[3]], context$env), context),
    is_among = sql_among(term(1), rlang::eval_bare(expr[[3]], context$env), context),
    is.na = list(sql = paste0("(", term(1)$sql, " IS NULL)"), kind = "logical"),
    "%in%" = if (names_columns(expr[[3]], context)) no_sql() else sql_membership(term(1), rlang::eval_bare(expr[[3]], context$env), context),
    no_sql()
  )
}

names_columns <- function(expr, context) any(columns_named(expr, names(context$kinds)) %in% names(context$kinds))

sql_column <- function(name, context) {
  kind <- context$kinds[[name]]
  if (!kind %in% c("number", "text")) no_sql()
  list(sql = context$dialect$column(quoted(context$con, name), kind), kind = kind)
}

# A column's name, also as .data$name or .data[["name"]].
column_of_term <- function(expr, kinds) {
  name <- if (rlang::is_symbol(expr)) {
    rlang::as_string(expr)
  } else if (rlang::is_call(expr, "$", n = 2) && identical(expr[[2]], quote(.data))) {
    as.character(expr[[3]])
  } else if (rlang::is_call(expr, "[[", n = 2) && identical(expr[[2]], quote(.data)) && rlang::is_string(expr[[3]])) {
    expr[[3]]
  }
  if (!is.null(name) && name %in% names(kinds)) name
}

kind_of_value <- function(value) {
  if (is.logical(value)) "logical" else if (is.numeric(value) && !is.object(value)) "number" else if (is.character(value)) "text" else no_sql()
}

sql_constant <- function(value, context) {
  if (length(value) != 1 || is.na(value) || (is.numeric(value) && !is.finite(value))) no_sql()
  kind <- kind_of_value(value)
  list(sql = if (kind == "logical") if (value) "(1=1)" else "(1=0)" else sql_parameter(value, kind, context), kind = kind)
}

# A place for a value, which some databases take with its type and others have to be told.
sql_parameter <- function(value, kind, context) {
  bound <- context$bound
  bound$values <- c(bound$values, list(if (kind == "text") enc2utf8(value) else as.double(value)))
  context$dialect$parameter(length(bound$values), kind)
}

sql_logic <- function(word, ...) {
  terms <- list(...)
  if (any(vapply(terms, `[[`, "", "kind") != "logical")) no_sql()
  sql <- vapply(terms, `[[`, "", "sql")
  list(sql = if (word == "NOT") paste0("(NOT ", sql, ")") else paste0("(", paste(sql, collapse = paste0(" ", word, " ")), ")"), kind = "logical")
}

# Text is only compared for equality: its order differs between databases and R.
sql_comparison <- function(name, a, b) {
  if (a$kind != b$kind || a$kind == "logical" || (a$kind == "text" && !name %in% c("==", "!="))) no_sql()
  list(sql = paste0("(", a$sql, " ", switch(name, "==" = "=", "!=" = "<>", name), " ", b$sql, ")"), kind = "logical")
}

sql_number <- function(term) if (term$kind == "number") term else no_sql()

sql_arithmetic <- function(name, a, b) {
  if (a$kind != "number" || b$kind != "number") no_sql()
  list(sql = paste0("(1.0 * ", a$sql, " ", name, " ", b$sql, ")"), kind = "number")
}

# x %in% table is TRUE or FALSE, never NA, also where x is missing.
sql_membership <- function(a, values, context) {
  missing <- if (anyNA(values)) "IS NULL OR" else "IS NOT NULL AND"
  values <- unname(values[!is.na(values)])
  if (kind_of_value(values) != a$kind || a$kind == "logical" || !length(values) || length(values) > 500) no_sql()
  items <- vapply(values, function(value) sql_constant(value, context)$sql, "")
  list(sql = paste0("(", a$sql, " ", missing, " ", a$sql, " IN (", paste(items, collapse = ", "), "))"), kind = "logical")
}

# x IN (...) of SQL is unknown where x is missing, as CQL2's is.
sql_among <- function(a, values, context) {
  if (anyNA(values) || kind_of_value(values) != a$kind || a$kind == "logical" || length(values) > 500) no_sql()
  items <- vapply(values, function(value) sql_constant(value, context)$sql, "")
  list(sql = paste0("(", a$sql, " IN (", paste(items, collapse = ", "), "))"), kind = "logical")
}

sql_like <- function(a, pattern, context) {
  if (a$kind != "text") no_sql()
  list(sql = context$dialect$like(a$sql, function(text) sql_parameter(text, "text", context), pattern), kind = "logical")
}
