# What was typed: `--name value`, `--name=value`, flags, and what stands behind the command. A negative number is a value, names are never
# guessed, and nothing is taken twice.

# A list of `options` by name (as variables) and `inputs`; an error of the class civicatlas_error_usage for wrong usage.
parse_arguments <- function(command, args) {
  known <- command$options
  found <- split_arguments(args, known)
  if ("help" %in% names(found$given)) return(list(options = list(help = TRUE)))
  check_inputs(command, found$inputs, names(found$given))
  for (option in command$options) if (option$required && !option$name %in% names(found$given)) wrong_usage("--{option$name} is missing: {option$help}")
  values <- lapply(known, `[[`, "default")
  for (name in names(found$given)) values[[name]] <- option_value(known[[name]], found$given[[name]])
  names(values) <- in_r(names(values))
  list(options = values, inputs = found$inputs)
}

# The texts that are `given` to options by name, and the `inputs`; behind "--" all are inputs.
split_arguments <- function(args, known) {
  last <- c(which(args == "--"), length(args) + 1)[1]
  rest <- args[seq_along(args) > last]
  args <- args[seq_len(last - 1)]
  given <- list()
  inputs <- character()
  at <- 1
  while (at <= length(args)) {
    if (is_option(args[at])) {
      name <- option_name(args[at], known)
      if (name %in% names(given)) wrong_usage("--{name} is given twice")
      own <- own_value(args, at, known[[name]])
      given[[name]] <- own$value
      at <- at + own$words
    } else {
      inputs <- c(inputs, args[at])
      at <- at + 1
    }
  }
  list(given = given, inputs = c(inputs, rest))
}

# The value of the option at a place, and how many words both take.
own_value <- function(args, at, option) {
  has_value <- grepl("=", args[at], fixed = TRUE)
  if (option$type == "flag") {
    if (has_value) wrong_usage("--{option$name} takes no value")
    return(list(value = "", words = 1))
  }
  if (has_value) return(list(value = sub("^[^=]*=", "", args[at]), words = 1))
  if (at == length(args) || is_option(args[at + 1])) wrong_usage("--{option$name} needs a value")
  list(value = args[at + 1], words = 2)
}

# "-h" and "--anything", but not "-", "-5" or "-.5,1".
is_option <- function(arg) grepl("^(-[A-Za-z]|--[A-Za-z])", arg)

option_name <- function(arg, known) {
  name <- sub("=.*", "", sub("^--?", "", arg))
  if (arg == "-h") return("help")
  if (name %in% names(known) && startsWith(arg, "--")) return(name)
  former <- now_named(name, known)
  if (!is.null(former)) wrong_usage("{sub('=.*', '', arg)} is --{former} now")
  begins <- names(known)[startsWith(names(known), name)]
  near <- if (length(begins)) begins else nearest_word(name, names(known), most = 1)
  shown <- paste0("--", near, collapse = " or ")
  wrong_usage("there is no option {sub('=.*', '', arg)}; did you mean {shown}?")
}

check_inputs <- function(command, inputs, given) {
  least <- sum(!grepl("[", command$takes, fixed = TRUE))
  most <- if (any(grepl("...", command$takes, fixed = TRUE))) Inf else length(command$takes)
  if (length(inputs) >= least && length(inputs) <= most) return(invisible())
  signs <- inputs %in% c("=", "<", ">", "<=", ">=", "<>", "==", "!=", "AND", "OR", "and", "or", "IN", "LIKE", "is", "IS", "*", "/", "+")
  text <- intersect(c("where", "set", "with", "fill"), given)
  quotes <- if (any(signs) && length(text)) paste0(". A text with blanks in it stands in double quotes: --", text[1], " \"...\"")
  wrong_usage("it takes {paste(command$takes, collapse = ' ')}; given: {if (length(inputs)) paste(inputs, collapse = ' ') else 'nothing'}{quotes}")
}

# A line of a batch as a shell would take it apart: blanks divide, quotes hold together, a backslash takes the next character as it is, and #
# begins a comment.
words_of_line <- function(line) {
  if (!grepl("['\"\\\\#]", line)) return(strsplit(trimws(line), "\\s+")[[1]])
  piece <- "'[^']*'|\"(?:[^\"\\\\]|\\\\.)*\"|\\\\.|[^\\s'\"\\\\]"
  word <- paste0("^\\s*((?:", piece, ")+)")
  words <- character()
  repeat {
    line <- sub("^\\s+", "", line, perl = TRUE)
    if (!nzchar(line) || startsWith(line, "#")) return(words)
    found <- regmatches(line, regexpr(word, line, perl = TRUE))
    if (!length(found)) wrong_usage("a quote is not closed")
    line <- from_character(line, nchar(found) + 1)
    if (grepl("^['\"]", line)) wrong_usage("a quote is not closed")
    pieces <- regmatches(found, gregexpr(piece, found, perl = TRUE))[[1]]
    words <- c(words, paste(vapply(pieces, without_quotes, ""), collapse = ""))
  }
}

without_quotes <- function(piece) {
  if (startsWith(piece, "'")) return(substr(piece, 2, nchar(piece) - 1))
  if (startsWith(piece, "\"")) return(gsub("\\\\([\"\\\\])", "\\1", substr(piece, 2, nchar(piece) - 1)))
  sub("^\\\\", "", piece)
}
