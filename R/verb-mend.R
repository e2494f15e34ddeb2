#' Turn text that holds numbers into numbers
#'
#' Numbers often come in as text: with thousands separators, decimal commas, percent signs, currency signs, parentheses
#' around negative ones, or blanks and dashes where there are none. `mend_numbers()` turns columns of such text into
#' numbers and says for each what it changed and what it could not.
#'
#' Which of comma and point divides thousands and which decimals is told by the column as a whole: by a value that has
#' both, that has one of them twice, or that has other than three digits after it. Where every value could be read either
#' way ("1,234"), the comma divides thousands, the point decimals, which a warning says where no number stands without the mark or
#' the mark is a point; `decimal` decides.
#'
#' A column in which a whole number is larger than 2^53, which doubles cannot tell apart, stays text, and so does all else in it.
#' Numbers that lost leading zeros are counted: such a column mostly holds codes.
#'
#' @param x A spatial frame or data frame.
#' @param ... Columns to mend, as in [dplyr::select()]; by default all text columns in which most values are numbers,
#'   except those with leading zeros, which are names.
#' @param decimal `"."` or `","` to say which mark divides decimals, or `NULL` to let each column tell.
#' @param missing Texts that stand for no value, beside blanks.
#' @return `x` with numbers in the mended columns: integers where all are whole and fit, a share (`0.12`) where a percent
#'   sign stood. What could not be read is missing and listed in a warning.
#' @section Errors: `civicatlas_error_column` for a column that is not there or is not text.
#' @examples
#' stalls <- data.frame(name = c("Kelp", "Tern"), visits = c("1,204", "(36)"), share = c("12.5 %", "n/a"))
#' mend_numbers(stalls)
#' @export
mend_numbers <- function(x, ..., decimal = NULL,
                         missing = c("-", "--", "\u2013", "\u2014", ".", "..", "n/a", "N/A", "NA", "null", "NULL", "none", "?")) {
  verb <- begin_verb("mend_numbers")
  call <- rlang::current_env()
  if (!is.null(decimal)) one_of(decimal, c(".", ","), "decimal", call = call)
  data <- if (is_spatial_frame(x)) attribute_table(x) else x
  columns <- if (...length()) named_columns(data, rlang::enquos(...), call) else columns_of_number_text(data, missing)
  columns <- columns_to_mend(data, columns, call)
  if (!length(columns)) say("{.fn mend_numbers}: no column of text that holds numbers; nothing changed.")
  mended <- lapply(stats::setNames(columns, columns), function(column) mend_text(as.character(data[[column]]), decimal, missing))
  large <- vapply(mended, function(column) length(column$large) > 0, NA)
  words <- vapply(mended, function(column) !column$count && length(column$unread) > 0, NA)
  warn_of_large(mended[large])
  if (any(words)) say("{.fn mend_numbers}: no numbers in {.val {columns[words]}}, which {cli::qty(sum(words))}{?stays/stay} text.")
  mended <- mended[!large & !words]
  for (column in names(mended)) x[[column]] <- mended[[column]]$values
  numbers <- Map(mend_account, mended, names(mended))
  for (line in account_in_words(numbers)) say("{.fn mend_numbers}: {line}.")
  warn_of_unread(mended)
  warn_of_zeros(mended)
  warn_of_ambiguity(mended)
  still <- lapply(columns[large | words], function(column) remark(paste(column, "is text still")))
  end_verb(verb, x, x, c(unname(numbers), still), line = NULL)
}

# Those that are text; numbers are left as they are, anything else is an error.
columns_to_mend <- function(data, columns, call) {
  is_text <- vapply(data[columns], function(column) is.character(column) || is.factor(column), NA)
  for (column in columns[!is_text]) {
    if (!is.numeric(data[[column]])) fail("column", "Column {.val {column}} is {class_in_words(data[[column]])}, not text.", call = call)
  }
  columns[is_text]
}

named_columns <- function(data, columns, call) {
  chosen <- tryCatch(tidyselect::eval_select(rlang::expr(c(!!!columns)), data), vctrs_error_subscript_oob = function(e) {
    need_column(data, as.character(e$i)[1], "...", call = call)
    rlang::cnd_signal(e)
  })
  names(data)[chosen]
}

# Text columns that are numbers for the most part, and not names that begin with zeros.
columns_of_number_text <- function(data, missing) {
  is_candidate <- vapply(data, function(column) {
    if (!is.character(column)) return(FALSE)
    parts <- number_parts(unique(column), missing)
    present <- parts$state != "blank"
    any(present) && mean(parts$state[present] == "number") > 0.5 && !any(grepl("^0[0-9]", parts$digits[present]))
  }, NA)
  names(data)[is_candidate]
}

# What each text is made of: its digits with their marks, its sign, a percent sign; `state` is number, blank or other.
number_parts <- function(text, missing) {
  without <- function(text, pattern) trimws(gsub(pattern, "", text))
  currency <- "^[$\u20ac\u00a3\u00a5]|[$\u20ac\u00a3\u00a5]$"
  core <- trimws(gsub("[\u00a0\u202f\u2009]", " ", text))
  blank <- is.na(core) | core %in% c("", missing)
  percent <- grepl("%$", core)
  core <- without(core, "%$")
  negative <- grepl("^\\(.*\\)$", core)
  core[negative] <- sub("^\\((.*)\\)$", "\\1", core[negative])
  core <- without(core, currency)
  minus <- grepl("^[-\u2212]|-$", core)
  core <- without(without(core, "^[-+\u2212]|-$"), currency)
  digits <- gsub("(?<=[0-9])[ '\u2019](?=[0-9]{3}([^0-9]|$))", "", core, perl = TRUE)
  is_number <- grepl("^([0-9]+([.,][0-9]+)*[.,]?|[.,][0-9]+)([eE][-+]?[0-9]+)?$", digits)
  state <- ifelse(blank, "blank", ifelse(is_number, "number", "other"))
  list(digits = digits, sign = ifelse(negative | minus, -1, 1), bracketed = negative, percent = percent, state = state)
}

# The mark that divides decimals, as the column tells: of two in a number the last, of one that which does not group.
decimal_mark <- function(digits) {
  both <- grep("[.].*,|,.*[.]", digits, value = TRUE)
  if (length(both)) return(if (mean(regexpr("[^,]*$", both) > regexpr("[^.]*$", both)) > 0.5) "," else ".")
  with_comma <- grep(",", digits, value = TRUE, fixed = TRUE)
  if (length(with_comma)) return(if (groups_thousands(with_comma, ",", decides = TRUE)) "." else ",")
  with_point <- grep(".", digits, value = TRUE, fixed = TRUE)
  if (length(with_point) && groups_thousands(with_point, ".", decides = FALSE)) "," else "."
}

# Whether a mark groups: some number has it twice, or all have three digits after it where that `decides`.
groups_thousands <- function(digits, mark, decides) {
  repeated <- any(lengths(regmatches(digits, gregexpr(mark, digits, fixed = TRUE))) > 1)
  repeated || (decides && all(grepl(paste0("^[1-9][0-9]{0,2}([", mark, "][0-9]{3})+$"), digits)))
}

mend_text <- function(text, decimal, missing) {
  distinct <- unique(text)
  parts <- number_parts(distinct, missing)
  is_number <- parts$state == "number"
  mark <- decimal %||% decimal_mark(parts$digits[is_number])
  other <- setdiff(c(",", "."), mark)
  digits <- gsub(other, "", parts$digits, fixed = TRUE)
  well_grouped <- !grepl(other, parts$digits, fixed = TRUE) | grepl(paste0("^[0-9]{1,3}([", other, "][0-9]{3})+([", mark, "]|$)"), parts$digits)
  is_number <- is_number & well_grouped & lengths(regmatches(digits, gregexpr(mark, digits, fixed = TRUE))) <= 1
  zeros <- is_number & grepl("^0[0-9]", parts$digits)
  values <- rep(NA_real_, length(distinct))
  values[is_number] <- as.double(sub(mark, ".", digits[is_number], fixed = TRUE)) * parts$sign[is_number]
  as_share <- is_number & parts$percent
  values[as_share] <- values[as_share] / 100
  at <- match(text, distinct)
  large <- is_number & abs(values) >= 2^53 & !grepl("e", digits, ignore.case = TRUE)
  large[is.na(large)] <- FALSE
  unread <- !is_number & parts$state != "blank"
  list(
    values = narrow_numbers(values[at]), mark = mark, count = sum(is_number[at]), blank = sum((parts$state == "blank")[at]),
    grouped = sum((is_number & grepl(other, parts$digits, fixed = TRUE))[at]), comma = mark == "," && any(is_number & grepl(",", digits)),
    percent = sum(as_share[at]), bracketed = sum((is_number & parts$bracketed)[at]), unread = which(unread[at]), texts = text[unread[at]],
    large = text[which(large[at])], zeros = text[which(zeros[at])], ambiguous = if (is.null(decimal)) ambiguous_mark(parts$digits[is_number])
  )
}

mend_account <- function(mended, column) {
  what <- c(
    if (mended$grouped) paste(format_count(mended$grouped), "with thousands separators"),
    if (mended$comma) "decimal commas",
    if (mended$percent) paste(format_count(mended$percent), "percentages as shares"),
    if (mended$bracketed) paste(format_count(mended$bracketed), "in parentheses as negative"),
    if (mended$blank) paste(format_count(mended$blank), "blank"),
    if (length(mended$unread)) paste(format_count(length(mended$unread)), "not read")
  )
  entry(mended$count, paste("in", column), if (length(what)) paste(what, collapse = ", ") else NA_character_, of = "number")
}

# The mark that every number which has one has three digits before the end, so that it may divide thousands or decimals; NULL where the
# column tells. Numbers below 1,000 without a comma say that it divides thousands.
ambiguous_mark <- function(digits) {
  either_way <- function(mark) {
    has <- grepl(mark, digits, fixed = TRUE)
    any(has) && (mark == "." || all(has)) && all(grepl(paste0("^[1-9][0-9]{0,2}[", mark, "][0-9]{3}$"), digits[has]))
  }
  if (any(grepl("[.].*,|,.*[.]", digits))) return(NULL)
  c(Filter(either_way, c(",", ".")), list(NULL))[[1]]
}

warn_of_large <- function(large) {
  if (!length(large)) return(invisible())
  lines <- vapply(names(large), function(name) paste0(name, ": \"", large[[name]]$large[1], "\""), "")
  caution("data", c("{length(lines)} column{?s} {?holds/hold} whole numbers above 2^53, which are not told apart as numbers, and {?stays/stay} text:",
                    stats::setNames(escape(lines), rep("*", length(lines)))))
}

warn_of_zeros <- function(mended) {
  lost <- Filter(function(column) length(column$zeros) > 0, mended)
  if (!length(lost)) return(invisible())
  lines <- vapply(names(lost), function(name) paste0(name, ": ", format_count(length(lost[[name]]$zeros)), " (first: \"", lost[[name]]$zeros[1], "\")"), "")
  caution("data", c("Numbers lost leading zeros, as codes have them:", stats::setNames(escape(lines), rep("*", length(lines))),
                    i = "Leave the column out, as in {.code mend_numbers(x, -{names(lost)[1]})}, to keep it as text."))
}

warn_of_ambiguity <- function(mended) {
  for (name in names(mended)) {
    column <- mended[[name]]
    if (is.null(column$ambiguous)) next
    read_as <- if (column$mark == column$ambiguous) "decimals" else "thousands"
    other <- if (read_as == "decimals") setdiff(c(",", "."), column$ambiguous) else column$ambiguous
    caution("data", c("{.val {name}}: every {if (column$ambiguous == ',') 'comma' else 'point'} has three digits behind it, and was taken to divide {read_as}.",
                      i = "{.code decimal = \"{other}\"} reads it the other way."))
  }
}

warn_of_unread <- function(mended) {
  bad <- Filter(function(column) length(column$unread) > 0, mended)
  if (!length(bad)) return(invisible())
  lines <- vapply(names(bad), function(name) {
    shown <- utils::head(unique(bad[[name]]$texts), 4)
    more <- if (length(bad[[name]]$unread) > 1) ", \u2026" else ""
    sprintf("%s: %s (row %d%s)", name, paste0("\"", shown, "\"", collapse = ", "), bad[[name]]$unread[1], more)
  }, "")
  unread <- sum(lengths(lapply(bad, `[[`, "unread")))
  caution("data", c("{counted(unread, 'text')} that {cli::qty(unread)}{?is/are} no number became missing:",
                    stats::setNames(escape(lines), rep("*", length(lines)))))
}
