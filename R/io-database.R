# What layers in databases share: rows fetched batch by batch, and what is kept of each batch.

# Batches small enough to report progress and to keep memory low, large enough to cost nothing.
batch_rows <- 50000L

# Reads a layer by SQL. `about` says what differs between databases: `con`, its `dialect`, `table` (quoted), `kinds` of the columns by
# name (see prototype_of_kinds()), `shape` (column of blobs, or NULL) and its `form`, `crs`, `window(edges)` (a condition,
# or NULL), `order` (the end of the statement, or NULL), `adjust(values, kind)` (a column as R holds it), `expected` (rows,
# roughly), `total()` (rows, exactly) and `in_sql`: FALSE where conditions are worked out here.
read_database <- function(source, query, about) {
  old <- options(OutDec = ".")  # numbers in statements and parameters, whatever R prints
  on.exit(options(old))
  asked <- query <- settle_window(query, about$crs)
  kinds <- about$kinds
  wanted <- chosen_columns(query, prototype_of_kinds(kinds))
  tested <- where_columns(query, names(kinds))
  condition <- asked_in_sql(query, kinds, about)
  conditions <- c(condition$sql, if (!is.null(query$within)) about$window(query$within))
  query$held <- condition$held
  query["where"] <- list(condition$left)
  if (has_where(query)) query$code <- quosure_of_tree(query$where, call = query$call)
  selected <- c(selected_columns(about, c(union(wanted, if (has_where(query)) tested), about$shape)),
                if (length(query$held)) paste(query$held, "AS", quoted(about$con, names(query$held))))
  sql <- paste(c("SELECT", if (length(selected)) paste(selected, collapse = ", ") else "1 AS row", "FROM", about$table,
                 if (length(conditions)) c("WHERE", paste(conditions, collapse = " AND ")), about$order), collapse = " ")
  content <- function(found) {
    columns <- Map(narrow_integers, named_as_chosen(found$columns, wanted), names(wanted))
    if (!is.null(found$shapes)) report_notices(found$shapes$notices, source$name)
    layer_content(columns, if (!is.null(found$shapes)) shapes_of_core(found$shapes, about$crs),
                  if (length(conditions)) about$total() else found$rows, query)
  }
  give <- if (!is.null(query$give)) function(found) query$give(content(found))
  found <- fetch_layer(about, sql, condition$values, query, paste("Reading", source$layer), give)
  if (length(found$mixed)) {
    if (!is.null(query$again)) query$again()
    return(read_database(source, asked, utils::modifyList(about, list(as_text = found$mixed))))
  }
  tell_misfits(about, found$misfits)
  content(found)
}

# The condition as far as SQL says it. One that looks at other rows than its own wants all of them.
asked_in_sql <- function(query, kinds, about) {
  if (!has_where(query)) return(NULL)
  if (isFALSE(about$in_sql)) return(list(left = query$where))
  found <- sql_condition(query$where, as.list(kinds), about$con, about$dialect)
  if (is.null(found$left) || goes_by_row(query$where, names(kinds))) found else list(left = query$where)
}

# Rows are given as they come, `rows` at a time; `again` is called where all that was given has to be read another way.
stream_database <- function(source, query, rows, give, again) {
  give(read_source(source, utils::modifyList(query, list(give = give, again = again, chunk = rows))))
}

# Names of columns for SQL; columns of numbers that hold text too are fetched as text.
selected_columns <- function(about, names) {
  sql <- quoted(about$con, names)
  ifelse(names %in% about$as_text, paste0("CAST(", sql, " AS TEXT) AS ", sql), sql)
}

# One warning for values that their columns cannot hold, which became missing.
tell_misfits <- function(about, misfits) {
  if (!length(misfits)) return(invisible())
  lines <- vapply(names(misfits), function(name) {
    sprintf("%s: %s no %s (first: \"%s\")", name, counted(length(misfits[[name]]), "value that is", "values that are"), about$kinds[[name]], misfits[[name]][1])
  }, "")
  caution("data", c("Values that do not fit their columns became missing:", stats::setNames(escape(lines), rep("*", length(lines)))))
}

prototype_of_kinds <- function(kinds) {
  empty <- list(logical = logical(), number = double(), text = character(), date = as.Date(character()), datetime = as_datetime(character()), blob = list())
  lapply(kinds, function(kind) empty[[kind]] %||% character())
}

# Runs a query and gives its columns, its shapes and the number of rows fetched. Rows for which `where` does not hold are
# left out before their blobs are decoded. `give` takes what was gathered whenever it is enough.
fetch_layer <- function(about, sql, values, query, label, give = NULL) {
  result <- DBI::dbSendQuery(about$con, sql)
  on.exit(DBI::dbClearResult(result))
  if (length(values)) DBI::dbBind(result, values)
  bar <- new_progress(label)
  size <- rows_at_a_time(query, about)
  fetched <- new_batches(about, query)
  done <- given <- 0
  met <- new.env(parent = emptyenv())  # columns of numbers with text in them, values that do not fit, kinds that were checked
  repeat {
    batch <- fetch_batch(result, size, met)
    done <- done + nrow(batch)
    bar(done / max(about$expected, 1, na.rm = TRUE))
    kept <- keep_batch(batch, fetched$decoder, query, about, met)
    if (nrow(batch) || !length(fetched$all)) fetched$all[[length(fetched$all) + 1]] <- kept
    if (DBI::dbHasCompleted(result)) break
    if (!is.null(give) && done - given >= query$chunk) {
      give(gathered(fetched, about, done, met))
      given <- done
      fetched <- new_batches(about, query)
    }
  }
  gathered(fetched, about, done, met)
}

# All rows where the condition looks at others than its own.
rows_at_a_time <- function(query, about) if (!has_where(query) || goes_by_row(query$where, names(about$kinds))) batch_rows else -1L

new_batches <- function(about, query) {
  list(all = list(), decoder = if (!is.null(about$shape)) core(core_open_blobs(about$form, query$within, query$skip_damaged)))
}

gathered <- function(fetched, about, rows, met) {
  names <- names(fetched$all[[1]])
  at <- which(!names %in% about$shape)  # by place, as a name may be blank
  columns <- lapply(stats::setNames(at, names[at]), function(k) vctrs::vec_c(!!!lapply(fetched$all, `[[`, k)))
  list(columns = columns, shapes = if (!is.null(fetched$decoder)) core(core_take_blobs(fetched$decoder)), rows = rows, mixed = met$mixed, misfits = met$misfits)
}

# SQLite keeps text in columns of numbers, which its driver would make 0.
fetch_batch <- function(result, size, met) {
  withCallingHandlers(DBI::dbFetch(result, n = size), warning = function(w) {
    column <- regmatches(conditionMessage(w), regexec("^Column `(.*)`: mixed type", conditionMessage(w)))[[1]][2]
    if (is.na(column)) return()
    met$mixed <- union(met$mixed, column)
    tryInvokeRestart("muffleWarning")
  })
}

# Columns go by their places, as a name may be blank.
keep_batch <- function(batch, decoder, query, about, met) {
  columns <- as.list(batch)
  if ("" %in% names(about$kinds)) names(columns) <- sub("^[.][.][0-9]+$", "", names(columns))  # as the driver calls it
  places <- which(names(columns) %in% names(about$kinds))
  for (k in places) columns[[k]] <- as_kind_of(columns[[k]], names(columns)[k], about, met)
  keep_rows <- function(rows) lapply(columns, vctrs::vec_slice, i = rows)
  if (has_where(query)) columns <- keep_rows(rows_of_batch(query, columns[places], columns[names(query$held)], nrow(batch), met))
  if (is.null(decoder)) return(columns)
  shapes <- columns[[about$shape]]
  if (!is.list(shapes) && all(is.na(shapes))) shapes <- vector("list", length(shapes))  # of a batch without any
  kept <- core(core_add_blobs(decoder, shapes), call = query$call)
  if (!all(kept)) columns <- keep_rows(which(kept))
  columns[places]
}

# Values that came for a column as its kind has them; those that it cannot hold are noted.
as_kind_of <- function(came, name, about, met) {
  kind <- about$kinds[[match(name, names(about$kinds))]]
  values <- about$adjust(if (name %in% about$as_text) narrow_numbers(suppressWarnings(as.double(came))) else came, kind)
  misfit <- if (!is.list(came)) which(is.na(values) & !is.na(came))
  if (length(misfit)) met$misfits[[name]] <- c(met$misfits[[name]], as.character(came[misfit]))
  values
}

# Rows for which the condition holds, of columns as a frame would have them and the truths that the database told.
rows_of_batch <- function(query, columns, held, size, met) {
  kinds <- vapply(columns, kind_of_column_values, "")
  if (!identical(met$kinds, kinds)) check_kinds(query$where, c(columns, lapply(held, as.logical)), query$call)
  met$kinds <- kinds
  rows_holding(query, c(silently(lapply(columns, narrow_integers, "")), lapply(held, as.logical)), size, query$code)
}

# Integers of 64 bits as integers where they fit, else as numbers, else as text.
narrow_integers <- function(values, name) {
  if (!inherits(values, "integer64")) return(values)
  present <- values[!is.na(values)]
  if (!length(present) || all(abs(present) <= .Machine$integer.max)) return(as.integer(values))
  if (all(abs(present) <= 2^53)) return(suppressWarnings(as.double(values)))
  caution("data", "Column {.val {name}} holds whole numbers beyond 2^53, which were kept as text.")
  ifelse(is.na(values), NA_character_, as.character(values))
}
