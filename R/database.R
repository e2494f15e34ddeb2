# What layers in databases share: conditions in SQL, rows fetched batch by batch, and what is kept of each batch.

# Batches small enough to report progress and to keep memory low, large enough to cost nothing.
batch_rows <- 50000L

# Reads a layer by SQL. `about` says what differs between databases: `con`, `table` (quoted), `kinds` of the columns by
# name (see prototype_of_kinds()), `shape` (column of blobs, or NULL) and its `form`, `crs`, `window(edges)` (a condition,
# or NULL), `order` (the end of the statement, or NULL), `adjust(values, kind)` (a column as R holds it), `expected` (rows,
# roughly) and `total()` (rows, exactly).
read_database <- function(source, query, about) {
  query <- settle_window(query, about$crs)
  kinds <- about$kinds
  wanted <- chosen_columns(query, prototype_of_kinds(kinds))
  tested <- where_columns(query, names(kinds))
  condition <- if (has_where(query)) sql_condition(query$where, as.list(kinds[kinds %in% c("number", "text")]), about$con)
  conditions <- c(condition, if (!is.null(query$within)) about$window(query$within))
  selected <- as.character(DBI::dbQuoteIdentifier(about$con, c(union(wanted, if (is.null(condition)) tested), about$shape)))
  sql <- paste(c("SELECT", if (length(selected)) paste(selected, collapse = ", ") else "1 AS row", "FROM", about$table,
                 if (length(conditions)) c("WHERE", paste(conditions, collapse = " AND ")), about$order), collapse = " ")
  found <- fetch_layer(about, sql, query, paste("Reading", source$layer), where_done = !is.null(condition))
  columns <- Map(narrow_integers, found$columns[wanted], names(wanted))
  if (!is.null(found$shapes)) report_notices(found$shapes$notices, source$name)
  layer_content(stats::setNames(columns, names(wanted)), if (!is.null(found$shapes)) shapes_of_core(found$shapes, about$crs),
                if (length(conditions)) about$total() else found$rows, query)
}

prototype_of_kinds <- function(kinds) {
  empty <- list(logical = logical(), number = double(), text = character(), date = as.Date(character()), datetime = as_datetime(character()), blob = list())
  lapply(kinds, function(kind) empty[[kind]] %||% character())
}

# Runs a query and gives its columns, its shapes and the number of rows fetched. Rows for which `where` does not hold are
# left out before their blobs are decoded, unless the database saw to that already.
fetch_layer <- function(about, sql, query, label, where_done) {
  decoder <- if (!is.null(about$shape)) core_open_blobs(about$form, query$within, query$skip_damaged)
  result <- DBI::dbSendQuery(about$con, sql)
  on.exit(DBI::dbClearResult(result))
  bar <- new_progress(label)
  batches <- list()
  done <- 0
  repeat {
    batch <- DBI::dbFetch(result, n = batch_rows)
    done <- done + nrow(batch)
    bar(done / max(about$expected, 1, na.rm = TRUE))
    kept <- keep_batch(batch, decoder, query, about, where_done)
    if (nrow(batch) || !length(batches)) batches[[length(batches) + 1]] <- kept
    if (DBI::dbHasCompleted(result)) break
  }
  names <- setdiff(names(batches[[1]]), about$shape)
  columns <- lapply(stats::setNames(names, names), function(name) vctrs::vec_c(!!!lapply(batches, `[[`, name)))
  list(columns = columns, shapes = if (!is.null(decoder)) core_take_blobs(decoder), rows = done)
}

keep_batch <- function(batch, decoder, query, about, where_done) {
  columns <- as.list(batch)
  attributes <- intersect(names(columns), names(about$kinds))
  columns[attributes] <- Map(about$adjust, columns[attributes], about$kinds[attributes])
  keep_rows <- function(rows) lapply(columns, vctrs::vec_slice, i = rows)
  if (has_where(query) && !where_done) columns <- keep_rows(rows_where(query, columns[attributes], nrow(batch)))
  if (is.null(decoder)) return(columns)
  kept <- core(core_add_blobs(decoder, columns[[about$shape]]), call = query$call)
  if (!all(kept)) columns <- keep_rows(which(kept))
  columns[attributes]
}

# Integers of 64 bits as integers where they fit, else as numbers, else as text.
narrow_integers <- function(values, name) {
  if (!inherits(values, "integer64")) return(values)
  present <- values[!is.na(values)]
  if (!length(present) || all(abs(present) <= .Machine$integer.max)) return(as.integer(values))
  if (all(abs(present) <= 2^53)) return(as.double(values))
  caution("data", "Column {.val {name}} holds whole numbers beyond 2^53, which were kept as text.")
  ifelse(is.na(values), NA_character_, as.character(values))
}

as_datetime <- function(text) {
  if (!is.character(text)) return(text)
  out <- as.POSIXct(strptime(sub("Z$", "", text), "%Y-%m-%dT%H:%M:%OS", tz = "UTC"))
  bare <- is.na(out) & !is.na(text)
  if (any(bare)) out[bare] <- as.POSIXct(strptime(text[bare], "%Y-%m-%d %H:%M:%OS", tz = "UTC"))
  out
}

# --- conditions ------------------------------------------------------------------------------------------------------

# An expression on columns as an SQL condition, or NULL where SQL would not mean the same or cannot say it. `kinds` tells
# for each column whether it holds "number", "text" or "logical". Parts without columns are computed here.
sql_condition <- function(quosure, kinds, con) {
  term <- tryCatch(sql_term(rlang::quo_get_expr(quosure), kinds, con, rlang::quo_get_env(quosure)), civicatlas_no_sql = function(e) NULL)
  if (identical(term$kind, "logical")) term$sql
}

no_sql <- function() rlang::abort("", class = "civicatlas_no_sql")

# A list of `sql` and `kind` of the term's value.
sql_term <- function(expr, kinds, con, env) {
  column <- column_of_term(expr, kinds)
  if (!is.null(column)) return(list(sql = as.character(DBI::dbQuoteIdentifier(con, column)), kind = kinds[[column]]))
  if (!any(all.vars(expr) %in% names(kinds))) return(sql_constant(rlang::eval_bare(expr, env), con))
  if (!rlang::is_call(expr)) no_sql()
  name <- rlang::call_name(expr) %||% ""
  term <- function(i) sql_term(expr[[i + 1]], kinds, con, env)
  switch(name,
    "(" = term(1),
    "!" = sql_logic("NOT", term(1)),
    "&" = , "&&" = sql_logic("AND", term(1), term(2)),
    "|" = , "||" = sql_logic("OR", term(1), term(2)),
    "==" = , "!=" = , "<" = , "<=" = , ">" = , ">=" = sql_comparison(name, term(1), term(2)),
    "+" = , "-" = , "*" = if (length(expr) == 3) sql_arithmetic(name, term(1), term(2)) else no_sql(),
    is.na = list(sql = paste0("(", term(1)$sql, " IS NULL)"), kind = "logical"),
    "%in%" = sql_membership(term(1), rlang::eval_bare(expr[[3]], env), con),
    no_sql()
  )
}

# A column's name, also as .data$name or .data[["name"]].
column_of_term <- function(expr, kinds) {
  name <- if (rlang::is_symbol(expr)) {
    rlang::as_string(expr)
  } else if (rlang::is_call(expr, c("$", "[["), n = 2) && identical(expr[[2]], quote(.data))) {
    as.character(expr[[3]])
  }
  if (!is.null(name) && name %in% names(kinds)) name
}

kind_of_value <- function(value) {
  if (is.logical(value)) "logical" else if (is.numeric(value) && !is.object(value)) "number" else if (is.character(value)) "text" else no_sql()
}

sql_constant <- function(value, con) {
  if (length(value) != 1 || is.na(value) || (is.numeric(value) && !is.finite(value))) no_sql()
  kind <- kind_of_value(value)
  sql <- switch(kind, text = as.character(DBI::dbQuoteString(con, enc2utf8(value))), logical = if (value) "(1=1)" else "(1=0)",
                number = format(value, digits = 17, scientific = is.double(value) && abs(value) > 1e15))
  list(sql = sql, kind = kind)
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

sql_arithmetic <- function(name, a, b) {
  if (a$kind != "number" || b$kind != "number") no_sql()
  list(sql = paste0("(1.0 * ", a$sql, " ", name, " ", b$sql, ")"), kind = "number")
}

# x %in% table is TRUE or FALSE, never NA, also where x is missing.
sql_membership <- function(a, values, con) {
  missing <- if (anyNA(values)) "IS NULL OR" else "IS NOT NULL AND"
  values <- values[!is.na(values)]
  if (kind_of_value(values) != a$kind || a$kind == "logical" || !length(values) || length(values) > 500) no_sql()
  items <- vapply(values, function(value) sql_constant(value, con)$sql, "")
  list(sql = paste0("(", a$sql, " ", missing, " ", a$sql, " IN (", paste(items, collapse = ", "), "))"), kind = "logical")
}
