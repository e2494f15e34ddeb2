# Numbers in texts, however people write them.

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
