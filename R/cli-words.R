# Messages name functions and arguments of R; on the command line they name commands and options instead, so that what they advise can be typed.

# The theme of cli by which that happens.
terminal_words <- function() {
  in_quotes <- function(change) list(transform = function(x) paste0("`", change(as.character(x)), "`"))
  list(span.fn = in_quotes(command_in_words), span.arg = in_quotes(option_in_words), span.code = in_quotes(code_in_words))
}

# The command that does what a verb of R does; other functions as they are.
command_in_words <- function(verb) {
  words <- vapply(verb, words_of_verb, "")
  unname(ifelse(is.na(words), paste0(verb, "()"), words))
}

# An argument as it is typed: an option of the command that runs, or what stands behind it.
option_in_words <- function(argument) vapply(argument, option_in_words_each, "", USE.NAMES = FALSE)

option_in_words_each <- function(argument) {
  if (grepl(" ", argument, fixed = TRUE)) return(argument)  # words already
  of_verbs <- vapply(as.character(said$record$verb), word_of_argument, "", argument, said$record)
  c(of_verbs[!is.na(of_verbs)], word_without_verb(argument, said$record))[[1]]
}

# Of the command that runs what an argument of its verb is; NA for none.
word_of_argument <- function(verb, argument, record) {
  options <- names(record$options)[arguments_of(record$options, verb) %in% argument]
  if (length(options)) return(paste0("--", options[1]))
  behind <- which(utils::head(names(formals(function_of(verb))), length(record$role)) == argument)
  if (length(behind) && record$role[behind] != "OUTPUT") gsub("\\[|\\]|[.]", "", record$takes[behind]) else NA_character_
}

word_without_verb <- function(argument, record) {
  layer <- c(intersect(c("LAYER", "INPUT", "SOURCE", "LAYERS"), record$role), "LAYER")[1]
  names <- c(x = layer, y = "OTHER", source = "LAYER", target = "OUTPUT", regions = "LAYER", features = "OTHER", "..." = "--with")
  option <- gsub("_", "-", sub("^[.](?=[a-z])", "", argument, perl = TRUE), fixed = TRUE)
  if (argument %in% names(names)) return(names[[argument]])
  if (!option %in% names(record$options) && ascii_upper(argument) %in% record$role) ascii_upper(argument) else paste0("--", option)
}

# A call of a verb as a command, `name = value` as an option; anything else as it is.
code_in_words <- function(code) vapply(code, code_in_words_each, "", USE.NAMES = FALSE)

code_in_words_each <- function(code) {
  expression <- tryCatch(parse(text = code, keep.source = FALSE)[[1]], error = function(e) NULL)
  if (rlang::is_call(expression, c("=", "<-"), n = 2)) return(option_with_value(option_in_words(as.character(expression[[2]])), expression[[3]]))
  if (rlang::is_call(expression, "options")) {
    options <- as.list(expression)[-1]
    return(if (all(startsWith(rlang::names2(options), "civicatlas."))) variable_in_words(options) else code)
  }
  verb <- if (is.call(expression) && is.symbol(expression[[1]])) as.character(expression[[1]]) else ""
  words <- strsplit(words_of_verb(verb) %|% "", " ")[[1]]
  if (length(words)) command_of_call(verb, words, expression) else code
}

# The call of a verb as the words of a command.
command_of_call <- function(verb, words, expression) {
  record <- operation_record(words[1])
  args <- as.list(match.call(function_of(verb), expression, expand.dots = TRUE))[-1]
  args <- args[!(vapply(args, is.symbol, NA) & rlang::names2(args) %in% names(formals(function_of(verb)))[1:2])]  # layers
  names <- vapply(rlang::names2(args), option_of_argument, "", record, verb)
  if (length(args) && grepl("^--[a-z-]+$", record$says[verb] %|% "")) names[1] <- ""  # whose value the words end with
  among_dots <- names == "--with" & nzchar(rlang::names2(args))
  with <- if (any(among_dots)) paste("--with", shQuote(paste(names(args)[among_dots], "=", vapply(args[among_dots], rlang::as_label, ""), collapse = ", ")))
  options <- c(unlist(Map(option_with_value, names[!among_dots], args[!among_dots])), with)
  takes <- intersect(sub("INPUT", "LAYER", record$role), c("LAYER", "OTHER", "OUTPUT"))
  paste(c("civicatlas", words[1], takes, words[-1], options), collapse = " ")
}

# The option that an argument of a verb is; one without a name is among the dots.
option_of_argument <- function(argument, record, verb) {
  arguments <- arguments_of(record$options, verb)
  known <- names(record$options)[arguments %in% if (nzchar(argument)) argument else "..."]
  if (length(known)) return(paste0("--", known[1]))
  is_named <- nzchar(argument) && !argument %in% names(formals(function_of(verb)))
  option_in_words(if (is_named || !nzchar(argument)) "..." else argument)
}

option_with_value <- function(option, value) {
  if (isTRUE(value)) return(option)
  text <- shell_word(text_of_literal(value))
  paste(c(if (nzchar(option)) option, text), collapse = " ")
}

# Texts as they are, keys as left=right, several with commas.
text_of_literal <- function(value) {
  if (!rlang::is_call(value, "c")) return(if (is.character(value)) value else paste(deparse(value), collapse = " "))
  values <- vapply(as.list(value)[-1], text_of_literal, "")
  paste(paste0(rlang::names2(values), ifelse(nzchar(rlang::names2(values)), "=", ""), values), collapse = ",")
}

# What R sets as an option is a variable of the environment in a shell (see options_of_environment()).
variable_in_words <- function(options) {
  paste0(ascii_upper(gsub(".", "_", names(options)[1], fixed = TRUE)), "=", shell_word(format(options[[1]], scientific = FALSE)))
}

# Variables as CIVICATLAS_BUSY_WAIT=60000 set options of the package.
options_of_environment <- function(variables = Sys.getenv()) {
  ours <- variables[startsWith(names(variables), "CIVICATLAS_")]
  values <- lapply(as.list(ours), utils::type.convert, as.is = TRUE)
  stats::setNames(values, sub("^civicatlas_", "civicatlas.", ascii_lower(names(ours))))
}
