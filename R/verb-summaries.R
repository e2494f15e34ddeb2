# Summaries of columns by cell: a region, or a region and a group.

# A table of one row a cell, 1 to n, with the columns that the summaries give. `assigned` says which rows are of which cell: `columns`, a
# table; `rows` of it, which may come more than once; the `cell` of each.
summaries_by_cell <- function(assigned, n, summaries, call) {
  for (summary in summaries) need_variables(summary, assigned$columns, "...", call)
  general <- NULL
  tables <- lapply(seq_along(summaries), function(i) {
    name <- names(summaries)[i]
    quick <- plain_summary(summaries[[i]], assigned$columns)
    if (!is.null(quick)) return(rlang::set_names(list(quick_summary(quick, assigned, n)), name))
    if (is.null(general)) general <<- cells_to_summarise(assigned)
    summary_of_cells(general, summaries[i], n, call)
  })
  tibble::new_tibble(unlist(tables, recursive = FALSE), nrow = n)
}

# n(), sum(column) and mean(column), which most summaries are, are worked out for all cells in one pass; NULL for others.
plain_summary <- function(quosure, columns) {
  expression <- rlang::quo_get_expr(quosure)
  if (!is.call(expression)) return(NULL)
  verb <- c("n", "sum", "mean")[match(TRUE, c(
    rlang::is_call(expression, "n", n = 0, ns = c("", "dplyr")), rlang::is_call(expression, "sum", ns = c("", "base")),
    rlang::is_call(expression, "mean", ns = c("", "base"))
  ))]
  if (is.na(verb) || !means_the_usual(expression[[1]], verb, rlang::quo_get_env(quosure))) return(NULL)
  if (verb == "n") return(list(verb = verb))
  plain_column(rlang::call_args(expression), verb, columns)
}

# Of sum(column) and mean(column), perhaps with na.rm, the column as it stands, if it holds plain numbers.
plain_column <- function(arguments, verb, columns) {
  skip <- arguments[["na.rm"]] %||% FALSE
  rest <- arguments[rlang::names2(arguments) != "na.rm"]
  if (length(rest) != 1 || !identical(rlang::names2(rest), "") || !rlang::is_bool(skip)) return(NULL)
  if (!is.symbol(rest[[1]])) return(NULL)
  column <- columns[[rlang::as_string(rest[[1]])]]
  if (is.numeric(column) && !is.object(column)) list(verb = verb, column = column, skip = skip)
}

# Nobody has given another function this name where the summary was written.
means_the_usual <- function(called, verb, env) {
  if (!is.symbol(called)) return(TRUE)
  found <- get0(verb, envir = env, mode = "function")
  usual <- if (verb == "n") list(dplyr::n, n) else list(get(verb, envir = baseenv()))
  is.null(found) || any(vapply(usual, identical, NA, found))
}

quick_summary <- function(summary, assigned, n) {
  if (summary$verb == "n") return(tabulate(assigned$cell, n))
  summary_of_sums(summary, core(core_grouped_sums(as.double(summary$column), assigned$rows, assigned$cell, n, summary$skip)))
}

# A sum or mean, from the sum and count of its column in each cell.
summary_of_sums <- function(summary, sums) {
  if (summary$verb == "mean") {
    means <- sums$sum / sums$count
    means[is.nan(means) & sums$count == 0] <- NA_real_
    return(means)
  }
  whole <- is.integer(summary$column) && all(abs(sums$sum) <= .Machine$integer.max, na.rm = TRUE)
  if (whole) as.integer(sums$sum) else sums$sum
}

# All columns, row by row as they fall, in groups by cell; and the same table without rows.
cells_to_summarise <- function(assigned) {
  table <- vctrs::vec_slice(assigned$columns, assigned$rows)
  table$.cell <- assigned$cell
  list(of_some = dplyr::group_by(table, .data$.cell), of_none = assigned$columns[0, ])
}

# The columns of one summary: one under its name, or those that across() gives. Evaluated on its own, so that it never sees
# another summary in place of the column it asks for.
summary_of_cells <- function(cells, summary, n, call) {
  of_some <- summarise_checked(cells$of_some, summary, call)
  twice <- of_some$.cell[duplicated(of_some$.cell)]
  if (length(twice)) {
    fail("argument", c("The summary {.val {names(summary)}} gives several values of some rows.", i = "One of them: {.fn max}, {.fn dplyr::first}."),
         call = call)
  }
  at <- match(seq_len(n), of_some$.cell)
  of_none <- if (anyNA(at)) summary_of_nothing(cells$of_none, summary)
  lapply(rlang::set_names(setdiff(names(of_some), c(".cell", ".share", ".shared"))), function(name) {
    values <- of_some[[name]]
    nothing <- nothing_to_na(of_none[[name]])
    both <- vctrs::vec_c(values, if (vctrs::vec_size(nothing) == 1) nothing else vctrs::vec_init(values, 1))
    vctrs::vec_slice(both, as.integer(ifelse(is.na(at), vctrs::vec_size(both), at)))
  })
}

# What a summary gives of no rows; NULL where it gives nothing or fails, as max() of text does.
summary_of_nothing <- function(columns, summary) {
  tryCatch(suppressWarnings(dplyr::summarise(columns, !!!summary, .groups = "drop")), error = function(e) NULL)
}

summarise_checked <- function(data, summary, call) {
  tryCatch(
    withCallingHandlers(dplyr::summarise(data, !!!summary, .groups = "drop"), lifecycle_warning_deprecated = function(w) {
      if (grepl("1 row per", conditionMessage(w))) rlang::cnd_muffle(w)  # told by our own error
    }),
    error = function(e) fail("argument", c("A summary failed.", x = "{said_by(e$parent %||% e)}"), call = call)
  )
}

# What a mean or an extreme of nothing gives is no value.
nothing_to_na <- function(value) if (is.double(value) && !is.finite(value)) NA_real_ else value

# The summaries asked for: each has a name, or is across(). Without any, a count.
summaries_of <- function(summaries, arguments, call) {
  need_no_arguments(summaries, arguments, call)
  if (!length(summaries)) return(rlang::quos(count = dplyr::n()))
  unnamed <- !nzchar(rlang::names2(summaries))
  across <- vapply(summaries, rlang::quo_is_call, NA, name = "across", ns = c("", "dplyr"))
  if (any(unnamed & !across)) {
    fail("argument", c("Every summary needs a name.", i = "For example {.code summarise_into(regions, features, total = sum(value))}."), call = call)
  }
  summaries
}

# A new column may have the name of one of our arguments without its point; but what is a word or names columns is meant for that one.
need_no_arguments <- function(summaries, arguments, call) {
  names_columns <- function(expression) is.symbol(expression) || rlang::is_call(expression, c("c", "-")) || rlang::is_syntactic_literal(expression)
  for (name in intersect(names(summaries), arguments)) {
    if (!names_columns(rlang::quo_get_expr(summaries[[name]]))) next
    value <- rlang::as_label(rlang::quo_get_expr(summaries[[name]]))
    fail("argument", c("{.code {name} = {value}} would be a new column.", i = "The argument has a point before it: {.code .{name} = {value}}."), call = call)
  }
  for (name in grep("^[.]", names(summaries), value = TRUE)) one_of(name, paste0(".", arguments), "...", call = call)  # a misspelt argument
}

#' Counts and several columns in summaries
#'
#' What dplyr's own functions of these names do, for [summarise_into()], [dissolve_by()] and [flows_between()] without a prefix.
#' @param ... For `across()`, the columns, the functions and the names of [dplyr::across()].
#' @return `n()` the number of rows of the group; `across()` a tibble of a column for each column and function.
#' @examples
#' cells <- mend_numbers(read_layer(demo_file("cells.zip")))
#' summarise_into(read_layer(demo_file("wards.shp")), cells, cells = n(), across(c(pop_0_14, pop_15_64), sum))
#' @export
n <- function() dplyr::n()

#' @rdname n
#' @export
across <- function(...) dplyr::across(...)
