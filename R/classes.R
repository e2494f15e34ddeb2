#' Class intervals
#'
#' Divides the range of numbers into classes for a choropleth: `"natural"` with the least sum of squares within classes,
#' the true optimum (Fisher 1958, "On grouping for maximum homogeneity"); `"quantile"` with about as many values each
#' (sample quantiles of type 7, Hyndman and Fan 1996); `"equal"` of equal width.
#'
#' @param x Numbers; missing and infinite ones do not count.
#' @param classes Number of classes, 1 or more.
#' @param method `"natural"`, `"quantile"` or `"equal"`.
#' @param at Your own breaks instead, ascending.
#' @return A classed double vector of classes + 1 ascending breaks, with attributes `method`, `counts` (values in each
#'   class) and `fit` (goodness of variance fit, 1 where classes hold equal values). Classes are closed on the right, the
#'   first on both sides. Where there are fewer distinct values than classes, or quantiles coincide, there are fewer
#'   classes and a warning says so.
#' @section Errors: `civicatlas_error_argument` where there are no values to classify or `x` holds no numbers.
#' @examples
#' class_breaks(c(1, 2, 4, 7, 11, 16), 3)
#' class_breaks(c(1, 2, 4, 7, 11, 16), 3, "equal")
#' @export
class_breaks <- function(x, classes = 5, method = "natural", at = NULL) {
  call <- rlang::current_env()
  values <- values_to_classify(x, call)
  if (!is.null(at)) return(new_breaks(values, own_breaks(at, values, call), "own"))
  one_of(method, c("natural", "quantile", "equal"), "method", call = call)
  if (!rlang::is_integerish(classes, n = 1, finite = TRUE) || classes < 1) {
    fail("argument", "{.arg classes} must be a whole number of 1 or more, not {.val {classes}}.", call = call)
  }
  distinct <- length(unique(values))
  possible <- if (method == "natural") min(classes, distinct) else classes
  breaks <- core(core_class_breaks(values, as.integer(possible), method), call = call)
  if (distinct == 1) breaks <- rep(values[1], 2)
  say_fewer_classes(length(breaks) - 1, classes, distinct)
  new_breaks(values, breaks, method)
}

values_to_classify <- function(x, call) {
  if (!is.numeric(x)) {
    fail("argument", c("{.arg x} is {.obj_type_friendly {x}}, and only numbers have class intervals.",
                       i = "Turn text into numbers first."), call = call)
  }
  values <- as.double(x)[is.finite(x)]
  if (!length(values)) fail("argument", "There are no values to classify: all {length(x)} are missing or infinite.", call = call)
  values
}

say_fewer_classes <- function(made, asked, distinct) {
  if (made >= asked && distinct >= asked) return(invisible())
  outcome <- if (made < asked) "{made} {cli::qty(made)}class{?es} instead of {asked}" else "Some of the {asked} classes hold no value"
  reason <- if (distinct < asked) "there {cli::qty(distinct)}{?is/are} only {distinct} distinct value{?s}" else "several quantiles coincide"
  caution("classes", paste0(outcome, ", as ", reason, "."))
}

own_breaks <- function(at, values, call) {
  if (!is.numeric(at) || length(at) < 2 || anyNA(at) || is.unsorted(at, strictly = TRUE)) {
    fail("argument", "{.arg at} must be two or more numbers in ascending order.", call = call)
  }
  outside <- sum(values < at[1] | values > at[length(at)])
  if (outside) caution("classes", "{outside} value{?s} lie outside the breaks and fall in no class.")
  as.double(at)
}

new_breaks <- function(values, breaks, method) {
  structure(breaks, class = "class_breaks", method = method,
            counts = tabulate(core_class_of(values, breaks), length(breaks) - 1), fit = core_variance_fit(values, breaks))
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

# "12.4 to 31.0" for each class, with as few digits as tell the breaks apart.
class_labels <- function(breaks) {
  shown <- short_numbers(as.double(breaks))
  paste(shown[-length(shown)], "to", shown[-1])
}

short_numbers <- function(values) {
  distinct <- unique(values)
  for (digits in 0:12) {
    text <- formatC(distinct, format = "f", digits = digits, big.mark = ",")
    spread <- max(abs(distinct), 1e-300)
    precise <- length(distinct) < 2 || 10^-digits <= min(diff(sort(distinct))) * 5
    if (!anyDuplicated(text) && precise) break
  }
  if (spread < 1e-9 || spread >= 1e15) text <- format(distinct, digits = 4, trim = TRUE)
  text[match(values, distinct)]
}
