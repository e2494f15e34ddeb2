# dplyr's verbs on spatial frames. One rule: a table is a spatial frame as long as it has a shape column (frame_like()).
# `[`, dplyr_reconstruct() and what stands on them give the columns asked for, as dplyr::dplyr_extending wants; the verbs that
# choose columns by name (select, transmute, mutate(.keep = )) keep the active shape column unless it is taken away.

#' @rawNamespace S3method(dplyr::dplyr_reconstruct, spatial_frame)
dplyr_reconstruct.spatial_frame <- function(data, template) {
  if (inherits(template, "grouped_df")) data <- dplyr::dplyr_reconstruct(plain_data_frame(data), plain(template))
  frame_like(data, template)
}

#' @rawNamespace S3method(dplyr::dplyr_col_modify, spatial_frame)
dplyr_col_modify.spatial_frame <- function(data, cols) frame_like(dplyr::dplyr_col_modify(plain(data), cols), data)

#' @rawNamespace S3method(dplyr::dplyr_row_slice, spatial_frame)
dplyr_row_slice.spatial_frame <- function(data, i, ...) frame_like(dplyr::dplyr_row_slice(plain(data), i, ...), data)

plain_data_frame <- function(data) if (is_spatial_frame(data)) plain(data) else data

# Does a selection take columns away (with `-` or `!`) that the active shape column is among?
takes_away_shapes <- function(expression, x, env) {
  if (!rlang::is_call(expression, c("-", "!", "(", "c", "&", "|"))) return(FALSE)
  inner <- as.list(expression)[-1]
  if (rlang::is_call(expression, c("-", "!"), n = 1)) {
    return(shape_column_name(x) %in% names(plain(x))[tidyselect::eval_select(rlang::new_quosure(inner[[1]], env), plain(x))])
  }
  any(vapply(inner, takes_away_shapes, NA, x, env))
}

#' @rawNamespace S3method(dplyr::select, spatial_frame)
select.spatial_frame <- function(.data, ...) {
  out <- NextMethod()
  taken <- function(quosure) takes_away_shapes(rlang::quo_get_expr(quosure), .data, rlang::quo_get_env(quosure))
  if (is_spatial_frame(out) || any(vapply(rlang::enquos(...), taken, NA))) out else with_shapes_of(out, .data)
}

#' @rawNamespace S3method(dplyr::mutate, spatial_frame)
mutate.spatial_frame <- function(.data, ..., .keep = c("all", "used", "unused", "none")) {
  out <- NextMethod()
  if (identical(.keep, "all") || length(.keep) > 1) out else keep_shapes(out, .data, rlang::enquos(...))
}

#' @rawNamespace S3method(dplyr::transmute, spatial_frame)
transmute.spatial_frame <- function(.data, ...) keep_shapes(NextMethod(), .data, rlang::enquos(...))

# The active shape column is kept unless it was set to NULL.
keep_shapes <- function(out, x, quosures) {
  if (is_spatial_frame(out) || shape_column_name(x) %in% names(quosures)) out else with_shapes_of(out, x)
}

with_shapes_of <- function(out, x) {
  out[[shape_column_name(x)]] <- as_shapes(x)
  frame_like(out, x)
}

#' @rawNamespace S3method(dplyr::group_by, spatial_frame)
group_by.spatial_frame <- function(.data, ...) frame_like(dplyr::group_by(plain(.data), ...), .data)

#' @rawNamespace S3method(dplyr::ungroup, spatial_frame)
ungroup.spatial_frame <- function(x, ...) frame_like(dplyr::ungroup(plain(x), ...), x)

#' @rawNamespace S3method(dplyr::rowwise, spatial_frame)
rowwise.spatial_frame <- function(data, ...) frame_like(dplyr::rowwise(plain(data), ...), data)

# Summaries are a plain table where they make no shapes: those of a group are united by dissolving.
#' @rawNamespace S3method(dplyr::summarise, spatial_frame)
summarise.spatial_frame <- function(.data, ...) {
  out <- frame_like(dplyr::summarise(plain(.data), ...), .data)
  if (!is_spatial_frame(out)) say_once("summarise", c(i = "{.fn summarise} gave a table without shapes; {.fn dissolve_by} joins the shapes of each group too."))
  out
}

#' @rawNamespace S3method(dplyr::reframe, spatial_frame)
reframe.spatial_frame <- function(.data, ...) frame_like(dplyr::reframe(plain(.data), ...), .data)

#' @rawNamespace S3method(dplyr::count, spatial_frame)
count.spatial_frame <- function(x, ...) frame_like(dplyr::count(plain(x), ...), x)

#' @rawNamespace S3method(dplyr::group_modify, spatial_frame)
group_modify.spatial_frame <- function(.data, .f, ..., .keep = FALSE) frame_like(NextMethod(), .data)

# Rows that another table changes: dplyr assigns values in place, which shapes of two stores allow as handles into one.
with_rows <- function(verb, x, y, ...) {
  shared <- intersect(names(x)[vapply(x, is_shapes, NA)], names(y)[vapply(y, is_shapes, NA)])
  x_data <- plain(x)
  y_data <- plain_data_frame(y)
  stores <- lapply(stats::setNames(shared, shared), function(name) on_one_store(x[[name]], y[[name]]))
  for (name in shared) {
    x_data[[name]] <- handles_of(stores[[name]][[1]])
    equal <- vctrs::vec_match(stores[[name]][[2]], stores[[name]][[1]])  # so that rows may be named by their shapes
    y_data[[name]] <- ifelse(is.na(equal), handles_of(stores[[name]][[2]]), x_data[[name]][equal])
  }
  out <- verb(x_data, y_data, ...)
  for (name in shared) out[[name]] <- vctrs::vec_restore(out[[name]], stores[[name]][[1]])
  frame_like(out, x)
}

#' @rawNamespace S3method(dplyr::rows_append, spatial_frame)
rows_append.spatial_frame <- function(x, y, ...) with_rows(dplyr::rows_append, x, y, ...)
#' @rawNamespace S3method(dplyr::rows_insert, spatial_frame)
rows_insert.spatial_frame <- function(x, y, by = NULL, ...) with_rows(dplyr::rows_insert, x, y, by = by, ...)
#' @rawNamespace S3method(dplyr::rows_update, spatial_frame)
rows_update.spatial_frame <- function(x, y, by = NULL, ...) with_rows(dplyr::rows_update, x, y, by = by, ...)
#' @rawNamespace S3method(dplyr::rows_patch, spatial_frame)
rows_patch.spatial_frame <- function(x, y, by = NULL, ...) with_rows(dplyr::rows_patch, x, y, by = by, ...)
#' @rawNamespace S3method(dplyr::rows_upsert, spatial_frame)
rows_upsert.spatial_frame <- function(x, y, by = NULL, ...) with_rows(dplyr::rows_upsert, x, y, by = by, ...)

#' @export
rbind.spatial_frame <- function(...) {
  frames <- list(...)
  frame_like(vctrs::vec_rbind(!!!lapply(frames, plain_data_frame)), frames[[1]])
}
