# Tiles handed out, here or to daemons, and what comes back of each.

# Runs all tiles of a layer and gives their results in the order of the tiles; with `each`, hands them to it in that order and gives nothing. With
# `write`, rows become tiles in the folder of the work, and the results are what write_tile() tells. What an ended run left is taken.
run_tasks <- function(x, work, write = FALSE, each = NULL, numbers = FALSE) {
  task <- new_task(x, work, write, numbers)
  state <- new_run_state(task, each)
  for (k in which_kept(task)) take_result(state, task, k, kept_tile(task, k), kept = TRUE)
  left <- which(!state$there)
  if (is.null(each)) left <- left[order(-state$size[left])]  # the largest first, so that none is left over at the end
  if (length(left) && daemons_set() > 0) {
    run_on_daemons(task, left, function(k, found) take_result(state, task, k, found))
  } else {
    for (k in left) take_result(state, task, k, do_tile(task, k))
  }
  tell_of_tiles(do.call(rbind, state$told))
  unlist(lapply(state$values, function(value) if (inherits(value, "parts_of_tile")) value else list(value)), recursive = FALSE)
}

# What is to be done with each tile. `work` and `results` are the folders where it is kept, or NULL where nothing is.
new_task <- function(x, work, write, numbers) {
  keeps <- isTRUE(work$keeps)
  id <- if (keeps) hash_of_run(x) else basename(tempfile("run"))
  list(layer = x, write = write, numbers = numbers, id = id, work = if (keeps) work$folder, results = if (keeps) result_folder(work$folder, id))
}

new_run_state <- function(task, each) {
  n <- tiles_in(task$layer$source)
  state <- new.env(parent = emptyenv())
  state$values <- vector("list", if (is.null(each)) n else 0)
  state$waiting <- list()  # of `each`, by number, where nothing is kept on the disk
  state$there <- logical(n)
  state$size <- size_of_tiles(task$layer$source)
  state$each <- each
  state$given <- 0
  state$told <- list()
  state$started <- clock()
  state$bar <- new_progress("Running tiles", rlang::caller_env(2))
  state
}

# What they weigh among each other: bytes, or rows where files hold several or nothing is known.
size_of_tiles <- function(source) {
  bytes <- source$tiles$bytes
  pmax(if (anyNA(bytes) || anyDuplicated(source$tiles$file)) source$tiles$rows else bytes, 1)
}

# Which tiles may have been kept; kept_tile() tells.
which_kept <- function(task) {
  if (is.null(task$results)) return(integer())
  found <- as.integer(sub("[.]kept$", "", list.files(task$results, "^[0-9]+[.]kept$")))
  sort(found[vapply(found, function(k) !is.null(kept_tile(task, k)), NA)])
}

take_result <- function(state, task, k, found, kept = FALSE) {
  note_result(state, task, k, found, kept)
  state$there[k] <- TRUE
  if (is.null(state$each)) state$values[k] <- list(found$value) else give_in_order(state, task, k, found$value)
  state$bar(sum(state$size[state$there]) / sum(state$size))
}

# Hands results on as soon as all before them were. Those that have to wait stay on the disk where they are kept there.
give_in_order <- function(state, task, k, value) {
  if (k == state$given + 1) {
    state$each(value)
    state$given <- k
  } else if (is.null(task$results)) {
    state$waiting[[as.character(k)]] <- value
  }
  while (state$given < length(state$there) && state$there[state$given + 1]) {
    following <- state$given + 1
    state$each(if (is.null(task$results)) state$waiting[[as.character(following)]] else kept_tile(task, following)$value)
    state$waiting[[as.character(following)]] <- NULL
    state$given <- following
  }
}

result_folder <- function(folder, id) {
  path <- file.path(folder, paste0("results-", substr(id, 1, 12)))
  dir.create(path, FALSE, TRUE)
  path
}

# One tile: its value, and what was said. Kept where the work is.
do_tile <- function(task, k) finish_tile(task, k, work_on_tile(task, k))

# The same before anything is written, of a tile or of a piece of it.
work_on_tile <- function(task, k, piece = NULL) {
  started <- clock()
  told <- character()
  before <- first_of_piece(task$layer$source$tiles$rows[k], piece) - 1
  note <- if (before > 0) paste0(" Rows are counted from row ", format_count(before + 1), " of the tile.")
  value <- withCallingHandlers(
    tryCatch(quietly(result_of_tile(task$layer, k, piece)), error = function(e) tile_failed(task$layer, k, e)),
    warning = function(w) {
      text <- conditionMessage(w)
      told <<- c(told, if (grepl("row", text)) paste0(text, note) else text)
      tryInvokeRestart("muffleWarning")
    }
  )
  if (is.data.frame(value)) value <- without_history(value)
  give_memory_back(task$layer$source$tiles$bytes[k])
  list(value = value, told = told, rows = if (is.data.frame(value)) nrow(value), seconds = round(clock() - started, 3), process = Sys.getpid(),
       memory = memory_in_use())
}

finish_tile <- function(task, k, found) {
  if (task$write) found$value <- write_tile_of_run(found$value, task, k)
  if (!is.null(task$results)) keep_tile(task, k, found)
  found
}

without_history <- function(x) {
  attr(x, "history") <- if (is_spatial_frame(x)) list()
  x
}

tile_failed <- function(layer, k, e) {
  if (inherits(e, "civicatlas_needs")) rlang::cnd_signal(e)
  where <- layer$source$tiles$file[k] %||% paste("tile", k)
  fail("tile", c("The work on {.file {where}} failed.", x = "{cli::ansi_strip(said_by(e))}"), call = NULL)
}

# Under a name of its own first: where a tile takes very long, another daemon writes it too.
write_tile_of_run <- function(frame, task, k) {
  x <- if (task$numbers) frame else without_row_numbers(frame)
  name <- sprintf("tile-%05d.parquet", k)
  beside <- name_beside(file.path(task$work %||% tempdir(), name))
  on.exit(unlink(beside, expand = FALSE))
  found <- write_tile(x, beside)
  found$tile$file <- name
  if (is.null(task$work)) {
    found$bytes <- readBin(beside, "raw", file.size(beside))
    return(found)
  }
  core(core_flush_files(beside))  # here, while other tiles are worked on, and not all at the end
  if (!file.rename(beside, file.path(task$work, "tiles", name))) fail("file", "{.file {name}} cannot be written into {.file {task$work}}.", call = NULL)
  found
}

tile_result_path <- function(task, k) file.path(task$results, sprintf("%05d.kept", k))

keep_tile <- function(task, k, found) keep_data(found, tile_result_path(task, k))

# What was kept of a tile; NULL where it was not, or the tile that was written is no more what it was.
kept_tile <- function(task, k) {
  found <- kept_data(tile_result_path(task, k))
  if (is.null(found) || !task$write) return(found)
  tile <- file.path(task$work, "tiles", found$value$tile$file)
  if (identical(unname(tools::md5sum(tile)), found$value$tile$md5)) found
}

note_result <- function(state, task, k, found, kept) {
  state$told <- c(state$told, list(data.frame(text = as.character(found$told), tile = rep(k, length(found$told)))))
  if (is.null(task$work) || kept) return(invisible())
  line <- list(tile = k, rows = found$rows, seconds = found$seconds, process = found$process, memory = found$memory, at = round(clock() - state$started, 3),
               warnings = length(found$told))
  cat(write_json(line), "\n", sep = "", file = file.path(task$work, "run.jsonl"), append = TRUE)
}

# Each kind of warning once, as the first tile gave it, with how many more did. Numbers of rows are those in the tile.
tell_of_tiles <- function(told) {
  if (!NROW(told)) return(invisible())
  kind <- gsub("[0-9][0-9.,]*", "#", told$text)
  for (of_kind in split(told, factor(kind, unique(kind)))) {
    others <- length(unique(of_kind$tile)) - 1
    text <- cli::ansi_strip(of_kind$text[1])
    caution("data", c("{text}", i = "In tile {of_kind$tile[1]}{if (others) paste0(', and the like in ', counted(others, 'other'))}."))
  }
}
