# What a workflow would run into, before anything runs: its steps are performed on a few rows of each layer. Told are columns that will not be there and
# CRSs that will not meet; any other error may be one of the few rows alone, and ends what can be foreseen of the steps that need it.

few_rows <- function(x) if (is_tiled(x)) x$prototype else x[seq_len(min(nrow(x), 3)), ]

# By step, the `problem` and its `remedy`. `layers` has a few rows of each layer that is known.
foreseen_problems <- function(workflow, values, layers) {
  run <- rlang::env(workflow = workflow, values = values, results = layers, call = NULL)
  inputs <- inputs_of_type(workflow$inputs, "layer")
  problems <- list()
  for (name in names(workflow$steps)) {
    step <- workflow$steps[[name]]
    texts <- texts_of_step(step, run)
    unknown <- setdiff(intersect(step$needs, c(inputs, names(workflow$steps))), names(run$results))
    if (length(unknown) || length(names_in_braces(unlist(texts)))) next
    problems[[name]] <- tryCatch({
      result <- foreseen_result(step, texts$options, texts$condition, run)
      if (!has_columns_of_values(step$command, texts$options)) run$results[[name]] <- result
      NULL
    }, error = foreseen_problem)
  }
  answer <- workflow$answer
  table <- run$results[[answer$of %||% ""]]
  if (!is.null(table)) problems[["the answer"]] <- tryCatch(foreseen_answer(answer, table), error = foreseen_problem)
  problems
}

# Are the columns of the answer there?
foreseen_answer <- function(answer, table) {
  checked_quosure(parse_text(answer$value, "value", "expression", NULL), table, summaries = TRUE)
  if (!is.null(answer$column)) need_column(table, answer$column, "column", call = NULL)
  NULL
}

# Whether a step makes a column of each value that it meets: those of a few rows are not all.
has_columns_of_values <- function(command, options) command == "cross-table" || identical(options$form, "wide")

foreseen_problem <- function(e) {
  if (!inherits(e, c("civicatlas_error_column", "civicatlas_error_crs_mismatch"))) return(NULL)
  said <- problem_and_remedy(said_on_a_line(e))
  if (inherits(e, "civicatlas_error_crs_mismatch")) said$remedy <- "Write: match-crs: true."
  said
}

# A drawing is looked at for its columns alone.
foreseen_result <- function(step, options, condition, run) {
  silently({
    result <- perform_step(step, options, condition, run)
    if (!inherits(result, "drawing")) return(result)
    known <- operation_record(step$command)$options
    for (name in names(options)) {
      if (known[[name]]$type == "column" && name != "key") need_column(result$o$x, options[[name]], name, call = NULL)
      if (known[[name]]$type == "expression") expression_option(options[[name]], name, result$o$x)
    }
    result
  })
}

# The item of a list that is the column which a message names, else the list.
column_node <- function(node, said) {
  column <- sub(".*names the column \"([^\"]+)\".*", "\\1", said)
  named <- Filter(function(one) identical(one$value, column), if (identical(node$kind, "list")) node$value)
  if (length(named)) named[[1]] else node
}

# Before the steps of a run: once for the same steps on the same inputs.
foresee_run <- function(run) {
  workflow <- run$workflow
  key <- rlang::hash(list("foreseen", workflow$steps, texts_of_values(run$values, workflow), run$keys))
  if (run$keeps && !is.null(kept_result(run$folder, key))) return(invisible())
  layers <- lapply(stats::setNames(nm = inputs_of_type(workflow$inputs, "layer")), check_layer, run)
  problems <- foreseen_problems(workflow, run$values, layers)
  if (length(problems)) {
    lines <- vapply(names(problems), function(name) {
      command <- workflow$steps[[name]]$command
      paste0(name, if (!is.null(command)) paste0(" (", command, ")"), ": ", problems[[name]]$problem, ". ", problems[[name]]$remedy)
    }, "")
    lines <- stats::setNames(escape(lines), rep("x", length(lines)))
    fail("workflow", c("{counted(length(problems), 'step')} would fail, and nothing was run:", lines), call = run$call)
  }
  if (run$keeps) keep_result(run$folder, key, list(foreseen = TRUE))
}

# For a check of the file: layers that are there, as they are by default or given. Told at the option that names what is not there, else at the step.
tell_foreseen <- function(workflow, given, node, tell, call) {
  values <- Filter(Negate(is.null), values_where_known(workflow, given))
  layers <- list()
  for (name in intersect(inputs_of_type(workflow$inputs, c("layer", "file")), names(values))) {
    place <- node$value$inputs$value[[name]]
    problem <- problem_of_value(name, workflow$inputs[[name]], values[[name]], TRUE)
    if (!is.null(problem)) tell(place$value$default %||% place, problem, "Give another with --input.")
    if (!is.null(problem) || workflow$inputs[[name]]$type == "file") next
    layers[[name]] <- tryCatch(few_rows(quietly(layer_of_input(name, workflow$inputs[[name]], values[[name]], call))), civicatlas_error = function(e) {
      at <- if (inherits(e, "civicatlas_error_column")) column_node(place$value$columns, said_on_a_line(e)) else place$value$shapes
      tell(at %||% place, said_on_a_line(e))
      NULL
    })
  }
  problems <- foreseen_problems(workflow, values, layers)
  for (name in names(problems)) {
    is_step <- name %in% names(workflow$steps)
    place <- if (is_step) node$value$steps$value[[name]] else node$value$answer
    problem <- problems[[name]]$problem
    named <- regmatches(problem, regexpr("\"[^\"]+\"", problem))
    here <- if (length(named)) Filter(function(one) any(grepl(gsub("\"", "", named), texts_of_node(one), fixed = TRUE)), place$value)
    tell(if (length(here)) here[[1]] else if (is_step) node$value$steps$keys[[name]] else place, problem, problems[[name]]$remedy)
  }
}
