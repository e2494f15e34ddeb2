# Errors, warnings and one-line accounts. Every condition has a class of the package's own:
# civicatlas_error_<kind>, civicatlas_warning_<kind>, civicatlas_message.

# `as_is`: lines are neither wrapped nor are blanks taken out of them.
fail <- function(kind, message, call = rlang::caller_env(2), envir = rlang::caller_env(), ..., as_is = FALSE) {
  message[] <- inline(message, envir)
  rlang::abort(message, class = c(paste0("civicatlas_error_", kind), "civicatlas_error"), call = call, use_cli_format = !as_is, .frame = envir, ...)
}

caution <- function(kind, message, envir = rlang::caller_env()) {
  if (isTRUE(said$nothing)) return(invisible())
  message[] <- inline(message, envir)
  rlang::warn(message, class = c(paste0("civicatlas_warning_", kind), "civicatlas_warning"), call = NULL, use_cli_format = TRUE)
}

say <- function(message, envir = rlang::caller_env()) {
  if (isTRUE(getOption("civicatlas.quiet"))) return(invisible())
  if (startsWith(message[[1]], "{.fn ")) said$accounts <- (said$accounts %||% 0) + 1  # a verb's own line
  message[] <- inline(message, envir)
  rlang::inform(message, class = "civicatlas_message", use_cli_format = TRUE)
}

# What the lines of a message say, with the values in them. What somebody's data would have a terminal do is shown, not done; the colours
# and links that cli itself adds stay, where the terminal has them.
inline <- function(message, envir) {
  message <- with_users_names(message)
  text <- vapply(message, inline_line, "", envir)
  if (cli::num_ansi_colors() == 1) return(printable(gsub("\033[39m", "", text, fixed = TRUE)))  # with which cli closes colours of values
  styles <- gregexpr("\033(\\[[0-9;]*m|\\]8;;[^\001-\037]*(\007|\033\\\\))", text, perl = TRUE)
  values <- regmatches(text, styles, invert = TRUE)
  regmatches(text, styles, invert = TRUE) <- lapply(values, printable)
  text
}

# Remedies name `x` and `y` as the verbs' arguments; whoever reads them is given the names of their own objects, where these are names.
with_users_names <- function(message) {
  if (!any(grepl("[{][.]code [a-z_.:]+\\([xy][,)]", message))) return(message)
  names <- users_names()
  for (argument in names(names)) {
    message[] <- gsub(paste0("([{][.]code [a-z_.:]+\\()", argument, "([,)])"), paste0("\\1", names[[argument]], "\\2"), message)
  }
  message
}

# The call of a verb as it was written: where a method of it is at work, that of the generic.
call_of_verb <- function(frame = rlang::caller_env()) rlang::error_call(frame)

# What the first verb of ours that was called got as x and y, as far as it was given names.
users_names <- function() {
  for (k in seq_len(sys.nframe())) {
    verb <- sys.function(k)
    if (is.primitive(verb) || !identical(environment(verb), topenv()) || !any(c("x", "y") %in% names(formals(verb)))) next
    given <- tryCatch(as.list(match.call(verb, sys.call(k), envir = sys.frame(sys.parents()[k])))[c("x", "y")], error = function(e) NULL)
    given <- Filter(function(value) is.symbol(value) && !as.character(value) %in% c(".", "..1", ""), given)
    return(vapply(given, as.character, ""))
  }
}

# A line that has bytes in it which are no text, from a damaged file, is told without its values. An interrupt waits, as it would leave cli's styles
# open, and no message could be made after it.
inline_line <- function(line, envir) {
  tryCatch(suspendInterrupts(cli::format_inline(line, .envir = envir)), error = function(e) {
    if (!grepl("invalid (UTF-8|multibyte)|invalid in this locale", conditionMessage(e))) rlang::cnd_signal(e)
    gsub("[{](?:[.][a-z]+ )?[^{}]*[}]+", "\u2026", line, perl = TRUE)
  })
}

# A remedy as whoever reads it types it: R code, or options of the command line.
typed <- function(code, options) if (isTRUE(said$on_command_line)) options else code

# One of `choices`, else an error that lists them and the nearest.
one_of <- function(value, choices, what, call = rlang::caller_env(2)) {
  if (rlang::is_string(value) && value %in% choices) return(value)
  shown <- if (rlang::is_string(value)) value else class(value)[1]
  nearest <- nearest_word(as.character(shown), choices, most = 1)
  fail(c("choice", "argument"), c("{.arg {what}} is {.val {shown}}, which is none of {.or {.val {choices}}}.", i = "Nearest: {.val {nearest}}."),
       call = call)
}

# The choice that a word most likely stands for: the one that practitioners call so, or one of which at most a share of the
# letters differs.
nearest_word <- function(word, choices, most = 0.5) {
  meant <- intersect(unlist(strsplit(stats::na.omit(synonyms[tolower(trimws(word))]), "|", fixed = TRUE)), choices)
  if (length(meant)) return(meant[1])
  off <- drop(utils::adist(word, choices, ignore.case = TRUE))
  least <- which.min(off)
  if (length(least) && off[least] <= max(2, ceiling(most * max(nchar(word), nchar(choices[least]))))) choices[least]
}

# Choices by how many letters they differ in, the nearest first.
by_nearness <- function(word, choices) choices[order(utils::adist(word, choices, ignore.case = TRUE))]

# What practitioners call our words; of several, by the argument.
synonyms <- c(
  queen = "point", rook = "edge", contiguity = "edge", knn = "nearest", "k nearest" = "nearest", "distance band" = "distance",
  jenks = "natural", fisher = "natural", "natural breaks" = "natural", quantiles = "quantile", quartiles = "quantile", "equal interval" = "equal",
  "equal intervals" = "equal", sd = "standard deviation", stddev = "standard deviation", headtails = "head-tail", log = "geometric",
  "moran's i" = "moran", "geary's c" = "geary", "getis-ord" = "hot spots|local g", permutations = "permutation", random = "randomisation", normal = "normality",
  metres = "m", meters = "m", metre = "m", meter = "m", kilometres = "km", kilometers = "km", kilometre = "km", kilometer = "km", feet = "ft", foot = "ft",
  miles = "mi|mi2", mile = "mi|mi2", "nautical miles" = "nmi", acres = "ac", acre = "ac", hectares = "ha", hectare = "ha",
  "square metres" = "m2", "square meters" = "m2",
  sqm = "m2", sqkm = "km2", "sq km" = "km2", "square kilometres" = "km2", "square kilometers" = "km2", "square miles" = "mi2", "square feet" = "ft2",
  inside = "within", overlap = "overlaps", touch = "touches", cross = "crosses", "covered_by" = "covered by", dwithin = "within distance",
  intersect = "intersects|intersection", intersection = "intersects", identity = "identity",
  xor = "symmetric difference", symdifference = "symmetric difference",
  left = "keep", inner = "drop", butt = "flat", mitre = "mitred", miter = "mitred", bevel = "bevelled",
  breaks = "at|classes", bins = "classes", n = "classes", k = "classes", style = "method", colors = "palette", colours = "palette|colours", color = "palette",
  colour = "palette", column = "fill", variable = "fill", legend = "key_title", legend_title = "key_title", facets = "panels", facet = "panels", main = "title",
  na = "missing"
)

# Of a function whose arguments after the first few are named in full: one that it does not have, or that has no name, is told.
need_no_more <- function(dots, call = rlang::caller_env()) {
  if (!length(dots)) return(invisible())
  known <- names(formals(rlang::frame_fn(call)))
  if (nzchar(names(dots)[1])) one_of(names(dots)[1], setdiff(known, "..."), "...", call = call)
  at <- match("...", known)
  remedy <- "What follows {.arg {known[at - 1]}} is named in full: {.arg {known[-seq_len(at)]}}."
  fail("argument", c("{.code {rlang::as_label(dots[[1]])}} has no name.", i = remedy), call = call)
}

# A whole number between two others?
is_count <- function(x, least, most = Inf) rlang::is_integerish(x, 1, finite = TRUE) && x >= least && x <= most

said <- new.env(parent = emptyenv())

# A message that is worth saying once a session.
say_once <- function(id, message, envir = rlang::caller_env()) {
  if (isTRUE(said[[id]])) return(invisible())
  said[[id]] <- TRUE
  say(message, envir = envir)
}

quietly <- function(expr) {
  old <- options(civicatlas.quiet = TRUE)
  on.exit(options(old))
  expr
}

# Without warnings too, which are not even put into words.
silently <- function(expr) {
  before <- said$nothing
  said$nothing <- TRUE
  on.exit(said$nothing <- before)
  suppressWarnings(quietly(expr))
}
