# What options hold: texts, as the shell, batches and workflows have them, and the values that they stand for.

wrong_usage <- function(text, envir = rlang::caller_env()) {
  rlang::abort(as.character(cli::pluralize(text, .envir = envir)), class = c("civicatlas_error_usage", "civicatlas_error"), call = NULL)
}

option_value <- function(option, text) {
  switch(option$type,
    flag = TRUE, number = number_of_text(option, text), whole = whole_of_text(option, text), numbers = number_of_text(option, column_list(text)),
    choice = choice_of_text(option, text), text
  )
}

number_of_text <- function(option, text) {
  value <- suppressWarnings(as.double(text))
  if (!anyNA(value)) return(value)
  wrong_usage("--{option$name} takes {if (length(text) > 1) 'numbers separated by commas' else 'a number'}, not \"{paste(text, collapse = ',')}\"")
}

whole_of_text <- function(option, text) {
  value <- number_of_text(option, text)
  if (value != round(value) || abs(value) > .Machine$integer.max) wrong_usage("--{option$name} takes a whole number, not {text}")
  if (value < option$least) wrong_usage("--{option$name} is below {option$least}")
  as.integer(value)
}

choice_of_text <- function(option, text) {
  if (text %in% option$values) return(text)
  near <- nearest_word(text, option$values, most = 1)
  wrong_usage("--{option$name} is none of {paste(option$values, collapse = ', ')}: \"{text}\". Nearest: {near}")
}

column_list <- function(text) trimws(strsplit(text, ",")[[1]])

# "name=value", separated by commas, as values by name; a comma in a value stays where no "name=" follows it.
named_values <- function(text, option) {
  if (is.null(text)) return(character())
  pieces <- strsplit(text, ",\\s*(?=[A-Za-z_][^\\s=,<>!]*\\s*=(?!=))", perl = TRUE)[[1]]
  pairs <- regmatches(pieces, regexpr("=", pieces, fixed = TRUE), invert = TRUE)
  if (any(lengths(pairs) != 2)) wrong_usage("--{option} takes name=value, separated by commas, not \"{text}\"")
  stats::setNames(trimws(vapply(pairs, `[`, "", 2)), trimws(vapply(pairs, `[`, "", 1)))
}

# Values in place of the names in braces, once each: what a value holds is not looked at again. Within an `expression` a value is a part of it whatever it
# holds: `types` of inputs, as an attribute of the values, tell which (see literal_of_value()).
with_values <- function(word, values, expression = FALSE) {
  places <- gregexpr(braces_pattern, word)
  holes <- regmatches(word, places)[[1]]
  if (!length(holes)) return(word)
  rest <- regmatches(word, places, invert = TRUE)[[1]]
  alone <- length(holes) == 1 && !any(nzchar(trimws(rest)))
  filled <- vapply(seq_along(holes), function(k) {
    name <- substr(holes[k], 2, nchar(holes[k]) - 1)
    if (!name %in% names(values)) return(holes[k])
    value <- as.character(values[[name]])
    if (!expression) return(value)
    quote <- quote_before(paste(rest[seq_len(k)], collapse = ""))
    if (nzchar(quote)) return(within_quotes(value, quote, rest[k + 1]))
    literal_of_value(value, attr(values, "types")[name], alone)
  }, "")
  paste0(rest, c(filled, ""), collapse = "")
}

braces_pattern <- "[{][A-Za-z_][A-Za-z0-9_-]*[}]"

# The quote that is open at the end of a piece of an expression. A single one behind an odd number of backslashes is none.
quote_before <- function(text) {
  open <- ""
  text <- gsub("(?<!\\\\)(\\\\\\\\)*\\\\'", "", text, perl = TRUE)
  for (letter in strsplit(gsub("[^'\"]", "", text), "")[[1]]) open <- if (open == "") letter else if (open == letter) "" else open
  open
}

# A value that stands between quotes, before another piece of text: with quotes doubled, and backslashes that a quote follows.
within_quotes <- function(value, quote, following) {
  if (quote == "\"") return(gsub("\"", "\"\"", value, fixed = TRUE))
  text <- from_character(text_in_quotes(value), 2)
  text <- substr(text, 1, nchar(text) - 1)
  ends <- regmatches(value, regexpr("\\\\*$", value))
  if (!nzchar(following) || grepl("^['\\\\]", following)) text else substr(text, 1, nchar(text) - nchar(ends))
}

# A value as an expression has it: a condition in brackets unless it is `alone`, a date and a text as such.
literal_of_value <- function(value, type, alone) {
  switch(type %|% "", condition = if (alone) value else paste0("(", value, ")"), column = name_in_text(value), date = paste0("DATE('", value, "')"),
         text = text_in_quotes(value), value)
}

# A word as a shell takes it for one, on the one line that a command has.
shell_word <- function(text) {
  if (grepl("[\r\n]", text)) fail("argument", "A line of commands cannot hold the break of lines in {.val {text}}.", call = NULL)
  if (grepl("^[A-Za-z0-9_./:=@,+-]+$", text)) text else shQuote(text)
}

# How the texts of options are read, by their types.
forms_of_texts <- c(condition = "condition", expression = "expression", expressions = "named")

# Options that the text of a workflow gives, as values by name with the defaults of the others; `read(option, text)` is for layers and files.
values_of_options <- function(record, texts, read) {
  values <- lapply(record$options, `[[`, "default")
  for (name in names(texts)) {
    option <- record$options[[name]]
    values[[name]] <- switch(option$type, layer = , layers = , file = read(option, texts[[name]]), flag = texts[[name]] == "true",
                             check_option_text(option, texts[[name]]))
  }
  names(values) <- in_r(names(values))
  values
}

# Nothing but inputs is read: a CRS is a code or text, and no file.
check_option_text <- function(option, text) {
  if (option$type == "crs" && (grepl("^[~/.]|[\\\\]|[.][a-z]+$", text) || file.exists(text))) {
    wrong_usage("--{option$name} is a code or well-known text in a workflow, not the file \"{text}\"")
  }
  if (option$type %in% names(forms_of_texts)) need_words(parse_text(text, option$name, forms_of_texts[[option$type]], NULL), NULL)
  if (option$type == "crs") crs_of_argument(text)
  option_value(option, text)
}

# A code, text or .prj file, else the CRS of a layer.
crs_of_argument <- function(text) {
  is_layer <- file.exists(text) && !grepl("[.](prj|wkt|txt)$", text, ignore.case = TRUE)
  found <- if (is_layer) crs_of(read_layer(text)) else crs(text)
  if (is.null(found)) fail("crs", "{.file {text}} has no CRS.", call = NULL)
  found
}

# --- expressions on the columns of a layer -----------------------------------------------------------------------------------

# Expressions by name on the columns of a table, for `use` "row" or "group"; checked against the columns.
expressions_option <- function(text, option, x, use = "row") {
  if (is_tiled(x)) x <- x$prototype
  trees <- parse_text(text, option, "named", NULL)
  code <- lapply(trees, function(tree) checked_quosure(with_root_of(tree, trees), x, summaries = use == "group"))
  if (use != "group") return(code)
  tell_left_out(trees, as.list(plain_data_frame(x)))
  lapply(code, function(one) rlang::quo_set_expr(one, plain_sum(rlang::quo_get_expr(one))))
}

# The sum of a column as it is usually written: summaries of columns are added up in doubles.
plain_sum <- function(code) {
  if (rlang::is_call(code, "sum") && rlang::is_call(code[[2]], "as.double") && is.symbol(code[[2]][[2]])) code[[2]] <- code[[2]][[2]]
  code
}

# One expression on the columns of a table.
expression_option <- function(text, option, x) {
  checked_quosure(parse_text(text, option, "expression", NULL), x)
}

# Summaries leave missing values out, which is told.
tell_left_out <- function(trees, data) {
  columns <- unique(unlist(lapply(trees, function(tree) {
    groups <- nodes_where(tree, function(node) node$kind == "call" && word_of(node$value)$use == "group" && !ascii_lower(node$value) %in% c("count", "n"))
    lapply(groups, columns_of_tree)
  })))
  missing <- vapply(data[columns], function(column) sum(is.na(column)), 0L)
  lines <- paste0(names(missing), ": ", vapply(missing, counted, "", "row"))[missing > 0]
  if (length(lines)) caution("data", c("Rows without a value are left out of summaries:", stats::setNames(escape(lines), rep("*", length(lines)))))
}

# Columns made one after the other: each expression sees those that came before it.
computed <- function(x, text, option) {
  if (is_tiled(x)) return(with_row_step(x, "computed", list(text = text, option = option)))
  trees <- parse_text(text, option, "named", NULL)
  for (name in names(trees)) {
    if (identical(name, if (is_spatial_frame(x)) shape_column_name(x))) wrong_usage("--{option}: \"{name}\" is the column of shapes")
    x[[name]] <- values_of_tree(x, with_root_of(trees[[name]], trees))
    tell_not_finite(x[[name]], name)
  }
  x
}

# Numbers that a division by 0 or an overflow made.
tell_not_finite <- function(values, name) {
  bad <- if (is.double(values)) which(is.infinite(values) | is.nan(values))
  if (!length(bad)) return(invisible())
  first <- utils::head(bad, 1)
  caution("data", c("{.val {name}} is no number that could be used in {counted(length(bad), 'row')}: a division by 0, or more than a number holds.",
                    i = "First row: {first}. For rows like it write: CASE WHEN divisor <> 0 THEN value / divisor END."))
}

# Rows of the first layer that are asked for as it is read.
chosen_rows <- function(x, where, within) {
  if (!is.null(where)) x <- keep_rows(x, !!where)
  if (is.null(within)) x else keep_rows(x, !!window_condition(within, name_in_text(shape_column_name(if (is_tiled(x)) x$prototype else x))))
}

# A window as a condition.
window_condition <- function(within, shapes = "geometry") {
  if (length(within) != 4) wrong_usage("--within takes xmin,ymin,xmax,ymax")
  sprintf("S_INTERSECTS(%s, BBOX(%s))", shapes, paste(core(core_number_text(within, -1L)), collapse = ", "))
}

# The second layer on the CRS of the first, where that is asked for.
brought_to <- function(x, y, match_crs) {
  if (!match_crs) return(y)
  if (is_spatial_frame(x) && is_spatial_frame(y)) return(meet(x, y, "match", call = NULL))
  is_tiled_too <- (is_tiled(x) || is_spatial_frame(x)) && (is_tiled(y) || is_spatial_frame(y))
  if (is_tiled_too && !same_crs_or_none(crs_of(x), crs_of(y))) reproject_to(y, crs_of(x)) else y
}
