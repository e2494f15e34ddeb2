#' Dissolve shapes
#'
#' Joins the shapes of each group into one: shared borders of polygons go, islands stay as parts, overlaps count once; lines
#' are merged end to end, up to where others meet them.
#'
#' @param .x A spatial frame.
#' @param ... What to group by, as in [dplyr::group_by()]: columns, or a name for an expression that gives a value for each row, such as
#'   `district = substr(id, 1, 2)`; [across()] chooses columns. And named summaries, which give one value, as in [dplyr::summarise()], or `across()` with
#'   functions. Without anything to group by, all become one.
#' @param .once Columns that stand once a group and must not be summed, as in [summarise_into()]: taken as they are, under their own
#'   names.
#' @return A spatial frame of one row a group, in the order of the groups' first rows: the group columns, the summaries, the
#'   shape.
#' @section Errors: `civicatlas_error_column` for a column that is not there; `civicatlas_error_argument` for summaries that fail.
#' @examples
#' cells <- read_layer(demo_file("cells.zip")) |> mend_numbers()
#' cells |> dissolve_by(ward_id, people = sum(pop_total, na.rm = TRUE))
#' @export
dissolve_by <- function(.x, ..., .once = NULL) UseMethod("dissolve_by", deciding_layer(.x))

#' @export
dissolve_by.default <- function(.x, ..., .once = NULL) {
  verb <- begin_verb("dissolve_by")
  call <- rlang::current_env()
  asked <- settled_dissolve(arguments_asked("dissolve_by", call), call)
  x <- .x
  shapes <- asked$shapes
  groups <- asked$groups
  count <- asked$count
  found <- core(core_dissolve(handles_of(shapes), store_of(shapes), groups), call = call)
  tell_self_crossing(found$self_crossing_x, "x")
  table <- asked$keys
  if (length(asked$summaries)) {
    table <- replace_columns(table, summaries_by_cell(list(columns = asked$columns, rows = seq_len(nrow(x)), cell = groups), count, asked$summaries, call))
  }
  if (length(asked$once)) {
    table <- replace_columns(table, values_once(asked$once, list(x = groups, y = seq_len(nrow(x))), count, call, "group"))
  }
  made <- deepened(shapes_of_rows(found, count, crs_of(shapes)), split(seq_along(groups), factor(groups, seq_len(count))), shapes)
  out <- frame_of_columns(!!!as.list(table), !!shape_column_name(x) := made)
  attr(out, "history") <- NULL
  end_verb(verb, out, x, account(entry(sum(grepl("^multi", geometry_type_of(out))), "of several parts")))
}

# What dissolve_by() was asked, checked and completed: the group of each row and the `keys` of each of `count` groups, the summaries with the `columns`
# that they are of, and the columns that stand `once` a group.
settled_dissolve <- function(args, call) {
  x <- args$.x
  need_frame(x, "dissolve_by", call)
  asked <- groups_and_summaries(x, dots_among(args, dissolve_by), call)
  need_no_arguments(asked$summaries, "once", call)
  keys <- asked$attributes[asked$keys]
  groups <- if (length(keys)) as.integer(vctrs::vec_group_id(keys)) else rep(1L, nrow(x))
  count <- if (length(groups)) max(groups) else 0L
  once <- if (is_asked(args$.once)) names(choose_columns(asked$attributes, args$.once, ".once", call))
  need_no_sum_of(once, asked$summaries, call, "group")
  list(shapes = overlay_shapes(x, call), groups = groups, count = count, keys = vctrs::vec_slice(keys, match(seq_len(count), groups)),
       columns = dplyr::ungroup(plain(x)), summaries = asked$summaries, once = asked$attributes[as.character(once)])
}

# What dissolve_by() was given: `keys`, names of columns in `attributes`, to which expressions that give a value for each row are added, and `summaries`.
groups_and_summaries <- function(x, given, call) {
  attributes <- attribute_table(dplyr::ungroup(x))
  named <- nzchar(rlang::names2(given))
  across <- vapply(given, rlang::quo_is_call, NA, name = "across", ns = c("", "dplyr"))
  chosen <- lapply(given[across], function(quosure) as.list(match.call(dplyr::across, rlang::quo_get_expr(quosure))))
  sums <- across
  sums[across] <- vapply(chosen, function(asked) !is.null(asked$.fns), NA)
  plain <- given[!named & !across]
  groups <- Map(function(quosure, asked) rlang::new_quosure(asked$.cols, rlang::quo_get_env(quosure)), given[across & !sums], chosen[!sums[across]])
  keys <- names(choose_columns(attributes, rlang::quo(c(!!!unname(c(plain, groups)))), "...", call))
  by_row <- named & !across
  by_row[by_row] <- vapply(given[by_row], gives_each_row, NA, attributes)
  for (name in names(given)[by_row]) {
    need_variables(given[[name]], attributes, "...", call)
    attributes[[name]] <- vctrs::vec_recycle(rlang::eval_tidy(given[[name]], attributes), nrow(attributes))
  }
  list(attributes = attributes, keys = unique(c(keys, names(given)[by_row])), summaries = given[(named | sums) & !by_row])
}

# Whether an expression gives a value for each row, and not one of all: seen on two rows where there is only one.
gives_each_row <- function(quosure, columns) {
  if (!length(columns_in(tree_of_code(quosure), names(columns)))) return(FALSE)
  if (nrow(columns) == 1) columns <- columns[c(1, 1), ]
  size <- tryCatch(vctrs::vec_size(suppressWarnings(rlang::eval_tidy(quosure, columns))), error = function(e) 1L)
  size == nrow(columns) && size != 1
}
