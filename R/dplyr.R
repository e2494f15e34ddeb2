# dplyr's verbs on spatial frames. Rows, groups and joins go through dplyr_reconstruct(); verbs that choose columns
# keep the shape column unless it is dropped by name.

#' @importFrom dplyr dplyr_reconstruct
#' @export
dplyr_reconstruct.spatial_frame <- function(data, template) {
  if (inherits(template, "grouped_df")) data <- dplyr_reconstruct(plain_data_frame(data), plain(template))
  frame_like(data, template)
}

#' @importFrom dplyr dplyr_col_modify
#' @export
dplyr_col_modify.spatial_frame <- function(data, cols) frame_like(dplyr::dplyr_col_modify(plain(data), cols), data)

#' @importFrom dplyr dplyr_row_slice
#' @export
dplyr_row_slice.spatial_frame <- function(data, i, ...) frame_like(dplyr::dplyr_row_slice(plain(data), i, ...), data)

plain_data_frame <- function(data) if (is_spatial_frame(data)) plain(data) else data

# Is the shape column dropped by name, as in select(x, -geometry) or select(x, !geometry)?
drops_by_name <- function(quosures, name) {
  any(vapply(quosures, function(quosure) {
    expr <- rlang::quo_get_expr(quosure)
    rlang::is_call(expr, c("-", "!")) && name %in% all.vars(expr)
  }, NA))
}

#' @importFrom dplyr select
#' @export
select.spatial_frame <- function(.data, ...) {
  chosen <- dplyr::select(plain(.data), ...)
  name <- shape_column_name(.data)
  original <- .data[[name]]
  has_shapes <- any(vapply(chosen, is_shapes, NA))
  if (!has_shapes && !drops_by_name(rlang::enquos(...), name)) chosen[[name]] <- original
  if (!has_shapes && drops_by_name(rlang::enquos(...), name)) return(chosen)
  frame_like(chosen, .data)
}

#' @importFrom dplyr transmute
#' @export
transmute.spatial_frame <- function(.data, ...) {
  out <- dplyr::transmute(plain(.data), ...)
  name <- shape_column_name(.data)
  if (!name %in% names(out)) out[[name]] <- .data[[name]]
  frame_like(out, .data)
}

#' @importFrom dplyr distinct
#' @export
distinct.spatial_frame <- function(.data, ..., .keep_all = FALSE) {
  out <- dplyr::distinct(plain(.data), ..., .keep_all = .keep_all)
  if (any(vapply(out, is_shapes, NA))) frame_like(out, .data) else out
}

#' @importFrom dplyr group_by
#' @export
group_by.spatial_frame <- function(.data, ...) frame_like(dplyr::group_by(plain(.data), ...), .data)

#' @importFrom dplyr ungroup
#' @export
ungroup.spatial_frame <- function(x, ...) frame_like(dplyr::ungroup(plain(x), ...), x)

#' @importFrom dplyr rowwise
#' @export
rowwise.spatial_frame <- function(data, ...) frame_like(dplyr::rowwise(plain(data), ...), data)

# Summaries of attributes are a plain table: the shapes of a group are united by dissolving, not by summarising.
#' @importFrom dplyr summarise
#' @export
summarise.spatial_frame <- function(.data, ...) dplyr::summarise(plain(.data), ...)

#' @importFrom dplyr count
#' @export
count.spatial_frame <- function(x, ...) dplyr::count(plain(x), ...)

#' @export
rbind.spatial_frame <- function(...) {
  frames <- list(...)
  frame_like(vctrs::vec_rbind(!!!lapply(frames, plain_data_frame)), frames[[1]])
}
