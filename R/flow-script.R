# A workflow as a script of R. A command is a function of its options and layers; of the options given, what is left of it is, for most, one call
# of a verb on layers (a partial evaluation: Jones, Gomard and Sestoft, "Partial Evaluation and Automatic Program Generation", 1993, chapter 1).
# Where more is left, the script calls perform_command().

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
  lines <- c(paste("#", gsub("\n", " ", script$workflow$title)), "library(civicatlas)", "",
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
  lines <- c(paste("#", gsub("\n", " ", script$workflow$title)), "library(targets)", "tar_option_set(packages = \"civicatlas\")", "",
             "list(", paste0("  ", texts, c(rep(",", length(texts) - 1), "")), ")")
  write_script(lines, file)
}

#' @rdname workflow_script
#' @export
workflow_shell <- function(workflow, ..., file = NULL) {
  call <- rlang::current_env()
  if (!inherits(workflow, "workflow")) workflow <- read_workflow(workflow)
  values <- values_of_inputs(workflow, list(...), call, there = FALSE)
  if (any(vapply(values, is.data.frame, NA))) fail("argument", "A script reads files: give paths for layers.", call = call)
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
  lines <- c("#!/usr/bin/env bash", paste("#", gsub("\n", " ", workflow$title)), "set -euo pipefail", "civicatlas batch - <<'STEPS'", steps,
             copies[nzchar(copies)], "STEPS")
  written <- write_script(lines, file)
  if (!is.null(file)) Sys.chmod(file, "755")
  written
}

is_drawing <- function(step) "IMAGE" %in% command_record(step$command)$role

# A step as lines of a batch: its layer under its name, or its pictures in files.
shell_lines <- function(name, workflow, values) {
  step <- workflow$steps[[name]]
  texts <- texts_of_values(values, workflow)
  place <- function(reference) if (reference %in% names(values)) shell_word(values[[reference]]) else paste0("@", reference)
  record <- command_record(step$command)
  types <- vapply(record$options, `[[`, "", "type")
  options <- unlist(lapply(names(step$options), function(option) {
    text <- gsub("\n", "\\n", with_values(step$options[[option]], texts), fixed = TRUE)
    if (types[[option]] == "flag") return(if (text == "true") paste0("--", option))
    paste0("--", option, " ", if (types[[option]] %in% c("layer", "file")) place(text) else shell_word(text))
  }))
  targets <- if (is_drawing(step)) vapply(names(workflow$outputs)[workflow$outputs == name], shell_word, "") else paste0("@", name)
  vapply(targets, function(target) {
    words <- unlist(lapply(record$role, function(role) {
      switch(role, OUTPUT = , IMAGE = target, CONDITION = shell_word(with_values(step$takes$condition, texts)),
             vapply(step$takes[[ascii_lower(role)]], place, ""))
    }))
    paste(c(step$command, words, options), collapse = " ")
  }, "", USE.NAMES = FALSE)
}

write_script <- function(lines, file) {
  lines <- unlist(strsplit(paste0(lines, "\n"), "\n"))
  if (is.null(file)) return(lines)
  writeLines(enc2utf8(lines), file, useBytes = TRUE)
  invisible(lines)
}

assignments <- function(codes) {
  names <- vapply(names(codes), function(name) code_as_text(as.name(name)), "")
  paste0(names, " <- ", vapply(codes, code_as_text, ""), recycle0 = TRUE)
}

code_as_text <- function(code, indent = "") {
  lines <- deparse(code, width.cutoff = 120L, control = c("keepNA", "keepInteger", "niceNames", "showAttributes", "digits17"))
  paste(c(lines[1], paste0(indent, lines[-1], recycle0 = TRUE)), collapse = "\n")
}

# Code by name of what a workflow reads (`inputs`), does (`steps`) and writes (`outputs`). Inputs of some types stay variables.
script_of_workflow <- function(workflow, given, call, types = c("number", "condition")) {
  if (!inherits(workflow, "workflow")) workflow <- read_workflow(workflow)
  values <- values_of_inputs(workflow, given, call, there = FALSE)
  if (any(vapply(values, is.data.frame, NA))) fail("argument", "A script reads files: give paths for layers.", call = call)
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
  record <- command_record(step$command)
  texts <- texts_of_values(values, workflow)
  options <- lapply(step$options, with_values, texts)
  exact <- function(text) if (grepl("^[{][^{}]+[}]$", text)) names_in_braces(text)
  symbols <- Filter(Negate(is.null), lapply(c(step$options, list(condition = step$takes$condition %||% "")), exact))
  symbols <- symbols[vapply(symbols, function(name) all(name %in% variables), NA)]
  layers <- lapply(step$takes[intersect(names(step$takes), layer_roles)], function(names) lapply(names, as.name))
  known <- list(step = step, record = record, options = options, symbols = lapply(symbols, as.name), layers = layers, image = image,
                condition = if (!is.null(step$takes$condition)) with_values(step$takes$condition, texts), types = vapply(record$options, `[[`, "", "type"))
  tryCatch(code_of_verb(known), civicatlas_residual = function(e) code_of_performance(known))
}

# perform_command() with what the step gives.
code_of_performance <- function(known) {
  options <- Map(function(text, name) {
    if (!is.null(known$symbols[[name]])) return(known$symbols[[name]])
    switch(known$types[[name]], layer = as.name(text), flag = if (text == "true") TRUE, number = , whole = , numbers = as.double(column_list(text)), text)
  }, known$options, names(known$options))
  names(options) <- gsub("-", "_", names(options), fixed = TRUE)
  inputs <- lapply(setdiff(known$record$role, "OUTPUT"), function(role) {
    switch(role, CONDITION = list(known$symbols$condition %||% known$condition), IMAGE = list(known$image), known$layers[[ascii_lower(role)]])
  })
  rlang::call2("perform_command", known$step$command, !!!unlist(inputs), !!!Filter(Negate(is.null), options))
}

# The one call of a verb that is left, else a condition of class civicatlas_residual.
code_of_verb <- function(known) {
  if (length(unlist(known$options[known$types[names(known$options)] %in% c("layer", "file")]))) more_is_left()
  values <- lapply(known$record$options, `[[`, "default")
  for (name in names(known$options)) {
    option <- known$record$options[[name]]
    values[[name]] <- if (option$type == "flag") known$options[[name]] == "true" else check_option_text(option, known$options[[name]])
  }
  names(values) <- gsub("-", "_", names(values), fixed = TRUE)
  if (!is.null(values$within)) more_is_left()
  x <- known$layers$layer[[1]]
  if (!is.null(values$where)) x <- rlang::call2("keep_rows", x, values$where)
  y <- known$layers$other[[1]]
  if (isTRUE(values$match_crs) && !is.null(y)) y <- rlang::call2("reproject_to", y, x)
  symbols <- stats::setNames(known$symbols, gsub("-", "_", names(known$symbols), fixed = TRUE))
  context <- list(o = c(values, list(condition = known$condition)), code = list(x = x, y = y, table = known$layers$table[[1]]), symbols = symbols,
                  env = new.env(parent = environment(known$record$run)), codes = new.env())
  context$env$o <- context$o
  reduced(body(known$record$run), context)
}

more_is_left <- function() rlang::abort("more is left than a call", class = "civicatlas_residual")

# Code with all worked out that does not depend on layers.
reduced <- function(code, context) {
  if (is_layer_of_options(code)) return(context$code[[as.character(code[[3]])]] %||% more_is_left())
  if (is_option_symbol(code, context)) return(context$symbols[[as.character(code[[3]])]])
  if (is.name(code) && depends_on_layers(code, context)) return(context$codes[[as.character(code)]])
  special <- if (is.call(code)) reduced_helpers[[paste(deparse(code[[1]]), collapse = "")]]
  if (!is.null(special)) return(special(code, context))
  if (depends_on_layers(code, context)) reduced_call(code, context) else eval(code, context$env)
}

# The branch that is taken, which must not depend on layers.
reduced_if <- function(code, context) {
  if (depends_on_layers(code[[2]], context)) more_is_left()
  branch <- if (eval(code[[2]], context$env)) code[[3]] else if (length(code) > 3) code[[4]]
  if (!is.null(branch)) reduced(branch, context)
}

is_layer_of_options <- function(code) rlang::is_call(code, "$") && identical(code[[2]], quote(o)) && as.character(code[[3]]) %in% c("x", "y", "table")

is_option_symbol <- function(code, context) {
  rlang::is_call(code, "$") && identical(code[[2]], quote(o)) && as.character(code[[3]]) %in% names(context$symbols)
}

depends_on_layers <- function(code, context) {
  if (is.name(code)) return(exists(as.character(code), context$codes, inherits = FALSE))
  is.call(code) && (is_layer_of_options(code) || rlang::is_call(code, "all_of") || any(vapply(as.list(code), depends_on_layers, NA, context)))
}

# A value that is returned ends the block.
reduced_block <- function(lines, context) {
  last <- length(lines)
  for (line in lines[-last]) {
    returned <- if (rlang::is_call(line, "if")) returned_by(line, context) else done_before(line, context)
    if (!is.null(returned)) return(reduced(returned, context))
  }
  reduced(lines[[last]], context)
}

# A line before the last: a value that is named, or a check that the verb makes too, which is left out.
done_before <- function(line, context) {
  if (rlang::is_call(line, "<-") && is.symbol(line[[2]])) {
    assign_reduced(line, context)
  } else if (!(rlang::is_call(line, "for") && rlang::is_call(line[[4]], "need_column"))) {
    more_is_left()
  }
  NULL
}

# What a line `if (condition) return(value)` returns; NULL where the condition does not hold.
returned_by <- function(line, context) {
  if (depends_on_layers(line[[2]], context)) more_is_left()
  if (!eval(line[[2]], context$env)) return(NULL)
  if (rlang::is_call(line[[3]], "return")) line[[3]][[2]] else more_is_left()
}

assign_reduced <- function(line, context) {
  value <- reduced(line[[3]], context)
  assign(as.character(line[[2]]), value, envir = if (is.call(value) || is.name(value)) context$codes else context$env)
}

# A call of an exported verb, its arguments by name but for the first two, those left out that are its defaults.
reduced_call <- function(code, context) {
  fun <- if (is.symbol(code[[1]])) get(as.character(code[[1]]), envir = context$env) else eval(code[[1]], context$env)
  name <- exported_name(fun, code[[1]])
  args <- do.call(c, unname(Map(reduced_argument, as.list(code)[-1], rlang::names2(as.list(code)[-1]), list(context))))
  verb <- if (is.name(name)) getExportedValue("civicatlas", as.character(name)) else eval(name)
  whole <- as.list(match.call(verb, rlang::call2("f", !!!args)))[-1]
  formals <- formals(verb)
  is_default <- vapply(names(whole), function(arg) arg %in% names(formals) && same_value(whole[[arg]], formals[[arg]]), NA)
  whole <- whole[!is_default]
  plain <- names(whole) %in% utils::head(names(formals), 2) & !vapply(whole, is.logical, NA)
  names(whole)[plain] <- ""
  rlang::call2(name, !!!whole)
}

same_value <- function(value, default) {
  if (is.call(value) || is.name(value) || is.name(default)) return(FALSE)
  default <- tryCatch(eval(default, baseenv()), error = function(e) NA)
  isTRUE(all.equal(value, default, check.attributes = FALSE)) && length(value) == length(default)
}

# The name under which a verb can be called from a script.
exported_name <- function(fun, code) {
  if (rlang::is_call(code, "::")) return(code)
  exports <- getNamespaceExports("civicatlas")
  hit <- Filter(function(name) identical(getExportedValue("civicatlas", name), fun), exports)
  if (!length(hit)) more_is_left()
  as.name(c(intersect(as.character(code)[1], hit), hit)[1])
}

# One argument as a list of one, or of many behind `!!!`.
reduced_argument <- function(code, name, context) {
  named <- function(value) stats::setNames(list(value), name)
  if (rlang::is_call(code, "!") && rlang::is_call(code[[2]], "!") && rlang::is_call(code[[2]][[2]], "!")) {
    many <- reduced(code[[2]][[2]][[2]], context)
    return(as.list(many))
  }
  if (rlang::is_call(code, "!") && rlang::is_call(code[[2]], "!")) {
    inner <- code[[2]][[2]]
    value <- reduced(inner, context)
    if (is_option_symbol(inner, context)) value <- rlang::call2("!", rlang::call2("!", value))
    return(named(value))
  }
  named(reduced(code, context))
}

# --- helpers of commands -------------------------------------------------------------------------------------------------

reduced_helpers <- list(
  "{" = function(code, context) reduced_block(as.list(code)[-1], context),
  "if" = function(code, context) reduced_if(code, context),
  "rlang::inject" = function(code, context) reduced(code[[2]], context),
  "dplyr::all_of" = function(code, context) rlang::call2(code[[1]], reduced(code[[2]], context)),
  "-" = function(code, context) if (length(code) == 2) rlang::call2("-", reduced(code[[2]], context)) else more_is_left(),
  distance_option = function(code, context) {
    if (is_option_symbol(code[[2]], context)) return(reduced(code[[2]], context))
    text <- eval(code[[2]], context$env)
    number <- suppressWarnings(as.numeric(text))
    if (is.na(number)) rlang::call2("$", reduced(code[[3]], context), as.name(text)) else number
  },
  expressions_option = function(code, context) codes_of_trees(parse_text(eval(code[[2]], context$env), "with", "named", NULL)),
  computed = function(code, context) {
    codes <- codes_of_trees(parse_text(eval(code[[3]], context$env), "set", "named", NULL))
    rlang::call2(quote(dplyr::mutate), reduced(code[[2]], context), !!!codes)
  },
  layers_named = function(code, context) if (is.null(context$o$layers)) list() else more_is_left(),
  neighbours_option = function(code, context) more_is_left(),
  map_values = function(code, context) more_is_left(),
  some_rows = function(code, context) more_is_left()
)

# Trees as R code, where they need nothing but what scripts can call.
codes_of_trees <- function(trees) {
  lapply(trees, function(tree) {
    code <- code_of(tree, list(tree = with_text_of(tree, trees), layers = list(), crs = NULL, shapes = quote(geometry), call = NULL))
    callable <- function(code) {
      if (!is.call(code)) return(is.atomic(code) || is.symbol(code))
      head <- code[[1]]
      known <- rlang::is_call(head, "::") || as.character(head)[1] %in% c(plain_functions, getNamespaceExports("civicatlas"))
      known && all(vapply(as.list(code)[-1], callable, NA))
    }
    if (!callable(code)) more_is_left()
    code
  })
}

plain_functions <- c("(", "+", "-", "*", "/", "^", "==", "!=", "<", ">", "<=", ">=", "&", "|", "!", "is.na", "sum", "mean", "abs", "floor", "ceiling",
                     "toupper", "tolower", "nchar", "unname", "as.character", "~", "c")
