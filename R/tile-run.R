#' Run what was put off on a tiled layer
#'
#' Verbs on a layer in tiles (see [tile_up()]) are put off: they tell their errors at once, and work when `run_tiles()` is called. Tiles are then done one
#' after the other, or on the daemons of `mirai::daemons()` where some are set: each tile is read, goes through all steps, and what comes of it is
#' written or added up. The result is that of the same verbs on a frame of all rows, in the same order.
#'
#' @param x A tiled layer.
#' @param target A folder of tiles to make; a file of any format that [write_layer()] writes; `NULL` to get a frame, as `dplyr::collect(x)` does.
#' @param replace `TRUE` to replace a target that is there.
#' @param layer The name of the table in a GeoPackage or database.
#' @return The result, invisibly where it was written: a `tiled_layer` for a folder, else a frame.
#' @section Verbs on tiled layers:
#' * by the rows of a tile: [keep_rows()], [drop_rows()], `dplyr::filter()`, `mutate()`, `select()` and `rename()`, [reproject_to()], [declare_crs()],
#'   [repair_shapes()], [simplify_by()] of each shape by itself, [centroid_of()], [inner_point_of()], [hull_of()], [boundary_of()], [outer_ring_of()],
#'   [add_measures()], [buffer_by()], [join_table()];
#' * with a second layer, a frame or tiled too: [clip_to()], [erase_by()], [overlay_with()] (what lies in `x`), [keep_where()], [drop_where()],
#'   [join_where()], [join_nearest()]; of a tiled one the rows near each tile are read;
#' * of all rows: [summarise_into()] and [pick_where()] from tiled features, [flows_between()] of a tiled table, [cross_table()], [dissolve_by()],
#'   [describe_layer()], maps; class intervals of `dplyr::pull(x, column)`;
#' * `head()`, `names()`, `nrow()` where nothing is put off, `dplyr::collect()`, [write_layer()].
#'
#' Windows, and first conditions that compare columns with numbers (`"seats > 100 AND kind = 'school'"`), read the tiles alone that they may hold for.
#'
#' Sums over tiles may differ from those of a frame in the last digit, as they are added in another order. Dissolved shapes may lack a vertex on an edge that
#' another group's border crossed: on longitude and latitude, where edges are measured along the ellipsoid, areas then differ by about a millionth. Columns
#' that are kept in a folder of tiles are numbers, text, logical, dates and times (factors become text).
#' @section Going on: With a target the results of tiles are kept in a folder beside it (its name begins with a point) until all are done: a
#'   run that was ended in the middle, by whatever, goes on where it was when it is called again with the same layer and steps. `run.jsonl`
#'   in it is the log.
#' @section Daemons: `mirai::daemons(4)` starts four on this machine; `mirai::daemons(url = "tls+tcp://...")` waits for those of others, which
#'   need the same version of this package (others are refused by name). Where they do not see the folder of tiles, tiles are sent to them. A tile
#'   whose daemon is lost goes to another one. A tile that is more than a daemon's share of all goes out in pieces of rows, as does one that takes
#'   far longer than others, to those that are idle.
#' @examples
#' cells <- tile_up(demo_file("cells.zip"), file.path(tempdir(), "cells_in_tiles"), rows_per_tile = 500)
#' wards <- read_layer(demo_file("wards.shp"))
#' cells |> keep_where(wards) |> run_tiles()
#' @export
run_tiles <- function(x, target = NULL, replace = FALSE, layer = NULL) {
  call <- rlang::current_env()
  if (!is_tiled(x)) fail("argument", "{.arg x} must be a tiled layer, as {.fn tile_up} and {.fn read_layer} of a folder of tiles give.", call = call)
  if (is.null(target)) return(collect_tiles(x))
  if (!rlang::is_string(target)) fail("argument", "{.arg target} must be a path or a database address.", call = call)
  if (is_folder_target(target)) return(invisible(run_into_folder(x, sub("(?<=.)/+$", "", path.expand(target), perl = TRUE), isTRUE(replace), call)))
  invisible(run_into_file(x, target, isTRUE(replace), layer, call))
}

register_tile_work("write", function(x, target, replace, layer) run_tiles(x, target, replace, layer))

# Without an ending of a format it is a folder.
is_folder_target <- function(target) is.null(format_of_address(target)) && (dir.exists(target) || !nzchar(tools::file_ext(sub("/+$", "", target))))

collect_tiles <- function(x) {
  started <- clock()
  work <- tempfile("tiles")
  dir.create(work)
  on.exit(unlink(work, recursive = TRUE, expand = FALSE))
  out <- run_whole(x, work)
  account_of_run(out, x, started)
}

# `numbers`: the rows' numbers of a frame that was put into tiles are kept.
run_into_folder <- function(x, folder, replace, call, numbers = FALSE) {
  started <- clock()
  need_free_folder(folder, replace, call)
  work <- work_folder(folder, x, call)
  run <- until_whole(x, work)
  found <- tiles_of_rows(if (is.data.frame(run)) tiles_of_frame_rows(run, work$tiles) else run_tasks(run, work, write = TRUE, numbers = numbers))
  prototype <- if (numbers) x$prototype else without_row_numbers(x$prototype)
  source <- tile_source(work$tiles, tile_prototype(prototype), shape_column_name(prototype),
                        if (is_spatial_frame(prototype)) crs_of(prototype), found$tiles, found$ranges)
  write_manifest(source, history = lapply(x$steps, function(step) list(verb = step$verb, call = step$text)))
  publish_folder(work$tiles, folder, call)
  forget_work(work)
  out <- open_tiles(folder, call)
  took <- round(clock() - started, 1)
  say("{.fn run_tiles}: {counted(rows_in(x$source), 'row')} in, {format_count(rows_in(out$source))} out in {counted(tiles_in(out$source), 'tile')}; {took} s.")
  out
}

# A file that rows can be added to is written tile by tile; others, and databases, whose change is one transaction, from a frame of all.
run_into_file <- function(x, target, replace, layer, call) {
  is_file <- is.null(format_of_address(target))
  takes_rows <- is_file && holds(target_format(target, call), "append")
  if (has_whole(x$steps) || !takes_rows) return(write_layer(collect_tiles(x), target, layer = layer, replace = replace))
  target <- path.expand(target)
  layer <- layer %||% stem_of(target)
  if (file.exists(target) && layer %in% list_layers(target)$layer) need_free(target, replace, call)
  work <- work_folder(target, x, call)
  run <- until_whole(x, work)
  beside <- name_beside(target, paste0(".", tools::file_ext(target)))
  on.exit(unlink(beside, expand = FALSE))
  before <- tools::md5sum(target)
  if (!is.na(before) && !file.copy(target, beside)) cut_off(target, call)
  rows <- add_tiles(run, work, beside, layer, replace)
  is_same <- if (is.na(before)) core(core_publish_new_file(beside, target), call = call) else identical(tools::md5sum(target), before)
  if (!is_same) fail("file", c("{.file {target}} was changed by another program meanwhile, and stays as it is.", i = "Try again."), call = call)
  if (!is.na(before)) publish(beside, target, call)
  forget_work(work)
  say("Wrote {.file {target}}: {counted(rows, 'row')}, tile by tile.")
  x
}

# The rows of all tiles into a table of a file, and how many they are.
add_tiles <- function(run, work, file, layer, replace) {
  rows <- 0
  quietly(write_layer(without_row_numbers(run$prototype), file, layer = layer, replace = replace))
  run_tasks(run, work, each = function(frame) {
    if (nrow(frame)) quietly(write_layer(without_row_numbers(frame), file, layer = layer, append = TRUE))
    rows <<- rows + nrow(frame)
  })
  rows
}

# --- a run ---------------------------------------------------------------------------------------------------------------

# A frame of the whole result.
run_whole <- function(x, work) {
  work <- list(folder = work)
  run <- until_whole(x, work)
  if (is.data.frame(run)) return(run)
  frames <- list()
  run_tasks(run, work, each = function(frame) frames[[length(frames) + 1]] <<- plain_rows(frame))
  in_order_of_frame(switch(min(length(frames), 2) + 1, run$prototype, frames[[1]], vctrs::vec_rbind(!!!frames)))
}

plain_rows <- function(frame) {
  attr(frame, "history") <- list()
  frame
}

# Rows of a frame that was put into tiles, as they were.
in_order_of_frame <- function(x) {
  if (!row_number_column %in% names(x)) return(x)
  without_row_numbers(x[order(x[[row_number_column]]), ])
}

without_row_numbers <- function(x) x[setdiff(names(x), row_number_column)]

# What is left to do tile by tile, as a tiled layer whose other layers are all settled; a frame where steps of all rows gave one and nothing is left.
until_whole <- function(x, work) {
  x$source <- tiles_needed(x)
  x$steps <- lapply(x$steps, settled_step, work)
  x <- settled_stages(x, work)
  kinds <- vapply(x$steps, function(step) step$how$kind, "")
  at <- match("whole", kinds)
  if (is.na(at)) return(x)
  before <- x
  before$steps <- x$steps[seq_len(at)]
  out <- run_all_rows(before, work)
  for (step in x$steps[-seq_len(at)]) out <- perform_next(out, step, work)
  out
}

has_whole <- function(steps) any(vapply(steps, function(step) step$how$kind == "whole", NA))

# A step on the frame that steps of all rows gave.
perform_next <- function(out, step, work) {
  other <- step$how$other
  if (is.null(other) || !is_tiled(step$args[[other]])) return(perform_step_on(out, step))
  run_whole(with_step(tiles_of_frame(out), step, NULL), work$folder)
}

# Where shapes are cut that steps before have changed, these steps are run into tiles first: what lies beside a tile is known of tiles alone.
settled_stages <- function(x, work) {
  changes <- vapply(x$steps, function(step) isTRUE(step$how$changes), NA)
  cuts <- vapply(x$steps, function(step) isTRUE(step$how$cut), NA)
  at <- which(cuts & c(FALSE, cumsum(changes)[-length(changes)] > 0)[seq_along(cuts)])[1]
  if (is.na(at)) return(x)
  before <- x
  before$steps <- x$steps[seq_len(at - 1)]
  before$prototype <- prototype_after(x$source, before$steps)
  if (has_whole(before$steps)) return(x)
  x$source <- tiles_of_steps(before, work)$source
  x$steps <- x$steps[-seq_len(at - 1)]
  settled_stages(x, work)
}

# A layer with steps run into tiles that are kept where the work is.
tiles_of_steps <- function(x, work) {
  folder <- file.path(work$folder, paste0("stage-", hash_of_run(x)))
  if (dir.exists(folder)) open_tiles(folder, NULL) else quietly(run_into_folder(x, folder, FALSE, NULL, numbers = TRUE))
}

# The other layer of a step, where it is tiled and has steps of its own, run into tiles.
settled_step <- function(step, work) {
  step$args <- lapply(step$args, function(value) if (is_tiled(value) && length(value$steps)) tiles_of_steps(value, work) else value)
  step
}

run_all_rows <- function(x, work) {
  last <- x$steps[[length(x$steps)]]
  parts <- run_tasks(x, work)
  last$how$merge(parts, last$args, without_row_numbers(prototype_after(x$source, x$steps[-length(x$steps)])))
}

# The frame of no rows that a source gives after some steps.
prototype_after <- function(source, steps) {
  out <- frame_of_source(source)
  for (step in steps) out <- with_step(new_tiled_layer(source, out), step, NULL)$prototype
  out
}

# What a tile gives: its part where the last step is of all rows, else its rows.
result_of_tile <- function(x, k, piece = NULL) {
  last <- if (length(x$steps)) x$steps[[length(x$steps)]]
  if (!identical(last$how$kind, "whole")) return(frame_of_steps(x, k, piece = piece))
  last$how$part(without_row_numbers(frame_of_steps(x, k, x$steps[-length(x$steps)], piece)), last$args)
}

# For a map each shape is simplified to far less than can be seen. The column is named anew, so that no measure is taken of such shapes.
register_tile_work("for_map", function(x) {
  shape <- shape_column_name(x$prototype)
  if (is.null(shape)) return(collect_tiles(x))
  tolerance <- tolerance_of_map(x)
  out <- quietly(collect_tiles(if (tolerance > 0) simplify_by(x, tolerance, keep_borders = FALSE) else x))
  taken <- setdiff(names(out), shape)
  names(out)[names(out) == shape] <- name <- utils::tail(make.unique(c(taken, "simplified")), 1)
  new_spatial_frame(tibble::new_tibble(as.list(out), nrow = nrow(out)), name)
})

# In the unit that simplify_by() takes.
tolerance_of_map <- function(x, dots = 8000) {
  extent <- extent_of_tiles(x$source)
  crs <- crs_of(x)
  width <- max(extent[3] - extent[1], extent[4] - extent[2])
  if (!is.finite(width) || any(vapply(x$steps, function(step) isTRUE(step$how$changes), NA))) return(0)
  width / dots * if (is.null(crs)) 1 else if (crs$kind == "geographic") 111320 else crs$unit_size
}

account_of_run <- function(out, x, started) {
  took <- round(clock() - started, 1)
  rows <- counted(rows_in(x$source), "row")
  tiles <- counted(tiles_in(x$source), "tile")
  say("{.fn run_tiles}: {rows} in {tiles}, {format_count(nrow(out))} out; {took} s.")
  if (!is_spatial_frame(out)) return(out)
  step <- list(verb = "run_tiles", call = paste(vapply(x$steps, `[[`, "", "text"), collapse = " |> "), rows_in = as.integer(min(rows_in(x$source), 2^31 - 1)),
               rows_out = nrow(out), note = tiles, seconds = round(clock() - started, 3), stale = NULL, code = "run_tiles(x)", given = list())
  attr(out, "history") <- list(step)
  out
}

tiles_of_frame_rows <- function(x, folder, rows = 1e6) {
  lapply(seq_len(max(1, ceiling(nrow(x) / rows))), function(k) {
    part <- x[seq.int((k - 1) * rows + 1, length.out = min(rows, nrow(x) - (k - 1) * rows)), ]
    write_tile(part, file.path(folder, sprintf("tile-%05d.parquet", k)))
  })
}

# --- what a run keeps until it is done -------------------------------------------------------------------------------------

# The folder beside a target, in which an ended run of the same steps goes on. One process at a time.
work_folder <- function(target, x, call) {
  folder <- file.path(dirname(target), paste0(".", basename(target), ".run"))
  need_place(target, call)
  owner <- file.path(folder, "owner")
  if (file.exists(owner)) {
    process <- suppressWarnings(as.integer(readLines(owner, 1)))
    if (!is.na(process) && process != Sys.getpid() && tools::pskill(process, 0)) {
      fail("file", c("{.file {target}} is being made by process {process}.", i = "Wait for it, or end it."), call = call)
    }
  }
  id <- hash_of_run(x)
  known <- file.path(folder, "id")
  if (!file.exists(known) || readLines(known, 1) != id) unlink(folder, recursive = TRUE, expand = FALSE)
  dir.create(file.path(folder, "tiles"), FALSE, TRUE)
  if (!dir.exists(folder)) fail("file", "{.file {folder}} cannot be written.", call = call)
  writeLines(as.character(Sys.getpid()), owner)
  writeLines(id, known)
  list(folder = folder, tiles = file.path(folder, "tiles"), keeps = TRUE)
}

forget_work <- function(work) unlink(work$folder, recursive = TRUE, expand = FALSE)

# The same for the same tiles, steps and package.
hash_of_run <- function(x) {
  rlang::hash(list(as.character(utils::packageVersion("civicatlas")), hash_of_source(x$source), lapply(x$steps, function(step) {
    list(step$verb, lapply(step$args, hash_of_argument))
  })))
}

hash_of_source <- function(source) {
  if (is.null(source$folder)) return(hash_of_argument(source$frame))
  rlang::hash(list(as.list(source$tiles[setdiff(names(source$tiles), "groups")]), source$tiles$groups, source$window))
}

hash_of_argument <- function(value) {
  if (is_tiled(value)) return(hash_of_run(value))
  if (rlang::is_quosure(value)) return(rlang::hash(list(rlang::quo_text(value), lapply(as.list(rlang::quo_get_env(value)), hash_of_argument))))
  if (is.function(value)) return(rlang::hash(deparse(value)))
  if (is_spatial_frame(value)) return(rlang::hash(list(as.list(attribute_table(value)), hash_of_argument(as_shapes(value)))))
  if (is_shapes(value)) return(rlang::hash(list(handles_of(value), lapply(store_of(value), as.vector), crs_label(crs_of(value)))))
  rlang::hash(value)
}
