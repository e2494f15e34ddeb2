# Many commands in one process, a line each, with layers kept in memory under names that begin with @.

register_operation("batch", function() {
  new_operation("In and out", "run commands from a file, a line each, in one process", "STEPS", list(
    new_option("input", "text", "name=value, separated by commas: put in place of {name}", former = "set"),
    new_option("check", "flag", "tell every mistake, and run nothing")
  ), "civicatlas batch steps.txt --input year=2026", batch_command,
  about = paste("run commands from a file, or from standard input with -, a line each, in one process. # begins a comment. @name in place of a file",
                "keeps a layer in memory between lines. A line that fails ends the run"))
})

batch_command <- function(o) {
  lines <- batch_lines(o$steps, o$input)
  problems <- check_batch(lines)
  if (length(problems)) {
    for (problem in problems) message(problem)
    fail(c("choice", "argument"), "{counted(length(problems), 'mistake')} in {.file {o$steps}}; nothing was run.", call = NULL)
  }
  if (o$check) {
    say("{counted(length(lines), 'command')} in {.file {o$steps}}, without a mistake.")
    return(structure(list(commands = length(lines), mistakes = list()), class = "shown_already"))
  }
  known <- new.env(parent = emptyenv())
  results <- lapply(lines, function(line) run_line(line, known, o))
  structure(unname(results), class = "shown_already")
}

run_line <- function(line, known, o) {
  shown <- without_secrets(line$text)
  say("{line$number}: {shown}")
  tryCatch(run_command(c(line$words, if (o$json && !"--json" %in% line$words) "--json"), known), error = function(e) {
    fail(sub("^civicatlas_error_", "", class(e)[1]), c("Line {line$number} failed, and the run ends there: {shown}", x = "{said_by(e)}"), call = NULL)
  })
}

# The lines that are commands: `number`, `text` and `words`, with values in place of their names.
batch_lines <- function(path, set) {
  lines <- read_steps(path)
  values <- named_values(set, "input")
  found <- lapply(seq_along(lines), function(number) {
    text <- trimws(lines[number])
    words <- tryCatch(words_of_line(text), civicatlas_error_usage = function(e) e)
    if (inherits(words, "error")) return(list(number = number, text = text, problem = conditionMessage(words)))
    if (identical(words[1], "civicatlas")) words <- words[-1]
    if (length(words)) list(number = number, text = text, words = vapply(words, with_values, "", values, USE.NAMES = FALSE))
  })
  Filter(Negate(is.null), found)
}

read_steps <- function(path) {
  if (path != "-" && !file.exists(path)) no_such_file(path, NULL)
  con <- file(if (path == "-") "stdin" else path)
  on.exit(close(con))
  readLines(con, encoding = "UTF-8", warn = FALSE)
}

# What is wrong with lines, as far as that can be known before they run: "3: ...".
check_batch <- function(lines) {
  made <- character()
  problems <- character()
  for (line in lines) {
    found <- line$problem %||% problem_of_line(line, made)
    problems <- c(problems, paste0(line$number, ": ", found, recycle0 = TRUE))
    made <- c(made, outputs_of_line(line))
  }
  problems
}

problem_of_line <- function(line, made) {
  open <- regmatches(line$words, regexpr("[{][A-Za-z_][A-Za-z0-9_]*[}]", line$words))
  if (length(open)) return(paste0("nothing is set for ", open[1], "; give --input ", gsub("[{}]", "", open[1]), "=..."))
  tryCatch({
    command <- find_command(line$words[1])
    parsed <- parse_arguments(command, line$words[-1])
    named <- unlist(parsed$options[options_of_type(command, "layer", parsed$options)])
    for (input in c(inputs_of_line(command, parsed), named)) need_input(input, made)
    check_texts(command, parsed)
    character()
  }, civicatlas_error = said_on_a_line)
}

need_input <- function(input, made) {
  if (input %in% made || input == "-" || grepl("://", input, fixed = TRUE)) return(invisible())
  if (startsWith(input, "@")) wrong_usage("no line before this one makes {input}")
  if (!file.exists(input)) no_such_file(input, NULL)
}

outputs_of_line <- function(line) {
  command <- tryCatch(find_command(line$words[1]), error = function(e) NULL)
  parsed <- if (!is.null(command)) tryCatch(parse_arguments(command, line$words[-1]), error = function(e) NULL)
  if (is.null(parsed$inputs)) return(character())
  if (identical(command$name, "load")) return(parsed$options$to)
  last <- utils::tail(command$role, 1)
  if (identical(last, "OUTPUT")) utils::tail(parsed$inputs, 1)
}
