#' Workflows: the same steps again
#'
#' A workflow is a YAML file with a title, typed inputs, named steps that are commands of the [command-line tool][commands], and outputs. It is
#' checked whole before anything runs: every mistake is told at once, by line and column. `check_workflow()` also looks at the layers of the inputs, where
#' they are there, and tells columns that a step would not find and CRSs that would not meet. `vignette("next-month", "civicatlas")` has the language.
#'
#' @param path Path of a workflow.
#' @param ... Values of inputs by name, where the check is for these and not the defaults.
#' @return `read_workflow()`: a workflow that prints well, a list of `title`, `inputs`, `steps` in the order that they run in, and `outputs`.
#'   `check_workflow()`: a tibble of `line`, `column`, `problem` and `remedy`, without rows where there is no mistake.
#' @section Errors: `civicatlas_error_workflow` where `read_workflow()` finds mistakes, all of which it lists.
#' @examples
#' file <- system.file("workflows", "out-of-reach.yaml", package = "civicatlas")
#' read_workflow(file)
#' check_workflow(file)
#' @export
read_workflow <- function(path) {
  found <- examined_workflow(path, rlang::current_env())
  problems <- found$problems
  if (!nrow(problems)) return(found$workflow)
  places <- sprintf("%d:%d  %s.%s", problems$line, problems$column, problems$problem, ifelse(nzchar(problems$remedy), paste0(" ", problems$remedy), ""))
  fail("workflow", c("{.file {path}} has {counted(nrow(problems), 'mistake')}:", stats::setNames(escape(places), rep("x", length(places)))),
       call = rlang::current_env())
}

#' @rdname read_workflow
#' @export
check_workflow <- function(path, ...) examined_workflow(path, rlang::current_env(), rlang::list2(...))$problems

# With `given`, a list of values of inputs, what the steps would run into is foreseen too.
examined_workflow <- function(path, call, given = NULL) {
  if (!rlang::is_string(path)) fail("argument", "{.arg path} must be the path of a workflow.", call = call)
  if (!file.exists(path)) no_such_file(path, call)
  found <- new.env(parent = emptyenv())
  found$problems <- list()
  tell <- function(node, problem, remedy = "") {
    said <- problem_and_remedy(problem)
    one <- tibble::tibble(line = as.integer(node$line), column = as.integer(node$column), problem = said$problem,
                          remedy = if (nzchar(remedy)) remedy else said$remedy)
    found$problems[[length(found$problems) + 1]] <- one
  }
  node <- NULL
  workflow <- tryCatch({
    node <- read_yaml_nodes(readLines(path, encoding = "UTF-8", warn = FALSE))
    workflow_of_nodes(node, tell)
  }, civicatlas_yaml_problem = function(e) {
    tell(e, conditionMessage(e), e$remedy)
    NULL
  })
  if (!is.null(workflow)) workflow$path <- normalizePath(path)
  if (!is.null(given) && !length(found$problems)) tell_foreseen(workflow, given, node, tell, call)
  none <- tibble::tibble(line = integer(), column = integer(), problem = character(), remedy = character())
  problems <- vctrs::vec_rbind(none, !!!found$problems)
  list(workflow = workflow, problems = problems[order(problems$line, problems$column), ])
}

# What an error says on a line, taken apart, with keys as the file has them.
problem_and_remedy <- function(said) {
  said <- gsub("`-{0,2}([.A-Za-z_-]+)`", "\"\\1\"", sub("^Cannot read [^:]*: ", "", sub("^--", "", said)))
  parts <- strsplit(said, paste0(" ?", cli::symbol$info, " "))[[1]]
  parts[1] <- gsub(paste0(" ", cli::symbol$bullet, " "), ", ", sub(paste0("[.] ", cli::symbol$bullet), ":", parts[1]), fixed = TRUE)
  list(problem = sub("[.]? *$", "", parts[1]), remedy = paste(parts[-1], collapse = " "))
}

workflow_of_nodes <- function(node, tell) {
  if (node$kind != "map") {
    tell(node, "a workflow is a map of version, title, inputs, steps and outputs")
    return(NULL)
  }
  known_keys(node, c("version", "title", "inputs", "steps", "outputs", "answer", "totals"), "a workflow", tell)
  if (!identical(node$value$version$value, "1")) tell(node$value$version %||% node, "the version of the language is missing", "Write: version: 1.")
  for (key in c("inputs", "steps")) need_plain_names(node$value[[key]], tell)
  inputs <- named_nodes(node, "inputs", tell, input_of_node)
  steps <- named_nodes(node, "steps", tell, function(name, step, tell) step_of_node(name, step, inputs, names(node$value$steps$value), tell))
  if (!length(steps)) tell(node$value$steps %||% node, "there are no steps")
  twice <- intersect(names(inputs), names(steps))
  for (name in twice) tell(node$value$steps$keys[[name]], paste0("\"", name, "\" is an input too"), "Give the step another name.")
  steps <- in_running_order(steps, node$value$steps, tell)
  outputs <- named_nodes(node, "outputs", tell, function(file, output, tell) output_of_node(file, output, steps, node$value$outputs$keys[[file]], tell))
  tell_files_shared(names(outputs), node$value$outputs, tell)
  answer <- if (!is.null(node$value$answer)) answer_of_node(node$value$answer, inputs, steps, tell)
  totals <- if (!is.null(node$value$totals)) texts_of_node(node$value$totals)
  title <- texts_by_key(node$value[intersect("title", names(node$value))], character(), tell)$title
  structure(list(title = title %||% "", inputs = inputs, steps = steps, outputs = outputs, answer = answer, totals = totals),
            class = "workflow")
}

# Names of inputs and steps are those of variables in scripts and of layers in batches.
need_plain_names <- function(node, tell) {
  for (name in if (identical(node$kind, "map")) names(node$value)) {
    if (!grepl("^[\\p{L}_][\\p{L}\\p{M}\\p{N}_.-]*$", name, perl = TRUE)) {
      tell(node$keys[[name]], paste0("\"", name, "\" is no name"), "A name has letters, digits, _, . and -, and begins with a letter.")
    }
  }
}

# A sentence with {value}, which is a summary of a step's rows, rounded to `digits` where these are told; `column` is the one that maps show.
answer_of_node <- function(node, inputs, steps, tell) {
  known_keys(node, c("text", "value", "of", "digits", "column"), "an answer", tell)
  for (key in setdiff(c("text", "value", "of"), names(node$value))) tell(node, paste0("the answer has no \"", key, "\""))
  answer <- lapply(node$value, function(one) paste(texts_of_node(one), collapse = ","))
  tables <- names(Filter(function(step) is.na(step$command) || !is_drawing(step), steps))
  if (!is.null(answer$of)) need_reference(node$value$of, answer$of, tables, "step that gives a table", tell)
  if (!is.null(answer$text)) need_names(node$value$text, answer$text, c(inputs, list(value = "")), tell)
  problem <- if (!is.null(answer$value)) problem_in(need_words(parse_text(answer$value, "value", "expression", NULL), NULL))
  if (!is.null(problem)) tell(node$value$value, problem)
  if (!is.null(answer$digits) && !grepl("^-?[0-9]{1,2}$", answer$digits)) tell(node$value$digits, "\"digits\" is a whole number", "Digits behind the point.")
  answer
}

# The members of a map under a key, each read by a function.
named_nodes <- function(node, key, tell, read) {
  below <- node$value[[key]]
  if (is.null(below)) return(list())
  if (below$kind != "map") {
    tell(below, paste0(key, " is a map of names"))
    return(list())
  }
  Map(function(name, one) read(name, one, tell), names(below$value), below$value)
}

known_keys <- function(node, known, what, tell) {
  for (key in setdiff(names(node$value), known)) {
    nearest <- nearest_word(key, known, most = 1)
    tell(node$keys[[key]], paste0(what, " has no \"", key, "\""), paste0("Nearest: ", nearest, "."))
  }
}

# --- inputs --------------------------------------------------------------------------------------------------------------

input_keys <- list(
  layer = c("shapes", "columns", "layer"), number = c("unit", "least", "most"), choice = "values", column = "of", condition = "of", text = character(),
  date = character(), file = character()
)

input_of_node <- function(name, node, tell) {
  if (node$kind != "map") {
    tell(node, paste0("the input \"", name, "\" is a map"), "Write below it: type: layer.")
    return(list(type = "text"))
  }
  type <- node$value$type$value
  if (!rlang::is_string(type) || !type %in% names(input_keys)) {
    tell(node$value$type %||% node, paste0("the input \"", name, "\" has no known type"), paste0("One of: ", paste(names(input_keys), collapse = ", "), "."))
    return(list(type = "text"))
  }
  known_keys(node, c("type", "title", "default", input_keys[[type]]), paste("an input of type", type), tell)
  input <- texts_by_key(node$value, c("values", "columns", "shapes"), tell)
  tell_of_values(name, input, node, tell)
  input
}

# What is wrong with the bounds, the choices and the default of an input.
tell_of_values <- function(name, input, node, tell) {
  for (key in intersect(c("least", "most"), names(input))) {
    if (is.na(suppressWarnings(as.double(input[[key]])))) tell(node$value[[key]], paste0("\"", input[[key]], "\" is no number"))
  }
  if (input$type == "choice" && !length(input[["values"]])) tell(node, "an input of type choice has no \"values\"", "Write: values: [a, b].")
  problem <- if (!is.null(input[["default"]])) problem_of_input(name, input, input[["default"]])
  if (!is.null(problem)) tell(node$value[["default"]], problem)
}

# What an error of ours says on a line; NULL where there is none.
problem_in <- function(expr) {
  tryCatch({
    expr
    NULL
  }, civicatlas_error = said_on_a_line)
}

# What is wrong with a value for an input; NULL for nothing.
problem_of_input <- function(name, input, value) {
  said <- function(...) paste0("\"", name, "\" ", ...)
  switch(input$type,
    number = {
      number <- suppressWarnings(as.double(value))
      if (length(number) != 1 || is.na(number)) return(said("is a number", if (!is.null(input$unit)) paste0(" (", input$unit, ")"), ", not \"", value, "\""))
      limit <- function(text, other) c(stats::na.omit(suppressWarnings(as.double(text))), other)[1]
      if (number < limit(input$least, -Inf)) return(said("is at least ", input$least, ", not ", value))
      if (number > limit(input$most, Inf)) said("is at most ", input$most, ", not ", value)
    },
    choice = if (length(input$values) && !value %in% input$values) said("is one of ", paste(input$values, collapse = ", "), ", not \"", value, "\""),
    condition = problem_in(need_words(parse_text(value, name, call = NULL), NULL)),
    date = if (is.null(as_date_exactly(value))) said("is a date such as 2026-11-29, not \"", value, "\"")
  )
}

# --- steps ---------------------------------------------------------------------------------------------------------------

# What a step may be: a command that reads what it is given and writes what is asked for, and nothing else.
commands_of_workflows <- function() {
  roles <- c("LAYER", "OTHER", "LAYERS", "TABLE", "CONDITION", "OUTPUT", "IMAGE")
  fits <- function(role) length(role) > 0 && all(role %in% roles)
  Filter(function(name) fits(operation_record(name)$role), operation_names())
}

step_of_node <- function(name, node, inputs, steps, tell) {
  none <- list(command = NA_character_, takes = list(), options = list(), needs = character())
  if (node$kind != "map") {
    tell(node, paste0("the step \"", name, "\" is a map"), "Write below it: command: buffer.")
    return(none)
  }
  command <- command_of_step(node, tell)
  if (is.na(command)) return(none)
  record <- operation_record(command)
  roles <- ascii_lower(intersect(record$role, c("LAYER", "OTHER", "LAYERS", "TABLE", "CONDITION")))
  options <- record$options[setdiff(names(record$options), options_of_files)]
  former <- tell_former_keys(node, c(roles, names(options)), options, tell)
  known_keys(node, c("command", roles, names(options), former), paste0("the command \"", command, "\""), tell)
  needed <- c(roles, names(options)[vapply(options, `[[`, NA, "required")])
  for (key in setdiff(needed, names(node$value))) tell(node, paste0("the step \"", name, "\" has no \"", key, "\""))
  takes <- node$value[intersect(roles, names(node$value))]
  given <- node$value[intersect(names(options), names(node$value))]
  types <- vapply(options[names(given)], `[[`, "", "type")
  layers <- c(takes[names(takes) != "condition"], given[types == "layer"])
  texts <- function(nodes, need) for (one in nodes) for (text in texts_of_node(one)) need(one, text)
  texts(layers, function(one, text) need_reference(one, text, c(inputs_of_type(inputs, "layer"), steps), "input or step", tell))
  texts(given[types == "file"], function(one, text) need_reference(one, text, inputs_of_type(inputs, "file"), "input of type file", tell))
  texts(c(takes[names(takes) == "condition"], given), function(one, text) need_names(one, text, inputs, tell))
  step <- list(command = command, takes = texts_by_key(takes, "layers", tell), options = Map(option_text_of_node, given, options[names(given)], list(tell)),
               needs = unique(unlist(lapply(c(layers, given[types == "file"]), texts_of_node))))
  check_values(step, options, node, inputs, tell)
  with_unit_of_inputs(step, options, node, inputs, tell)
}

# Keys of options that had other names in versions before, which are told with the new.
tell_former_keys <- function(node, known, options, tell) {
  for (key in setdiff(names(node$value), known)) {
    now <- now_named(key, options)
    if (!is.null(now)) tell(node$keys[[key]], paste0("\"", key, "\" is \"", now, "\" now"), paste0("Write: ", now, "."))
  }
  unlist(lapply(options, `[[`, "former"))
}

# Numbers whose inputs have a unit of length or area go to the step in that unit; what cannot be so is told.
with_unit_of_inputs <- function(step, options, node, inputs, tell) {
  numbers <- intersect(names(step$options), names(options)[vapply(options, `[[`, "", "type") %in% c("number", "numbers", "distance")])
  for (name in numbers) {
    for (input in intersect(names_in_braces(step$options[[name]]), inputs_of_type(inputs, "number"))) {
      step <- with_unit_of_input(step, name, input, options, node, inputs, tell)
    }
  }
  step
}

with_unit_of_input <- function(step, name, input, options, node, inputs, tell) {
  unit <- inputs[[input]]$unit
  if (is.null(unit)) return(step)
  of_step <- if ("unit" %in% names(options) && !options[[name]]$unitless) options$unit$values
  known <- if (name == "smaller-than") area_units else length_units
  wrong <- wrong_unit(unit, of_step, known, name) %||% wrong_side(step, name, side_of_unit(unit, known))
  if (is.null(wrong)) {
    if (!is.null(of_step)) step$options$unit <- side_of_unit(unit, known)
  } else {
    tell(node$value[[name]], paste0("the input \"", input, "\" is in ", wrong$problem), wrong$remedy)
  }
  step
}

# What is wrong with the unit of an input for an option, as its `problem` and `remedy`. `of_step`: units that the step takes.
wrong_unit <- function(unit, of_step, known, name) {
  is_unit <- unit %in% c(names(length_units), names(area_units))
  if (is.null(of_step)) return(if (is_unit) list(problem = paste0(unit, ", and \"", name, "\" takes no unit"), remedy = "Leave out the unit of the input."))
  if (!is_unit) {
    what <- if (identical(known, area_units)) "area" else "length"
    return(list(problem = paste0("\"", unit, "\", which is no unit of ", what), remedy = paste0("One of: ", paste(names(known), collapse = ", "), ".")))
  }
  if (!is.na(side_of_unit(unit, known))) return(NULL)
  list(problem = paste0(unit, ", and the step takes ", paste(of_step, collapse = ", ")), remedy = "Give the input another unit.")
}

# Is the step in another unit, or are there other numbers beside the input, which would be in its unit too?
wrong_side <- function(step, name, side) {
  if (is.na(side)) return(NULL)
  numbers <- strsplit(step$options[[name]], ",")[[1]]
  mixed <- side != "m" && !all(grepl("^ *[{]", numbers))
  if (!mixed && (step$options$unit %||% side) == side) return(NULL)
  list(problem = paste0(side, ", and the step is in ", step$options$unit %||% "m"), remedy = paste0("Write: unit: ", side, "."))
}

# The unit of length that a step is put in: the side of a square for areas; NA where there is none.
side_of_unit <- function(unit, known) {
  if (!unit %in% names(known)) return(NA_character_)
  if (identical(known, area_units)) names(length_units)[match(area_units[[unit]], length_units^2)] else unit
}

# Of files, which a workflow names as inputs and outputs.
options_of_files <- c("quiet", "json", "help", "replace", "append", "to-layer", "to-format", "from-format", "layer", "encoding", "decimals", "layers", "shapes")

command_of_step <- function(node, tell) {
  command <- node$value$command$value
  known <- commands_of_workflows()
  if (rlang::is_string(command) && command %in% known) return(command)
  nearest <- if (rlang::is_string(command)) paste0("Nearest: ", nearest_word(command, known, most = 1), ".")
  tell(node$value$command %||% node, paste0("there is no command \"", command %||% "", "\" for a step"), nearest %||% "")
  NA_character_
}

texts_of_node <- function(node) {
  if (node$kind == "list") return(vapply(node$value, function(one) as.character(one$value)[1], ""))
  if (node$kind == "text") node$value else ""
}

# The same by key, of which `several` may have a list.
texts_by_key <- function(nodes, several, tell) {
  Map(function(one, key) {
    if (key %in% several) return(texts_of_node(one))
    if (one$kind != "text") tell(one, paste0("\"", key, "\" is a single value"), "Write it without brackets and dashes.")
    c(texts_of_node(one), "")[1]
  }, nodes, names(nodes))
}

# Flags are true or false; a list is what the command line has with commas.
option_text_of_node <- function(node, option, tell) {
  text <- paste(texts_of_node(node), collapse = ",")
  if (option$type == "flag" && !text %in% c("true", "false")) tell(node, paste0("\"", option$name, "\" is true or false, not \"", text, "\""))
  text
}

need_reference <- function(node, text, known, what, tell) {
  if (text %in% known) return(invisible())
  nearest <- nearest_word(text, known, most = 1)
  tell(node, paste0("there is no ", what, " \"", text, "\""), if (length(nearest)) paste0("Nearest: ", nearest, ".") else "")
}

inputs_of_type <- function(inputs, types) names(Filter(function(input) input$type %in% types, inputs))

# Names in braces stand for inputs.
names_in_braces <- function(text) gsub("[{}]", "", unlist(regmatches(text, gregexpr(braces_pattern, text))))

need_names <- function(node, text, inputs, tell) {
  for (name in setdiff(names_in_braces(text), names(inputs))) {
    nearest <- if (length(inputs)) paste0("Nearest: {", nearest_word(name, names(inputs), most = 1), "}.")
    tell(node, paste0("there is no input {", name, "}"), nearest %||% "")
  }
}

# Options and conditions as they are with the defaults of the inputs, as far as these have any.
check_values <- function(step, options, node, inputs, tell) {
  filled <- filled_step(step, texts_of_values(lapply(inputs, `[[`, "default"), list(inputs = inputs)))
  texts <- c(filled$options, list(condition = filled$condition))
  for (name in names(Filter(Negate(is.null), texts))) {
    text <- texts[[name]]
    if (length(names_in_braces(text)) || (name != "condition" && options[[name]]$type %in% c("flag", "layer", "file"))) next
    problem <- problem_in(if (name == "condition") need_words(parse_text(text, name, call = NULL), NULL) else check_option_text(options[[name]], text))
    if (!is.null(problem)) tell(node$value[[name]], problem)
  }
}

# Each step behind those that it needs; a circle is told at one of its steps.
in_running_order <- function(steps, node, tell) {
  order <- character()
  while (length(order) < length(steps)) {
    open <- setdiff(names(steps), order)
    ready <- Filter(function(name) !length(intersect(steps[[name]]$needs, open)), open)
    if (!length(ready)) {
      tell(node$keys[[open[1]]], paste0("the steps ", paste(open, collapse = ", "), " wait for each other"))
      return(steps)
    }
    order <- c(order, ready)
  }
  steps[order]
}

# Outputs of which one is a part of another, as x.dbf of x.shp.
tell_files_shared <- function(files, node, tell) {
  for (k in seq_along(files)[-1]) {
    before <- Filter(function(other) length(intersect(tolower(files_of_output(files[k])), tolower(files_of_output(other)))) > 0, files[seq_len(k - 1)])
    problem <- paste0("the outputs \"", before[1], "\" and \"", files[k], "\" have a file in common")
    if (length(before)) tell(node$keys[[files[k]]], problem, "Give one another name.")
  }
}

output_of_node <- function(file, node, steps, place, tell) {
  step <- node$value
  if (!rlang::is_string(step) || !step %in% names(steps)) {
    tell(node, paste0("the output \"", file, "\" names no step"), paste0("Steps: ", paste(names(steps), collapse = ", "), "."))
    return(NA_character_)
  }
  leaves <- grepl("^([/~\\\\]|[A-Za-z]:)|(^|[/\\\\])[.][.]([/\\\\]|$)|://", file)
  if (leaves) tell(place, paste0("the output \"", file, "\" does not lie in the folder of the run"), "Name a file alone.")
  draws <- !is.na(steps[[step]]$command) && "IMAGE" %in% operation_record(steps[[step]]$command)$role
  if (!draws && is.na(format_with(ending_of(file), "written"))) {
    tell(place, paste0("the ending of \"", file, "\" names no format that can be written"), "For example: .gpkg, .geojson, .shp, .csv.")
  }
  step
}

#' @export
print.workflow <- function(x, ...) {
  cat("<workflow> ", printable(x$title), "\n", sep = "")
  for (name in names(x$inputs)) {
    input <- x$inputs[[name]]
    about <- c(input$shapes, input$unit, if (!is.null(input$default)) paste("by default", input$default))
    cat("  input ", printable(name), ": ", input$type, if (length(about)) paste0(" (", printable(paste(about, collapse = ", ")), ")"), "\n", sep = "")
  }
  for (name in names(x$steps)) {
    step <- x$steps[[name]]
    cat("  step ", printable(name), ": ", step$command, " of ", printable(paste(step$needs, collapse = ", ")), "\n", sep = "")
  }
  for (file in names(x$outputs)) cat("  output ", printable(file), ": ", printable(x$outputs[[file]]), "\n", sep = "")
  invisible(x)
}
