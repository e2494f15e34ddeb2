# The answer of a run: the workflow's sentence with its value, the column that a map of it is coloured by, and that map where no step draws one.

# The sentence, with its value worked out; NULL where the workflow has none.
answer_of_run <- function(run) {
  answer <- run$workflow$answer
  if (is.null(answer)) return(NULL)
  inputs <- Filter(Negate(is.data.frame), run$inputs)
  with_values(answer$text, c(lapply(inputs, function(one) paste(one, collapse = ", ")), list(value = value_of_answer(answer, run$results[[answer$of]]))))
}

# As the expression gives it, or rounded to `digits` behind the point; what a double is off in its last digits is not shown.
value_of_answer <- function(answer, table) {
  code <- checked_quosure(parse_text(answer$value, "value", "expression", NULL), table, summaries = TRUE)
  value <- dplyr::pull(dplyr::summarise(plain_data_frame(table), value = !!code), "value")
  if (!is.numeric(value) || is.na(value)) return(as.character(value))
  digits <- answer$digits
  if (is.null(digits)) return(format(as.double(value), digits = 15, big.mark = ",", scientific = FALSE, trim = TRUE, drop0trailing = TRUE))
  digits <- as.integer(digits)
  formatC(rounded_half_up(as.double(value), digits), format = "f", digits = max(0L, digits), big.mark = ",")
}

# "far.gpkg" of 24 rows: "far.gpkg: 24 rows; far_ha 5,399.2 in all."
answer_of_outputs <- function(run) {
  tables <- tables_of_run(run)
  if (!length(tables)) return("The run gave no layer.")
  totals <- totals_of_step(run$workflow$outputs[[names(tables)[1]]], run)
  last <- utils::tail(names(totals), 1)
  in_all <- if (length(last)) paste0("; ", last, " ", format_number(total_of(tables[[1]], last)), " ", totals[[last]])
  paste0(names(tables)[1], ": ", counted(nrow(tables[[1]]), "row"), if (length(last)) paste0(trimws(in_all), " in all"), ".")
}

# A number for people: all its digits before the point, seven in all.
format_number <- function(x) {
  if (is.na(x)) return("no value")
  format(if (abs(x) >= 1e7) round(x) else signif(x, 7), digits = 15, big.mark = ",", scientific = FALSE, trim = TRUE, drop0trailing = TRUE)
}

# Outputs that are tables or layers, by file.
tables_of_run <- function(run) Filter(is.data.frame, lapply(run$workflow$outputs, function(step) run$results[[step]]))

# The step whose rows the answer is of; without an answer the first that is written, layers before tables.
step_of_answer <- function(run) {
  if (!is.null(run$workflow$answer)) return(run$workflow$answer$of)
  tables <- tables_of_run(run)
  run$workflow$outputs[[names(tables)[order(!vapply(tables, is_spatial_frame, NA))][1]]]
}

# The column that the answer is about: the one named, else the first of numbers in its value, else the last of numbers that steps made.
column_of_answer <- function(run) {
  step <- step_of_answer(run)
  table <- run$results[[step]]
  answer <- run$workflow$answer
  if (!is.null(answer$column)) return(answer$column)
  told <- if (!is.null(answer)) columns_of_tree(parse_text(answer$value, "value", "expression", NULL))
  columns <- names(attribute_table(table))
  numbers <- columns[vapply(as.list(attribute_table(table)), function(column) is.numeric(column) && length(unique(column)) > 1, NA)]
  made <- setdiff(numbers, unlist(run$columns_of_inputs))
  c(intersect(told, numbers), utils::tail(made, 1))[1] %|% NULL
}

# A map of the answer's rows for a run that drew none; NULL where they have no shapes.
map_of_answer <- function(run) {
  step <- step_of_answer(run)
  x <- if (!is.null(step)) run$results[[step]]
  if (!is_spatial_frame(x) || !nrow(x) || any(vapply(run$workflow$steps[run$steps_of_outputs], is_drawing, NA))) return(NULL)
  column <- column_of_answer(run)
  areas <- any(grepl("polygon", geometry_type_of(x)))
  tryCatch(silently({
    if (is.null(column)) return(plain_map(x))
    draw <- if (areas) choropleth_map else symbol_map
    draw(x, !!as.name(column), key_title = column_titles(column, step, run))
  }), civicatlas_error = function(e) silently(plain_map(x)))
}

# "far_ha", or "far (ha)" where the name does not tell its unit, of some columns of what a step gave.
column_titles <- function(columns, step, run) {
  totals <- totals_of_step(step, run)
  title <- function(column) {
    unit <- totals[[column]] %||% ""
    if (!nzchar(unit) || grepl(paste0("(^|[^a-z])", unit, "$"), column, ignore.case = TRUE)) column else paste0(column, " (", unit, ")")
  }
  vapply(columns, title, "", USE.NAMES = FALSE)
}

# The rows of a step for people: what names them, then what the run made, then what came in.
result_columns_first <- function(step, run) {
  x <- run$results[[step]]
  columns <- names(attribute_table(x))
  came <- unlist(run$columns_of_inputs)
  made <- setdiff(columns, came)
  texts <- columns[vapply(as.list(attribute_table(x)), is.character, NA)]
  x[c(unique(c(utils::head(intersect(texts, came), 2), if (step == step_of_answer(run)) column_of_answer(run), made, columns)), shape_column_name(x))]
}

# "far_share" as "Far share".
title_of_step <- function(step) capital(gsub("[_-]+", " ", step))
