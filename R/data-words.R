# The functions that conditions and expressions may call: a closed list, and nothing that is not on it can be reached from a text. Files
# that know how to work one out register it.

words <- new.env(parent = emptyenv())

# * `use`: "row" (a value for each), "shape" (of each row's shape) or "group" (one for many rows)
# * `takes`: kinds of its arguments ("number", "text", "truth", "time", "any"), the last one for all that follow; `least` and `most` of them
# * `gives`: the kind of its value, or "as given"
# * `units()`: what a text that it takes first is one of
# * `code(...)`: an R call, from the code of the arguments; of words on shapes the first is the shapes
register_word <- function(name, use, takes, gives, code, help, least = length(takes), most = length(takes), units = NULL) {
  words[[name]] <- list(name = name, use = use, takes = takes, gives = gives, code = code, help = help, least = least, most = most, units = units)
}

word_of <- function(name) words[[ascii_lower(name)]]

# The word that a call names, given as many arguments as it takes.
need_word <- function(tree, node, call) {
  word <- word_of(node$value)
  told <- function(problem, remedy) fail_at(attr(tree, "text"), node$at, attr(tree, "what"), problem, remedy, call)
  if (is.null(word)) {
    near <- by_nearness(node$value, sort(names(words)))[1:3]
    instead <- foreign_words[ascii_lower(node$value)]
    if (is.na(instead)) instead <- paste0("Nearest: ", paste0(near, "()", collapse = ", "))
    told(paste0("there is no function \"", node$value, "\""), paste0(instead, "."))
  }
  given <- length(node$args)
  if (given < word$least || given > word$most) told(paste0(word$name, "() is given ", given, " values"), word$help)
  word
}

# All words of a tree, or of several by name: are they on the list, and are units of measures ones that there are?
need_words <- function(tree, call) {
  trees <- if (is.character(tree$kind)) list(tree) else tree
  for (one in trees) {
    whole <- with_root_of(one, tree)
    for (node in nodes_where(whole, function(node) node$kind == "call")) need_unit(need_word(whole, node, call), node, call)
  }
  invisible(tree)
}

need_unit <- function(word, node, call) {
  if (is.null(word$units) || !length(node$args) || node$args[[1]]$kind != "text") return(invisible())
  one_of(node$args[[1]]$value, word$units(), "unit", call = call)
}

# Functions of other languages that people write, and what says the same here.
foreign_words <- c(
  is.na = "Write: column IS NULL", is.null = "Write: column IS NULL", isnull = "Write: column IS NULL", c = "Write: column IN ('one', 'two')",
  grepl = "Write: column LIKE '%part%'", startswith = "Write: column LIKE 'start%'", endswith = "Write: column LIKE '%end'",
  tolower = "Write: lower(column)", toupper = "Write: upper(column)", nrow = "Write: count()", avg = "Write: mean(column)",
  "if" = "Write: CASE WHEN condition THEN value ELSE value END", ifelse = "Write: CASE WHEN condition THEN value ELSE value END",
  n_distinct = "Write: count_distinct(column)", substr = "Write: substring(text, from, length)", paste = "Write: concat(one, two)",
  "as.numeric" = "Write: number(text)", nchar = "Write: characters(text)", between = "Write: column BETWEEN 1 AND 5"
)

# The list as lines of help, by what a word is of.
words_in_lines <- function() {
  about <- c(row = "Of a row:", shape = "Of a row's shape:", group = "Of many rows (summaries):")
  lines <- unlist(lapply(names(about), function(use) {
    own <- Filter(function(word) word$use == use, as.list(words)[sort(names(words))])
    said <- strsplit(vapply(own, `[[`, "", "help"), "(?<=[)]): ", perl = TRUE)
    in_line <- function(parts) if (length(parts) == 2) paste0("\t", parts[1], "\t", parts[2]) else paste0("  ", sub("[.]$", "", parts))
    c(about[[use]], vapply(said, in_line, ""), "")
  }))
  c("Conditions and expressions are CQL2 (OGC 21-065r2), with these functions.", "",
    "Conditions:", "  = <> < <= > >=   AND OR NOT   IN ('a', 'b')   BETWEEN 1 AND 5   LIKE 'Ha%'   IS NULL",
    "  S_INTERSECTS(geometry, POLYGON(...))   S_WITHIN   T_AFTER(date, DATE('2026-01-01'))", "",
    "Expressions:", "  + - * / ^ and brackets   CASE WHEN condition THEN value ELSE value END   \"a column\"   'a text'   DATE('2026-11-29')", "", lines)
}

# --- of rows -------------------------------------------------------------------------------------------------------------

register_word("upper", "row", "text", "text", function(x) rlang::expr(toupper(!!x)), "upper(text): in capitals.")
register_word("lower", "row", "text", "text", function(x) rlang::expr(tolower(!!x)), "lower(text): in small letters.")
register_word("trim", "row", "text", "text", function(x) rlang::expr(trimmed(!!x)), "trim(text): without blanks around it.")
register_word("substring", "row", c("text", "number", "number"), "text", function(x, from, length = NULL) rlang::expr(part_of_text(!!x, !!from, !!length)),
              "substring(text, from, length): characters, from the first, which is 1.", least = 2)
register_word("replace", "row", c("text", "text", "text"), "text", function(x, what, by) rlang::expr(replaced(!!x, !!what, !!by)),
              "replace(text, what, by).")
register_word("concat", "row", "any", "text", function(...) rlang::call2("joined_texts", ...), "concat(one, two, ...): texts one after the other.", most = Inf)
register_word("characters", "row", "text", "number", function(x) rlang::expr(nchar(as.character(!!x))), "characters(text): how many there are.")
register_word("number", "row", "any", "number", function(x) rlang::expr(number_in(!!x)), "number(text): missing where it is none.")
register_word("text", "row", "any", "text", function(x) rlang::expr(values_as_text(!!x)), "text(value).")
register_word("round", "row", c("number", "number"), "number", function(x, digits = 0) rlang::expr(rounded_half_up(!!x, !!digits)),
              "round(number, digits): halves away from 0.", least = 1)
register_word("abs", "row", "number", "number", function(x) rlang::expr(abs(!!x)), "abs(number).")
register_word("sqrt", "row", "number", "number", function(x) rlang::expr(root_of(!!x)), "sqrt(number): missing below 0.")
register_word("floor", "row", "number", "number", function(x) rlang::expr(floor(!!x)), "floor(number).")
register_word("ceiling", "row", "number", "number", function(x) rlang::expr(ceiling(!!x)), "ceiling(number).")
register_word("coalesce", "row", "any", "as given", function(...) rlang::call2("first_present", ...), "coalesce(one, two, ...): the first that is not missing.",
              least = 2, most = Inf)
for (part in c("year", "month", "day")) local({
  part <- part
  register_word(part, "row", "time", "number", function(x) rlang::expr(part_of_date(!!x, !!part)), paste0(part, "(date)."))
})
rm(part)

trimmed <- function(x) gsub("^[\\s\u00a0\u2000-\u200a\u202f\u205f\u3000]+|[\\s\u00a0\u2000-\u200a\u202f\u205f\u3000]+$", "", as.character(x), perl = TRUE)
part_of_text <- function(x, from, length = NULL) {
  if (is.null(length)) from_character(as.character(x), from) else substr(as.character(x), from, from + length - 1)
}
replaced <- function(x, what, by) {
  one <- function(x, what, by) if (is.na(what) || nzchar(what)) gsub(what, by, x, fixed = TRUE) else x
  as.character(unlist(Map(one, as.character(x), what, by), use.names = FALSE))
}
joined_texts <- function(...) {
  texts <- lapply(list(...), values_as_text)
  out <- do.call(paste0, texts)
  out[Reduce(`|`, lapply(texts, is.na))] <- NA
  out
}
number_in <- function(x) {
  if (is.numeric(x)) return(as.double(x))
  text <- trimmed(as.character(x))
  text[!grepl("^[-+]?([0-9]+[.]?[0-9]*|[.][0-9]+)([eE][-+]?[0-9]+)?$", text)] <- NA
  as.double(text)
}
# 2.675 is a little less in binary, and yet becomes 2.68: some last bits are forgiven, as long as they are far less than a half.
rounded_half_up <- function(x, digits = 0) {
  scaled <- abs(x) * 10^digits
  ifelse(scaled < 1e13, sign(x) * floor(scaled * (1 + 4 * .Machine$double.eps) + 0.5) / 10^digits, round(x, digits))
}
root_of <- function(x) {
  x[x < 0] <- NA
  sqrt(x)
}
first_present <- function(...) dplyr::coalesce(...)
part_of_date <- function(x, part) {
  fields <- as.POSIXlt(x, tz = "UTC")
  switch(part, year = fields$year + 1900L, month = fields$mon + 1L, day = fields$mday)
}

# --- of many rows --------------------------------------------------------------------------------------------------------

# Missing values are left out, as SQL has it; who asks is told how many (see tell_left_out()).
register_word("count", "group", "any", "number", function(x = NULL) if (is.null(x) || identical(x, "*")) quote(dplyr::n()) else rlang::expr(sum(!is.na(!!x))),
              "count(), or count(column): rows, or those that have a value.", least = 0)
register_word("n", "group", character(), "number", function() quote(dplyr::n()), "n(): the same as count().")
register_word("sum", "group", "number", "number", function(x) rlang::expr(sum(as.double(!!x), na.rm = TRUE)), "sum(column).")
register_word("mean", "group", "number", "number", function(x) rlang::expr(mean(!!x, na.rm = TRUE)), "mean(column).")
register_word("median", "group", "number", "number", function(x) rlang::expr(stats::median(!!x, na.rm = TRUE)), "median(column).")
register_word("quantile", "group", c("number", "number"), "number", function(x, at) rlang::expr(unname(stats::quantile(!!x, !!at, na.rm = TRUE))),
              "quantile(column, 0.9).")
register_word("min", "group", "any", "as given", function(x) rlang::expr(least_value(!!x)), "min(column).")
register_word("max", "group", "any", "as given", function(x) rlang::expr(greatest_value(!!x)), "max(column).")
register_word("first", "group", "any", "as given", function(x) rlang::expr(first_value(!!x)), "first(column): of the first row that has a value.")
register_word("count_distinct", "group", "any", "number", function(x) rlang::expr(distinct_values(!!x)), "count_distinct(column): different values.")
register_word("weighted_mean", "group", c("number", "number"), "number", function(x, by) rlang::expr(mean_weighted(!!x, !!by)),
              "weighted_mean(column, weight).")
register_word("share", "group", "truth", "number", function(x) rlang::expr(mean(!!x, na.rm = TRUE)),
              "share(condition): the part of the rows for which it holds, from 0 to 1.")

least_value <- function(x) if (all(is.na(x))) x[NA_integer_] else min(x, na.rm = TRUE)
greatest_value <- function(x) if (all(is.na(x))) x[NA_integer_] else max(x, na.rm = TRUE)
first_value <- function(x) x[which(!is.na(x))[1]]
distinct_values <- function(x) vctrs::vec_unique_count(x[!is.na(x)])
mean_weighted <- function(x, weight) {
  there <- !is.na(x) & !is.na(weight)
  sum(x[there] * weight[there]) / sum(weight[there])
}
