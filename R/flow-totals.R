# Columns that may be summed: counts, sums and measures, by the steps that made them; not shares, years and codes. They are followed from step to step as
# long as rows stay what they are.

# Steps after which each row is still the row that it was, so that what could be summed before can be after.
keeps_rows <- c("keep", "drop", "sort", "head", "sample", "reproject", "columns", "compute", "rates", "join-table", "summarise", "pick", "nearest", "flows",
                "measure", "simplify", "repair", "centroid", "inner-point", "close-gaps", "select", "clusters", "rename")

# Units ("" for none) by the names of columns of what a step gave, or an input has; those that the workflow names come first.
totals_of_step <- function(name, run) {
  x <- run$results[[name]]
  if (!is.data.frame(x)) return(list())
  known <- totals_made(name, run$workflow)
  named <- run$workflow$totals
  measured <- lapply(measure_columns(x), function(held) switch(held$unit, m2 = "m\u00b2", km2 = "km\u00b2", held$unit))
  totals <- c(stats::setNames(rep(list(""), length(named)), named), measured, known)
  numbers <- names(x)[vapply(as.list(x), function(column) is.numeric(column) && !inherits(column, "shapes"), NA)]
  totals[intersect(unique(names(totals)), numbers)]
}

totals_made <- function(name, workflow) {
  step <- workflow$steps[[name]]
  if (is.null(step) || is.na(step$command)) return(list())
  options <- operation_record(step$command)$options
  expressions <- names(step$options)[vapply(options[names(step$options)], function(option) option$type == "expressions", NA)]
  trees <- lapply(expressions, function(option) tryCatch(parse_text(step$options[[option]], option, "named", NULL), civicatlas_error = function(e) NULL))
  trees <- unlist(trees, recursive = FALSE)
  before <- if (step$command %in% keeps_rows) unlist(lapply(c(step$takes$layer, step$takes$table), totals_made, workflow), recursive = FALSE)
  before <- renamed_totals(before, step)
  made <- Filter(Negate(is.null), lapply(trees, unit_of_total, inner_totals(step, workflow)))
  c(made, before[setdiff(names(before), names(trees))])
}

# Totals of the rows that a step summarises.
inner_totals <- function(step, workflow) {
  unlist(lapply(unlist(step$takes[c("layer", "other", "table")], use.names = FALSE), totals_made, workflow), recursive = FALSE)
}

renamed_totals <- function(totals, step) {
  if (step$command != "rename") return(totals)
  names <- named_values(step$options$columns, "columns")
  at <- match(names(totals), names)
  names(totals) <- ifelse(is.na(at), names(totals), names(names)[at])
  totals
}

# The unit of a total: a count, a sum, an area or length; NULL for anything else. Rounding changes nothing.
unit_of_total <- function(tree, inner) {
  if (tree$kind != "call") return(NULL)
  first <- if (length(tree$args)) tree$args[[1]]
  switch(ascii_lower(tree$value),
    round = , coalesce = unit_of_total(first, inner) %||% if (first$kind == "column") inner[[first$value]],
    count = , n = "", area = first$value %||% "m\u00b2", length = first$value %||% "m",
    sum = unit_of_sum(columns_of_tree(tree), inner)
  )
}

unit_of_sum <- function(columns, inner) (if (length(columns) == 1) inner[[columns]]) %||% ""

total_of <- function(x, column) sum(as.double(x[[column]]), na.rm = TRUE)

# A row for each output and total: `output`, `rows`, `column`, `unit` and `total`; of an output without totals one without a column.
totals_of_run <- function(run) {
  tables <- tables_of_run(run)
  vctrs::vec_rbind(!!!Map(function(table, file) {
    totals <- totals_of_step(run$workflow$outputs[[file]], run)
    columns <- names(totals)
    if (!length(columns)) return(tibble::tibble(output = file, rows = nrow(table), column = NA_character_, unit = "", total = NA_real_))
    tibble::tibble(output = file, rows = nrow(table), column = columns, unit = as.character(unlist(totals)),
                   total = vapply(columns, total_of, 0, x = table, USE.NAMES = FALSE))
  }, tables, names(tables)))
}
