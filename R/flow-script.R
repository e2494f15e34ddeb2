# A workflow as a script: the calls that a run evaluates (R/op-call.R), with steps as variables. Where an operation is more than a call, the script
# calls perform_command().

#' A workflow as a script
#'
#' What a workflow does with some values of its inputs, written down for those who go on without it: the same steps in the same order, which give the
#' same numbers.
#'
#' @inheritParams run_workflow
#' @param file Path of the script to write; `NULL` for its lines as text.
#' @return The lines of the script, invisibly where they are written to a file. `workflow_script()`: plain R. `workflow_targets()`: a `_targets.R` for the
#'   package targets, with a target for each input, step and output. `workflow_shell()`: a shell script that runs the same commands in one process.
#' @section Errors: `civicatlas_error_argument` for inputs that do not fit, or that are frames, as scripts read files.
#' @examples
#' cat(workflow_script(system.file("workflows", "largest-room.yaml", package = "civicatlas")), sep = "\n")
#' @export
workflow_script <- function(workflow, ..., file = NULL) {
  script <- script_of_workflow(workflow, list(...), rlang::current_env())
  lines <- c(comment_of_title(script$workflow), "library(civicatlas)", "",
             assignments(script$inputs), "", assignments(script$steps), "", vapply(script$outputs, code_as_text, ""))
  write_script(lines, file)
}

#' @rdname workflow_script
#' @export
workflow_targets <- function(workflow, ..., file = NULL) {
  script <- script_of_workflow(workflow, list(...), rlang::current_env(), types = "number")  # targets would take !! for its own
  target <- function(name, code, format = NULL) rlang::call2("tar_target", as.name(name), code, !!!c(if (!is.null(format)) list(format = format)))
  layers <- Filter(function(code) rlang::is_call(code, "read_layer"), script$inputs)
  files <- Map(function(name, code) target(paste0(name, "_file"), code[[2]], "file"), names(layers), layers)
  script$inputs[names(layers)] <- Map(function(name, code) {
    code[[2]] <- as.name(paste0(name, "_file"))
    code
  }, names(layers), layers)
  outputs <- Map(function(name, code) target(make.names(name), rlang::call2("{", code, name), "file"), names(script$outputs), script$outputs)
  targets <- c(files, Map(target, names(c(script$inputs, script$steps)), c(script$inputs, script$steps)), outputs)
  texts <- vapply(targets, code_as_text, "", indent = "  ")
  lines <- c(comment_of_title(script$workflow), "library(targets)", "tar_option_set(packages = \"civicatlas\")", "",
             "list(", paste0("  ", texts, c(rep(",", length(texts) - 1), "")), ")")
  write_script(lines, file)
}

#' @rdname workflow_script
#' @export
workflow_shell <- function(workflow, ..., file = NULL) {
  call <- rlang::current_env()
  if (!inherits(workflow, "workflow")) workflow <- read_workflow(workflow)
  values <- values_of_inputs(workflow, list(...), call, there = FALSE)
  values <- values_of_script(values, call)
  layers <- inputs_of_type(workflow$inputs, "layer")
  reads <- vapply(layers, function(name) {
    table <- if (file.exists(values[[name]])) table_of_input(workflow$inputs[[name]], values[[name]])
    paste(c("convert", shell_word(values[[name]]), paste0("@", name), if (!is.null(table)) c("--layer", shell_word(table))), collapse = " ")
  }, "")
  values <- values[setdiff(names(values), layers)]
  steps <- c(reads, unlist(lapply(names(workflow$steps), function(name) shell_lines(name, workflow, values))))
  copies <- vapply(names(workflow$outputs), function(output) {
    if (is_drawing(workflow$steps[[workflow$outputs[[output]]]])) "" else paste0("convert @", workflow$outputs[[output]], " ", shell_word(output), " --replace")
  }, "")
  lines <- c("#!/usr/bin/env bash", comment_of_title(workflow), "set -euo pipefail", "civicatlas batch - <<'STEPS'", steps,
             copies[nzchar(copies)], "STEPS")
  written <- write_script(lines, file)
  if (!is.null(file)) Sys.chmod(file, "755")
  written
}

# What inputs are in a script, which others read: paths, and addresses without their logins and keys.
values_of_script <- function(values, call) {
  if (any(vapply(values, is.data.frame, NA))) fail("argument", "A script reads files: give paths for layers.", call = call)
  shown <- lapply(values, without_secrets_in)
  secret <- names(values)[!mapply(identical, values, shown)]
  if (length(secret)) {
    caution("data", c("The logins and keys in the addresses of {.val {secret}} are not in the script.",
                      i = "Put them back where it runs, or give a database's by PGPASSWORD."))
  }
  shown
}

# On one line, whatever ends lines where it is read.
comment_of_title <- function(workflow) paste("#", gsub("[[:cntrl:]\u2028\u2029]+", " ", workflow$title))

is_drawing <- function(step) "IMAGE" %in% operation_record(step$command)$role

# A step as lines of a batch: its layer under its name, or its pictures in files.
shell_lines <- function(name, workflow, values) {
  step <- workflow$steps[[name]]
  filled <- filled_step(step, texts_of_values(values, workflow))
  place <- function(reference) if (reference %in% names(values)) shell_word(values[[reference]]) else paste0("@", reference)
  record <- operation_record(step$command)
  types <- vapply(record$options, `[[`, "", "type")
  options <- unlist(lapply(names(step$options), function(option) {
    text <- gsub("\n", "\\n", filled$options[[option]], fixed = TRUE)
    if (types[[option]] == "flag") return(if (text == "true") paste0("--", option))
    paste0("--", option, " ", if (types[[option]] %in% c("layer", "file")) place(text) else shell_word(text))
  }))
  targets <- if (is_drawing(step)) vapply(names(workflow$outputs)[workflow$outputs == name], shell_word, "") else paste0("@", name)
  vapply(targets, function(target) {
    words <- unlist(lapply(record$role, function(role) {
      switch(role, OUTPUT = , IMAGE = target, CONDITION = shell_word(gsub("[\r\n]+", " ", filled$condition)),
             vapply(step$takes[[ascii_lower(role)]], place, ""))
    }))
    paste(c(step$command, words, options), collapse = " ")
  }, "", USE.NAMES = FALSE)
}

write_script <- function(lines, file) {
  lines <- unlist(strsplit(paste0(lines, "\n"), "\n"))
  if (is.null(file)) return(lines)
  write_lines(lines, file)
  invisible(lines)
}

assignments <- function(codes) {
  names <- vapply(names(codes), function(name) code_as_text(as.name(name)), "")
  paste0(names, " <- ", vapply(codes, code_as_text, ""), recycle0 = TRUE)
}

code_as_text <- function(code, indent = "") {
  lines <- deparse(code, width.cutoff = 120L, backtick = TRUE, control = c("keepNA", "keepInteger", "niceNames", "showAttributes", "digits17"))
  paste(c(lines[1], paste0(indent, lines[-1], recycle0 = TRUE)), collapse = "\n")
}

# Code by name of what a workflow reads (`inputs`), does (`steps`) and writes (`outputs`). Inputs of some types stay variables.
script_of_workflow <- function(workflow, given, call, types = c("number", "condition")) {
  if (!inherits(workflow, "workflow")) workflow <- read_workflow(workflow)
  values <- values_of_inputs(workflow, given, call, there = FALSE)
  values <- values_of_script(values, call)
  inputs <- Map(code_of_input, values, workflow$inputs[names(values)])
  variables <- inputs_of_type(workflow$inputs, types)
  names <- names(workflow$steps)
  drawn <- vapply(workflow$steps, is_drawing, NA)
  outputs <- Map(function(file, step) {
    if (drawn[[step]]) return(code_of_step(workflow$steps[[step]], workflow, values, variables, image = file))
    rlang::call2("write_layer", as.name(step), file, replace = TRUE)
  }, names(workflow$outputs), workflow$outputs)
  list(workflow = workflow, inputs = inputs, steps = lapply(workflow$steps[names[!drawn]], code_of_step, workflow, values, variables), outputs = outputs)
}

code_of_input <- function(value, input) {
  if (input$type == "number") return(as.double(value))
  if (input$type != "layer") return(value)
  here <- file.exists(value)
  table <- if (here) table_of_input(input, value)
  rlang::call2("read_layer", if (here) normalizePath(value, "/") else value, !!!if (!is.null(table)) list(layer = table))
}

# --- what is left of a command -------------------------------------------------------------------------------------------

code_of_step <- function(step, workflow, values, variables, image = NULL) {
  record <- operation_record(step$command)
  filled <- filled_step(step, texts_of_values(values, workflow))
  exact <- function(text) if (grepl("^[{][^{}]+[}]$", text)) names_in_braces(text)
  symbols <- Filter(Negate(is.null), lapply(c(step$options, list(condition = step$takes$condition %||% "")), exact))
  symbols <- symbols[vapply(symbols, function(name) all(name %in% variables), NA)]
  layers <- lapply(step$takes[intersect(names(step$takes), layer_roles)], function(names) lapply(names, as.name))
  known <- list(step = step, record = record, options = filled$options, symbols = lapply(symbols, as.name), layers = layers, image = image,
                condition = filled$condition, types = vapply(record$options, `[[`, "", "type"))
  tryCatch(code_of_verb(known), civicatlas_residual = function(e) code_of_performance(known))
}

# perform_command() with what the step gives.
code_of_performance <- function(known) {
  options <- Map(function(text, name) {
    if (!is.null(known$symbols[[name]])) return(known$symbols[[name]])
    switch(known$types[[name]], layer = as.name(text), flag = if (text == "true") TRUE, number = , whole = , numbers = as.double(column_list(text)), text)
  }, known$options, names(known$options))
  names(options) <- in_r(names(options))
  inputs <- lapply(setdiff(known$record$role, "OUTPUT"), function(role) {
    switch(role, CONDITION = list(known$symbols$condition %||% known$condition), IMAGE = list(known$image), known$layers[[ascii_lower(role)]])
  })
  rlang::call2("perform_command", known$step$command, !!!unlist(inputs), !!!Filter(Negate(is.null), options))
}

# The call of a verb, else a condition of class civicatlas_residual.
code_of_verb <- function(known) {
  record <- known$record
  given_files <- known$options[known$types[names(known$options)] %in% c("layer", "layers", "file")]
  if (!is.null(record$run) || !is.null(record$finish) || length(given_files)) more_is_left()
  values <- values_of_options(record, known$options, more_is_left)
  if (!is.null(record$settle)) values <- record$settle(values, NULL)
  x <- chosen_rows_code(known$layers$layer[[1]], values)
  y <- known$layers$other[[1]]
  if (isTRUE(values$match_crs) && !is.null(y)) y <- rlang::call2("reproject_to", y, x)
  layers <- Filter(Negate(is.null), list(x = x, y = y, table = known$layers$table[[1]]))
  call_of_operation(record, c(values, list(condition = known$condition)), layers, code_for_script(known$symbols))
}

chosen_rows_code <- function(x, values) {
  for (condition in c(values$where, if (!is.null(values$within)) window_condition(values$within))) x <- rlang::call2("keep_rows", x, condition)
  x
}

# The codes of options in a script, where those that are inputs of the workflow stay variables.
code_for_script <- function(symbols) {
  function(option, value) {
    symbol <- symbols[[option$name]]
    if (!is.null(symbol)) return(if (option$type == "condition") rlang::call2("!", rlang::call2("!", symbol)) else symbol)
    switch(option$type,
      expressions = {
        codes <- codes_of_trees(parse_text(value, option$name, "named", NULL))
        if (option$argument[[1]] %in% "result") function(code) rlang::call2("mutate", code, !!!codes, .ns = "dplyr") else codes
      },
      expression = codes_of_trees(list(parse_text(value, option$name, "expression", NULL)))[[1]],
      plain_code(option, value)
    )
  }
}

# Trees as R code, where they need nothing but what scripts can call.
codes_of_trees <- function(trees) {
  lapply(trees, function(tree) {
    code <- code_of(tree, list(tree = with_root_of(tree, trees), layers = list(), crs = NULL, shapes = quote(geometry), call = NULL))
    callable <- function(code) {
      if (!is.call(code)) return(is.atomic(code) || is.symbol(code))
      head <- code[[1]]
      known <- rlang::is_call(head, "::") || as.character(head)[1] %in% c(plain_functions, getNamespaceExports("civicatlas"))
      known && all(vapply(as.list(code)[-1], callable, NA))
    }
    if (!callable(code)) more_is_left()
    plain_sum(code)
  })
}

plain_functions <- c("(", "+", "-", "*", "/", "^", "==", "!=", "<", ">", "<=", ">=", "&", "|", "!", "is.na", "sum", "mean", "abs", "floor", "ceiling",
                     "toupper", "tolower", "nchar", "unname", "as.character", "as.double", "~", "c")
