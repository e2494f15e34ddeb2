# What the columns of tables hold.

# A type as people say it, and of text whether it reads as numbers, or begins as what a spreadsheet would calculate.
class_in_words <- function(column) {
  if (!is.character(column)) return(plain_class(column))
  if (reads_as_numbers(column)) return("text (numbers)")
  if (any(grepl("^([=@\t\r]|[+-][^0-9 .])", column))) "text (formulas)" else "text"
}

plain_class <- function(column) {
  if (inherits(column, "Date")) return("date")
  switch(typeof(column), integer = "integer", double = "number", character = "text", logical = "logical", class(column)[1])
}

# Text whose every value is a number, thousands separators allowed; "01" is a name, not a number.
reads_as_numbers <- function(text) {
  text <- trimws(text[!is.na(text)])
  length(text) > 0 && all(grepl("^-?(0|[1-9][0-9]{0,2}(,[0-9]{3})+|[1-9][0-9]*)([.][0-9]+)?$", text))
}

# Numbers as integers where all are whole and fit.
narrow_numbers <- function(values) {
  whole <- all(values == round(values) & abs(values) <= .Machine$integer.max, na.rm = TRUE)
  if (whole) as.integer(values) else values
}

# Columns of several tables, matched by name, one after the other.
stack_columns <- function(tables, sizes) {
  names <- unique(unlist(lapply(tables, names)))
  lapply(stats::setNames(names, names), function(name) {
    pieces <- Map(function(table, size) table[[name]] %||% vctrs::unspecified(size), tables, sizes)
    stack_values(pieces)
  })
}

# Values of one column; text where their types have nothing else in common.
stack_values <- function(pieces) {
  pieces <- lapply(unname(pieces), function(piece) {
    if (all(is.na(piece))) vctrs::unspecified(length(piece)) else if (is.factor(piece)) as.character(piece) else piece
  })
  tryCatch(vctrs::vec_c(!!!pieces), vctrs_error_incompatible_type = function(e) unlist(lapply(pieces, values_as_text)))
}

values_as_text <- function(values) {
  if (all(is.na(values))) return(rep(NA_character_, length(values)))
  if (is.double(values) && !is.object(values)) core(core_number_text(values, -1L)) else as.character(values)
}

# Columns of lists as texts, with commas between.
without_lists <- function(table) {
  lists <- names(table)[vapply(table, function(column) is.list(column) && !is_shapes(column) && !inherits(column, "blob"), NA)]
  for (name in lists) table[[name]] <- vapply(table[[name]], toString, "")
  table
}
