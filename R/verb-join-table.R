#' Join a table by key
#'
#' Adds the columns of a table to the rows of a layer whose key is the same. Keys are compared trimmed, with no-break and doubled blanks
#' as one, in one Unicode form (NFC), and as numbers where one side holds numbers and the other text that is all numbers; leading zeros
#' count where both sides are text. Keys without a partner are counted on both sides and listed with the nearest spelling.
#'
#' `unmatched_keys()` gives those keys as a table to look through; what is left of it after the wrong guesses are struck out goes into
#' `accept`.
#'
#' A key of `table` that lands on several rows of `x`, as a capacity of a district on each of its schools, is told: a sum over the rows
#' would count it more than once. `.once` of [summarise_into()] and [dissolve_by()] takes such columns as they stand.
#'
#' @param x A spatial frame or data frame.
#' @param table A data frame.
#' @param by Name of the key column in both, or `c("name in x" = "name in table")`; several names for a key of several
#'   columns. By default the names that both share.
#' @param multiple `"error"` where a key of `table` repeats and would multiply rows, or `"all"` to allow that, or
#'   `"first"` to take the first.
#' @param ignore_case `TRUE` to compare keys without regard to case.
#' @param accept Spellings to take for the same: `c("key in table" = "key in x")`, or rows of `unmatched_keys()`.
#' @return `unmatched_keys()`: a tibble of one row a key without a partner: `side` (`"x"` or `"table"`), `key`, `rows` it stands in, and
#'   `nearest` on the other side, `NA` where nothing is near.
#'
#'   `join_table()`: `x` with the columns of `table`, a suffix `_table` on names that clash; rows without a partner are kept with
#'   missing values.
#' @section Errors: `civicatlas_error_column` where a key is not there, `civicatlas_error_key` where a repeated key would
#'   multiply rows.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' heat <- read_layer(demo_file("heat.csv"))
#' join_table(wards, heat, by = "ward_id")
#' @export
join_table <- function(x, table, by = NULL, multiple = "error", ignore_case = FALSE, accept = NULL) UseMethod("join_table", deciding_layer(x))

#' @export
join_table.default <- function(x, table, by = NULL, multiple = "error", ignore_case = FALSE, accept = NULL) {
  verb <- begin_verb("join_table")
  call <- rlang::current_env()
  one_of(multiple, keyed_rows_taken, "multiple", call = call)
  if (missing(table)) layer_is_missing("table", call)
  table <- dplyr::ungroup(tibble::as_tibble(attribute_table(table)))
  by <- join_keys(x, table, by, call)
  keys <- comparable_keys(x, table, by, ignore_case, accepted_keys(accept, call))
  check_repeated_keys(keys, multiple, by, call)
  at <- matched_rows(keys$x, keys$table, multiple)
  rows <- if (identical(at$x, seq_len(nrow(x)))) x else vctrs::vec_slice(x, at$x)
  added <- table[setdiff(names(table), by)]
  out <- add_columns(rows, vctrs::vec_slice(added, at$table), "_table")
  warn_of_keys(keys)
  end_verb(verb, out, x, c(account_of_keys(keys, by), account(tell_spread(at$table, added))))
}

#' @rdname join_table
#' @export
unmatched_keys <- function(x, table, by = NULL, ignore_case = FALSE) {
  call <- rlang::current_env()
  if (missing(table)) layer_is_missing("table", call)
  table <- tibble::as_tibble(attribute_table(table))
  by <- join_keys(x, table, by, call)
  keys <- comparable_keys(x, table, by, ignore_case)
  alone <- function(own, other, side) {
    counts <- vctrs::vec_count(own[!is.na(own) & !own %in% other], "location")
    others <- setdiff(unique(other[!is.na(other)]), own)  # a key that has a partner is no spelling of another
    nearest <- vapply(counts$key, function(key) nearest_key(key, others), "", USE.NAMES = FALSE)
    tibble::tibble(side = rep(side, nrow(counts)), key = shown_key(counts$key), rows = counts$count, nearest = shown_key(nearest))
  }
  vctrs::vec_rbind(alone(keys$x, keys$table, "x"), alone(keys$table, keys$x, "table"))
}

# A key of several columns as people read it.
shown_key <- function(keys) gsub("\u001f", ", ", keys, fixed = TRUE)

# Chosen spellings: keys of x, named for those of table that stand for them.
accepted_keys <- function(accept, call) {
  if (is.null(accept)) return(NULL)
  if (is.data.frame(accept)) {
    for (column in c("side", "key", "nearest")) need_column(accept, column, "accept", call = call)
    accept <- accept[!is.na(accept$nearest), ]
    of_x <- accept$side == "x"
    accept <- c(stats::setNames(accept$key[of_x], accept$nearest[of_x]), stats::setNames(accept$nearest[!of_x], accept$key[!of_x]))
  }
  if (!is.character(accept) || is.null(names(accept))) {
    fail("argument", "{.arg accept} must be spellings as {.code c(\"key in table\" = \"key in x\")}, or rows of {.fn unmatched_keys}.", call = call)
  }
  accept <- accept[!duplicated(paste(names(accept), accept, sep = "\u001e"))]
  two <- unique(names(accept)[duplicated(names(accept))])
  if (length(two)) fail("key", "{.arg accept} takes {.val {two[1]}} for two different keys of {.arg x}.", call = call)
  accept
}

# Values of the table that now stand in several rows, whose sum would count them again.
tell_spread <- function(rows, added) {
  times <- tabulate(rows[!is.na(rows)])
  several <- sum(times > 1)
  numbers <- names(added)[vapply(added, is.numeric, NA)]
  if (!several || !length(numbers)) return(NULL)
  columns <- if (length(numbers) > 1) paste0("c(", paste(numbers, collapse = ", "), ")") else numbers
  say(c("!" = "{counted(several, 'key')} of {.arg table} landed on several rows of {.arg x}, up to {max(times)}: a sum would count {.val {numbers}} again.",
        i = "{.code .once = {columns}} in {.fn summarise_into} or {.fn dissolve_by} takes them once."))
  entry(several, "on several rows", of = "key")
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
comparable_keys <- function(x, table, by, ignore_case, accept = NULL) {
  parts <- Map(function(a, b) comparable_pair(x[[a]], table[[b]], ignore_case), names(by), by)
  join <- function(side) {
    columns <- lapply(parts, `[[`, side)
    missing <- Reduce(`|`, lapply(columns, is.na))
    ifelse(missing, NA_character_, do.call(paste, c(unname(columns), sep = "\u001f")))
  }
  keys <- list(x = join("x"), table = join("table"))
  if (!is.null(accept)) {
    as_key <- function(text) comparable_text(if (length(by) > 1) gsub(", ", "\u001f", text, fixed = TRUE) else text, ignore_case)
    stands_for <- match(keys$table, as_key(names(accept)))
    keys$table[!is.na(stands_for)] <- as_key(unname(accept))[stands_for[!is.na(stands_for)]]
  }
  keys
}

# Text with blanks of all kinds as one, trimmed, in one Unicode form; blank is missing.
comparable_text <- function(values, ignore_case) {
  distinct <- unique(as.character(values))
  others <- which(!grepl("^[!-~]*$", distinct, useBytes = TRUE) & !is.na(distinct))
  folded <- distinct
  folded[others] <- utf8::utf8_normalize(enc2utf8(gsub("[\\s\u00a0\u1680\u2000-\u200a\u202f\u205f\u3000]+", " ", enc2utf8(distinct[others]), perl = TRUE)))
  folded <- trimws(folded)
  folded[!nzchar(folded)] <- NA
  if (ignore_case) folded <- utf8::utf8_normalize(folded, map_case = TRUE)
  folded[match(as.character(values), distinct)]
}

comparable_pair <- function(a, b, ignore_case) {
  text <- function(values) comparable_text(values, ignore_case)
  as_number <- function(values) suppressWarnings(as.double(if (is.factor(values)) as.character(values) else values))
  is_number <- function(values) is.numeric(values) && !is.object(values)
  if (is_number(a) || is_number(b)) {
    # Whole numbers beyond 2^53 are not told apart as numbers: text stays text, and a number that large equals none.
    both <- is_number(a) && is_number(b)
    number <- function(values) {
      numbers <- as_number(values)
      large <- !both & !is.na(numbers) & abs(numbers) >= 2^53
      known <- core(core_number_text(numbers, -1L))
      ifelse(is.na(numbers) | (large & !is_number(values)), text(values), ifelse(large, paste0("~", known), known))
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

distinct_keys <- function(keys) lapply(keys, function(side) unique(side[!is.na(side)]))

account_of_keys <- function(keys, by) {
  distinct <- distinct_keys(keys)
  account(
    entry(sum(keys$x %in% distinct$table), paste("matched by", paste(by, collapse = ", ")), none = TRUE),
    entry(length(setdiff(distinct$x, distinct$table)), "only in x", of = "key"),
    entry(length(setdiff(distinct$table, distinct$x)), "only in table", of = "key")
  )
}

# Rows without a key, and keys without a partner with the nearest on the other side.
warn_of_keys <- function(keys) {
  distinct <- distinct_keys(keys)
  blank <- sum(is.na(keys$x))
  if (blank) caution("data", "{counted(blank, 'row')} of {.arg x} {?has/have} no key.")
  lines <- c(lone_lines(setdiff(distinct$x, distinct$table), distinct$table, "x"), lone_lines(setdiff(distinct$table, distinct$x), distinct$x, "table"))
  if (length(lines)) caution("data", c("Keys without a partner:", stats::setNames(escape(lines), rep("*", length(lines)))))
}

lone_lines <- function(lone, others, side) {
  if (!length(lone)) return(NULL)
  shown <- utils::head(lone, 8)
  nearest <- vapply(shown, function(key) nearest_key(key, others), "")
  text <- paste0("\"", shown, "\"", ifelse(is.na(nearest), "", paste0(" (nearest: \"", nearest, "\")")))
  text <- gsub("\u001f", ", ", text, fixed = TRUE)
  more <- if (length(lone) > 8) paste0(" and ", format_count(length(lone) - 8), " more: see unmatched_keys()")
  paste0("only in ", side, ": ", paste(text, collapse = ", "), more)
}

# The nearest spelling, where it is near: within a third of the key's length, letters that look like digits taken as such.
nearest_key <- function(key, others) {
  if (!length(others) || length(others) > 20000) return(NA_character_)
  alike <- function(text) chartr("OolI", "0011", ascii_upper(gsub("[^A-Za-z0-9]", "", text)))
  apart <- pmin(utils::adist(key, others, ignore.case = TRUE)[1, ], utils::adist(alike(key), alike(others))[1, ] + 0.5)
  best <- which.min(apart)
  if (apart[best] <= max(1, nchar(key) / 3)) others[best] else NA_character_
}

keyed_rows_taken <- c("error", "first", "all")
