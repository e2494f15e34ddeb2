# Conditions on columns as SQL says them.

# A tree as far as SQL says the same, a list of
# * `sql`: what rows must hold, and the `values` of its parameters
# * `left`: the tree that is to be worked out here, NULL where that is nothing
# * `held`: SQL of truths that stand in `left` by their names, as the database compares by value what R has no numbers for (64 bits)
# `kinds` tells what each column holds; only "number" and "text" are known to SQL as to R. Parts without columns are computed here,
# and are bound as parameters.
sql_condition <- function(tree, kinds, con, dialect) {
  context <- list(kinds = kinds, con = con, dialect = dialect, tree = tree, bound = rlang::env(values = list(), held = character()))
  parts <- lapply(parts_joined_by("and", tree), function(part) list(node = part, sql = sql_truth(part, context)))
  here <- vapply(parts, function(part) is.null(part$sql), NA)
  left <- lapply(parts[here], function(part) with_held(part$node, context))
  if (length(context$bound$values) > most_parameters) return(list(left = tree))
  list(sql = unlist(lapply(parts[!here], `[[`, "sql")), values = context$bound$values, held = context$bound$held,
       left = if (length(left)) with_root_of(if (length(left) == 1) left[[1]] else node_of("operation", "and", left), tree))
}

most_parameters <- 1000L  # databases work out one comparison a row after the other, R all rows at once

# The SQL of a truth; NULL where SQL would not mean the same or cannot say it. What cannot be computed here fails where R works the
# condition out, and says so.
sql_truth <- function(node, context) {
  bound <- context$bound$values
  term <- tryCatch(sql_term(node, context), error = function(e) if (inherits(e, "civicatlas_error")) rlang::cnd_signal(e))
  if (identical(term$kind, "logical")) return(term$sql)
  context$bound$values <- bound
  NULL
}

# A condition with names in place of those truths in it that SQL can say.
with_held <- function(node, context) {
  if (names_no_column(node, context)) return(node)
  sql <- sql_truth(node, context)
  if (!is.null(sql)) return(node_of("column", hold(sql, context)))
  if (is_operation(node, c("and", "or", "not"))) node_of("operation", node$value, lapply(node$args, with_held, context), node$at) else node
}

hold <- function(sql, context) {
  taken <- c(names(context$kinds), names(context$bound$held))
  name <- utils::tail(make.unique(c(taken, "held"), sep = "_"), 1)
  context$bound$held[[name]] <- sql
  name
}

no_sql <- function() rlang::abort("", class = "civicatlas_no_sql")

# A list of `sql` and `kind` of the term's value.
sql_term <- function(node, context) {
  if (node$kind == "column" && node$value %in% names(context$kinds)) return(sql_column(node$value, context))
  if (!is.null(node$digits)) return(list(sql = node$digits, kind = "number"))
  if (names_no_column(node, context)) return(sql_constant(value_of_constant(node, context$tree), context))
  if (node$kind != "operation") no_sql()
  args <- node$args
  term <- function(i) sql_term(args[[i]], context)
  switch(node$value,
    not = sql_logic("NOT", lapply(args, sql_term, context)), and = sql_logic("AND", lapply(args, sql_term, context)),
    or = sql_logic("OR", lapply(equalities_as_lists(args), sql_term, context)),
    "=" = , "<>" = , "<" = , "<=" = , ">" = , ">=" = sql_comparison(node$value, term(1), term(2)),
    between = sql_logic("AND", list(sql_comparison(">=", term(1), term(2)), sql_comparison("<=", term(1), term(3)))),
    "+" = , "-" = , "*" = if (length(args) == 2 && is_double(node, context)) sql_arithmetic(node$value, term(1), term(2)) else no_sql(),
    like = if (names_no_column(args[[2]], context)) sql_like(term(1), value_of_constant(args[[2]], context$tree), context) else no_sql(),
    "in" = sql_in(node, context),
    isNull = list(sql = paste0("(", term(1)$sql, " IS NULL)"), kind = "logical"),
    "%in%" = if (names_no_column(args[[2]], context)) sql_membership(term(1), value_of_constant(args[[2]], context$tree), context) else no_sql(),
    no_sql()
  )
}

names_no_column <- function(node, context) is_constant(node, names(context$kinds))

# What R calculates with integers may be more than these hold, and then is missing; with doubles it is what SQL gives. CQL2 has no integers.
is_double <- function(node, context) {
  if (is.null(node$code)) return(TRUE)
  if (names_no_column(node, context)) return(is.double(value_of_constant(node, context$tree)))
  is_operation(node, c("+", "-", "*")) && any(vapply(node$args, is_double, NA, context))
}

sql_column <- function(name, context) {
  kind <- context$kinds[[name]]
  if (!kind %in% c("number", "text")) no_sql()
  list(sql = context$dialect$column(quoted(context$con, name), kind), kind = kind)
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

sql_logic <- function(word, terms) {
  if (any(vapply(terms, `[[`, "", "kind") != "logical")) no_sql()
  sql <- vapply(terms, `[[`, "", "sql")
  list(sql = if (word == "NOT") paste0("(NOT ", sql, ")") else paste0("(", paste(sql, collapse = paste0(" ", word, " ")), ")"), kind = "logical")
}

# Text is only compared for equality: its order differs between databases and R.
sql_comparison <- function(name, a, b) {
  if (a$kind != b$kind || a$kind == "logical" || (a$kind == "text" && !name %in% c("=", "<>"))) no_sql()
  list(sql = paste0("(", a$sql, " ", name, " ", b$sql, ")"), kind = "logical")
}

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

# Of constants one list, of anything else one comparison after the other.
sql_in <- function(node, context) {
  values <- constants_of_list(node$args[[2]])
  term <- function() sql_term(node$args[[1]], context)
  if (!is.null(values)) return(sql_among(term(), values, context))
  sql_logic("OR", lapply(node$args[[2]]$args, function(item) sql_comparison("=", term(), sql_term(item, context))))
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
