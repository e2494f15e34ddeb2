# Which tiles a layer's first conditions can hold for, by the ranges of columns in the manifest: the others are not read.

tiles_needed <- function(x) {
  bounds <- if (length(x$source$ranges)) first_bounds(x$steps, names(x$source$columns))
  may <- rep(TRUE, tiles_in(x$source))
  for (bound in bounds) may <- may & may_hold(x$source$ranges[[bound$column]], bound)
  if (!any(may)) may[1] <- TRUE  # of no rows, what comes of them is still of its columns
  if (all(may)) x$source else keep_tiles(x$source, which(may))
}

# The bounds of the conditions that stand before any other step.
first_bounds <- function(steps, columns) {
  verbs <- vapply(steps, `[[`, "", "verb")
  first <- steps[cumprod(verbs %in% c("filter", "keep_rows", "drop_rows")) == 1]
  unlist(lapply(Filter(function(step) step$verb != "drop_rows", first), bounds_of_step, columns), recursive = FALSE)
}

# Whether a value between two lies within a bound, where both are known. Manifests have 15 digits.
may_hold <- function(range, bound) {
  if (is.null(range)) return(TRUE)
  slack <- 1e-14 * pmax(abs(range$least), abs(range$greatest), abs(bound$value))
  above <- bound$relation %in% c("<", "<=", "=") & range$least - slack > bound$value
  below <- bound$relation %in% c(">", ">=", "=") & range$greatest + slack < bound$value
  !(above | below) | is.na(above | below)
}

bounds_of_step <- function(step, columns) {
  tree_of <- function(asked) if (step$verb == "keep_rows") tree_asked(asked, columns, NULL) else tree_of_code(asked)
  unlist(lapply(Filter(rlang::is_quosure, unname(step$args)), function(asked) bounds_of_tree(tree_of(asked), columns)), recursive = FALSE)
}
