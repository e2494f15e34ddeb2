#' Explain a condition
#'
#' Shows how a condition is understood, with a bracket around every part, and for how many rows of a layer each part holds or is unknown.
#' Near misses are pointed out: a value that differs from one that is there by blanks, case or accents alone.
#'
#' @inheritParams keep_rows
#' @param where A condition in [CQL2][conditions], as text.
#' @return An object that prints well: a list of `condition` (the text with its brackets), `rows`, `parts` (a tibble of `level`, `part`, `holds`,
#'   `fails` and `unknown`, numbers of rows) and `hints` (texts).
#' @section Errors: as [keep_rows()].
#' @examples
#' rooms <- read_layer(demo_file("rooms.geojson"))
#' explain_condition(rooms, "kind = 'Library' OR kind = 'school' AND seats > 100")
#' @export
explain_condition <- function(x, where, ..., crs = NULL) {
  call <- rlang::current_env()
  if (!is.data.frame(x)) fail("argument", "{.arg x} must be a spatial frame or a data frame.", call = call)
  tree <- parse_text(where, "where", call = call)
  layers <- list(...)
  truth <- function(node) truth_of_tree(x, with_root_of(node, tree), layers, as_crs(crs, call = call), call)
  found <- vctrs::vec_rbind(!!!parts_of_tree(tree, truth))
  structure(list(condition = text_of_condition(tree), rows = nrow(x), parts = found, hints = near_misses(x, tree)), class = "condition_explanation")
}

# A row for a part and each part of it that is a condition itself.
parts_of_tree <- function(node, truth, level = 0L) {
  is_true <- truth(node)
  own <- tibble::tibble(level = level, part = text_of_tree(node), holds = sum(is_true, na.rm = TRUE), fails = sum(!is_true, na.rm = TRUE),
                        unknown = sum(is.na(is_true)))
  below <- if (is_operation(node, c("and", "or")) || (is_operation(node, "not") && is_operation(node$args[[1]], c("and", "or")))) node$args
  c(list(own), unlist(lapply(below, parts_of_tree, truth, level + 1L), recursive = FALSE))
}

# Comparisons with texts that no row has, where rows have one that looks the same.
near_misses <- function(x, tree) {
  compares <- function(node) is_operation(node, c("=", "in")) && node$args[[1]]$kind == "column"
  unlist(lapply(nodes_where(tree, compares), function(node) {
    values <- x[[node$args[[1]]$value]]
    if (!is.character(values) && !is.factor(values)) return(NULL)
    wanted <- if (node$value == "in") node$args[[2]]$args else node$args[2]
    wanted <- vapply(Filter(function(one) one$kind == "text", wanted), `[[`, "", "value")
    unlist(lapply(setdiff(wanted, values), near_values, as.character(values), node$args[[1]]$value))
  }))
}

near_values <- function(wanted, values, column) {
  counts <- table(values)
  same <- spelt_alike(wanted, values)
  if (!length(same)) return(paste0("No row has ", column, " = ", text_in_quotes(wanted), "."))
  shown <- paste0(text_in_quotes(same), " (", vapply(as.integer(counts[same]), counted, "", "row"), ")")
  paste0("No row has ", column, " = ", text_in_quotes(wanted), "; near it: ", paste(utils::head(shown, 3), collapse = ", "), ".")
}

# Values that differ from a text by blanks, case or accents alone, else by a few letters; the most frequent first.
spelt_alike <- function(wanted, values) {
  known <- names(sort(table(values), decreasing = TRUE))
  plain <- function(text) gsub("\\s+", " ", trimmed(without_marks(without_case(text))), perl = TRUE)
  same <- known[plain(known) == plain(wanted)]
  if (length(same) || !length(known)) same else known[utils::adist(plain(wanted), plain(known))[1, ] <= max(1, nchar(wanted) %/% 5)]
}

#' @export
print.condition_explanation <- function(x, ...) {
  cat(printable(x$condition), "\n\n", sep = "")
  parts <- x$parts
  widest <- max(30, cli::console_width() - 2 - sum(nchar(format_count(c(x$rows, x$rows, x$rows))) + 6))
  parts$part <- cli::ansi_strtrim(paste0(strrep("  ", parts$level), parts$part), widest)
  print_table(parts[c("holds", "fails", "unknown", "part")], indent = "")
  if (length(x$hints)) cat("\n", paste0("! ", printable(x$hints), "\n"), sep = "")
  invisible(x)
}
