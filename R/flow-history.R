#' A workflow from what was done
#'
#' The history of a frame, and those of the frames that came into it, as the text of a workflow: each file that was read is an input, each verb a step. A
#' frame whose rows or columns were changed in between by other means, such as dplyr's verbs, is refused, as a run would give other rows.
#'
#' @param x A spatial frame, made of layers that were read.
#' @param inputs Values that become inputs, by name: `c(distance = 400)`, wherever they stand in the steps.
#' @param title Title of the workflow.
#' @param file Path of the workflow to write; `NULL` for its lines.
#' @return The lines of the workflow, invisibly where they are written to a file.
#' @section Errors: `civicatlas_error_workflow` for a step that no command does, or an expression that the language of workflows has no word for, with the
#'   step.
#' @examples
#' reach <- read_layer(demo_file("rooms.geojson")) |> reproject_to(32757) |> keep_rows("seats > 50") |> buffer_by(400, merged = TRUE)
#' far <- erase_by(read_layer(demo_file("wards.shp")), reach)
#' cat(workflow_of(far, inputs = c(distance = 400)), sep = "\n")
#' @export
workflow_of <- function(x, inputs = NULL, title = "A workflow", file = NULL) {
  call <- rlang::current_env()
  need_frame(x, "workflow_of", call)
  made <- new.env(parent = emptyenv())
  made$inputs <- list()
  made$steps <- list()
  history <- attr(x, "history", exact = TRUE)
  last <- steps_of_history(history, made, call)
  need_no_change(change_since(x, utils::tail(history, 1)), "after the last step", call)
  if (!length(made$steps)) fail("workflow", "Nothing was done to {.arg x} but reading it.", call = call)
  values <- as.list(inputs)
  used <- unlist(lapply(made$steps, `[[`, "options"))
  for (name in names(values)) {
    if (!any(used == plain_text(values[[name]]))) fail("workflow", "{.val {values[[name]]}} stands in no step.", call = call)
    made$steps <- lapply(made$steps, with_input, name, plain_text(values[[name]]))
  }
  lines <- c("version: 1", paste0("title: ", yaml_text(title)), "", "inputs:", unlist(Map(yaml_of_input, names(made$inputs), made$inputs)),
             unlist(Map(yaml_of_value, names(values), values)), "", "steps:", unlist(Map(yaml_of_step, names(made$steps), made$steps)), "", "outputs:",
             paste0("  ", last, ".gpkg: ", last))
  write_script(lines, file)
}

plain_text <- function(value) if (is.numeric(value)) core(core_number_text(as.double(value), -1L)) else as.character(value)

with_input <- function(step, name, text) {
  step$options <- lapply(step$options, function(option) if (identical(option, text)) paste0("{", name, "}") else option)
  step
}

# Adds the steps of a history, and of those within it, to what is `made`; the name of the last, or of the input.
steps_of_history <- function(history, made, call) {
  if (!length(history) || history[[1]]$verb != "read_layer") {
    fail("workflow", c("A frame was made in this session, and not read.", i = "Write it to a file and read it, so that a workflow can do so too."), call = call)
  }
  last <- input_of_reading(history[[1]], made, call)
  for (step in history[-1]) last <- add_step(step, last, made, call)
  last
}

input_of_reading <- function(step, made, call) {
  given <- step$given
  others <- setdiff(names(given), c("source", "layer", "where", "damaged", if (identical(given$skip, 0)) "skip"))
  if (!rlang::is_string(given$source) || length(others) || !identical(given$damaged, "refuse")) no_command(step, call)
  source <- if (file.exists(given$source)) normalizePath(given$source, "/") else given$source
  input <- list(type = "layer", layer = given$layer, default = source)
  known <- Filter(function(name) identical(made$inputs[[name]], input), names(made$inputs))
  name <- if (length(known)) known[1] else new_name(made, make.names(stem_of(basename(source))))
  made$inputs[[name]] <- input
  if (is.null(given$where)) return(name)
  keep_step(given$where$code, name, made, "keep", step, call)
}

new_name <- function(made, name) {
  name <- gsub("[^A-Za-z0-9_]", "_", name)
  utils::tail(make.unique(c(names(made$inputs), names(made$steps), name), "_"), 1)
}

no_command <- function(step, call) {
  fail("workflow", c("A step of the history has no command that does the same.", x = "{escape(step$call)}"), call = call)
}

keep_step <- function(code, last, made, command, step, call) {
  parsed <- tryCatch(parse(text = code)[[1]], error = function(e) no_command(step, call))
  text <- if (rlang::is_string(parsed)) parsed else text_of_code(parsed, step, call)
  put_step(made, command, list(layer = last, condition = text), list())
}

put_step <- function(made, command, takes, options) {
  name <- new_name(made, command)
  made$steps[[name]] <- list(command = command, takes = takes, options = options)
  name
}

need_no_change <- function(change, when, call) {
  if (is.null(change)) return(invisible())
  fail("workflow", c("Something was done {when} that is in no step: {change}.",
                     i = "{.fn keep_rows} chooses rows, and a workflow's command {.code compute} makes columns."), call = call)
}

add_step <- function(step, last, made, call) {
  need_no_change(step$change, paste0("before ", step$verb, "()"), call)
  words <- strsplit(words_of_verb(step$verb) %|% "", " ")[[1]]
  command <- words[1]
  if (is.na(command) || !command %in% commands_of_workflows()) no_command(step, call)
  code <- tryCatch(parse(text = step$code)[[1]], error = function(e) no_command(step, call))
  if (command %in% c("keep", "drop")) {
    alone <- is.null(match.call(keep_rows, code, expand.dots = FALSE)[["..."]]) && is.null(step$given$crs)
    return(if (alone) keep_step(step$given$where$code, last, made, command, step, call) else no_command(step, call))
  }
  record <- operation_record(command)
  if (!step$verb %in% record$verb) no_command(step, call)
  places <- places_of_arguments(record, step$verb)
  given <- utils::modifyList(selections_of_call(code, step$verb, places$options), utils::modifyList(step$given, literals_of_call(code, step$verb)))
  if (length(left_over(given, places, step$verb))) no_command(step, call)
  takes <- c(list(layer = last), others_of_step(given, places$roles, last, made, call))
  flags <- stats::setNames(lapply(words[-1], function(word) "true"), sub("^--", "", words[-1]))
  options <- c(flags, options_of_given(given, places, record), options_of_expressions(code, step, record, places, call))
  put_step(made, command, takes, options[!duplicated(names(options)) & !vapply(options, is.null, NA)])
}

# Arguments that are not their defaults, and for which the command has no option.
left_over <- function(given, places, verb) {
  formals <- formals(getExportedValue("civicatlas", verb))
  rest <- setdiff(intersect(names(given), names(formals)), c(names(places$roles), names(places$options), "crs", ".crs"))
  Filter(function(arg) is.list(given[[arg]]) || !same_value(given[[arg]], formals[[arg]]), rest)
}

# The other layers of a step, with the steps that made them; where a verb took a layer with itself, that one.
others_of_step <- function(given, roles, last, made, call) {
  roles <- Filter(function(role) role != "layer", roles)
  found <- lapply(names(roles), function(arg) {
    if (is.null(given[[arg]])) return(last)
    need_no_change(given[[arg]]$change, "to another layer of a step", call)
    steps_of_history(given[[arg]]$history, made, call)
  })
  stats::setNames(found, unlist(roles))
}

options_of_given <- function(given, places, record) {
  known <- intersect(names(given), names(places$options))
  options <- lapply(known, function(arg) text_of_value(given[[arg]], record$options[[places$options[[arg]]]]))
  options <- stats::setNames(options, unlist(places$options[known]))
  matched <- any(vapply(given[intersect(names(given), c("crs", ".crs"))], identical, NA, "match"))
  c(options[setdiff(names(options), if (matched) "crs")], if (matched) list("match-crs" = "true"))
}

# Arguments that were written as they are.
literals_of_call <- function(code, verb) {
  args <- as.list(match.call(getExportedValue("civicatlas", verb), code, expand.dots = FALSE))[-1]
  Filter(function(arg) rlang::is_syntactic_literal(arg) && !is.null(arg), args[names(args) != "..."])
}

# Arguments that choose columns, as they were written.
selections_of_call <- function(code, verb, options) {
  args <- as.list(match.call(getExportedValue("civicatlas", verb), code, expand.dots = FALSE))[-1]
  lapply(args[intersect(names(args), names(options))], function(arg) list(code = rlang::as_label(arg)))
}

# Where the arguments of a verb stand in its command: `roles` (layers) and `options` by argument.
places_of_arguments <- function(record, verb) {
  roles <- ascii_lower(setdiff(record$role, c("OUTPUT", "CONDITION")))
  arguments <- arguments_of(record$options, verb)
  arguments <- arguments[!is.na(arguments) & !arguments %in% c("...", "result")]
  list(roles = stats::setNames(as.list(roles), names(formals(function_of(verb)))[seq_along(roles)]),
       options = as.list(stats::setNames(names(arguments), arguments)))
}

# A value as the text of an option; NULL where it is the default.
text_of_value <- function(value, option) {
  if (option$type == "flag") return(if (identical(value, option$sets)) "true")
  if (is.list(value)) value <- value$crs %||% paste(all.names(parse(text = value$code)[[1]], functions = FALSE, unique = TRUE), collapse = ",")
  text <- paste(plain_text(value), collapse = ",")
  if (identical(text, paste(plain_text(option$default %||% ""), collapse = ","))) NULL else text
}

# Summaries and columns that stand among the dots of a call.
options_of_expressions <- function(code, step, record, places, call) {
  verb <- getExportedValue("civicatlas", step$verb)
  if (!"..." %in% names(formals(verb))) return(list())
  dots <- as.list(match.call(verb, code, expand.dots = FALSE)[["..."]])
  named <- nzchar(rlang::names2(dots))
  found <- list()
  if (any(!named)) found$by <- paste(vapply(dots[!named], all.names, "", functions = FALSE), collapse = ",")
  texts <- vapply(dots[named], text_of_code, "", step, call)
  if (any(named) && !is.null(record$options$with)) found$with <- paste(names(dots)[named], "=", texts, collapse = ", ")
  found
}

# R code as an expression of the language; an error for what it has no word for.
text_of_code <- function(code, step, call) {
  if (!is.call(code)) return(text_of_constant(code))
  head <- name_of_call(code)
  args <- as.list(code)[-1]
  args <- args[!rlang::names2(args) %in% "na.rm"]
  form <- forms_in_text[[head]] %||% form_of_function(head, args)
  if (is.null(form)) {
    fail("workflow", c("The language of workflows has no word for {.code {rlang::as_label(code)}}.", x = "{escape(step$call)}"), call = call)
  }
  form(args, function(code) {
    text <- text_of_code(code, step, call)
    if (rlang::is_call(code, names(operators_in_text))) paste0("(", text, ")") else text
  })
}

name_of_call <- function(code) if (rlang::is_call(code[[1]], "::")) as.character(code[[1]][[3]]) else if (is.symbol(code[[1]])) as.character(code[[1]]) else ""

text_of_constant <- function(code) {
  if (is.symbol(code)) return(name_in_text(as.character(code)))
  if (is.character(code)) return(text_in_quotes(code))
  if (is.logical(code)) return(if (is.na(code)) "NULL" else as.character(code))
  plain_text(code)
}

operators_in_text <- c("==" = "=", "!=" = "<>", "<" = "<", ">" = ">", "<=" = "<=", ">=" = ">=", "+" = "+", "-" = "-", "*" = "*", "/" = "/", "^" = "^",
                       "&" = "AND", "&&" = "AND", "|" = "OR", "||" = "OR")

# How calls of R are written, by their names: functions of their arguments and of what writes one of those.
forms_in_text <- c(
  lapply(operators_in_text, function(sign) {
    force(sign)
    function(args, part) if (length(args) == 2) paste(part(args[[1]]), sign, part(args[[2]])) else paste0(sign, part(args[[1]]))  # -x
  }),
  list(
    "(" = function(args, part) part(args[[1]]), "!" = function(args, part) paste0("NOT (", part(args[[1]]), ")"),
    is.na = function(args, part) paste(part(args[[1]]), "IS NULL"),
    "%in%" = function(args, part) {
      values <- if (rlang::is_call(args[[2]], "c")) as.list(args[[2]])[-1] else args[2]
      paste0(part(args[[1]]), " IN (", paste(vapply(values, part, ""), collapse = ", "), ")")
    }
  )
)

# A function that means in R what a word means in the language; NULL for others.
form_of_function <- function(head, args) {
  measures <- c(area_of = "area", length_of = "length", perimeter_of = "perimeter")
  if (head %in% names(measures) && length(args) && identical(args[[1]], quote(geometry))) {
    return(function(args, part) paste0(measures[[head]], "(", paste(vapply(args[-1], part, ""), collapse = ", "), ")"))
  }
  word <- c(n = "count", n_distinct = "count_distinct", toupper = "upper", tolower = "lower", nchar = "characters")[head] %|% head
  if (!word %in% words_of_both || any(nzchar(rlang::names2(args)))) return(NULL)
  function(args, part) paste0(word, "(", paste(vapply(args, part, ""), collapse = ", "), ")")
}

# Words that mean in R what they mean in the language.
words_of_both <- c("count", "count_distinct", "sum", "mean", "median", "min", "max", "abs", "sqrt", "floor", "ceiling", "upper", "lower", "characters",
                   "coalesce")

# --- YAML ----------------------------------------------------------------------------------------------------------------

# A text as a plain one where YAML takes it as such, else in double quotes.
yaml_text <- function(text) {
  plain <- grepl("^[A-Za-z0-9_/.][A-Za-z0-9_ /.:-]*$", text) && !grepl(": | $|^(yes|no|null|on|off|~)$", text, ignore.case = TRUE)
  if (plain) return(text)
  for (pair in list(c("\\", "\\\\"), c("\"", "\\\""), c("\n", "\\n"))) text <- gsub(pair[1], pair[2], text, fixed = TRUE)
  paste0("\"", text, "\"")
}

yaml_lines_of <- function(values, indent) {
  values <- Filter(Negate(is.null), values)
  paste0(strrep(" ", indent), names(values), ": ", vapply(values, function(value) yaml_text(as.character(value)), ""), recycle0 = TRUE)
}

yaml_of_input <- function(name, input) c(paste0("  ", name, ":"), yaml_lines_of(input, 4))
yaml_of_value <- function(name, value) {
  c(paste0("  ", name, ":"), yaml_lines_of(list(type = if (is.numeric(value)) "number" else "text", default = plain_text(value)), 4))
}
yaml_of_step <- function(name, step) c(paste0("  ", name, ":"), yaml_lines_of(c(list(command = step$command), step$takes, step$options), 4))
