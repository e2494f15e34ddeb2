#' Dissolve shapes
#'
#' Joins the shapes of each group into one: shared borders of polygons go, islands stay as parts, overlaps count once; lines
#' are merged end to end, up to where others meet them.
#'
#' @param .x A spatial frame.
#' @param ... Columns to group by, unnamed, and named summaries of the others, as in [dplyr::summarise()]. Without columns all
#'   become one.
#' @param .once Columns that stand once a group and must not be summed, as in [summarise_into()]: taken as they are, under their own
#'   names.
#' @return A spatial frame of one row a group, in the order of the groups' first rows: the group columns, the summaries, the
#'   shape.
#' @section Errors: `civicatlas_error_column` for a column that is not there; `civicatlas_error_argument` for summaries that fail.
#' @examples
#' cells <- read_layer(demo_file("cells.zip")) |> mend_numbers()
#' cells |> dissolve_by(ward_id, people = sum(pop_total, na.rm = TRUE))
#' @export
dissolve_by <- function(.x, ..., .once = NULL) {
  if (is_tiled(.x)) return(put_off("dissolve_by"))
  verb <- begin_verb("dissolve_by")
  call <- rlang::current_env()
  x <- .x
  need_frame(x, "dissolve_by", call)
  given <- rlang::enquos(...)
  named <- nzchar(rlang::names2(given))
  need_no_arguments(given[named], "once", call)
  shapes <- overlay_shapes(x, call)
  attributes <- attribute_table(x)
  keys <- names(choose_columns(attributes, rlang::quo(c(!!!given[!named])), "...", call))
  groups <- if (length(keys)) vctrs::vec_group_id(attributes[keys]) else rep(1L, nrow(x))
  count <- if (length(groups)) max(groups) else 0L
  found <- core(core_dissolve(handles_of(shapes), store_of(shapes), as.integer(groups)), call = call)
  tell_self_crossing(found$self_crossing_x, "x")
  table <- vctrs::vec_slice(attributes[keys], match(seq_len(count), groups))
  if (any(named)) {
    assigned <- list(columns = dplyr::ungroup(plain(x)), rows = seq_len(nrow(x)), cell = as.integer(groups))
    table <- replace_columns(table, summaries_by_cell(assigned, count, given[named], call))
  }
  once <- if (!rlang::quo_is_null(rlang::enquo(.once))) names(choose_columns(attributes, rlang::enquo(.once), ".once", call))
  if (length(once)) {
    need_no_sum_of(once, given[named], call, "group")
    table <- replace_columns(table, values_once(attributes[once], list(x = as.integer(groups), y = seq_len(nrow(x))), count, call, "group"))
  }
  made <- deepened(shapes_of_rows(found, count, crs_of(shapes)), split(seq_along(groups), factor(groups, seq_len(count))), shapes)
  out <- frame_of_columns(!!!as.list(table), !!shape_column_name(x) := made)
  attr(out, "history") <- NULL
  end_verb(verb, out, x, account(entry(sum(grepl("^multi", geometry_type_of(out))), "of several parts")))
}

# Shapes of the core with the row of each, as a vector of all rows.
shapes_of_rows <- function(found, rows, crs) {
  handles <- rep(NA_integer_, rows)
  handles[found$x] <- seq_along(found$x)
  shapes_of_core(list(store = found$store, handles = handles), crs)
}
