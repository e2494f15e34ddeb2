#' Compare and stack layers
#'
#' `compare_columns()` shows which columns two tables share, by name and type, before they are stacked.
#' `stack_layers()` puts the rows of several layers one after the other, columns matched by name, types promoted where
#' they differ (logical, integer, number, text; date with date), and missing values where a layer lacks a column.
#'
#' @param x,y Spatial frames or data frames.
#' @param ... Spatial frames on one CRS, or data frames; named ones give their names to `source`.
#' @param source Name of a column that tells the layer each row came from, or `NULL` for none.
#' @return `compare_columns()` a tibble of `column`, `in_x` and `in_y` (types, `NA` where it is missing) and `same`, with
#'   columns whose names differ in case, blanks or cutting alone paired in `nearest`. `stack_layers()` a spatial frame or
#'   tibble; what was promoted or filled is said.
#' @section Errors: `civicatlas_error_crs_mismatch` where CRSs differ, `civicatlas_error_argument` where some have shapes
#'   and some have not.
#' @examples
#' old <- data.frame(ward_id = c("01", "02"), seats = 3:4)
#' new <- data.frame(ward_id = "03", seats = "12", opened = 2026)
#' compare_columns(old, new)
#' stack_layers(old = old, new = new, source = "survey")
#' @export
stack_layers <- function(..., source = NULL) {
  verb <- begin_verb("stack_layers")
  call <- rlang::current_env()
  layers <- rlang::list2(...)
  if (length(layers) == 1 && is.list(layers[[1]]) && !is.data.frame(layers[[1]])) layers <- layers[[1]]
  spatial <- check_layers(layers, call)
  labels <- names(layers) %||% rep("", length(layers))
  labels[!nzchar(labels)] <- as.character(which(!nzchar(labels)))
  if (spatial) for (i in seq_along(layers)[-1]) check_same_crs(layers[[1]], layers[[i]], layer_in_words(labels[1]), layer_in_words(labels[i]), call = call)
  sizes <- vapply(layers, nrow, 0L)
  tables <- lapply(layers, function(layer) as.list(dplyr::ungroup(attribute_table(layer))))
  columns <- stack_columns(tables, sizes)
  say_stacked(tables, columns)
  if (!is.null(source)) columns <- c(stats::setNames(list(rep(labels, sizes)), source), columns)
  shapes <- if (spatial) vctrs::vec_c(!!!unname(lapply(layers, as_shapes)))
  if (spatial) shapes <- admitted(shapes)
  out <- frame_of(list(columns = columns, shapes = shapes))
  sum <- paste(paste(format_count(sizes), collapse = " + "), "=", counted(nrow(out), "row"))
  end_verb(verb, out, if (spatial) layers[[1]], rows_in = sum(sizes), line = sum)
}

# Whether the layers to stack have shapes: all or none.
check_layers <- function(layers, call) {
  for (layer in layers) need_no_tiles(layer, call)
  if (!length(layers) || !all(vapply(layers, is.data.frame, NA))) {
    fail("argument", "Give the layers to stack as spatial frames or data frames.", call = call)
  }
  spatial <- vapply(layers, is_spatial_frame, NA)
  if (any(spatial) && !all(spatial)) {
    fail("argument", c("Some layers have shapes and some have not.",
                       i = "Without: {.val {which(!spatial)}}; give them shapes, or the others none."), call = call)
  }
  all(spatial)
}

# One line for the columns that some layers lack, and one for those whose types differ.
say_stacked <- function(tables, columns) {
  types <- vapply(tables, function(table) {
    vapply(names(columns), function(name) if (is.null(table[[name]])) NA_character_ else plain_class(table[[name]]), "")
  }, character(length(columns)))
  types <- matrix(types, nrow = length(columns))
  lacking <- rowSums(is.na(types))
  if (any(lacking > 0)) {
    say("Filled with missing values where layers lack them: {first_of(paste0(names(columns), ' (', lacking, ' of ', length(tables), ')')[lacking > 0])}.")
  }
  differing <- apply(types, 1, function(row) paste(unique(stats::na.omit(row)), collapse = ", "))
  promoted <- grepl(", ", differing)
  if (any(promoted)) {
    now <- vapply(columns, plain_class, "")
    say("Types that differ: {first_of(paste0(names(columns), ' (', differing, ': now ', now, ')')[promoted])}.")
  }
}

# The first few of many texts in a line.
first_of <- function(texts, most = 5) {
  paste0(paste(utils::head(texts, most), collapse = ", "), if (length(texts) > most) paste0(" and ", length(texts) - most, " more"))
}

# A layer without a name of its own goes by its number.
layer_in_words <- function(label) if (grepl("^[0-9]+$", label)) paste("layer", label) else label

#' @rdname stack_layers
#' @export
compare_columns <- function(x, y) {
  x <- attribute_table(x)
  y <- attribute_table(y)
  names <- union(names(x), names(y))
  type_in <- function(table) {
    vapply(names, function(name) if (name %in% names(table)) plain_class(table[[name]]) else NA_character_, "", USE.NAMES = FALSE)
  }
  out <- tibble::tibble(column = names, in_x = type_in(x), in_y = type_in(y))
  out$same <- !is.na(out$in_x) & !is.na(out$in_y) & out$in_x == out$in_y
  only_x <- is.na(out$in_y)
  only_y <- is.na(out$in_x)
  out$nearest <- NA_character_
  out$nearest[only_x] <- near_names(names[only_x], names[only_y])
  out$nearest[only_y] <- near_names(names[only_y], names[only_x])
  differing <- sum(!only_x & !only_y & !out$same)
  say("{.fn compare_columns}: {sum(out$same)} alike, {differing} of another type, {sum(only_x)} only in x, {sum(only_y)} only in y.")
  out
}

# Of other names the one that differs in case, marks or cutting to ten bytes alone.
near_names <- function(names, others) {
  plain <- function(name) gsub("[^a-z0-9]", "", ascii_lower(name))
  vapply(names, function(name) {
    cut <- (nchar(others) >= 8 & startsWith(plain(name), plain(others))) | (nchar(name) >= 8 & startsWith(plain(others), plain(name)))
    same <- plain(others) == plain(name) | cut
    if (any(same)) others[which(same)[1]] else NA_character_
  }, "", USE.NAMES = FALSE)
}
