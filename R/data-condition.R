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

# What was asked of rows: the `text` of a condition, or `code` of R on the columns. A text is written out, or what a variable holds, a member of a
# list, or a call that puts texts together; none of them names a column, as columns come before variables. What was evaluated to know it is not
# evaluated again. `columns`: their names, as far as these are known.
asked_of_rows <- function(quosure, columns = character()) {
  expression <- rlang::quo_get_expr(quosure)
  if (rlang::is_string(expression)) return(list(text = expression))
  if (!may_be_text(quosure, columns)) return(list(code = quosure))
  value <- tryCatch(list(rlang::eval_bare(expression, rlang::quo_get_env(quosure))), error = function(e) NULL)
  if (is.null(value)) return(list(code = quosure))
  if (rlang::is_string(value[[1]])) return(list(text = as.character(value[[1]])))
  list(code = if (rlang::is_symbol(expression)) quosure else rlang::new_quosure(value[[1]]))
}

may_be_text <- function(quosure, columns) {
  expression <- rlang::quo_get_expr(quosure)
  is_column <- is.call(expression) && !is.null(column_of_code(expression))
  (rlang::is_symbol(expression) || rlang::is_call(expression, gives_texts)) && !is_column && !any(variables_of(quosure) %in% columns)
}

gives_texts <- c("paste", "paste0", "sprintf", "glue", "condition_text", "condition_json", "$", "[[")

# A condition as a tree, in either language.
tree_asked <- function(quosure, columns, call) {
  asked <- asked_of_rows(quosure, columns)
  if (is.null(asked$text)) tree_of_code(asked$code) else parse_text(asked$text, "where", call = call)
}

# The names that an expression takes values from.
variables_of <- function(quosure) unique(names(uses_in(tree_of_code(quosure))))

# --- checks --------------------------------------------------------------------------------------------------------------

# Are all columns of a tree there? `beside`: names of layers that may stand for shapes.
need_columns_of_tree <- function(tree, names, beside = character(), call = NULL) {
  if (is_of_r(tree)) return(need_variables(quosure_of_tree(tree), stats::setNames(as.list(names), names), "where", call))
  need_names_that_can_be(tree, call)
  missing <- nodes_where(tree, function(node) node$kind == "column" && !node$value %in% c(names, beside))
  if (!length(missing)) return(invisible())
  node <- missing[[1]]
  nearest <- by_nearness(node$value, names)
  as_text <- is_value_beside(tree, node)
  remedy <- paste0("Columns: ", paste(utils::head(nearest, 12), collapse = ", "), if (length(nearest) > 12) ", \u2026", ".")
  if (as_text) {
    eaten <- typed("", ", and the whole in double quotes, as the shell takes single ones away")
    remedy <- paste0("A text stands in single quotes: '", node$value, "'", eaten, ". ", remedy)
  }
  fail_at(attr(tree, "text"), node$at, attr(tree, "what"), paste0("there is no column \"", node$value, "\""), remedy, call, kind = "column")
}

names_kept_by_r <- c(".data", ".env")

need_names_that_can_be <- function(tree, call) {
  odd <- nodes_where(tree, function(node) node$kind == "column" && node$value %in% c("", names_kept_by_r))
  if (!length(odd)) return(invisible())
  problem <- if (nzchar(odd[[1]]$value)) paste0("\"", odd[[1]]$value, "\" is a name that R keeps for itself") else "this name is empty"
  fail_at(attr(tree, "text"), odd[[1]]$at, attr(tree, "what"), problem, "Give the column another name first.", call, kind = "column")
}

# Does a node stand where a value is likely: on the right of a comparison, or in a list?
is_value_beside <- function(tree, node) {
  sides <- nodes_where(tree, function(one) is_operation(one, c("=", "<>", "in", "like")))
  right <- lapply(sides, function(one) if (one$value == "in") one$args[[2]]$args else one$args[2])
  any(vapply(unlist(right, recursive = FALSE), function(one) identical(one$at, node$at), NA))
}

# --- the manual --------------------------------------------------------------------------------------------------------------

#' Conditions and expressions in CQL2
#'
#' Wherever rows are chosen by a text, it is a condition in the text language of OGC CQL2 (21-065r2), as in `read_layer(where = )`,
#' [keep_rows()] and `--where` on the command line. [explain_condition()] shows how one is understood.
#'
#' * Names of columns stand bare, or in double quotes where they hold blanks: `seats`, `"over 65"`. Texts stand in single quotes, a quote within
#'   is written twice: `'Land''s End'`, and two backslashes before a quote are one. Words of the language are the same in any case.
#' * Comparisons: `=`, `<>`, `<`, `<=`, `>`, `>=`; `seats BETWEEN 50 AND 100`; `kind IN ('school', 'library')`; `name LIKE 'Reef%'`, where `%`
#'   stands for any characters and `_` for one; `opens IS NULL`, `opens IS NOT NULL`. Texts have the order of their characters' codes.
#' * `NOT` binds more than `AND`, and `AND` more than `OR`; brackets decide otherwise.
#' * `CASEI(name) = CASEI('REEF')` compares without case (full case folding of Unicode), `ACCENTI(...)` without accents.
#' * Arithmetic: `+ - * / ^`, `DIV` and `%` for whole division and its rest, both towards 0; a minus binds more than `^`, as the standard has it.
#' * Dates and times: `DATE('2026-11-29')`, `TIMESTAMP('2026-11-29T06:30:00Z')`, `INTERVAL('2026-01-01', '..')`, and `T_AFTER`, `T_BEFORE`, `T_CONTAINS`,
#'   `T_DISJOINT`, `T_DURING`, `T_EQUALS`, `T_FINISHEDBY`, `T_FINISHES`, `T_INTERSECTS`, `T_MEETS`, `T_METBY`, `T_OVERLAPPEDBY`, `T_OVERLAPS`,
#'   `T_STARTEDBY`, `T_STARTS`. A date is the beginning of its day in UTC.
#' * Places: `S_INTERSECTS`, `S_WITHIN`, `S_CONTAINS`, `S_DISJOINT`, `S_TOUCHES`, `S_CROSSES`, `S_OVERLAPS`, `S_EQUALS` of the shape column with well-known
#'   text, `BBOX(xmin, ymin, xmax, ymax)` or a layer that is given by name: related to any of its rows. Coordinates are those of the layer's CRS.
#' * `CASE WHEN condition THEN value ELSE value END`, and the functions below. No other can be called.
#'
#' A comparison with a missing value is neither true nor false but unknown, and so is what depends on it; rows are kept where a condition holds.
#' @section Conditions as R code:
#' `keep_rows(rooms, seats > limit)`, `read_layer(where = seats > limit)` and [dplyr::filter()] take R code on the columns. It keeps the rows that it
#' keeps of a frame, whatever it is asked of:
#'
#' * Names are those of columns first, then of variables: `.data$seats` and `.env$limit` say which is meant. A variable, or a member of a list, that
#'   holds one text is a condition in CQL2, as long as no column has its name.
#' * It means what R means: `kind %in% "school"` is `FALSE` where `kind` is missing, and a product of two integers is missing beyond 2^31, with a
#'   warning. In CQL2 both differ: `kind IN ('school')` is unknown then, and numbers are doubles.
#' * Databases are asked in SQL for what means the same there; the rest is worked out here, on all rows at once where it looks at other rows than its own.
#' * A layer in tiles takes code that is known to go row by row: operators, and functions of base, dplyr and this package such as `round()`,
#'   `startsWith()`, `case_when()` and `area_of()`. `mean(seats)`, `seats[1]` or a function of your own may look at all rows, and are refused;
#'   so is `ifelse()`, whose type depends on the rows, where `if_else()` is not.
#' @eval words_in_help()
#' @source OGC 21-065r2, Common Query Language (CQL2), annex B; intervals after Allen (1983), "Maintaining knowledge about temporal intervals".
#' @name conditions
#' @examples
#' rooms <- read_layer(demo_file("rooms.geojson"))
#' keep_rows(rooms, "CASEI(kind) = 'library' AND (seats > 100 OR opens = '08:00')")
NULL

# The section on functions of the help page.
words_in_help <- function() {
  known <- mget(sort(names(words)), envir = words)
  uses <- c(row = "Of each row", shape = "Of the shape of each row", group = "Of many rows, in summaries")
  items <- unlist(lapply(names(uses), function(use) {
    helps <- sub("[.]$", "", vapply(Filter(function(word) word$use == use, known), `[[`, "", "help"))
    said <- ifelse(grepl(":", helps), sub("^[^:]*:", ",", helps), "")
    paste0("* ", uses[[use]], ": ", paste0("`", sub(":.*", "", helps), "`", said, collapse = "; "), ".")
  }))
  c("@section Functions:", "", gsub("%", "\\%", items, fixed = TRUE))
}
