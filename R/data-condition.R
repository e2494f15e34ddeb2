# Conditions and expressions as texts in CQL2 (OGC 21-065r2): read by the core into trees of nodes, lists of `kind`, `value`, `args` and `at`
# (the first and last character), and checked against the columns of a layer.

# The tree of a text, or trees by name for `form` "named". `what` is the argument or option that the text stands in.
parse_text <- function(text, what, form = "condition", call = rlang::caller_env()) {
  if (!rlang::is_string(text)) fail(c("choice", "argument"), "{.arg {what}} must be a text.", call = call)
  text <- enc2utf8(text)
  if (!validUTF8(text)) fail(c("choice", "argument"), "{.arg {what}} holds bytes that are no text.", call = call)
  if (form == "condition" && grepl("^\\s*[{]", text)) return(tree_of_json(text, what, call))
  found <- core(core_parse_expression(text, form), call = call)
  if (is.null(found$tree)) fail_at(text, found$at, what, found$problem, found$remedy, call)
  structure(found$tree, text = text, what = what)
}

# An error that points at the characters of a text that are at fault.
fail_at <- function(text, at, what, problem, remedy = "", call = rlang::caller_env(), kind = c("choice", "argument")) {
  line <- gsub("[\r\n\t]", " ", text)
  at <- pmin(at, nchar(line) + 1L)
  from <- max(1, at[1] - 50)
  shown <- paste0(if (from > 1) "\u2026", substr(line, from, at[2] + 30), if (nchar(line) > at[2] + 30) "\u2026")
  before <- substr(line, from, at[1] - 1)
  blanks <- strrep(" ", nchar(before, "width") + (from > 1))
  marks <- paste0(blanks, strrep("^", max(1, at[2] - at[1] + 1)))
  message <- c("Cannot read {.arg {what}}: {problem}.", " " = "{shown}", " " = "{marks}", i = if (nzchar(remedy)) "{remedy}")
  fail(kind, message, call = call, as_is = TRUE)
}

# Are we given a text, and not an R expression? `quosure` may hold a text, name a variable that does, or put one together.
text_of_quosure <- function(quosure) {
  expression <- rlang::quo_get_expr(quosure)
  if (rlang::is_string(expression)) return(expression)
  if (!rlang::is_symbol(expression) && !rlang::is_call(expression, c("paste", "paste0", "sprintf", "glue", "$", "[["))) return(NULL)
  value <- tryCatch(rlang::eval_bare(expression, rlang::quo_get_env(quosure)), error = function(e) NULL)
  if (rlang::is_string(value)) as.character(value)
}

# --- trees ---------------------------------------------------------------------------------------------------------------

is_operation <- function(node, name = node$value) node$kind == "operation" && node$value %in% name

node_of <- function(kind, value = "", args = list(), at = c(NA_integer_, NA_integer_)) list(kind = kind, value = value, args = args, at = at)

# All nodes of a tree for which something holds.
nodes_where <- function(node, holds) {
  c(if (holds(node)) list(node), unlist(lapply(node$args, nodes_where, holds), recursive = FALSE))
}

columns_of_tree <- function(tree) unique(vapply(nodes_where(tree, function(node) node$kind == "column"), `[[`, "", "value"))

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
  join <- function(parts) {
    if (!length(parts)) return(NULL)
    joined <- if (length(parts) == 1) parts[[1]] else node_of("operation", "and", parts)
    structure(joined, text = attr(tree, "text"), what = attr(tree, "what"))
  }
  list(plain = join(parts[!by_shape]), shapes = join(parts[by_shape]))
}

# --- checks --------------------------------------------------------------------------------------------------------------

# Are all columns of a tree there? `beside`: names of layers that may stand for shapes.
need_columns_of_tree <- function(tree, names, beside = character(), call = NULL) {
  missing <- nodes_where(tree, function(node) node$kind == "column" && !node$value %in% c(names, beside))
  if (!length(missing)) return(invisible())
  node <- missing[[1]]
  nearest <- names[order(utils::adist(node$value, names, ignore.case = TRUE))]
  as_text <- is_value_beside(tree, node)
  remedy <- paste0("Columns: ", paste(utils::head(nearest, 12), collapse = ", "), if (length(nearest) > 12) ", \u2026", ".")
  if (as_text) {
    eaten <- typed("", ", and the whole in double quotes, as the shell takes single ones away")
    remedy <- paste0("A text stands in single quotes: '", node$value, "'", eaten, ". ", remedy)
  }
  fail_at(attr(tree, "text"), node$at, attr(tree, "what"), paste0("there is no column \"", node$value, "\""), remedy, call, kind = "column")
}

# Does a node stand where a value is likely: on the right of a comparison, or in a list?
is_value_beside <- function(tree, node) {
  sides <- nodes_where(tree, function(one) is_operation(one, c("=", "<>", "in", "like")))
  right <- lapply(sides, function(one) if (one$value == "in") one$args[[2]]$args else one$args[2])
  any(vapply(unlist(right, recursive = FALSE), function(one) identical(one$at, node$at), NA))
}
