# What layers in databases share: conditions in SQL, rows fetched batch by batch, and what is kept of each batch.

# Batches small enough to report progress and to keep memory low, large enough to cost nothing.
batch_rows <- 50000L

# Reads a layer by SQL. `about` says what differs between databases: `con`, `table` (quoted), `kinds` of the columns by
# name (see prototype_of_kinds()), `shape` (column of blobs, or NULL) and its `form`, `crs`, `window(edges)` (a condition,
# or NULL), `order` (the end of the statement, or NULL), `adjust(values, kind)` (a column as R holds it), `expected` (rows,
# roughly) and `total()` (rows, exactly).
read_database <- function(source, query, about) {
  old <- options(OutDec = ".")  # numbers in statements and parameters, whatever R prints
  on.exit(options(old))
  query <- settle_window(query, about$crs)
  kinds <- about$kinds
  wanted <- chosen_columns(query, prototype_of_kinds(kinds))
  tested <- where_columns(query, names(kinds))
  condition <- if (has_where(query)) sql_condition(query$where, as.list(kinds), about$con)
  conditions <- c(condition$sql, if (!is.null(query$within)) about$window(query$within))
  selected <- selected_columns(about, c(union(wanted, if (is.null(condition)) tested), about$shape))
  sql <- paste(c("SELECT", if (length(selected)) paste(selected, collapse = ", ") else "1 AS row", "FROM", about$table,
                 if (length(conditions)) c("WHERE", paste(conditions, collapse = " AND ")), about$order), collapse = " ")
  found <- fetch_layer(about, sql, condition$values, query, paste("Reading", source$layer), where_done = !is.null(condition))
  if (length(found$mixed)) return(read_database(source, query, utils::modifyList(about, list(as_text = found$mixed))))
  tell_odd_values(about, found$odd)
  columns <- Map(narrow_integers, found$columns[wanted], names(wanted))
  if (!is.null(found$shapes)) report_notices(found$shapes$notices, source$name)
  layer_content(stats::setNames(columns, names(wanted)), if (!is.null(found$shapes)) shapes_of_core(found$shapes, about$crs),
                if (length(conditions)) about$total() else found$rows, query)
}

# Names of columns for SQL; columns of numbers that hold text too are fetched as text.
selected_columns <- function(about, names) {
  quoted <- as.character(DBI::dbQuoteIdentifier(about$con, names))
  ifelse(names %in% about$as_text, paste0("CAST(", quoted, " AS TEXT) AS ", quoted), quoted)
}

# One warning for values that their columns cannot hold, which became missing.
tell_odd_values <- function(about, odd) {
  if (!length(odd)) return(invisible())
  lines <- vapply(names(odd), function(name) {
    sprintf("%s: %s no %s (first: \"%s\")", name, counted(length(odd[[name]]), "value that is", "values that are"), about$kinds[[name]], odd[[name]][1])
  }, "")
  caution("data", c("Values that do not fit their columns became missing:", stats::setNames(escape(lines), rep("*", length(lines)))))
}

prototype_of_kinds <- function(kinds) {
  empty <- list(logical = logical(), number = double(), text = character(), date = as.Date(character()), datetime = as_datetime(character()), blob = list())
  lapply(kinds, function(kind) empty[[kind]] %||% character())
}

# Runs a query and gives its columns, its shapes and the number of rows fetched. Rows for which `where` does not hold are
# left out before their blobs are decoded, unless the database saw to that already.
fetch_layer <- function(about, sql, values, query, label, where_done) {
  decoder <- if (!is.null(about$shape)) core_open_blobs(about$form, query$within, query$skip_damaged)
  result <- DBI::dbSendQuery(about$con, sql, params = if (length(values)) values)
  on.exit(DBI::dbClearResult(result))
  bar <- new_progress(label)
  batches <- list()
  done <- 0
  met <- new.env(parent = emptyenv())  # columns of numbers with text in them, and values that do not fit
  repeat {
    batch <- fetch_batch(result, met)
    done <- done + nrow(batch)
    bar(done / max(about$expected, 1, na.rm = TRUE))
    kept <- keep_batch(batch, decoder, query, about, where_done, met)
    if (nrow(batch) || !length(batches)) batches[[length(batches) + 1]] <- kept
    if (DBI::dbHasCompleted(result)) break
  }
  names <- setdiff(names(batches[[1]]), about$shape)
  columns <- lapply(stats::setNames(names, names), function(name) vctrs::vec_c(!!!lapply(batches, `[[`, name)))
  list(columns = columns, shapes = if (!is.null(decoder)) core_take_blobs(decoder), rows = done, mixed = met$mixed, odd = met$odd)
}

# SQLite keeps text in columns of numbers, which its driver would make 0.
fetch_batch <- function(result, met) {
  withCallingHandlers(DBI::dbFetch(result, n = batch_rows), warning = function(w) {
    column <- regmatches(conditionMessage(w), regexec("^Column `(.*)`: mixed type", conditionMessage(w)))[[1]][2]
    if (is.na(column)) return()
    met$mixed <- union(met$mixed, column)
    tryInvokeRestart("muffleWarning")
  })
}

keep_batch <- function(batch, decoder, query, about, where_done, met) {
  columns <- as.list(batch)
  attributes <- intersect(names(columns), names(about$kinds))
  for (name in attributes) {
    came <- columns[[name]]
    columns[[name]] <- about$adjust(if (name %in% about$as_text) narrow_numbers(suppressWarnings(as.double(came))) else came, about$kinds[[name]])
    odd <- if (!is.list(came)) which(is.na(columns[[name]]) & !is.na(came))
    if (length(odd)) met$odd[[name]] <- c(met$odd[[name]], as.character(came[odd]))
  }
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

# Times as ISO 8601 writes them, with a fraction of a second and an offset from UTC, which is UTC where there is none (RFC 3339, section 5.6).
as_datetime <- function(text) {
  if (!is.character(text)) return(text)
  to_second <- grepl("^.{13}:[0-9]{2}:", text)
  length <- ifelse(to_second, 19L, 16L)
  clock <- paste0(sub("T", " ", substr(text, 1, length), fixed = TRUE), ifelse(to_second, "", ":00"))
  rest <- substring(text, length + 1L)
  kinds <- unique(rest)
  shift <- vapply(kinds, seconds_behind_clock, 0)[match(rest, kinds)]
  as.POSIXct(unname(as.double(as.POSIXct(strptime(clock, "%Y-%m-%d %H:%M:%S", tz = "UTC"))) + shift), origin = "1970-01-01", tz = "UTC")
}

# What ".25+05:30" and the like add to the time before it; NA for anything else.
seconds_behind_clock <- function(rest) {
  parts <- regmatches(rest, regexec("^([.,][0-9]+)?(Z|z|([+-])([0-9]{2}):?([0-9]{2})?)?$", rest))[[1]]
  if (!length(parts)) return(NA_real_)
  fraction <- if (nzchar(parts[2])) as.double(sub(",", ".", paste0("0", parts[2]), fixed = TRUE)) else 0
  if (!nzchar(parts[4])) return(fraction)
  minutes <- 60 * as.double(parts[5]) + if (nzchar(parts[6])) as.double(parts[6]) else 0
  fraction - (if (parts[4] == "-") -60 else 60) * minutes
}

as_date <- function(text) as.Date(strptime(as.character(text), "%Y-%m-%d", tz = "UTC"))

# --- conditions ------------------------------------------------------------------------------------------------------

# An expression on columns as an SQL condition, a list of `sql` and the `values` of its parameters; NULL where SQL would not mean the same
# or cannot say it. `kinds` tells what each column holds; only "number" and "text" are known to SQL as to R. Parts without columns
# are computed here, and are bound as parameters.
sql_condition <- function(quosure, kinds, con) {
  bound <- new.env(parent = emptyenv())
  bound$values <- list()
  context <- list(kinds = kinds, con = con, env = rlang::quo_get_env(quosure), bound = bound)
  term <- tryCatch(sql_term(rlang::quo_get_expr(quosure), context), civicatlas_no_sql = function(e) NULL)
  if (identical(term$kind, "logical")) list(sql = term$sql, values = bound$values)
}

no_sql <- function() rlang::abort("", class = "civicatlas_no_sql")

# A list of `sql` and `kind` of the term's value.
sql_term <- function(expr, context) {
  column <- column_of_term(expr, context$kinds)
  if (!is.null(column)) return(sql_column(column, context))
  if (!names_columns(expr, context)) return(sql_constant(rlang::eval_bare(expr, context$env), context))
  if (!rlang::is_call(expr)) no_sql()
  name <- rlang::call_name(expr) %||% ""
  term <- function(i) sql_term(expr[[i + 1]], context)
  switch(name,
    "(" = term(1),
    "!" = sql_logic("NOT", term(1)),
    "&" = , "&&" = sql_logic("AND", term(1), term(2)),
    "|" = , "||" = sql_logic("OR", term(1), term(2)),
    "==" = , "!=" = , "<" = , "<=" = , ">" = , ">=" = sql_comparison(name, term(1), term(2)),
    "+" = , "-" = , "*" = if (length(expr) == 3) sql_arithmetic(name, term(1), term(2)) else no_sql(),
    is.na = list(sql = paste0("(", term(1)$sql, " IS NULL)"), kind = "logical"),
    "%in%" = if (names_columns(expr[[3]], context)) no_sql() else sql_membership(term(1), rlang::eval_bare(expr[[3]], context$env), context),
    no_sql()
  )
}

names_columns <- function(expr, context) any(columns_named(expr, names(context$kinds)) %in% names(context$kinds))

sql_column <- function(name, context) {
  kind <- context$kinds[[name]]
  if (!kind %in% c("number", "text")) no_sql()
  sql <- as.character(DBI::dbQuoteIdentifier(context$con, name))
  # SQLite keeps text in columns of numbers too, which is above every number to it and missing here.
  untyped <- kind == "number" && inherits(context$con, "SQLiteConnection")
  list(sql = if (untyped) sprintf("(CASE WHEN typeof(%1$s) IN ('integer', 'real') THEN %1$s END)", sql) else sql, kind = kind)
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

# A place for a value, which SQLite takes with its type and PostgreSQL has to be told.
sql_parameter <- function(value, kind, context) {
  bound <- context$bound
  bound$values <- c(bound$values, list(if (kind == "text") enc2utf8(value) else as.double(value)))
  number <- length(bound$values)
  if (inherits(context$con, "SQLiteConnection")) paste0("?", number) else paste0("$", number, if (kind == "text") "::text" else "::double precision")
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
sql_membership <- function(a, values, context) {
  missing <- if (anyNA(values)) "IS NULL OR" else "IS NOT NULL AND"
  values <- unname(values[!is.na(values)])
  if (kind_of_value(values) != a$kind || a$kind == "logical" || !length(values) || length(values) > 500) no_sql()
  items <- vapply(values, function(value) sql_constant(value, context)$sql, "")
  list(sql = paste0("(", a$sql, " ", missing, " ", a$sql, " IN (", paste(items, collapse = ", "), "))"), kind = "logical")
}
