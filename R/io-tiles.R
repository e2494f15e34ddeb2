# Folders of tiles: GeoParquet files with a manifest beside them, or those of others without.

manifest_name <- "tiles.json"
manifest_version <- 1

# A source of tiles: the `folder`, `columns` (empty vectors by name), `shape` (name of the shape column, or NULL), `crs`, and `tiles`, a tibble of
# `file`, `groups` (of rows in it; a list), `rows`, `xmin` to `ymax` and `bytes`, in the order of the rows. `ranges` of columns by tile, as far as known.
tile_source <- function(folder, columns, shape, crs, tiles, ranges = list()) {
  list(folder = folder, columns = columns, shape = shape, crs = crs, tiles = tiles, ranges = ranges)
}

is_tile_folder <- function(path) {
  rlang::is_string(path) && dir.exists(path) && (file.exists(file.path(path, manifest_name)) || length(parquet_files(path)) > 0)
}

parquet_files <- function(folder) list.files(folder, "[.](geo)?parquet$", ignore.case = TRUE)

# --- the manifest --------------------------------------------------------------------------------------------------------

write_manifest <- function(source, history = NULL) {
  tiles <- source$tiles
  tiles$groups <- NULL
  crs <- source$crs
  content <- list(
    civicatlas_tiles = manifest_version, written_by = paste("civicatlas", utils::packageVersion("civicatlas")), rows = sum(tiles$rows),
    crs = if (!is.null(crs)) list(code = if (!is.na(crs$code)) crs$code, text = crs_text(crs)), shape = source$shape,
    columns = lapply(names(source$columns), function(name) list(name = name, type = type_of_column(source$columns[[name]]))),
    tiles = tiles, ranges = source$ranges, history = history
  )
  text <- write_json(content, dataframe = "rows", pretty = TRUE)
  writeLines(with_checksum(text), file.path(source$folder, manifest_name), useBytes = TRUE)
  source
}

# The first member of a manifest is the checksum of what follows: a box or a range that was changed would leave out rows.
checksum_member <- "^[{]\\s*\"checksum\": \"([0-9a-f]{32})\",\\s*"

with_checksum <- function(text) {
  rest <- sub("^[{]\\s*", "", text)
  paste0("{\n  \"checksum\": \"", hash_of_text(rest), "\",\n  ", rest)
}

need_checksum_of_manifest <- function(text, path, call) {
  told <- regmatches(text, regexec(checksum_member, text, useBytes = TRUE))[[1]]
  if (!length(told) || identical(told[2], hash_of_text(sub(checksum_member, "", text, useBytes = TRUE)))) return(invisible())
  broken_manifest(path, "It is not what was written: its checksum is another.", call)
}

# Of its bytes, however its lines end.
hash_of_text <- function(text) rlang::hash(charToRaw(gsub("^\\s+|\\s+$|\r", "", text, useBytes = TRUE)))

# After a tile or piece of so many bytes, as what is left of a large one would stand beside the next: what is young is collected, and all, which takes as
# long as the session is large, after so many bytes.
give_memory_back <- function(bytes) {
  if (!isTRUE(bytes > 4e6)) return(invisible())
  memory_given$bytes <- memory_given$bytes + bytes
  all <- memory_given$bytes > 2e8
  if (all) memory_given$bytes <- 0
  gc(FALSE, full = all)
  core_give_memory_back()
}

memory_given <- rlang::env(bytes = 0)

# As prototype_of_types() has it.
type_of_column <- function(column) if (is.object(column)) class(column)[1] else typeof(column)

read_manifest <- function(folder, call) {
  path <- file.path(folder, manifest_name)
  text <- core(core_read_bytes(path, -1), source = path, call = call)
  content <- tryCatch(parse_json(rawToChar(text), simplifyVector = TRUE), error = function(e) broken_manifest(path, "It is no JSON: {said_by(e)}", call, e))
  version <- if (is.list(content)) content$civicatlas_tiles
  if (!is.list(content) || !rlang::is_integerish(version, 1) || is.null(content$tiles)) broken_manifest(path, "It does not say which tiles there are.", call)
  if (version > manifest_version) {
    fail("format", c("{.file {path}} is of version {version}, written by {content$written_by %||% 'another program'}; this package reads {manifest_version}.",
                     i = "Update {.pkg civicatlas}."), call = call)
  }
  need_checksum_of_manifest(rawToChar(text), path, call)
  need_manifest_fields(content, path, call)
  types <- content$columns
  columns <- if (length(types)) prototype_of_types(types$type, types$name) else list()
  crs <- tryCatch(crs_in_data(content$crs$code %||% content$crs$text, call), error = function(e) {
    broken_manifest(path, "Its CRS cannot be read: {said_by(e)}", call, e)
  })
  tiles <- tiles_of_manifest(content$tiles, path, call)
  if (!identical(sum(tiles$rows), as.double(content$rows))) broken_manifest(path, "Its tiles have not as many rows as it says.", call)
  tile_source(folder, columns, content$shape, crs, tiles, content$ranges)
}

# Are its fields what they must be?
need_manifest_fields <- function(content, path, call) {
  tiles <- content$tiles
  columns <- content$columns
  ranges <- content$ranges
  fits <- c(
    tiles = is.data.frame(tiles) || identical(tiles, list()), rows = rlang::is_scalar_integerish(content$rows),
    shape = is.null(content$shape) || rlang::is_string(content$shape), crs = is.null(content$crs) || is.list(content$crs),
    columns = !length(columns) || (is.data.frame(columns) && is.character(columns$type) && is.character(columns$name)),
    ranges = !length(ranges) || (is.list(ranges) && all(vapply(ranges, is_range, NA, NROW(tiles))))
  )
  if (!all(fits)) broken_manifest(path, paste0("Its \"", names(fits)[!fits][1], "\" is not what it must be."), call)
}

is_range <- function(range, tiles) {
  is_numbers <- function(values) is.null(values) || ((is.numeric(values) || all(is.na(values))) && length(values) == tiles)
  is.list(range) && is_numbers(range$least) && is_numbers(range$greatest)
}

broken_manifest <- function(path, why, call, e = NULL) {
  fail("format", c("Cannot read {.file {path}}.", x = why, i = "Make the tiles anew with {.fn tile_up}, or remove that file: the tiles alone will be read."),
       call = call)
}

tiles_of_manifest <- function(tiles, path, call) {
  tiles <- tibble::as_tibble(tiles, .name_repair = "minimal")
  if (!nrow(tiles)) return(no_tiles())
  numbers <- c("rows", "bytes", box_members)
  is_text <- function(values) is.character(values) && !anyNA(values)
  lacks <- !all(c("file", "md5", numbers) %in% names(tiles)) || !is_text(tiles$file) || !is_text(tiles$md5)
  is_numbers <- function(values) is.numeric(values) || all(is.na(values))
  if (lacks || !all(vapply(tiles[numbers], is_numbers, NA))) broken_manifest(path, "Its tiles lack fields.", call)
  if (any(tiles$file != basename(tiles$file))) broken_manifest(path, "A tile lies outside the folder.", call)
  for (number in numbers) tiles[[number]] <- as.double(tiles[[number]])
  if (is.null(tiles$kinds)) tiles$kinds <- NA_character_
  tiles$groups <- rep(list(NULL), nrow(tiles))
  tiles
}

no_tiles <- function() {
  tibble::tibble(file = character(), rows = double(), xmin = double(), ymin = double(), xmax = double(), ymax = double(), bytes = double(), md5 = character(),
                 kinds = character(), groups = list())
}

# --- folders of others ---------------------------------------------------------------------------------------------------

# The tiles of a folder without a manifest: the groups of rows of its files, which must all be of one kind.
tiles_of_files <- function(folder, call) {
  files <- parquet_files(folder)
  found <- lapply(files, function(file) tiles_of_file(folder, file, call))
  first <- found[[1]]
  for (other in found[-1]) {
    same <- identical(other$columns, first$columns) && identical(other$shape, first$shape) && same_crs_or_none(other$crs, first$crs)
    if (!same) {
      fail("format", c("{.file {other$tiles$file[1]}} has another schema than {.file {first$tiles$file[1]}}, in the folder {.file {folder}}.",
                       i = "Tiles of one layer have the same columns, types and CRS; {.fn stack_layers} puts layers together that differ."), call = call)
    }
  }
  first$tiles <- vctrs::vec_rbind(!!!lapply(found, `[[`, "tiles"))
  first
}

same_crs_or_none <- function(a, b) if (is.null(a) || is.null(b)) is.null(a) && is.null(b) else same_crs(a, b)

tiles_of_file <- function(folder, file, call) {
  path <- file.path(folder, file)
  parquet <- open_parquet(path, path, call)
  on.exit(close_parquet(parquet))
  if (is.null(parquet) || !reads_all(parquet)) return(tile_of_frame(folder, file, call))
  about <- parquet$geo$columns[[parquet$shape %||% ""]]
  crs <- if (!is.null(parquet$shape)) parquet_crs(about, list(name = path), call)
  names <- parquet$names[parquet$readable & parquet$types != "bytes"]
  boxes <- boxes_of_parquet(path, about, call)
  if (nrow(boxes) == 1 && anyNA(boxes)) boxes[1, ] <- parquet_extent(about) %||% NA
  tiles <- tibble::tibble(file = file, rows = parquet$rows, xmin = boxes[, 1], ymin = boxes[, 2], xmax = boxes[, 3], ymax = boxes[, 4],
                          bytes = file.size(path), md5 = time_of_change(path), kinds = NA_character_, groups = as.list(seq_along(parquet$rows)))
  tile_source(folder, prototype_of_types(parquet$types[match(names, parquet$names)], names), parquet$shape, crs, tiles[tiles$rows > 0, ])
}

# Stands for the checksum of a file that may be large, so that what was kept of its rows is not taken for those of another.
time_of_change <- function(path) format(as.double(file.mtime(path)), digits = 17)

# A file that another reader reads, as one tile.
tile_of_frame <- function(folder, file, call) {
  x <- quietly(read_layer(file.path(folder, file)))
  box <- if (is_spatial_frame(x)) unname(box_of(x)) else rep(NA_real_, 4)
  tiles <- tibble::tibble(file = file, rows = as.double(nrow(x)), xmin = box[1], ymin = box[2], xmax = box[3], ymax = box[4],
                          bytes = file.size(file.path(folder, file)), md5 = time_of_change(file.path(folder, file)), kinds = NA_character_,
                          groups = list(NULL))
  tile_source(folder, lapply(as.list(attribute_table(x)), vctrs::vec_ptype), shape_column_name(x), if (is_spatial_frame(x)) crs_of(x), tiles)
}

# --- opening and reading -------------------------------------------------------------------------------------------------

# A folder of tiles as a tiled layer. What is wrong with a tile is told, or with `damaged = "skip"` warned of, and the rest taken.
open_tiles <- function(folder, call, damaged = "refuse") {
  folder <- sub("/+$", "", path.expand(folder))
  source <- if (file.exists(file.path(folder, manifest_name))) read_manifest(folder, call) else tiles_of_files(folder, call)
  path <- paste0(folder, "/", source$tiles$file, recycle0 = TRUE)
  special <- vapply(path, function(one) core(core_is_special(one)), NA)
  wrong <- ifelse(!file.exists(path) | special, "is missing", ifelse(file.size(path) != source$tiles$bytes, "was cut off or replaced", NA))
  beside <- setdiff(parquet_files(folder), source$tiles$file)
  if (any(!is.na(wrong)) || length(beside)) {
    lines <- escape(c(paste(source$tiles$file, wrong)[!is.na(wrong)], paste(beside, "is not in the manifest", recycle0 = TRUE)))
    lines <- stats::setNames(c(utils::head(lines, 5), if (length(lines) > 5) paste("and", length(lines) - 5, "more")), NULL)
    names(lines) <- rep("x", length(lines))
    if (damaged != "skip") {
      skip <- typed("read_layer(folder, damaged = \"skip\")", "--skip-damaged")
      fail("format", c("The tiles in {.file {folder}} are not whole:", lines, i = "{.code {skip}} takes the others."), call = call)
    }
    caution("data", c("Left out of {.file {folder}}:", lines))
    source <- keep_tiles(source, which(is.na(wrong)))
  }
  new_tiled_layer(source, frame_of_tile(source, lapply(source$columns, vctrs::vec_ptype), new_shapes(crs = source$crs)))
}

keep_tiles <- function(source, which) {
  source$tiles <- source$tiles[which, ]
  source$ranges <- lapply(source$ranges, function(range) lapply(range, `[`, which))
  source
}

frame_of_tile <- function(source, columns, shapes) {
  if (is.null(source$shape)) return(tibble::new_tibble(columns, nrow = vctrs::vec_size_common(!!!columns)))
  columns[[source$shape]] <- shapes
  new_spatial_frame(tibble::new_tibble(columns, nrow = length(shapes)), source$shape)
}

# The rows of a tile as a frame: those whose box meets the window that the layer was opened with, and the one that is asked for.
read_tile <- function(source, k, window = NULL, call = NULL) {
  if (is.null(source$folder)) return(rows_in_window(source$frame[source$rows[[k]], ], window))
  if (is.null(window) || is.null(source$window)) return(tile_in_window(source, k, window %||% source$window, call))
  rows_in_window(tile_in_window(source, k, window, call), source$window)
}

tile_in_window <- function(source, k, window, call) {
  tile <- source$tiles[k, ]
  path <- path_of_tile(source$folder, tile$file)
  parquet <- open_parquet(path, path, call)
  on.exit(close_parquet(parquet))
  if (is.null(parquet)) fail("format", "The tile {.file {path}} cannot be read: it is missing or damaged.", call = call)
  missing <- setdiff(c(names(source$columns), source$shape), parquet$names)
  if (length(missing)) fail("format", "The tile {.file {path}} is of another schema: it has no column {.val {missing[1]}}.", call = call)
  before <- stamps_of(path)
  need_checksum(tile, path, call)
  if (!reads_all(parquet)) return(rows_in_window(quietly(read_layer(path)), window))
  groups <- tile$groups[[1]] %||% seq_along(parquet$rows)
  need_rows(tile, sum(parquet$rows[groups]), path, call)
  columns <- core(core_read_parquet(parquet$pointer, match(names(source$columns), parquet$names), groups), source = path, call = call)
  columns <- Map(as_type_of, columns, source$columns)
  found <- if (!is.null(source$shape)) {
    core(core_parquet_shapes(parquet$pointer, match(source$shape, parquet$names), groups, window, FALSE), source = path, call = call)
  }
  if (!identical(stamps_of(path), before)) fail("format", "The tile {.file {path}} was replaced while it was read.", call = call)
  if (is.null(source$shape)) return(frame_of_tile(source, columns, NULL))
  if (!all(found$kept)) columns <- lapply(columns, `[`, which(found$kept))
  frame_of_tile(source, columns, shapes_of_core(found, source$crs))
}

need_rows <- function(tile, rows, path, call) {
  if (!"rows" %in% names(tile) || rows == tile$rows) return(invisible())
  fail("format", "The tile {.file {path}} has {rows} rows, and its manifest says {tile$rows}.", call = call)
}

# Is each byte of a tile as its manifest says? Looked at once, until the file changes.
need_checksum <- function(tile, path, call) {
  if (!isTRUE(grepl("^[0-9a-f]{32}$", tile[["md5"]]))) return(invisible())
  id <- paste(path, tile$md5)
  if (identical(checked_tiles[[id]], stamps_of(path))) return(invisible())
  stamps <- stamps_of(path)
  if (!identical(unname(tools::md5sum(path)), tile$md5)) {
    fail("format", c("The tile {.file {path}} is not what its manifest says: its checksum is another.",
                     i = "It was damaged or replaced. Make the tiles anew with {.fn tile_up}."), call = call)
  }
  checked_tiles[[id]] <- stamps
}

checked_tiles <- new.env(parent = emptyenv())

as_type_of <- function(values, prototype) {
  if (identical(class(values), class(prototype))) return(values)
  if (is.character(prototype)) as.character(values) else if (is.double(prototype) && !is.object(prototype)) as.double(values) else values
}

rows_in_window <- function(x, window) {
  if (is.null(window) || !is_spatial_frame(x)) return(x)
  x[rows_within(list(within = window), as_shapes(x)), ]
}

# --- where this process does not see the folder --------------------------------------------------------------------------------

# Steps that were sent to this process by another (see R/tile-daemons.R).
steps_sent <- new.env(parent = emptyenv())

sees <- function(folder) dir.exists(folder) && !isTRUE(getOption("civicatlas.no_shared_folder"))

# A file of a tile where this process has it: in its folder, or as it was sent. Where it is neither, whoever asked is asked for it.
path_of_tile <- function(folder, file) {
  path <- file.path(folder, file)
  if (sees(folder)) return(path)
  sent <- sent_path(path)
  if (file.exists(sent)) return(sent)
  if (!length(ls(steps_sent))) return(path)
  rlang::abort("", class = "civicatlas_needs", files = path)
}

sent_path <- function(path) file.path(tempdir(), "sent-tiles", rlang::hash(path))

forget_sent <- function() {
  rm(list = ls(steps_sent), envir = steps_sent)
  unlink(dirname(sent_path("")), recursive = TRUE, expand = FALSE)
}

keep_sent_file <- function(path, bytes) {
  target <- sent_path(path)
  dir.create(dirname(target), FALSE)
  writeBin(bytes, target)
}

# A tiled layer's rows that meet a window, of the tiles alone that do.
within_window <- function(x, within, call) {
  query <- settle_window(new_query(within = within, call = call), crs_of(x))
  window <- query$within
  x$source <- keep_tiles(x$source, tiles_within(x$source, window))
  x$source$window <- window
  with_row_step(x, "meeting_window", list(within = if (is.numeric(within)) within else unname(extent_of(within))))
}

# Those whose box meets a window; boxes that nobody knows may.
tiles_within <- function(source, window) {
  tiles <- source$tiles
  outside <- tiles$xmin > window[3] | tiles$xmax < window[1] | tiles$ymin > window[4] | tiles$ymax < window[2]
  which(!outside | is.na(outside))
}

# --- writing -------------------------------------------------------------------------------------------------------------

# Writes a frame or table as a tile and tells its row of the manifest, with the ranges of its columns.
write_tile <- function(x, path, call = NULL) {
  columns <- tile_columns(x, call)
  shapes <- if (is_spatial_frame(x)) as_shapes(x)
  shape <- if (!is.null(shapes)) shape_column_name(x)
  writer <- core(core_create_parquet(path, lapply(columns, `[`, 0L), shape %||% ""), call = call)
  add_to_tile(writer, columns, shapes, nrow(x), call)
  core(core_finish_parquet(writer, suppressWarnings(metadata_of_tile(shapes, shape))), call = call)
  row_of_tile(path, columns, shapes, nrow(x))
}

add_to_tile <- function(writer, columns, shapes, rows, call = NULL) {
  core(core_add_to_parquet(writer, columns, if (is.null(shapes)) integer() else handles_of(shapes), if (!is.null(shapes)) store_of(shapes), rows), call = call)
}

metadata_of_tile <- function(shapes, name) {
  if (is.null(shapes)) return(character())
  geo <- parquet_geo(shapes, name)
  geo$columns[[1]]$covering <- NULL
  c(geo = write_json(geo))
}

row_of_tile <- function(path, columns, shapes, rows) {
  box <- if (length(shapes)) unname(box_of(shapes)) else rep(NA_real_, 4)
  ranges <- lapply(Filter(is_ranged, columns), function(column) {
    present <- as.double(column[!is.na(column)])
    if (length(present)) range(present) else c(NA_real_, NA_real_)
  })
  row <- tibble::tibble(file = basename(path), rows = as.double(rows), xmin = box[1], ymin = box[2], xmax = box[3], ymax = box[4], bytes = file.size(path),
                        md5 = unname(tools::md5sum(path)), kinds = kinds_of_tile(shapes),
                        groups = list(NULL))
  list(tile = row, ranges = ranges)
}

kinds_of_tile <- function(shapes) if (is.null(shapes)) "" else paste(sort(unique(stats::na.omit(geometry_type_of(shapes)))), collapse = " ")

is_ranged <- function(column) (is.numeric(column) || inherits(column, "Date")) && !is.logical(column)

# Columns as tiles hold them: times are on UTC.
tile_columns <- function(x, call = NULL) {
  lapply(writable_columns(x, call, keep = c("Date", "POSIXct")), function(column) {
    if (inherits(column, "POSIXct")) structure(as.double(column), class = c("POSIXct", "POSIXt"), tzone = "UTC") else column
  })
}

# The same without rows.
tile_prototype <- function(x) suppressWarnings(tile_columns(x[0, ]))

# The manifest's `tiles` and `ranges` of what write_tile() told.
tiles_of_rows <- function(found) {
  tiles <- vctrs::vec_rbind(no_tiles(), !!!lapply(found, `[[`, "tile"))
  names <- unique(unlist(lapply(found, function(one) names(one$ranges))))
  ranges <- lapply(stats::setNames(nm = names), function(name) {
    ends <- lapply(found, function(one) one$ranges[[name]] %||% c(NA_real_, NA_real_))
    list(least = vapply(ends, `[`, 0, 1), greatest = vapply(ends, `[`, 0, 2))
  })
  list(tiles = tiles, ranges = ranges)
}

# A folder beside its place in which tiles are made, and which takes it when it is whole.
publish_folder <- function(beside, folder, call) {
  core(core_flush_files(list.files(beside, full.names = TRUE)), call = call)
  old <- if (dir.exists(folder)) name_beside(folder)
  if (!is.null(old) && !file.rename(folder, old)) fail("file", "{.file {folder}} cannot be replaced.", call = call)
  if (!file.rename(beside, folder)) {
    if (!is.null(old)) file.rename(old, folder)
    fail("file", "{.file {folder}} cannot be written.", call = call)
  }
  if (!is.null(old)) unlink(old, recursive = TRUE, expand = FALSE)
}

need_free_folder <- function(folder, replace, call) {
  need_place(folder, call)
  if (!file.exists(folder)) return(invisible())
  if (!dir.exists(folder)) fail("file", "{.file {folder}} is a file, where a folder of tiles is to be.", call = call)
  there <- list.files(folder, all.files = TRUE, no.. = TRUE)
  others <- setdiff(there, c(manifest_name, parquet_files(folder)))
  if (length(others)) {
    fail("file", c("{.file {folder}} holds other files than tiles: {.file {utils::head(others, 3)}}.", i = "Name another folder."), call = call)
  }
  if (length(there) && !replace) {
    fail("file", c("{.file {folder}} is there already.", i = "Replace it with {.code {typed('replace = TRUE', '--replace')}}."), call = call)
  }
}
