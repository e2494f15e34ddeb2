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
