# dplyr's verbs on spatial frames. Rows, groups and joins go through dplyr_reconstruct(); verbs that choose columns
# keep the shape column unless it is dropped by name.

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

# Is the shape column dropped by name, as in select(x, -geometry) or select(x, !geometry)?
drops_by_name <- function(quosures, name) {
  any(vapply(quosures, function(quosure) {
    expr <- rlang::quo_get_expr(quosure)
    rlang::is_call(expr, c("-", "!")) && name %in% all.vars(expr)
  }, NA))
}

#' @rawNamespace S3method(dplyr::select, spatial_frame)
select.spatial_frame <- function(.data, ...) {
  chosen <- dplyr::select(plain(.data), ...)
  name <- shape_column_name(.data)
  original <- .data[[name]]
  has_shapes <- any(vapply(chosen, is_shapes, NA))
  if (!has_shapes && !drops_by_name(rlang::enquos(...), name)) chosen[[name]] <- original
  if (!has_shapes && drops_by_name(rlang::enquos(...), name)) return(chosen)
  frame_like(chosen, .data)
}

#' @rawNamespace S3method(dplyr::transmute, spatial_frame)
transmute.spatial_frame <- function(.data, ...) {
  out <- dplyr::transmute(plain(.data), ...)
  name <- shape_column_name(.data)
  if (!name %in% names(out)) out[[name]] <- .data[[name]]
  frame_like(out, .data)
}

#' @rawNamespace S3method(dplyr::distinct, spatial_frame)
distinct.spatial_frame <- function(.data, ..., .keep_all = FALSE) {
  out <- dplyr::distinct(plain(.data), ..., .keep_all = .keep_all)
  if (any(vapply(out, is_shapes, NA))) frame_like(out, .data) else out
}

#' @rawNamespace S3method(dplyr::group_by, spatial_frame)
group_by.spatial_frame <- function(.data, ...) frame_like(dplyr::group_by(plain(.data), ...), .data)

#' @rawNamespace S3method(dplyr::ungroup, spatial_frame)
ungroup.spatial_frame <- function(x, ...) frame_like(dplyr::ungroup(plain(x), ...), x)

#' @rawNamespace S3method(dplyr::rowwise, spatial_frame)
rowwise.spatial_frame <- function(data, ...) frame_like(dplyr::rowwise(plain(data), ...), data)

# Summaries of attributes are a plain table: the shapes of a group are united by dissolving, not by summarising.
#' @rawNamespace S3method(dplyr::summarise, spatial_frame)
summarise.spatial_frame <- function(.data, ...) dplyr::summarise(plain(.data), ...)

#' @rawNamespace S3method(dplyr::count, spatial_frame)
count.spatial_frame <- function(x, ...) dplyr::count(plain(x), ...)

#' @export
rbind.spatial_frame <- function(...) {
  frames <- list(...)
  frame_like(vctrs::vec_rbind(!!!lapply(frames, plain_data_frame)), frames[[1]])
}
