# What differs between databases in the words of SQL: a dialect is one record, and files of R/fmt-*.R hold theirs.
# * `types` of columns that are written, by kind (see kind_of_column()), and `kinds` of those that are read, by their declared types
# * `parameter(number, kind)`: a place for a value
# * `column(sql, kind)`: what stands for a column in conditions
# * `like(sql, parameter, pattern)`: whether a text is like a pattern of CQL2; `parameter(text)` gives a place for one
new_dialect <- function(types, kinds, parameter, column, like) list(types = types, kinds = kinds, parameter = parameter, column = column, like = like)

kind_of_column <- function(column) {
  classes <- c(Date = "date", POSIXct = "datetime", integer64 = "whole", blob = "blob")
  kind <- classes[inherits(column, names(classes), which = TRUE) > 0]
  if (length(kind)) return(kind[[1]])
  switch(typeof(column), logical = "logical", integer = "integer", double = "number", "text")
}

type_in <- function(dialect, column) dialect$types[[kind_of_column(column)]]

kind_in <- function(dialect, declared) {
  kind <- unname(dialect$kinds[declared])
  ifelse(is.na(kind), "other", kind)
}

# Names as SQL has them, in quotes where it wants them.
quoted <- function(con, name) as.character(DBI::dbQuoteIdentifier(con, name))
