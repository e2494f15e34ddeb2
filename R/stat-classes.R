#' Class intervals
#'
#' Divides the range of numbers into classes for a choropleth:
#'
#' * `"natural"` with the least sum of squares within classes, the true optimum (Fisher 1958, "On grouping for maximum homogeneity");
#' * `"quantile"` with about as many values each (sample quantiles of type 7, Hyndman and Fan 1996);
#' * `"equal"` of equal width;
#' * `"standard deviation"` one deviation wide, about the mean;
#' * `"geometric"` each as many times as wide as the one before, for values above 0 that are skewed;
#' * `"pretty"` with round breaks, in about as many classes;
#' * `"head-tail"` cut at the mean, then at the mean of what lies above it, and so on, for heavy tails (Jiang 2013): as many classes as the
#'   data give, but no more than `classes` where that is given;
#' * `"maximum gaps"` cut in the middle of the widest gaps.
#'
#' @param x Numbers; missing and infinite ones do not count, and infinite ones are told.
#' @param classes Number of classes, 1 or more.
#' @param method One of the methods above.
#' @param at Your own breaks instead, ascending; `-Inf` and `Inf` leave the ends open.
#' @param rounded `TRUE` to round the breaks to readable numbers; classes and counts are then those of the rounded breaks.
#' @return A classed double vector of classes + 1 ascending breaks, with attributes `method`, `counts` (values in each
#'   class) and `fit` (goodness of variance fit, 1 where classes hold equal values). Classes are closed on the right, the
#'   first on both sides. Where there are fewer distinct values than classes, or breaks coincide, there are fewer
#'   classes and a warning says so.
#' @section Errors: `civicatlas_error_argument` where there are no values to classify, `x` holds no numbers (the text that does not read as one
#'   is shown), or `"geometric"` meets values of 0 or less.
#' @examples
#' class_breaks(c(1, 2, 4, 7, 11, 16), 3)
#' class_breaks(c(1, 2, 4, 7, 11, 16), 3, "equal")
#' @export
class_breaks <- function(x, classes = 5, method = "natural", at = NULL, rounded = FALSE) {
  breaks_for(x, classes, method, at, rounded, rlang::current_env(), missing(classes))
}

# `unasked`: no number of classes was given. `beyond`: values outside one's own breaks have a place of their own.
breaks_for <- function(x, classes, method, at, rounded, call, unasked = FALSE, beyond = FALSE) {
  values <- values_to_classify(x, call)
  if (!rlang::is_bool(rounded)) fail("argument", "{.arg rounded} must be TRUE or FALSE.", call = call)
  if (!is.null(at)) return(new_breaks(values, own_breaks(at, values, beyond, call), "own"))
  one_of(method, class_methods, "method", call = call)
  if (!rlang::is_integerish(classes, n = 1, finite = TRUE) || classes < 1) {
    fail("argument", "{.arg classes} must be a whole number of 1 or more, not {.val {classes}}.", call = call)
  }
  distinct <- 1L + sum(values[-1] > values[-length(values)])
  open_ended <- method == "head-tail" && unasked
  asked <- if (open_ended) 12 else if (method == "natural") min(classes, distinct) else classes
  breaks <- core(core_class_breaks(values, as.integer(asked), method), call = call)
  if (distinct == 1) breaks <- rep(values[1], 2)
  tell_of_classes(method, length(breaks) - 1, classes, distinct)
  new_breaks(values, if (rounded) rounded_breaks(breaks) else breaks, method, rounded)
}

# Breaks as multiples of 1, 2 or 5 times a power of ten that is at most a third of the narrowest class, the outer ones about all values.
rounded_breaks <- function(breaks) {
  breaks <- as.double(breaks)
  narrowest <- min(diff(breaks))
  if (!(narrowest > 0) || !is.finite(narrowest)) return(breaks)
  power <- 10^floor(log10(narrowest / 3))
  step <- max(c(1, 2, 5)[c(1, 2, 5) * power <= narrowest / 3 * (1 + 1e-12)]) * power
  n <- length(breaks)
  steps <- round(breaks / step)
  steps[c(1, n)] <- c(floor(breaks[1] / step + 1e-9), ceiling(breaks[n] / step - 1e-9))
  out <- signif(steps * step, 15)
  holds_all <- isTRUE(all(diff(out) > 0) && out[1] <= breaks[1] && out[n] >= breaks[n])
  if (holds_all) out else breaks
}

class_methods <- c("natural", "quantile", "equal", "standard deviation", "geometric", "pretty", "head-tail", "maximum gaps")

# The finite ones, ascending.
values_to_classify <- function(x, call) {
  if (is_tiled(x)) {
    fail("argument", c("{.arg x} is a tiled layer, and only numbers have class intervals.", i = "{.code dplyr::pull(x, column)} gives those of a column."),
         call = call)
  }
  if (!is.numeric(x)) {
    text <- if (is.character(x) || is.factor(x)) utils::head(unique(stats::na.omit(as.character(x))), 3)
    fail("argument", c("{.arg x} is {.obj_type_friendly {x}}, and only numbers have class intervals.",
                       x = if (length(text)) "It holds {.val {text}}.", i = "Text that holds numbers: {.fn mend_numbers}."), call = call)
  }
  infinite <- sum(is.infinite(x))
  if (infinite) caution("classes", "{infinite} infinite value{?s} fall{?s/} in no class.")
  values <- core(core_finite_sorted(as.double(x)))
  if (!length(values)) fail("argument", "There are no values to classify: all {length(x)} are missing or infinite.", call = call)
  values
}

tell_of_classes <- function(method, made, asked, distinct) {
  if (!method %in% c("head-tail", "pretty")) say_fewer_classes(made, asked, distinct)
  if (method == "head-tail" && made == 1) {
    caution("classes", c("Head/tail breaks give one class, as the values have no long tail.", i = "{.code method = \"natural\"} divides any values."))
  }
}

say_fewer_classes <- function(made, asked, distinct) {
  if (made >= asked && distinct >= asked) return(invisible())
  outcome <- if (made < asked) "{made} {cli::qty(made)}class{?es} instead of {asked}" else "Some of the {asked} classes hold no value"
  reason <- if (distinct < asked) "there {cli::qty(distinct)}{?is/are} only {distinct} distinct value{?s}" else "breaks coincide or lie beyond the values"
  caution("classes", paste0(outcome, ", as ", reason, "."))
}

own_breaks <- function(at, values, beyond, call) {
  if (inherits(at, c("Date", "POSIXct"))) at <- as.double(at)
  if (!is.numeric(at) || length(at) < 2 || anyNA(at) || is.unsorted(at, strictly = TRUE)) {
    fail("argument", "{.arg at} must be two or more numbers in ascending order.", call = call)
  }
  outside <- sum(values < at[1] | values > at[length(at)])
  if (outside && !beyond) caution("classes", "{outside} value{?s} lie outside the breaks and fall in no class.")
  as.double(at)
}

# Of ascending values. `bars` keeps the distribution for draw_classes(): how many values lie in each of 60 strips. `beside` keeps for each break
# the greatest value that is not above it and the least that is, `whole` whether all values are whole, for what a key prints.
new_breaks <- function(values, breaks, method, rounded = FALSE) {
  edges <- seq(min(values), max(values), length.out = 61)
  strips <- if (edges[1] < edges[61]) tabulate(findInterval(values, edges, all.inside = TRUE), 60) else length(values)
  reached <- findInterval(breaks, values)
  structure(breaks, class = "class_breaks", method = method, counts = tabulate(core(core_class_of(values, breaks)), length(breaks) - 1),
            fit = core(core_variance_fit(values, breaks)), bars = list(edges = edges, counts = strips), whole = all(values == round(values)),
            beside = list(below = c(-Inf, values)[reached + 1], above = c(values, Inf)[reached + 1]), rounded = rounded)
}

#' @export
print.class_breaks <- function(x, ...) {
  counts <- attr(x, "counts")
  cat("<", length(x) - 1, " classes, ", attr(x, "method"), "> ", format_count(sum(counts)), " values, variance fit ",
      formatC(attr(x, "fit"), digits = 3, format = "f"), "\n", sep = "")
  print_table(tibble::tibble(class = class_labels(x), values = counts))
  invisible(x)
}

#' @export
format.class_breaks <- function(x, ...) format(as.double(x), ...)

#' @export
`[.class_breaks` <- function(x, i) as.double(x)[i]

# Numbers with as few digits as tell them apart.
short_numbers <- function(values, write = map_numbers) {
  distinct <- unique(values)
  for (digits in 0:12) {
    text <- write(distinct, digits)
    spread <- max(abs(distinct), 1e-300)
    precise <- length(distinct) < 2 || 10^-digits <= min(diff(sort(distinct))) * 5
    if (!anyDuplicated(text) && precise) break
  }
  if (spread < 1e-9 || spread >= 1e15) text <- format(distinct, digits = 4, trim = TRUE)
  text[match(values, distinct)]
}
