# What the labels of classes say.

# How numbers of a key are written: `factor` times the value, with `before` and `after` around what `text` makes of it; `own` where the
# user gave the function.
number_style <- function(numbers = "plain", prefix = NULL, unit = NULL, kind = NULL, call = NULL) {
  if (is.function(numbers)) return(list(factor = 1, before = "", after = "", text = own_texts(numbers, call), own = TRUE))
  one_of(numbers, names(number_factors), "numbers", call = call)
  word <- if (numbers %in% c("thousand", "million")) paste0(" ", numbers) else if (numbers == "percent") "%"
  unit <- if (!is.null(unit)) paste0(if (grepl("^[%\u00b0]", unit)) "" else " ", unit)
  style <- list(factor = number_factors[[numbers]], before = prefix %||% "", after = paste0(word, unit), text = map_numbers, own = FALSE)
  if (identical(kind, "date")) style$text <- function(values, digits) format(as.Date(values, origin = "1970-01-01"))
  if (identical(kind, "time")) style$text <- function(values, digits) format(as.POSIXct(values, origin = "1970-01-01", tz = "UTC"), "%Y-%m-%d %H:%M")
  style
}

number_factors <- c(plain = 1, thousand = 1e-3, million = 1e-6, percent = 100)

own_texts <- function(numbers, call) {
  function(values, digits) {
    text <- as.character(numbers(values))
    if (length(text) == length(values)) return(text)
    fail("argument", "{.arg numbers} must give a text for each of {length(values)} numbers, not {length(text)}.", call = call)
  }
}

# A label for each class that says what it holds: "0", "1 to 4" for whole numbers, "12.4 to 31.0" for others, "5 and over" for open ends.
class_labels <- function(breaks, style = number_style()) {
  labels <- if (are_whole(breaks, style)) labels_of_whole(as.double(breaks), style) else labels_of_bounds(breaks, style)
  twice <- labels[duplicated(labels)]
  if (length(twice)) {
    fail("argument", c("{.arg numbers} writes several classes as {.val {twice[1]}}.", i = "It must tell the breaks apart: {.val {as.double(breaks)}}."))
  }
  labels
}

# Whether classes are of whole numbers, each of which holds one.
are_whole <- function(breaks, style) {
  if (!isTRUE(attr(breaks, "whole")) || style$factor != 1 || shares_round_bounds(breaks)) return(FALSE)
  ends <- whole_ends(as.double(breaks))
  all(ends$low <= ends$high)
}

# What lies outside the breaks: "below 50", "over 70".
end_labels <- function(breaks, style) {
  n <- length(breaks)
  bounds <- if (are_whole(breaks, style)) style$text(c(ceiling(breaks[1]), floor(breaks[n])), 0) else bound_texts(breaks, style)[c(1, n)]
  paste0(c("below ", "over "), style$before, bounds, style$after)
}

# Rounded breaks that no value lies on can stand in two labels.
shares_round_bounds <- function(breaks) {
  isTRUE(attr(breaks, "rounded")) && !any(attr(breaks, "beside")$below == as.double(breaks))
}

# Classes of whole numbers do not share a bound.
labels_of_whole <- function(breaks, style) {
  ends <- whole_ends(breaks)
  low <- ends$low
  high <- ends$high
  write <- function(values) paste0(style$before, style$text(values, 0))
  ifelse(!is.finite(low), paste0("up to ", write(high), style$after),
         ifelse(!is.finite(high), paste0(write(low), style$after, " and over"),
                ifelse(low >= high, paste0(write(high), style$after), paste0(write(low), " to ", write(high), style$after))))
}

whole_ends <- function(breaks) {
  n <- length(breaks) - 1
  low <- c(ceiling(breaks[1]), floor(breaks[seq_len(n)][-1]) + 1)
  one <- which(diff(breaks) == 0)  # a class of one value
  low[one] <- breaks[one]
  list(low = low, high = floor(breaks[-1]))
}

labels_of_bounds <- function(breaks, style) {
  bounds <- paste0(style$before, bound_texts(breaks, style))
  n <- length(bounds) - 1
  low <- bounds[seq_len(n)]
  high <- bounds[-1]
  ends <- is.finite(as.double(breaks))
  one <- diff(as.double(breaks)) == 0 & low == high  # a class of one value, over which the next begins
  short <- low
  values <- as.double(breaks)[seq_len(n)] * style$factor
  whole <- which(one & !style$own & values == round(values))
  if (length(whole)) short[whole] <- paste0(style$before, style$text(values[whole], 0))
  label <- paste0(ifelse(c(FALSE, one[-n]), paste("over", c("", short[-n])), low), " to ", high, style$after)
  label[one] <- paste0(short[one], style$after)
  label[!ends[-1]] <- paste0("over ", low[!ends[-1]], style$after)
  label[!ends[seq_len(n)]] <- paste0("up to ", high[!ends[seq_len(n)]], style$after)
  label
}

# Texts of the bounds, with as few digits as keep every value on the side of the printed bound on which its class lies.
bound_texts <- function(breaks, style) {
  if (style$own) return(style$text(as.double(breaks), NULL))
  bounds <- as.double(breaks) * style$factor
  beside <- lapply(attr(breaks, "beside"), `*`, style$factor)
  if (max(abs(bounds[is.finite(bounds)])) < 1e15) {
    for (digits in 0:12) {
      printed <- printed_bounds(bounds, beside$below, beside$above, 10^digits)
      if (!is.null(printed)) return(style$text(printed, digits))
    }
  }
  significant_bounds(bounds, beside$below, beside$above)
}

# The same for numbers that no fixed number of decimals writes.
significant_bounds <- function(bounds, below, above) {
  inner <- setdiff(seq_along(bounds), c(1, length(bounds)))
  for (digits in 4:17) {
    text <- format(bounds, digits = digits, trim = TRUE)
    number <- as.double(text)[inner]
    if (!any(diff(as.double(text)) <= 0 & diff(bounds) > 0 & is.finite(diff(bounds))) && all(number >= below[inner] & number < above[inner])) break
  }
  text
}

# The bounds as multiples of 1 / `steps` that lie between the values beside them, the outer ones close about all; NULL where there are none.
printed_bounds <- function(bounds, below, above, steps) {
  n <- length(bounds)
  ends <- c(floor(bounds[1] * steps + 1e-9), ceiling(bounds[n] * steps - 1e-9)) / steps
  inner <- setdiff(seq_len(n), c(1, n))
  between <- multiples_between(bounds[inner], below[inner], above[inner], steps)
  printed <- c(ends[1], between, ends[2])
  widths <- pmax(diff(bounds), diff(range(bounds[is.finite(bounds)])) / (5 * n))
  close <- abs(printed - bounds)[c(1, n)] <= 0.1 * widths[c(1, n - 1)] | !is.finite(bounds[c(1, n)])
  rising <- diff(printed) > 0 | (diff(bounds) == 0 & diff(printed) == 0 & printed[-1] == bounds[-1])
  if (all(close | bounds[c(1, n)] == printed[c(1, n)], between >= below[inner], between < above[inner], rising)) printed
}

# The multiples of 1 / `steps` nearest to values that are from `below` to under `above`, where there are such.
multiples_between <- function(values, below, above, steps) {
  nearest <- round(values * steps) / steps
  nearest <- ifelse(nearest < below, ceiling(below * steps) / steps, nearest)
  ifelse(nearest >= above, (ceiling(above * steps) - 1) / steps, nearest)
}
