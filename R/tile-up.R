#' Put a layer into tiles
#'
#' `tile_up()` streams any source that [read_layer()] reads into a folder of GeoParquet files: rows that lie near each other (along a Hilbert curve)
#' are in one file, and all files have as many rows. What is larger than memory can so be worked on, tile by tile, by one process or many:
#' `read_layer(folder)` opens the folder, and [run_tiles()] says what works on it. Rows are read, sorted and written in pieces, never all at once, as
#' long as the format can be read so: shapefiles, GeoPackage, PostgreSQL, CSV, GeoJSON of one feature a line, GeoParquet by its groups of rows.
#' Others are read whole.
#'
#' @param source A path or address as for [read_layer()], a spatial frame or data frame, or a tiled layer.
#' @param folder The folder to make. It is whole or not there: tiles are made in a folder beside it, which is then renamed.
#' @param rows_per_tile How many rows a tile has; the last has what is left, and tiles of many vertices have fewer.
#' @param layer,crs,encoding,coords,wkt,damaged As for [read_layer()].
#' @param replace `TRUE` to replace a folder of tiles that is there.
#' @param memory How many bytes sorting may take, roughly: a tile is never larger than a quarter of it.
#' @return A `tiled_layer`, as `read_layer(folder)` gives.
#' @section The folder: Files `tile-00001.parquet` and so on are GeoParquet 1.1, which many programs read. `tiles.json` tells for each its rows,
#'   extent, size, checksum (MD5) and the ranges of its columns, and the columns' types, the CRS and what the tiles were made of, below a
#'   checksum of all that; who writes it by hand leaves the line `checksum` out. A folder of
#'   GeoParquet files without it is opened too, if all have one schema.
#' @section Errors: As [read_layer()]; `civicatlas_error_file` where the folder is there or cannot be written; a column that holds numbers in
#'   one part and text in another becomes text, which is said.
#' @examples
#' folder <- file.path(tempdir(), "cells")
#' cells <- tile_up(demo_file("cells.zip"), folder, rows_per_tile = 500)
#' cells
#' @export
tile_up <- function(source, folder, rows_per_tile = 1e6, layer = NULL, crs = NULL, encoding = NULL, coords = NULL, wkt = NULL, damaged = "refuse",
                    replace = FALSE, memory = 1e9) {
  started <- clock()
  call <- rlang::current_env()
  need_count(rows_per_tile, call, "rows_per_tile")
  folder <- sub("(?<=.)/+$", "", path.expand(folder), perl = TRUE)
  need_free_folder(folder, isTRUE(replace), call)
  beside <- name_beside(folder)
  on.exit(unlink(beside, recursive = TRUE, expand = FALSE))
  if (!dir.create(beside, FALSE)) fail("file", "{.file {folder}} cannot be written.", call = call)
  query <- new_query(crs = as_crs(crs, call = call), encoding = encoding, coords = coords, wkt = wkt, damaged = damaged, call = call)
  rows <- if (is_tile_folder(source)) quietly(read_layer(source, crs = crs, damaged = damaged)) else source
  spool <- spool_source(rows, layer, query, file.path(beside, "spool"), rows_per_tile, memory, call)
  sorted <- sort_spool(spool, beside, rows_per_tile, memory, call)
  unlink(spool$folder, recursive = TRUE, expand = FALSE)
  history <- list(list(verb = "tile_up", source = if (rlang::is_string(source)) without_secrets(source) else "a frame", made = format(Sys.time(), tz = "UTC")))
  write_manifest(tile_source(beside, spool$columns, spool$shape, spool$crs, sorted$tiles, sorted$ranges), history)
  publish_folder(beside, folder, call)
  out <- open_tiles(folder, call)
  took <- round(clock() - started, 1)
  say("{.fn tile_up}: {counted(sum(sorted$tiles$rows), 'row')} in {counted(nrow(sorted$tiles), 'tile')}, {format_size(sum(sorted$tiles$bytes))}; {took} s.")
  out
}

# --- spooling: the rows as they come, in pieces on the disk ----------------------------------------------------------------------

# The pieces of a source in a folder of their own, and what is common to them: `columns`, `shape`, `crs`, `rows` of each and a sample of the places of
# their rows.
spool_source <- function(source, layer, query, folder, rows, memory, call) {
  spool <- new.env(parent = emptyenv())
  spool$folder <- folder
  spool$forget <- function() {
    unlink(folder, recursive = TRUE, expand = FALSE)
    dir.create(folder)
    spool$pieces <- list()
  }
  spool$forget()
  feed_pieces(source, layer, query, rows, function(x) add_piece(spool, x, call), spool$forget, call)
  settle_columns(spool)
  spool
}

# Hands all rows of a source, as frames of about so many rows.
feed_pieces <- function(source, layer, query, rows, add, again, call) {
  if (is_tiled(source)) return(each_tile(source, add))
  if (is.data.frame(source)) {
    for (first in seq(1, max(nrow(source), 1), by = rows)) add(source[seq.int(first, length.out = min(rows, nrow(source) - first + 1)), ])
    return(invisible())
  }
  opened <- open_source(source, layer, call)
  on.exit(close_source(opened))
  told <- FALSE
  with_progress(paste("Reading", opened$name), stream_source(opened, query, rows, again = again, give = function(found) {
    x <- frame_of(found)
    if (is_spatial_frame(x)) {
      if (is.null(crs_of(x)) && !told) caution("crs", "{.file {basename(opened$name)}} has no CRS; give {.arg crs}.")
      told <<- TRUE
      x <- with_shapes(x, admitted(as_shapes(x)))
    }
    add(x)
  }))
}

each_tile <- function(layer, add) for (k in seq_len(tiles_in(layer$source))) add(frame_of_steps(layer, k))

add_piece <- function(spool, x, call) {
  k <- length(spool$pieces) + 1
  found <- write_tile(x, file.path(spool$folder, sprintf("piece-%05d.parquet", k)), call)
  shapes <- if (is_spatial_frame(x)) as_shapes(x)
  spool$pieces[[k]] <- list(
    tile = found$tile, columns = tile_prototype(x), shape = shape_column_name(x),
    known = vapply(as.list(attribute_table(x)), function(column) !all(is.na(column)), NA), crs = if (!is.null(shapes)) crs_of(shapes),
    sample = sampled_places(shapes, nrow(x))
  )
  give_memory_back(found$tile$bytes)
}

# The middles of the boxes of some rows, spread evenly, and their numbers in the piece.
sampled_places <- function(shapes, rows, most = 4000) {
  at <- unique(round(seq(1, rows, length.out = min(most, rows))))
  if (is.null(shapes) || !rows) return(list(at = at, boxes = matrix(NA_real_, 4, length(at))))
  list(at = at, boxes = core(core_boxes(handles_of(shapes)[at], store_of(shapes))))
}

# One type for each column, whatever the pieces held.
settle_columns <- function(spool) {
  pieces <- spool$pieces
  spool$rows <- vapply(pieces, function(piece) piece$tile$rows, 0)
  spool$shape <- unlist(lapply(pieces, `[[`, "shape"))[1]
  spool$crs <- pieces[[1]]$crs
  names <- unique(unlist(lapply(pieces, function(piece) names(piece$columns))))
  mixed <- character()
  spool$columns <- lapply(stats::setNames(nm = names), function(name) {
    there <- Filter(function(piece) isTRUE(piece$known[[name]]), Filter(function(piece) name %in% names(piece$columns), pieces))
    if (!length(there)) return(Find(function(piece) name %in% names(piece$columns), pieces)$columns[[name]])
    types <- lapply(there, function(piece) piece$columns[[name]])
    common <- tryCatch(vctrs::vec_ptype_common(!!!types), error = function(e) NULL)
    if (is.null(common)) mixed <<- c(mixed, name)
    common %||% character()
  })
  if (length(mixed)) caution("data", "Columns that hold text in some parts and other values in others became text: {.val {mixed}}.")
}

# --- sorting: the pieces cut by ranges of the curve, large ranges cut again, and each sorted ------------------------------------------

sort_spool <- function(spool, folder, rows_per_tile, memory, call) {
  rows <- spool$rows
  total <- sum(rows)
  bytes <- sum(vapply(spool$pieces, function(piece) piece$tile$bytes, 0))
  if (!total) return(tiles_of_rows(list()))
  # R holds about twice what the file does, of a range and of what is left of the one before.
  rows_per_tile <- max(1, min(rows_per_tile, floor(total * memory / 4 / max(2 * bytes, 1))))
  number <- unused_name(names(spool$columns))
  first <- cumsum(c(0, rows))
  sorting <- list(columns = c(spool$columns, stats::setNames(list(double()), number)), number = number, shape = spool$shape, crs = spool$crs,
                  folder = spool$folder, extent = middle_extent(spool$pieces), total = total,
                  limits = list(rows = rows_per_tile, bytes = memory / 8), call = call)
  sorting$samples <- sort(unlist(lapply(seq_along(rows), function(k) sample_keys(spool$pieces[[k]]$sample, sorting$extent, first[k], total))))
  feed <- function(use) {
    for (k in seq_along(rows)) {
      x <- settled_piece(spool, k)
      x[[number]] <- first[k] + seq_len(nrow(x))
      use(x)
      unlink(file.path(spool$folder, sprintf("piece-%05d.parquet", k)))
      give_memory_back(spool$pieces[[k]]$tile$bytes)
    }
  }
  whole <- list(from = -Inf, to = Inf, rows = total, name = "range")
  tiles_of_rows(write_sorted(cut_rows(feed, cuts_within(whole, sorting), whole, sorting), folder, sorting))
}

# The last rows of tiles: each has so many rows, or fewer where these have many vertices.
ends_of_tiles <- function(x, limits) {
  n <- nrow(x)
  shapes <- if (is_spatial_frame(x)) as_shapes(x)
  bytes <- cumsum(64 + 16 * if (is.null(shapes)) rep(0, n) else core(core_vertex_counts(handles_of(shapes), store_of(shapes))))
  ends <- integer()
  start <- 0
  while (start < n) {
    start <- max(start + 1, min(start + limits$rows, n, findInterval(limits$bytes + if (start) bytes[start] else 0, bytes)))
    ends <- c(ends, start)
  }
  ends
}

# Where most rows lie: a few that lie absurdly far off do not put all others into one cell.
middle_extent <- function(pieces) {
  boxes <- do.call(cbind, lapply(pieces, function(piece) piece$sample$boxes))
  middles <- list(x = (boxes[1, ] + boxes[3, ]) / 2, y = (boxes[2, ] + boxes[4, ]) / 2)
  ends <- vapply(middles, function(at) {
    at <- at[is.finite(at)]
    if (!length(at)) return(c(0, 1))
    inner <- stats::quantile(at, c(0.01, 0.99), names = FALSE)
    slack <- max(diff(inner), 1e-9 * max(abs(inner)))
    c(max(min(at), inner[1] - slack), min(max(at), inner[2] + slack))
  }, c(0, 1))
  c(ends[1, "x"], ends[1, "y"], ends[2, "x"], ends[2, "y"])
}

# The place on the curve, and behind the point the number of the row, by which rows in one place are kept apart.
row_keys <- function(places, numbers, total) places + (numbers - 1) / total

sample_keys <- function(sample, extent, first, total) {
  boxes <- sample$boxes
  middles <- point_shapes((boxes[1, ] + boxes[3, ]) / 2, (boxes[2, ] + boxes[4, ]) / 2)
  row_keys(core(core_hilbert_keys(handles_of(middles), store_of(middles), extent)), first + sample$at, total)
}

keys_of_rows <- function(x, sorting) {
  numbers <- x[[sorting$number]]
  if (!is_spatial_frame(x)) return(numbers)
  shapes <- as_shapes(x)
  row_keys(core(core_hilbert_keys(handles_of(shapes), store_of(shapes), sorting$extent)), numbers, sorting$total)
}

# Keys of sampled rows that cut a range into parts small enough to sort; on either side of each lies a row, so that cutting comes to an end.
cuts_within <- function(range, sorting) {
  inner <- sorting$samples[sorting$samples > range$from & sorting$samples <= range$to]
  parts <- min(ceiling(range$rows / sorting$limits$rows), max(2, getOption("civicatlas.open_files", 500)))
  if (parts <= 1 || length(inner) <= 1) return(double())
  setdiff(stats::quantile(inner, seq_len(parts - 1) / parts, type = 1), max(inner))
}

# The rows that feed(use) hands over, a file for each of the ranges of keys between the cuts.
cut_rows <- function(feed, cuts, range, sorting) {
  writers <- vector("list", length(cuts) + 1)
  names <- sprintf("%s-%05d", range$name, seq_along(writers))
  paths <- file.path(sorting$folder, paste0(names, ".parquet"))
  groups <- lapply(writers, function(writer) double())
  feed(function(x) {
    part <- findInterval(keys_of_rows(x, sorting), cuts, left.open = TRUE) + 1L
    for (k in unique(part)) {
      some <- x[part == k, ]
      if (is.null(writers[[k]])) writers[[k]] <<- core(core_create_parquet(paths[k], sorting$columns, sorting$shape %||% ""), call = sorting$call)
      add_to_tile(writers[[k]], as.list(attribute_table(some)), if (is_spatial_frame(some)) as_shapes(some), nrow(some), sorting$call)
      groups[[k]] <<- c(groups[[k]], nrow(some))
    }
  })
  metadata <- suppressWarnings(metadata_of_tile(if (!is.null(sorting$shape)) new_shapes(crs = sorting$crs), sorting$shape))
  ends <- c(range$from, cuts, range$to)
  lapply(which(lengths(groups) > 0), function(k) {
    core(core_finish_parquet(writers[[k]], metadata), call = sorting$call)
    list(from = ends[k], to = ends[k + 1], rows = sum(groups[[k]]), groups = groups[[k]], name = names[k], path = paths[k])
  })
}

read_range <- function(range, sorting, groups = NULL) {
  tile <- tibble::tibble(file = basename(range$path), groups = list(groups))
  read_tile(tile_source(sorting$folder, sorting$columns, sorting$shape, sorting$crs, tile), 1)
}

# The parts of a range that is too large to be sorted in memory, read in pieces; NULL for one that is not, or cannot be cut.
parts_of_range <- function(range, sorting) {
  if (range$rows <= 2 * sorting$limits$rows) return(NULL)
  cuts <- cuts_within(range, sorting)
  if (!length(cuts)) return(NULL)
  pieces <- split(seq_along(range$groups), floor(cumsum(range$groups) / sorting$limits$rows))
  parts <- cut_rows(function(use) for (groups in pieces) use(read_range(range, sorting, groups)), cuts, range, sorting)
  unlink(range$path)
  parts
}

unused_name <- function(names) utils::tail(make.unique(c(names, ".row"), sep = "_"), 1)

# A piece with the columns and types of all.
settled_piece <- function(spool, k) {
  piece <- spool$pieces[[k]]
  source <- tile_source(spool$folder, piece$columns, piece$shape, spool$crs, piece$tile)
  x <- read_tile(source, 1)
  there <- as.list(attribute_table(x))
  columns <- lapply(stats::setNames(nm = names(spool$columns)), function(name) {
    wanted <- spool$columns[[name]]
    values <- there[[name]]
    if (is.null(values) || !piece$known[[name]]) return(vctrs::vec_init(wanted, nrow(x)))
    if (is.character(wanted) && !is.character(values)) as_text(values) else vctrs::vec_cast(values, wanted)
  })
  shapes <- if (is.null(spool$shape)) NULL else if (is.null(piece$shape)) new_shapes(rep(NA_integer_, nrow(x)), crs = spool$crs) else as_shapes(x)
  frame_of_tile(list(shape = spool$shape), columns, shapes)
}

as_text <- function(values) if (is.double(values) && !is.object(values)) core(core_number_text(values, -1L)) else as.character(values)

# Sorts each range and writes tiles of so many rows, the rest of a range with the next.
write_sorted <- function(waiting, folder, sorting) {
  found <- list()
  rest <- NULL
  bar <- new_progress("Writing tiles")
  flush <- function(x, all) {
    ends <- ends_of_tiles(x, sorting$limits)
    if (!all) ends <- utils::head(ends, -1)  # the last may not be full
    for (tile in seq_along(ends)) {
      rows <- seq.int(c(0, ends)[tile] + 1, ends[tile])
      path <- file.path(folder, sprintf("tile-%05d.parquet", length(found) + 1))
      found[[length(found) + 1]] <<- write_tile(x[rows, ], path, sorting$call)
      bar(sum(vapply(found, function(one) one$tile$rows, 0)) / sorting$total)
    }
    rows_of_their_own(x, seq_len(nrow(x) - max(0, ends)) + max(0, ends))
  }
  while (length(waiting)) {
    range <- waiting[[1]]
    parts <- parts_of_range(range, sorting)
    waiting <- c(parts, waiting[-1])
    if (!is.null(parts)) next
    bytes <- file.size(range$path)
    x <- sorted_range(range, sorting)
    if (!is.null(rest)) x <- vctrs::vec_rbind(rest, x)
    rest <- flush(x, all = !length(waiting))
    give_memory_back(bytes)
  }
  found
}

# Some rows without the shapes of the others, which a slice may hold in memory; NULL for none.
rows_of_their_own <- function(x, rows) {
  if (!length(rows)) return(NULL)
  x <- x[rows, ]
  if (is_spatial_frame(x)) with_shapes(x, compacted(as_shapes(x))) else x
}

sorted_range <- function(range, sorting) {
  x <- read_range(range, sorting)
  unlink(range$path)
  order <- order(keys_of_rows(x, sorting), x[[sorting$number]])
  x[[sorting$number]] <- NULL
  x[order, ]
}
