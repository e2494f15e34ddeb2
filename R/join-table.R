#' Join a table by key
#'
#' Adds the columns of a table to the rows of a layer whose key is the same. Keys are compared trimmed, and as numbers
#' where one side holds numbers and the other text that is all numbers; leading zeros count where both sides are text.
#' Keys without a partner are counted on both sides and listed with the nearest spelling.
#'
#' @param x A spatial frame or data frame.
#' @param table A data frame.
#' @param by Name of the key column in both, or `c("name in x" = "name in table")`; several names for a key of several
#'   columns. By default the names that both share.
#' @param multiple `"error"` where a key of `table` repeats and would multiply rows, or `"all"` to allow that, or
#'   `"first"` to take the first.
#' @param ignore_case `TRUE` to compare keys without regard to case.
#' @return `x` with the columns of `table`, a suffix `_table` on names that clash; rows without a partner are kept with
#'   missing values.
#' @section Errors: `civicatlas_error_column` where a key is not there, `civicatlas_error_key` where a repeated key would
#'   multiply rows.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' heat <- read_layer(demo_file("heat.csv"))
#' join_table(wards, heat, by = "ward_id")
#' @export
join_table <- function(x, table, by = NULL, multiple = "error", ignore_case = FALSE) {
  started <- clock()
  call <- rlang::current_env()
  one_of(multiple, c("error", "all", "first"), "multiple", call = call)
  table <- dplyr::ungroup(tibble::as_tibble(attribute_table(table)))
  by <- join_keys(x, table, by, call)
  keys <- comparable_keys(x, table, by, ignore_case)
  check_repeated_keys(keys, multiple, by, call)
  at <- matched_rows(keys$x, keys$table, multiple)
  rows <- if (identical(at$x, seq_len(nrow(x)))) x else x[at$x, ]
  out <- add_columns(rows, vctrs::vec_slice(table[setdiff(names(table), by)], at$table), "_table")
  note <- report_keys(keys, by, nrow(x), nrow(out))
  record(out, x, "join_table", rlang::current_call(), nrow(x), note, started)
}

# Names of the key columns in table, named for those in x.
join_keys <- function(x, table, by, call) {
  if (is.null(by)) {
    by <- setdiff(intersect(names(x), names(table)), shape_column_name(x))
    if (!length(by)) fail("column", c("The two tables share no column name.", i = "Name the keys: {.code by = c(\"in x\" = \"in table\")}."), call = call)
    say("{.fn join_table} by {.val {by}}.")
  }
  if (!is.character(by)) fail("argument", "{.arg by} must be names of columns.", call = call)
  if (is.null(names(by))) names(by) <- by
  names(by)[!nzchar(names(by))] <- by[!nzchar(names(by))]
  for (name in names(by)) need_column(x, name, "by", call = call)
  for (name in by) need_column(table, name, "by", call = call)
  by
}

# Keys of both sides as text that can be compared; of several columns joined by a mark that no text holds.
comparable_keys <- function(x, table, by, ignore_case) {
  parts <- Map(function(a, b) comparable_pair(x[[a]], table[[b]], ignore_case), names(by), by)
  join <- function(side) {
    columns <- lapply(parts, `[[`, side)
    missing <- Reduce(`|`, lapply(columns, is.na))
    ifelse(missing, NA_character_, do.call(paste, c(unname(columns), sep = "\u001f")))
  }
  list(x = join("x"), table = join("table"))
}

comparable_pair <- function(a, b, ignore_case) {
  text <- function(values) {
    values <- trimws(as.character(values))
    values[!nzchar(values)] <- NA
    if (ignore_case) tolower(values) else values
  }
  as_number <- function(values) suppressWarnings(as.double(if (is.factor(values)) as.character(values) else values))
  is_number <- function(values) is.numeric(values) && !is.object(values)
  if (is_number(a) || is_number(b)) {
    number <- function(values) {
      numbers <- as_number(values)
      ifelse(is.na(numbers), text(values), core_number_text(numbers, -1L))
    }
    return(list(x = number(a), table = number(b)))
  }
  list(x = text(a), table = text(b))
}

check_repeated_keys <- function(keys, multiple, by, call) {
  if (multiple != "error") return(invisible())
  repeated <- unique(keys$table[duplicated(keys$table) & !is.na(keys$table) & keys$table %in% keys$x])
  if (!length(repeated)) return(invisible())
  shown <- utils::head(gsub("\u001f", ", ", repeated, fixed = TRUE), 5)
  fail("key", c("{counted(length(repeated), 'key')} of {.arg table} stand{?s/} in several rows and would multiply rows of {.arg x}: {.val {shown}}.",
                i = "Sum the table by {.val {unname(by)}} first, or use {.code multiple = \"all\"} or {.code \"first\"}."), call = call)
}

matched_rows <- function(x, table, multiple) {
  table[is.na(table)] <- "\u001e"
  if (multiple != "all") return(list(x = seq_along(x), table = match(x, table)))
  rows <- split(seq_along(table), factor(table, unique(table)))
  found <- unname(rows[match(x, names(rows))])
  none <- lengths(found) == 0
  found[none] <- list(NA_integer_)
  list(x = rep(seq_along(x), lengths(found)), table = unlist(found))
}

# The account: how many keys found a partner, and those that did not with the nearest on the other side.
report_keys <- function(keys, by, rows, rows_out) {
  in_x <- unique(keys$x[!is.na(keys$x)])
  in_table <- unique(keys$table[!is.na(keys$table)])
  lone_x <- setdiff(in_x, in_table)
  lone_table <- setdiff(in_table, in_x)
  blank <- sum(is.na(keys$x))
  matched <- sum(keys$x %in% in_table)
  multiplied <- if (rows_out > rows) paste0("; ", format_count(rows), " rows became ", format_count(rows_out))
  alone <- paste0(counted(length(lone_x), "key"), " only in x, ", length(lone_table), " only in table")
  say("{.fn join_table}: {format_count(matched)} of {counted(rows, 'row')} matched by {.val {unname(by)}}; {alone}{multiplied}.")
  if (blank) caution("data", "{counted(blank, 'row')} of {.arg x} {?has/have} no key.")
  lines <- c(lone_lines(lone_x, in_table, "x"), lone_lines(lone_table, in_x, "table"))
  if (length(lines)) caution("data", c("Keys without a partner:", stats::setNames(escape(lines), rep("*", length(lines)))))
  paste0(matched, " of ", rows, " rows matched", if (length(lone_x)) paste0(", ", length(lone_x), " keys only in x"),
         if (length(lone_table)) paste0(", ", length(lone_table), " only in table"))
}

lone_lines <- function(lone, others, side) {
  if (!length(lone)) return(NULL)
  shown <- utils::head(lone, 8)
  nearest <- vapply(shown, function(key) nearest_key(key, others), "")
  text <- paste0("\"", shown, "\"", ifelse(is.na(nearest), "", paste0(" (nearest: \"", nearest, "\")")))
  text <- gsub("\u001f", ", ", text, fixed = TRUE)
  paste0("only in ", side, ": ", paste(text, collapse = ", "), if (length(lone) > 8) paste0(" and ", format_count(length(lone) - 8), " more"))
}

# The nearest spelling, where it is near: within a third of the key's length, letters that look like digits taken as such.
nearest_key <- function(key, others) {
  if (!length(others) || length(others) > 20000) return(NA_character_)
  alike <- function(text) chartr("OolI", "0011", ascii_upper(gsub("[^A-Za-z0-9]", "", text)))
  apart <- pmin(utils::adist(key, others, ignore.case = TRUE)[1, ], utils::adist(alike(key), alike(others))[1, ] + 0.5)
  best <- which.min(apart)
  if (apart[best] <= max(1, nchar(key) / 3)) others[best] else NA_character_
}
