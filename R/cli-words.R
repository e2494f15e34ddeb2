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

option_in_words <- function(argument) {
  names <- c(x = "LAYER", y = "OTHER", source = "LAYER", target = "OUTPUT", regions = "LAYER", features = "OTHER", "..." = "--with")
  argument <- sub("^[.](?=[a-z])", "", argument, perl = TRUE)
  words <- ifelse(argument %in% names(names), names[argument], paste0("--", gsub("_", "-", argument, fixed = TRUE)))
  unname(ifelse(grepl(" ", argument, fixed = TRUE), argument, words))
}

# A call of a verb as a command, `name = value` as an option; anything else as it is.
code_in_words <- function(code) vapply(code, code_in_words_each, "", USE.NAMES = FALSE)

code_in_words_each <- function(code) {
  expression <- tryCatch(parse(text = code, keep.source = FALSE)[[1]], error = function(e) NULL)
  if (rlang::is_call(expression, "=", n = 2)) return(option_with_value(option_in_words(as.character(expression[[2]])), expression[[3]]))
  verb <- if (is.call(expression) && is.symbol(expression[[1]])) as.character(expression[[1]]) else ""
  words <- strsplit(words_of_verb(verb) %|% "", " ")[[1]]
  if (!length(words)) return(code)
  record <- operation_record(words[1])
  args <- as.list(match.call(function_of(verb), expression, expand.dots = TRUE))[-1]
  args <- args[!(vapply(args, is.symbol, NA) & rlang::names2(args) %in% names(formals(function_of(verb)))[1:2])]  # layers
  names <- vapply(rlang::names2(args), option_of_argument, "", record, verb)
  if (length(args) && grepl("^--[a-z-]+$", record$says[verb] %|% "")) names[1] <- ""  # whose value the words end with
  options <- unlist(Map(option_with_value, names, args))
  takes <- intersect(sub("INPUT", "LAYER", record$role), c("LAYER", "OTHER", "OUTPUT"))
  paste(c("civicatlas", words[1], takes, words[-1], options), collapse = " ")
}

# The option that an argument of a verb is; one without a name is among the dots.
option_of_argument <- function(argument, record, verb) {
  arguments <- arguments_of(record$options, verb)
  known <- names(record$options)[arguments %in% if (nzchar(argument)) argument else "..."]
  if (length(known)) paste0("--", known[1]) else option_in_words(if (nzchar(argument)) argument else "...")
}

option_with_value <- function(option, value) {
  if (isTRUE(value)) return(option)
  text <- if (is.character(value)) shell_word(value) else paste(deparse(value), collapse = " ")
  paste(c(if (nzchar(option)) option, text), collapse = " ")
}
