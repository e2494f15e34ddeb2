#' Run a workflow
#'
#' Steps run in the order of what they need. What a step gave is kept in the folder by its content: a step runs again only when its inputs, its
#' options or the package changed, so that a run that was ended in the middle goes on where it was. Outputs are whole or absent.
#'
#' @param workflow The path of a workflow, or what [read_workflow()] gives.
#' @param ... Values of inputs by name: a path or frame for a layer, a number in the unit of the input, a text. Others are their defaults.
#' @param folder Where outputs, the log (`run.log`, and `run.jsonl` for programs) and kept results go; made where it is not there. One
#'   run at a time is at work in a folder; another waits for it, `options(civicatlas.busy_wait)` milliseconds at most.
#' @param keep `FALSE` to keep no results of steps.
#' @param from Name of a step: it, and those that need it, run again in any case.
#' @param replace `TRUE` to replace files that stand where outputs go, and that no run made or somebody changed since; without it they are an error.
#' @param write_steps `TRUE` to write what each step gave too: a layer as GeoPackage, a table as CSV, in `folder/steps`.
#' @section Side by side: where `mirai::daemons()` are set, steps that do not wait for one another, those of all runs of a sweep among them, run side by
#'   side on them, and share the cores. Steps on layers in tiles share out their tiles instead (see [run_tiles()]).
#' @return A list that prints well, of `inputs` (values by name), `steps` (a tibble of `step`, `command`, `rows_in`, `rows_out`, `counted` (what the verb
#'   counted, in words), `seconds`, `kept` and
#'   `warnings`), `outputs` (paths by name), `results` (what each step gave) and `said` (warnings), of class `workflow_run`.
#' @section Errors: `civicatlas_error_workflow` for mistakes in the workflow, columns that would not be there and CRSs that would not meet (foreseen on a few
#'   rows of each layer), `civicatlas_error_argument` for inputs that do not fit, all before anything runs; an error of a step names it.
#' @examples
#' file <- system.file("workflows", "out-of-reach.yaml", package = "civicatlas")
#' run_workflow(file, distance = 500, folder = tempfile())
#' @export
run_workflow <- function(workflow, ..., folder = ".", keep = TRUE, from = NULL, write_steps = FALSE, replace = FALSE) {
  call <- rlang::current_env()
  if (!inherits(workflow, "workflow")) workflow <- read_workflow(workflow)
  if (!is.null(from)) one_of(from, names(workflow$steps), "from", call = call)
  run <- prepared_run(workflow, rlang::list2(...), folder, keep, from, replace, call)
  on.exit(core(core_unlock_file(run$lock)))
  run_steps(list(run), function(run) finish_run(run, write_steps))[[1]]
}

# A run whose inputs, columns and outputs were looked at, alone in its folder until that is unlocked; `given` are values of inputs.
prepared_run <- function(workflow, given, folder, keep, from, replace, call) {
  values <- values_of_inputs(workflow, given, call)
  need_inputs_apart(workflow, values, folder, call)
  need_folder(folder, call)
  lock <- lock_folder(folder, call)
  on.exit(core(core_unlock_file(lock)))
  run <- new_run(workflow, values, folder, keep, from, call)
  run$lock <- lock
  run$replaces <- replace
  if (!replace) need_outputs_free(folder, names(workflow$outputs), call)
  foresee_run(run)
  run$log <- new_run_log(folder, workflow, values)
  on.exit()  # from here on it is the caller's to unlock
  run
}

# The folder of a run, made where it is not there.
need_folder <- function(folder, call) {
  if (!dir.exists(folder) && !dir.create(folder, FALSE, TRUE)) fail("file", "The folder {.file {folder}} cannot be made.", call = call)
  if (file.access(folder, 2) == 0) return(invisible())
  fail("file", c("Nothing can be written into {.file {folder}}.", i = "Give another {.arg folder}, or the right to write there."), call = call)
}

finish_run <- function(run, write_steps = FALSE) {
  workflow <- run$workflow
  steps <- table_of_steps(run)
  columns <- lapply(stats::setNames(nm = inputs_of_type(workflow$inputs, "layer")), function(name) names(check_layer(name, run)))
  targets <- c(workflow$outputs, if (write_steps) files_of_steps(run))
  if (!run$replaces) need_outputs_free(run$folder, names(targets), run$call)
  written <- write_outputs(targets, run)
  if (run$keeps) prune_kept(run$folder)
  counts <- paste0(counted(nrow(steps), "step"), ", ", sum(steps$kept), " of them kept from before; ", counted(length(targets), "output"))
  say("{.fn run_workflow}: {counts} in {.file {run$folder}}.")
  structure(list(title = workflow$title, inputs = run$values, steps = steps, outputs = written[names(workflow$outputs)], results = run$results,
                 asked = workflow$inputs, workflow = workflow, steps_of_outputs = unlist(workflow$outputs), said = run$said,
                 columns_of_inputs = columns), class = "workflow_run")
}

# No output may take the place of a file that an input is read from.
need_inputs_apart <- function(workflow, values, folder, call) {
  whole <- function(paths) suppressWarnings(normalizePath(as.character(paths), "/", mustWork = FALSE))
  files <- Filter(rlang::is_string, values[inputs_of_type(workflow$inputs, c("layer", "file"))])
  read <- unlist(lapply(files, function(value) {
    path <- split_place(value)$source
    c(path, if (file.exists(path)) unlist(members_beside(path)))
  }))
  for (file in names(workflow$outputs)) {
    taken <- intersect(whole(file.path(folder, files_of_output(file))), whole(read))
    if (length(taken)) {
      fail("file", c("The output {.file {file}} would replace {.file {taken[1]}}, which an input is read from.",
                     i = "Give another {.arg folder}, or the output another name."), call = call)
    }
  }
}

# The files that an output is made of.
files_of_output <- function(file) {
  format <- format_with(ending_of(file), "written")
  if (is.na(format)) file else files_named(file, format)
}

new_run <- function(workflow, values, folder, keep, from, call) {
  keys <- lapply(stats::setNames(names(values), names(values)), function(name) key_of_input(workflow$inputs[[name]], values[[name]]))
  rlang::env(workflow = workflow, values = values, results = list(), lines = list(), begun = character(), keys = keys, folder = folder, keeps = keep,
             again = from, said = character(), call = call)
}

#' @export
print.workflow_run <- function(x, ...) {
  cat("<workflow run> ", printable(x$title), "\n", sep = "")
  shown <- vapply(x$inputs, function(value) if (is.data.frame(value)) counted(nrow(value), "row") else without_secrets(paste(value, collapse = ",")), "")
  for (name in names(shown)) cat("  ", printable(name), " = ", printable(shown[[name]]), "\n", sep = "")
  print_table(x$steps[setdiff(names(x$steps), "warnings")])
  for (file in x$outputs) cat("  wrote ", printable(file), "\n", sep = "")
  cat("  ", printable(answer_of_run(x) %||% answer_of_outputs(x)), "\n", sep = "")
  invisible(x)
}

# --- inputs --------------------------------------------------------------------------------------------------------------

# `there`: files must be, as where they are read at once.
values_of_inputs <- function(workflow, given, call, there = TRUE) {
  unknown <- setdiff(names(given), names(workflow$inputs))
  if (length(unknown)) one_of(unknown[1], names(workflow$inputs), "...", call = call)
  values <- values_where_known(workflow, given)
  missing <- names(values)[vapply(values, is.null, NA)]
  problems <- if (length(missing)) paste0("\"", missing, "\" has no value")
  for (name in setdiff(names(values), missing)) problems <- c(problems, problem_of_value(name, workflow$inputs[[name]], values[[name]], there))
  if (length(problems)) fail("argument", c("The inputs do not fit:", stats::setNames(escape(problems), rep("x", length(problems)))), call = call)
  values
}

# What was given, or the defaults; NULL for inputs without either.
values_where_known <- function(workflow, given) {
  lapply(stats::setNames(nm = names(workflow$inputs)), function(name) given[[name]] %||% default_of_input(workflow$inputs[[name]], dirname(workflow$path)))
}

# Paths are taken from the folder of the workflow.
default_of_input <- function(input, folder) {
  if (is.null(input$default) || !input$type %in% c("layer", "file") || grepl("^([/~]|[A-Za-z]:|[a-z]+://)", input$default)) return(input$default)
  file.path(folder, input$default)
}

problem_of_value <- function(name, input, value, there) {
  if (!input$type %in% c("layer", "file")) return(problem_of_input(name, input, value))
  if (is.data.frame(value)) return(NULL)
  if (!rlang::is_string(value)) return(paste0("\"", name, "\" is a path or a frame"))
  file <- split_place(value)$source
  if (there && !grepl("://", file, fixed = TRUE) && !file.exists(file)) paste0("\"", name, "\": there is no file ", file)
}

# The layer of an input, looked at: kinds of shapes and columns are those that were asked for.
layer_of_input <- function(name, input, value, call) {
  x <- if (is.data.frame(value)) value else read_layer(value, layer = table_of_input(input, value))
  if (is_tiled(x)) {
    for (column in input$columns) need_column(x$prototype, column, paste("input", name), call = call)
    return(x)
  }
  if (!is.null(input$shapes)) {
    kinds <- unique(stats::na.omit(geometry_type_of(if (is_spatial_frame(x)) x else new_shapes())))
    others <- kinds[!sub("^multi", "", kinds) %in% input$shapes]
    if (!is_spatial_frame(x) || length(others)) {
      if (!length(others)) others <- "no shapes"
      fail("argument", "The input {.val {name}} is of {.val {input$shapes}}, and the layer has {.val {others}}.", call = call)
    }
  }
  for (column in input$columns) need_column(x, column, paste("input", name), call = call)
  x
}

# The table of a file of several that an input names; files of one layer need none.
table_of_input <- function(input, value) {
  if (!is.null(split_place(value)$layer)) return(NULL)
  if (!is.null(input$layer) && !dir.exists(value) && nrow(list_layers(value)) > 1) input$layer
}

# Is the layer of an input what was asked for? Looked at once for each content; gives a few of its rows.
check_layer <- function(name, run) {
  key <- rlang::hash(list("input", run$workflow$inputs[[name]][c("shapes", "columns")], run$keys[[name]]))
  kept <- if (run$keeps) kept_result(run$folder, key)
  if (!is.null(kept)) return(kept$few)
  few <- few_rows(layer_of(name, run))
  if (run$keeps) keep_result(run$folder, key, list(few = few))
  few
}

# What tells one value of an input from another: a hash of the contents of files, not of their times.
key_of_input <- function(input, value) {
  if (!input$type %in% c("layer", "file") || is.data.frame(value)) return(rlang::hash(value))
  if (grepl("://", value, fixed = TRUE)) return(rlang::hash(list(value, Sys.time(), stats::runif(1))))  # nobody knows what is there now
  if (!is.null(input$layer)) return(rlang::hash(list(key_of_input(input[setdiff(names(input), "layer")], value), input$layer)))
  place <- split_place(value)
  if (!is.null(place$layer)) return(rlang::hash(list(key_of_input(input, place$source), place$layer)))
  if (file.exists(file.path(value, manifest_name))) value <- file.path(value, manifest_name)  # which has the checksums of the tiles
  if (dir.exists(value)) return(hash_of_files(list.files(value, full.names = TRUE, recursive = TRUE)))
  beside <- c(members_beside(value), paste0(value, c("-wal", "-journal")))  # of a shapefile, and what a GeoPackage has not taken in yet
  hash_of_files(sort(unlist(c(value, beside))))
}

hash_of_files <- function(paths) rlang::hash(unname(rlang::hash_file(paths[file.exists(paths)])))

# --- other values --------------------------------------------------------------------------------------------------------

#' @rdname run_workflow
#' @param over A named list of one input and its values: `list(distance = c(250, 500))`.
#' @return `sweep_workflow()`: a tibble of a row for each value and output: the value, `output`, `rows`, and the totals of columns that are counts, sums
#'   or measures by the steps that made them, or that the workflow names under `totals:`, with their units; with the runs, each in a folder of its own,
#'   as attribute `runs`.
#' @export
sweep_workflow <- function(workflow, over, ..., folder = ".", keep = TRUE, replace = FALSE) {
  call <- rlang::current_env()
  if (!is.list(over) || length(over) != 1 || !nzchar(rlang::names2(over))) fail("argument", "{.arg over} is a list of one input and its values.", call = call)
  if (!inherits(workflow, "workflow")) workflow <- read_workflow(workflow)
  name <- names(over)
  for (value in over[[1]]) values_of_inputs(workflow, rlang::list2(!!name := value, ...), call)  # all, before the first folder is made
  places <- file.path(folder, make.unique(paste0(name, "=", gsub("[^A-Za-z0-9._-]", "_", over[[1]])), sep = "-"))
  begun <- list()
  on.exit(for (run in begun) core(core_unlock_file(run$lock)))
  for (k in seq_along(places)) begun[[k]] <- prepared_run(workflow, rlang::list2(!!name := over[[1]][[k]], ...), places[k], keep, NULL, replace, call)
  runs <- run_steps(begun, finish_run)
  rows <- Map(function(run, value) swept_rows(run, stats::setNames(list(value), name)), runs, over[[1]])
  structure(vctrs::vec_rbind(!!!unlist(unname(rows), recursive = FALSE)), runs = runs)
}

# One row of an output of a sweep: totals by their columns, each with its unit where the name does not tell it.
swept_rows <- function(run, value) {
  totals <- totals_of_run(run)
  lapply(unique(totals$output), function(file) {
    own <- totals[totals$output == file & !is.na(totals$column), ]
    titles <- column_titles(own$column, run$workflow$outputs[[file]], run)
    columns <- stats::setNames(as.list(own$total), titles)
    tibble::as_tibble(c(value, list(output = file, rows = totals$rows[totals$output == file][1]), columns[setdiff(titles, c(names(value), "output", "rows"))]))
  })
}

# --- on the command line -------------------------------------------------------------------------------------------------

register_operation("run", function() {
  new_operation("In and out", "run a workflow: typed inputs, steps and outputs in a YAML file", "WORKFLOW", list(
    new_option("input", "text", "values of inputs: name=value, separated by commas", former = "set"),
    new_option("input-file", "file", "YAML file of values of inputs, a line each: name: value", former = "set-file"),
    new_option("folder", "file", "where outputs, log and kept results go", "."),
    new_option("from-step", "text", "a step: it, and those that need it, run again in any case", former = "from"),
    new_option("sweep", "text", "an input and its values: name=value,value,...; a run in a folder of its own for each"),
    new_option("check", "flag", "tell every mistake, and run nothing"),
    new_option("write-steps", "flag", "write what each step gave, too, in the folder's steps/", former = "keep"),
    new_option("daemons", "whole", "how many processes to share the steps among"),
    new_option("forget", "flag", "remove the kept results of the folder first"), new_option("report", "file", "page of HTML, or PDF, to write about the run"),
    new_option("script", "file", "write the run as a script instead: .R, .sh or _targets.R"),
    new_option("drawing", "file", "draw the workflow instead: .png, .svg or .mmd"),
    new_option("replace", "flag", "replace outputs that no run made, and a report, script or drawing that is there already")
  ), "civicatlas run out-of-reach.yaml --input distance=500 --folder results", function(o) {
    if (o$check) return(checked_workflow(o))
    if (!is.null(o$script)) return(scripted_workflow(o))
    if (!is.null(o$drawing)) return(drawn_workflow(o))
    if (o$forget) forget_runs(o$folder)
    if (!is.null(o$sweep)) return(swept_workflow(o))
    run <- rlang::inject(run_workflow(o$workflow, !!!values_set(o), folder = o$folder, from = o$from_step, write_steps = o$write_steps,
                                      replace = o$replace))
    if (!is.null(o$report)) atlas_report(run, o$report, replace = TRUE)
    if (!o$json) print(run)
    answer <- answer_of_run(run) %||% answer_of_outputs(run)
    structure(list(title = run$title, answer = answer, inputs = typed_inputs(run), steps = run$steps, outputs = as.list(run$outputs)), class = "shown_already")
  }, says = c(run_workflow = "", check_workflow = "--check", forget_runs = "--forget"))
})

# Values of inputs as JSON has them: numbers as numbers.
typed_inputs <- function(run) {
  Map(function(value, input) {
    if (is.data.frame(value)) counted(nrow(value), "row") else if (input$type == "number") as.double(value) else without_secrets(value)
  }, run$inputs, run$asked[names(run$inputs)])
}

# What --input and --input-file give, the first before the second.
values_set <- function(o) {
  typed <- as.list(named_values(o$input, "input"))
  if (is.null(o$input_file)) return(typed)
  if (!file.exists(o$input_file)) no_such_file(o$input_file, NULL)
  read <- tryCatch(read_yaml_nodes(readLines(o$input_file, encoding = "UTF-8", warn = FALSE)), civicatlas_yaml_problem = function(e) {
    fail("format", "{.file {o$input_file}}, line {e$line}: {conditionMessage(e)}. {e$remedy}", call = NULL)
  })
  if (read$kind != "map") fail("format", "{.file {o$input_file}} has no lines of {.val name: value}.", call = NULL)
  written <- lapply(read$value, function(one) paste(texts_of_node(one), collapse = ","))
  c(typed, written[setdiff(names(written), names(typed))])
}

checked_workflow <- function(o) {
  problems <- rlang::inject(check_workflow(o$workflow, !!!values_set(o)))
  lines <- sprintf("%s:%d:%d: %s. %s", o$workflow, problems$line, problems$column, problems$problem, problems$remedy)
  if (!o$json && length(lines)) cat(trimws(lines), sep = "\n")
  if (nrow(problems)) fail(c("choice", "workflow"), "{.file {o$workflow}} has {counted(nrow(problems), 'mistake')}.", call = NULL)
  workflow <- read_workflow(o$workflow)
  need_inputs_apart(workflow, Filter(Negate(is.null), values_where_known(workflow, values_set(o))), o$folder, NULL)
  if (!o$replace) need_outputs_free(o$folder, names(workflow$outputs), NULL)
  say("{.file {o$workflow}} has no mistake.")
  structure(list(mistakes = list()), class = "shown_already")
}

swept_workflow <- function(o) {
  pair <- regmatches(o$sweep, regexpr("=", o$sweep, fixed = TRUE), invert = TRUE)[[1]]
  if (length(pair) != 2) wrong_usage("--sweep takes name=value,value,..., not \"{o$sweep}\"")
  rlang::inject(sweep_workflow(o$workflow, stats::setNames(list(column_list(pair[2])), pair[1]), !!!values_set(o), folder = o$folder, replace = o$replace))
}

scripted_workflow <- function(o) {
  need_free(o$script, o$replace, NULL)
  kind <- if (basename(o$script) == "_targets.R") "targets" else ascii_lower(tools::file_ext(o$script))
  write <- switch(kind, targets = workflow_targets, r = workflow_script, sh = workflow_shell, wrong_usage("--script ends in .R or .sh, or is _targets.R"))
  rlang::inject(write(o$workflow, !!!values_set(o), file = o$script))
  say("Wrote {.file {o$script}}.")
  structure(list(output = o$script), class = "shown_already")
}

drawn_workflow <- function(o) {
  need_free(o$drawing, o$replace, NULL)
  if (ending_of(o$drawing) == "mmd") {
    write_lines(draw_workflow(o$workflow, "mermaid"), o$drawing)
    say("Wrote {.file {o$drawing}}.")
  } else {
    save_map(draw_workflow(o$workflow), o$drawing, 1280, 800, "px", 110)
  }
  structure(list(output = o$drawing), class = "shown_already")
}
