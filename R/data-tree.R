# One tree for conditions and expressions, whatever they are written in. A node is a list of `kind`, `value`, `args` and, in a text, `at` (its first and
# last character). Kinds of both languages are
# * "column", by name; what is none of the columns in an expression of R is a variable, as columns come before these
# * "operation": comparisons, "and", "or", "not", "isNull", "in", arithmetic, "case", relations of times ("t_...") and of shapes ("s_...")
# of CQL2 alone "number", "text", "truth", "missing", "date", "timestamp", "interval", "geometry", "list", and "call" of a function of ours; of R alone
# * "value": a constant, "r": any other call, by the name of its function, and the operation "%in%".
# A node of R has its `code`, and means what R means by it. The root of a text has attributes `text` and `what` (the argument that it is), the root of
# an expression `env`, in which its variables stand.
#
# What is asked of a tree is a function each: columns_in(), goes_by_row(), bounds_of_tree(), code_of() (R), sql_condition(), text_of_tree(), json_of_tree().

node_of <- function(kind, value = "", args = list(), at = c(NA_integer_, NA_integer_)) list(kind = kind, value = value, args = args, at = at)

is_operation <- function(node, name = node$value) node$kind == "operation" && node$value %in% name

# All nodes of a tree for which something holds, but for the constants of lists, which may be many.
nodes_where <- function(node, holds) {
  below <- if (!is_list_of_constants(node)) unlist(lapply(node$args, nodes_where, holds), recursive = FALSE)
  c(if (holds(node)) list(node), below)
}

is_list_of_constants <- function(node) {
  node$kind == "list" && all(vapply(node$args, `[[`, "", "kind") %in% c("text", "number", "truth", "missing"))
}

# The values of a list of constants as a vector; NULL where it is none, or has numbers of more digits than doubles.
constants_of_list <- function(node) {
  if (!is_list_of_constants(node) || !all(vapply(node$args, function(item) is.null(item$digits), NA))) return(NULL)
  vctrs::list_unchop(lapply(node$args, function(item) if (item$kind == "missing") NA else item$value))
}

# A part of a tree, or a tree made of its parts, with what the root knows.
with_root_of <- function(tree, whole) structure(tree, text = attr(whole, "text"), what = attr(whole, "what"), env = attr(whole, "env"))

is_of_r <- function(tree) !is.null(attr(tree, "env"))

# The parts of an "and" or "or", however they are nested.
parts_joined_by <- function(operation, node) {
  if (is_operation(node, operation)) unlist(lapply(node$args, parts_joined_by, operation = operation), recursive = FALSE) else list(node)
}

# --- from R ----------------------------------------------------------------------------------------------------------------

tree_of_code <- function(quosure) {
  env <- rlang::quo_get_env(quosure)
  structure(node_of_code(rlang::quo_get_expr(quosure), env), env = env)
}

node_of_code <- function(code, env) {
  if (rlang::is_call(code, "(", n = 1)) return(node_of_code(code[[2]], env))
  column <- column_of_code(code)
  if (!is.null(column)) return(c(node_of("column", column), list(code = code)))
  if (!is.call(code)) return(c(node_of("value"), list(code = code)))
  head <- code[[1]]
  is_named <- is.symbol(head) || rlang::is_call(head, c("::", ":::"))
  name <- if (is_named) as.character(utils::tail(as.list(head), 1)[[1]]) else ""
  parts <- as.list(code)[if (is_named) -1 else TRUE]
  parts <- switch(name, "::" = , ":::" = , "function" = list(), "$" = , "@" = parts[1], parts[!vapply(parts, rlang::is_missing, NA)])
  operation <- operations_of_r[[paste(name, length(parts))]]
  is_operation <- !is.null(operation) && is_function_of(c("base", "civicatlas"), name, function_called(code, env))
  node <- node_of(if (is_operation) "operation" else "r", if (is_operation) operation else name, lapply(parts, node_of_code, env))
  c(node, list(code = code))
}

operations_of_r <- list(
  "& 2" = "and", "| 2" = "or", "! 1" = "not", "is.na 1" = "isNull", "== 2" = "=", "!= 2" = "<>", "< 2" = "<", "> 2" = ">", "<= 2" = "<=", ">= 2" = ">=",
  "+ 2" = "+", "- 2" = "-", "* 2" = "*", "/ 2" = "/", "^ 2" = "^", "%in% 2" = "%in%"
)

# The name of a column, also as .data$name or .data[["name"]]; NA for one of .data whose name is not known yet.
column_of_code <- function(code) {
  if (rlang::is_symbol(code)) return(rlang::as_string(code))
  if (!rlang::is_call(code, c("$", "[["), n = 2) || !identical(code[[2]], quote(.data))) return(NULL)
  if (rlang::is_call(code, "$") || rlang::is_string(code[[3]])) as.character(code[[3]]) else NA_character_
}

# The function that a call calls, NULL where it is not known.
function_called <- function(code, env) {
  head <- code[[1]]
  if (is.symbol(head)) return(get0(as.character(head), env, mode = "function"))
  if (rlang::is_call(head, c("::", ":::"))) tryCatch(eval(head, baseenv()), error = function(e) NULL)
}

# Is a function the one that one of some packages has by a name? We have a %in% of our own.
is_function_of <- function(packages, name, called) {
  is_of <- function(package) isNamespaceLoaded(package) && identical(called, get0(name, asNamespace(package), inherits = FALSE))
  any(vapply(packages, is_of, NA))
}

# --- what a tree is about --------------------------------------------------------------------------------------------------

columns_of_tree <- function(tree) unique(vapply(nodes_where(tree, function(node) node$kind == "column"), `[[`, "", "value"))

# Which of these columns it names: all, where that is known only when it is worked out.
columns_in <- function(tree, names) {
  named <- columns_of_tree(tree)
  if (anyNA(named)) names else intersect(named, names)
}

# Does it look at the shapes of the rows?
looks_at_shapes <- function(tree) {
  by_shape <- function(node) {
    (node$kind == "operation" && startsWith(node$value, "s_")) || (node$kind == "call" && identical(word_of(node$value)$use, "shape"))
  }
  length(nodes_where(tree, by_shape)) > 0
}

# A condition as one that shapes are not needed for, and the rest; NULL for what is not there.
split_by_shapes <- function(tree) {
  parts <- if (is_operation(tree, "and")) tree$args else list(tree)
  by_shape <- vapply(parts, looks_at_shapes, NA)
  join <- function(parts) if (length(parts)) with_root_of(if (length(parts) == 1) parts[[1]] else node_of("operation", "and", parts), tree)
  list(plain = join(parts[!by_shape]), shapes = join(parts[by_shape]))
}

# Is it the same for all rows, and can it be worked out without them? `names` are those of the columns.
is_constant <- function(node, names) {
  rows <- function(node) (node$kind == "column" && (is.na(node$value) || node$value %in% names)) || (node$kind == "r" && node$value %in% of_all_rows)
  !length(nodes_where(node, rows)) && !looks_at_shapes(node)
}

# What asks for the rows without naming a column, or gives another value each time.
of_all_rows <- c("n", "row_number", "pick", "across", "c_across", "if_any", "if_all", "cur_data", "cur_group", "cur_group_id", "cur_group_rows", "cur_column",
                 "everything", "runif", "rnorm", "sample", "seq_len", "seq_along", "Sys.time")

value_of_constant <- function(node, tree) rlang::eval_tidy(code_of(node, list(tree = tree, call = NULL)), list(), attr(tree, "env") %||% topenv())

# --- row by row ------------------------------------------------------------------------------------------------------------

# Does it say of a row what it says of it among others? So CQL2 does, but for summaries; of R what is known to.
goes_by_row <- function(tree, names) {
  if (!is_of_r(tree)) return(TRUE)
  is_row_wise(tree, list(tree = tree, names = names))
}

is_row_wise <- function(node, context) {
  if (is_constant(node, context$names)) return(is_single(node, context))
  if (node$kind == "column") return(!is.na(node$value))
  if (is_operation(node, "%in%") && !is_constant(node$args[[2]], context$names)) return(FALSE)
  args <- if (is_operation(node, "%in%")) node$args[1] else node$args
  known <- node$kind == "operation" || is_known_by_row(node, attr(context$tree, "env"))
  known && all(vapply(args, is_row_wise, NA, context))
}

# One value for all rows, not one for each; what cannot be worked out fails where it is.
is_single <- function(node, context) {
  if (node$kind == "value") return(TRUE)
  tryCatch(length(value_of_constant(node, context$tree)) <= 1, error = function(e) TRUE)
}

# Is the function called one of those, and not another of that name? Some go by row as long as an argument is not given, or is.
is_known_by_row <- function(node, env) {
  if (node$value == "~") return(TRUE)  # of case_when()
  package <- names(by_row)[vapply(by_row, function(known) node$value %in% known, NA)]
  if (!length(package) || !is_function_of(package, node$value, function_called(node$code, env))) return(FALSE)
  given <- rlang::names2(node$args)
  switch(node$value,
    paste = , paste0 = !"collapse" %in% given, hull_of = length(given) == 1, as.Date = "format" %in% given || identical(given[2], ""), TRUE
  )
}

# Not ifelse(), whose type depends on which of its values any row takes.
by_row <- list(
  base = c("-", "+", "%%", "%/%", "abs", "sqrt", "exp", "log", "log10", "log2", "sin", "cos", "tan", "round", "signif", "floor", "ceiling", "trunc",
           "pmin", "pmax", "nchar", "substr", "substring", "startsWith", "endsWith", "grepl", "sub", "gsub", "tolower", "toupper", "trimws", "paste", "paste0",
           "sprintf", "xor", "is.finite", "is.nan", "as.Date", "as.numeric", "as.double", "as.integer", "as.character", "as.logical"),
  dplyr = c("if_else", "case_when", "coalesce", "between", "na_if", "near"),
  tidyr = "replace_na",
  civicatlas = c("area_of", "length_of", "perimeter_of", "geometry_type_of", "centroid_of", "inner_point_of", "hull_of")
)

# --- bounds ----------------------------------------------------------------------------------------------------------------

# Bounds that all rows lie within for which a condition holds: lists of `column`, `relation` and `value`.
bounds_of_tree <- function(tree, columns) {
  unlist(lapply(parts_joined_by("and", tree), function(part) bounds_of_part(part, list(tree = tree, columns = columns))), recursive = FALSE)
}

bounds_of_part <- function(node, context) {
  args <- node$args
  if (is_operation(node, names(turned_relations))) return(bound_of(args[[1]], node$value, args[[2]], context))
  if (is_operation(node, "between")) c(bound_of(args[[1]], ">=", args[[2]], context), bound_of(args[[1]], "<=", args[[3]], context))
}

turned_relations <- c("<" = ">", "<=" = ">=", ">" = "<", ">=" = "<=", "=" = "=")

# `left relation right` as a bound, where one side is a column and the other a number.
bound_of <- function(left, relation, right, context) {
  left <- column_or_number(left, context)
  right <- column_or_number(right, context)
  if (is.character(left) && is.numeric(right)) return(list(list(column = left, relation = relation, value = right)))
  if (is.numeric(left) && is.character(right)) list(list(column = right, relation = turned_relations[[relation]], value = left))
}

column_or_number <- function(node, context) {
  if (node$kind == "column" && node$value %in% context$columns) return(node$value)
  if (!is_constant(node, context$columns)) return(NULL)
  value <- tryCatch(value_of_constant(node, context$tree), error = function(e) NULL)
  if (is.numeric(value) && !is.object(value) && length(value) == 1) as.double(value)
}
