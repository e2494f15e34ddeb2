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
  state$values
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
  state$size <- pmax(task$layer$source$tiles$rows, 1)
  state$each <- each
  state$given <- 0
  state$told <- list()
  state$started <- clock()
  state$bar <- new_progress("Running tiles", rlang::caller_env(2))
  state
}

# Which tiles may have been kept; kept_tile() tells.
which_kept <- function(task) {
  if (is.null(task$results)) return(integer())
  found <- as.integer(sub("[.]rds$", "", list.files(task$results, "^[0-9]+[.]rds$")))
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
do_tile <- function(task, k) {
  started <- clock()
  told <- character()
  value <- withCallingHandlers(
    tryCatch(quietly(result_of_tile(task$layer, k)), error = function(e) tile_failed(task$layer, k, e)),
    warning = function(w) {
      told <<- c(told, conditionMessage(w))
      tryInvokeRestart("muffleWarning")
    }
  )
  if (is.data.frame(value)) value <- without_history(value)
  rows <- if (is.data.frame(value)) nrow(value)
  if (task$write) value <- write_tile_of_run(value, task, k)
  found <- list(value = value, told = told, rows = rows, seconds = round(clock() - started, 3), process = Sys.getpid(), memory = memory_in_use())
  if (!is.null(task$results)) keep_tile(task, k, found)
  give_memory_back(task$layer$source$tiles$bytes[k])
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

write_tile_of_run <- function(frame, task, k) {
  x <- if (task$numbers) frame else without_row_numbers(frame)
  folder <- if (!is.null(task$work)) file.path(task$work, "tiles") else tempdir()
  path <- file.path(folder, sprintf("tile-%05d.parquet", k))
  found <- write_tile(x, path)
  if (is.null(task$work)) {
    found$bytes <- readBin(path, "raw", file.size(path))
    unlink(path)
  }
  found
}

tile_result_path <- function(task, k) file.path(task$results, sprintf("%05d.rds", k))

keep_tile <- function(task, k, found) {
  path <- tile_result_path(task, k)
  beside <- name_beside(path)
  on.exit(unlink(beside, expand = FALSE))
  saveRDS(found, beside, compress = FALSE)
  file.rename(beside, path)
}

# What was kept of a tile; NULL where it was not, or the tile that was written is no more what it was.
kept_tile <- function(task, k) {
  path <- tile_result_path(task, k)
  if (!file.exists(path)) return(NULL)
  found <- tryCatch(readRDS(path), error = function(e) NULL, warning = function(w) NULL)
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

# --- daemons -------------------------------------------------------------------------------------------------------------

# How many daemons the user has set up; 0 without the package.
daemons_set <- function() {
  if (!isNamespaceLoaded("mirai")) return(0)
  connections <- mirai::status()$connections
  if (is.numeric(connections)) connections else 0
}

# Hands tiles to daemons, as many at a time as there are, until each has come back once.
run_on_daemons <- function(task, left, take) {
  need_package("mirai", "Work on daemons", NULL)
  state <- new.env(parent = emptyenv())
  state$waiting <- left
  state$running <- list()
  state$done <- integer()
  state$seconds <- double()
  state$memory <- 0
  state$tries <- integer(max(left))
  on.exit(lapply(state$running, function(job) mirai::stop_mirai(job$mirai)))
  seen <- looked <- clock()
  daemons <- daemons_set()
  while (length(state$done) < length(left)) {
    if (clock() - looked > 0.2) {
      daemons <- daemons_set()
      looked <- clock()
    }
    if (daemons > 0) seen <- clock()
    if (clock() - seen > patience_for_daemons()) return(finish_here(task, setdiff(left, state$done), take))
    hand_out(state, task, daemons)
    came <- which(vapply(state$running, function(job) !mirai::unresolved(job$mirai), NA))
    if (!length(came)) Sys.sleep(0.005)
    jobs <- state$running[came]
    state$running[came] <- NULL
    for (job in jobs) receive(state, task, job, take)
  }
}

patience_for_daemons <- function() as.double(getOption("civicatlas.daemon_wait", 30))

finish_here <- function(task, left, take) {
  caution("data", "No daemon has been connected for {patience_for_daemons()} seconds; the {counted(length(left), 'tile')} that are left are done here.")
  for (k in left) take(k, do_tile(task, k))
}

# As many tiles as there are daemons, fewer where these would take more memory than is allowed; and at the end those again that take very long.
hand_out <- function(state, task, daemons) {
  allowed <- max(1, floor(as.double(getOption("civicatlas.daemon_bytes", Inf)) / max(state$memory, 1)))
  while (length(state$running) < min(daemons, allowed)) {
    if (length(state$waiting)) {
      k <- state$waiting[1]
      state$waiting <- state$waiting[-1]
    } else {
      k <- slow_tile(state)
      if (is.null(k)) return(invisible())
    }
    state$running <- c(state$running, list(start_job(task, k, daemons)))
  }
}

# One that has been running for longer than any usual, and not twice yet.
slow_tile <- function(state) {
  numbers <- vapply(state$running, `[[`, 0, "k")
  since <- clock() - vapply(state$running, `[[`, 0, "started")
  usual <- if (length(state$seconds)) max(3 * stats::median(state$seconds), 2 * max(state$seconds), 1) else Inf
  slow <- numbers[since > usual & !numbers %in% numbers[duplicated(numbers)]]
  if (length(slow)) slow[1]
}

start_job <- function(task, k, daemons, sent = list()) {
  lean <- task[c("id", "write", "numbers", "work", "results")]
  threads <- threads_for(daemons)
  arguments <- list(task = lean, k = k, sent = sent, version = own_version(), threads = threads,
                    options = options()[c("civicatlas.no_shared_folder", "civicatlas.unpack_limit")])
  work <- mirai::mirai(get("do_tile_for", asNamespace("civicatlas"))(task, k, sent, version, threads, options), .args = arguments)
  list(k = k, started = clock(), sent = sent, mirai = work)
}

own_version <- function() as.character(utils::packageVersion("civicatlas"))

# Each daemon with its share of this machine, so that they do not stand in each other's way, and no more than is asked for.
threads_for <- function(daemons) {
  share <- max(1L, as.integer(core_processors() %/% max(daemons, 1)))
  if (is.null(getOption("civicatlas.threads"))) share else min(share, as.integer(getOption("civicatlas.threads")))
}

# What a daemon does: it asks for what it lacks, the steps or files of tiles, and is asked again with them.
do_tile_for <- function(task, k, sent, version, threads, options) {
  if (own_version() != version) return(list(refused = paste0("has version ", own_version(), " of civicatlas, and this process has ", version)))
  old <- options(c(options, list(civicatlas.threads = threads, civicatlas.quiet = TRUE)))
  on.exit(options(old))
  for (file in names(sent$files)) keep_sent_file(file, sent$files[[file]])
  if (!is.null(sent$layer)) steps_sent[[task$id]] <- sent$layer
  if (is.null(steps_sent[[task$id]])) return(list(needs = "layer"))
  task$layer <- steps_sent[[task$id]]
  if (!is.null(task$work) && !sees(task$work)) task["work"] <- task["results"] <- list(NULL)
  tryCatch(do_tile(task, k), civicatlas_needs = function(e) list(needs = e$files))
}

# Bytes that this process holds; NA where the system does not tell.
memory_in_use <- function() {
  lines <- tryCatch(readLines("/proc/self/status"), error = function(e) character(), warning = function(w) character())
  as.double(sub("[^0-9]*([0-9]+).*", "\\1", grep("^VmHWM", lines, value = TRUE)))[1] * 1024
}

# What came of a job: a result, a wish, a refusal, an error, or the loss of its daemon.
receive <- function(state, task, job, take) {
  found <- job$mirai$data
  k <- job$k
  if (k %in% state$done) return(invisible())
  if (mirai::is_mirai_error(found)) fail("tile", c("A daemon failed at tile {k}.", x = "{cli::ansi_strip(as.character(found))}"), call = NULL)
  if (mirai::is_error_value(found)) return(lost_tile(state, k))
  if (!is.null(found$refused)) fail("tile", c("A daemon {found$refused}.", i = "Install the same version there."), call = NULL)
  if (!is.null(found$needs)) {
    sent <- job$sent
    if (identical(found$needs, "layer")) sent$layer <- task$layer else sent$files[[found$needs]] <- readBin(found$needs, "raw", file.size(found$needs))
    state$running <- c(state$running, list(start_job(task, k, max(daemons_set(), 1), sent)))
    return(invisible())
  }
  state$done <- c(state$done, k)
  state$seconds <- c(state$seconds, found$seconds)
  state$memory <- max(state$memory, found$memory, na.rm = TRUE)
  take(k, settle_sent(found, task, k))
}

# What a daemon that does not see the folder sent back, put there.
settle_sent <- function(found, task, k) {
  if (is.null(task$work)) return(found)
  if (!is.null(found$value$bytes)) {
    path <- file.path(task$work, "tiles", found$value$tile$file)
    write_files(stats::setNames(list(found$value$bytes), path), NULL)
    found$value$bytes <- NULL
  }
  if (!file.exists(tile_result_path(task, k))) keep_tile(task, k, found)
  found
}

# A tile whose daemon was lost goes to another, unless it has ended several: then it may be the reason.
lost_tile <- function(state, k) {
  state$tries[k] <- state$tries[k] + 1L
  if (state$tries[k] >= 5) {
    fail("tile", c("Tile {k} was lost with its daemon 5 times.", i = "It may need more memory than they have: make smaller tiles."), call = NULL)
  }
  if (k %in% vapply(state$running, `[[`, 0, "k")) return(invisible())
  state$waiting <- c(k, state$waiting)
}
