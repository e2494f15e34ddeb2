# Errors, warnings and one-line accounts. Every condition has a class of the package's own:
# civicatlas_error_<kind>, civicatlas_warning_<kind>, civicatlas_message.

fail <- function(kind, message, call = rlang::caller_env(2), envir = rlang::caller_env(), ...) {
  message[] <- inline(message, envir)
  rlang::abort(message, class = c(paste0("civicatlas_error_", kind), "civicatlas_error"), call = call, use_cli_format = TRUE, .frame = envir, ...)
}

caution <- function(kind, message, envir = rlang::caller_env()) {
  message[] <- inline(message, envir)
  rlang::warn(message, class = c(paste0("civicatlas_warning_", kind), "civicatlas_warning"), call = NULL, use_cli_format = TRUE)
}

say <- function(message, envir = rlang::caller_env()) {
  if (isTRUE(getOption("civicatlas.quiet"))) return(invisible())
  message[] <- inline(message, envir)
  rlang::inform(message, class = "civicatlas_message", use_cli_format = TRUE)
}

# What the lines of a message say, with the values in them. What somebody's data would have a terminal do is shown, not done; the colours
# and links that cli itself adds stay, where the terminal has them.
inline <- function(message, envir) {
  text <- vapply(message, inline_line, "", envir)
  if (cli::num_ansi_colors() == 1) return(printable(gsub("\033[39m", "", text, fixed = TRUE)))  # with which cli closes colours of values
  styles <- gregexpr("\033(\\[[0-9;]*m|\\]8;;[^\001-\037]*(\007|\033\\\\))", text, perl = TRUE)
  values <- regmatches(text, styles, invert = TRUE)
  regmatches(text, styles, invert = TRUE) <- lapply(values, printable)
  text
}

# A line that has bytes in it which are no text, from a damaged file, is told without its values.
inline_line <- function(line, envir) {
  tryCatch(cli::format_inline(line, .envir = envir), error = function(e) {
    if (!grepl("invalid", conditionMessage(e))) rlang::cnd_signal(e)
    gsub("[{](?:[.][a-z]+ )?[^{}]*[}]+", "\u2026", line, perl = TRUE)
  })
}

# What an error of another library says; bytes that are no text as their codes.
said_by <- function(e) {
  text <- conditionMessage(e)
  ifelse(validUTF8(text), text, iconv(text, "UTF-8", "UTF-8", sub = "byte"))
}

# Text whose control characters, but for line ends and tabs, and whose marks of writing direction are written as escapes.
printable <- function(text) {
  mark <- "(*UTF)(?![\n\t])[\\p{Cc}\\x{202A}-\\x{202E}\\x{2066}-\\x{2069}]"
  marked <- grepl(mark, text, perl = TRUE)
  found <- gregexpr(mark, text[marked], perl = TRUE)
  regmatches(text[marked], found) <- lapply(regmatches(text[marked], found), function(marks) sprintf("\\u%04x", vapply(marks, utf8ToInt, 0L)))
  text
}

# Which kind of error of ours each error of the core is.
core_error_kinds <- c(
  "civic::FormatError" = "format",
  "civic::LimitError" = "format",
  "civic::FileError" = "file",
  "civic::CrsError" = "crs",
  "civic::ArgumentError" = "argument"
)

# Runs a call of the core, with a progress bar where it takes long; its errors become ours, with the source they arose in.
core <- function(expr, source = NULL, call = rlang::caller_env(2)) {
  core_set_threads(thread_option())
  core_set_unpack_limit(unpack_option())
  tryCatch(
    with_progress(verb_of(call), expr),
    `civic::Interrupted` = function(e) rlang::interrupt(),
    `C++Error` = function(e) {
      kind <- core_error_kinds[intersect(class(e), names(core_error_kinds))]
      if (!length(kind)) kind <- "core"
      text <- conditionMessage(e)
      message <- if (is.null(source)) c("{text}") else c("Cannot read {.file {source}}.", x = "{text}")
      fail(kind, c(message, if (inherits(e, "civic::LimitError")) unpack_remedy()), call = call)
    }
  )
}

# What a decoder or writer met and went on from: one warning that lists each kind with its count and first place.
report_notices <- function(notices, source) {
  if (is.null(notices) || !nrow(notices)) return(invisible())
  lines <- sprintf("%s: %s (first: %s)", format_count(notices$count), notices$what, notices$first)
  caution("data", c("While handling {.file {basename(source)}}:", stats::setNames(escape(lines), rep("!", length(lines)))))
}

unpack_remedy <- function() {
  typed(c(i = "If you trust the source, allow more bytes: {.code options(civicatlas.unpack_limit = 1e10)}."),
        c(i = "If you trust the source, unpack it first."))
}

# A remedy as whoever reads it types it: R code, or options of the command line.
typed <- function(code, options) if (isTRUE(said$on_command_line)) options else code

# Names short enough to be shown in a line.
cut_name <- function(names) ifelse(nchar(names) > 60, paste0(substr(names, 1, 59), "\u2026"), names)

# Text that cli must take as it is.
escape <- function(text) gsub("}", "}}", gsub("{", "{{", text, fixed = TRUE), fixed = TRUE)

format_count <- function(n) format(n, big.mark = ",", decimal.mark = ".", trim = TRUE, scientific = FALSE)

# "1 row", "24 rows"
counted <- function(n, noun, plural = paste0(noun, "s")) paste(format_count(n), if (n == 1) noun else plural)

# One of `choices`, else an error that lists them and the nearest.
one_of <- function(value, choices, what, call = rlang::caller_env(2)) {
  if (rlang::is_string(value) && value %in% choices) return(value)
  shown <- if (rlang::is_string(value)) value else class(value)[1]
  nearest <- choices[which.min(utils::adist(as.character(shown), choices, ignore.case = TRUE))]
  fail(c("choice", "argument"), c("{.arg {what}} is {.val {shown}}, which is none of {.or {.val {choices}}}.", i = "Nearest: {.val {nearest}}."),
       call = call)
}

# Are the variables of an expression columns, or values where it was written? An error as of need_column() where not: a function or a
# table that happens to have the name of a misspelt column is no value to calculate with.
need_variables <- function(quosure, data, what, call) {
  uses <- uses_in(rlang::quo_get_expr(quosure))
  uses <- uses[!names(uses) %in% c(".data", ".env", names(data))]
  for (k in seq_along(uses)) {
    value <- rlang::env_get(rlang::quo_get_env(quosure), names(uses)[k], default = NULL, inherit = TRUE)
    fits <- switch(uses[k], number = is.atomic(value), argument = !is.function(value), TRUE)
    if (is.null(value) || !fits) need_column(data, names(uses)[k], what, call = call)
  }
}

# How an expression uses its variables, by name: as a "number" (alone, or under an operator or a function of base's groups), as an
# "argument" of another function, or as "anything" (what is taken apart, and functions that are handed on). What
# package::function, formulas and functions written in place name does not count; what stands within such a call may be anything too, unless
# it is calculated with.
uses_in <- function(expression, use = "number") {
  if (rlang::is_symbol(expression)) return(stats::setNames(use, rlang::as_name(expression)))
  if (!is.call(expression) || rlang::is_call(expression, c("::", ":::", "~", "function"))) return(character())
  arguments <- as.list(expression)[-1]
  arguments <- arguments[!vapply(arguments, rlang::is_missing, NA)]
  if (rlang::is_call(expression, c("$", "@"))) arguments <- arguments[1]
  if (rlang::is_call(expression, calculates)) {
    use <- "number"
  } else if (rlang::is_call(expression, c("$", "@", "[[", "[", takes_functions))) {
    use <- "anything"
  } else if (use != "anything") {
    use <- "argument"
  }
  if (is.call(expression[[1]])) arguments <- c(as.list(expression)[1], arguments)
  unlist(lapply(unname(arguments), uses_in, use))
}

calculates <- c("(", "+", "-", "*", "/", "^", "%%", "%/%", "==", "!=", "<", ">", "<=", ">=", "&", "|", "!", "&&", "||", "%in%",
                "is.na", "abs", "sqrt", "exp", "log", "log10", "round", "sum", "mean", "min", "max")
takes_functions <- c("sapply", "lapply", "vapply", "mapply", "Map", "Filter", "Reduce", "Find", "do.call", "tapply", "ave", "outer", "across",
                     "if_any", "if_all", "match.fun")

# What a quosure gives on the columns of a frame: a column, also one named by a string, or an expression on them.
column_values <- function(x, quosure, what, call) {
  if (rlang::quo_is_missing(quosure)) fail("argument", "{.arg {what}} is missing: which column is it?", call = call)
  data <- plain_data_frame(dplyr::ungroup(x))
  if (rlang::quo_is_symbol(quosure)) need_column(data, rlang::as_name(quosure), what, call = call)
  need_variables(quosure, data, what, call)
  values <- rlang::eval_tidy(quosure, data)
  if (rlang::is_string(values) && values %in% names(data)) data[[values]] else values
}

# dplyr::select() whose error for a column that is not there is need_column()'s.
choose_columns <- function(data, columns, what, call) {
  tryCatch(dplyr::select(data, !!columns), vctrs_error_subscript_oob = function(e) {
    need_column(data, as.character(e$i)[1], what, call = call)
    rlang::cnd_signal(e)
  })
}

# Does the column exist? An error with the nearest name where it does not.
need_column <- function(data, column, what, call = rlang::caller_env(2)) {
  if (column %in% names(data)) return(invisible())
  known <- names(data)[!vapply(data, is_shapes, NA)]
  nearest <- if (length(known)) known[which.min(utils::adist(column, known, ignore.case = TRUE))]
  fail("column", c("{.arg {what}} names the column {.val {column}}, which is not there.",
                   i = "Columns: {.val {known}}.", if (length(nearest)) c(i = "Nearest: {.val {nearest}}.")), call = call)
}
