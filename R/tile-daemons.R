# Tiles handed out to the daemons of mirai::daemons(): whole, or in pieces of rows where a tile costs more than a daemon's share. A job is `piece` of
# tile `k`, which is cut into so many (`of`).

# Hands tiles to daemons, as many jobs at a time as there are, until each tile has come back once.
run_on_daemons <- function(task, left, take) {
  need_package("mirai", "Work on daemons", NULL)
  state <- new.env(parent = emptyenv())
  state$waiting <- jobs_of_tiles(task, left, daemons_set())
  state$running <- list()
  state$pieces <- list()  # what came of tiles in pieces, by tile and how many pieces
  state$done <- integer()
  state$seconds <- double()
  state$memory <- 0
  state$tries <- integer(max(left))
  finish_here <- function() {
    still <- setdiff(left, state$done)
    tell_no_daemons(counted(length(still), "tile"))
    for (k in still) take(k, do_tile(task, k))
  }
  run_jobs(state, function() length(state$done) == length(left), function(daemons) hand_out(state, task, daemons),
           function(job, found) receive(state, task, job, found, take), finish_here)
}

# What costs more than a daemon's share of all goes out in pieces, so that no daemon waits for another's.
jobs_of_tiles <- function(task, left, daemons) {
  size <- size_of_tiles(task$layer$source)[left]
  pieces <- if (can_be_cut(task)) ceiling(size * max(daemons, 1) / sum(size) - 1e-9) else rep(1, length(left))
  unlist(Map(jobs_of_tile, left, pmin(pieces, pmax(task$layer$source$tiles$rows[left], 1))), recursive = FALSE)
}

jobs_of_tile <- function(k, pieces) lapply(seq_len(pieces), function(i) list(k = k, piece = i, of = pieces))

# Shapes that are cut together with those beside them need these from their own tile too.
can_be_cut <- function(task) !any(vapply(task$layer$steps, function(step) isTRUE(step$how$cut), NA))

# As many jobs as there are daemons, fewer where these would take more memory than is allowed; and at the end a tile again that takes very long, which
# all who are idle share.
hand_out <- function(state, task, daemons) {
  allowed <- max(1, floor(as.double(getOption("civicatlas.daemon_bytes", Inf)) / max(state$memory, 1)))
  while ((idle <- min(daemons, allowed) - length(state$running)) > 0) {
    if (!length(state$waiting)) state$waiting <- jobs_again(state, task, idle)
    if (!length(state$waiting)) return(invisible())
    state$running <- c(state$running, list(start_job(task, state$waiting[[1]], daemons)))
    state$waiting <- state$waiting[-1]
  }
}

# Of a job that has been running for longer than any usual, and not twice yet.
jobs_again <- function(state, task, idle) {
  of_each <- function(name) vapply(state$running, function(job) as.double(job[[name]]), 0)
  repeated <- function(keys) keys %in% keys[duplicated(keys)]
  tile <- of_each("k")
  again <- repeated(paste(tile, of_each("piece"), of_each("of"))) | of_each("of") == 1 & repeated(tile)
  usual <- if (length(state$seconds)) max(3 * stats::median(state$seconds), 2 * max(state$seconds), 1) else Inf
  slow <- which(clock() - of_each("started") > usual & !again)
  if (!length(slow)) return(NULL)
  job <- state$running[[slow[1]]][c("k", "piece", "of")]
  if (job$of == 1 && can_be_cut(task)) jobs_of_tile(job$k, idle) else list(job)
}

start_job <- function(task, job, daemons, sent = list()) {
  lean <- task[c("id", "write", "numbers", "work", "results")]
  begin_job(c(job[c("k", "piece", "of")], list(sent = sent)), "tile_on_daemon", list(task = lean, job = job[c("k", "piece", "of")], sent = sent), daemons)
}

# What a daemon does: it asks for what it lacks, the steps or files of tiles, and is asked again with them.
tile_on_daemon <- function(task, job, sent) {
  if (is.null(steps_sent[[task$id]])) {
    if (is.null(sent$layer)) return(list(needs = "layer"))
    forget_sent()  # of runs before, whose files may have changed since
    steps_sent[[task$id]] <- sent$layer
  }
  for (file in names(sent$files)) keep_sent_file(file, sent$files[[file]])
  task$layer <- steps_sent[[task$id]]
  if (!is.null(task$work) && !sees(task$work)) task["work"] <- task["results"] <- list(NULL)
  tryCatch(if (job$of == 1) do_tile(task, job$k) else work_on_tile(task, job$k, job),
           civicatlas_needs = function(e) list(needs = e$files), error = function(e) list(failed = said_by(e)))
}

# Takes what came of a job: a result, a wish, an error, or the loss of its daemon.
receive <- function(state, task, job, found, take) {
  k <- job$k
  if (k %in% state$done) return(invisible())
  if (!is.null(found$lost)) return(lost_job(state, job))
  if (!is.null(found$failed)) fail("tile", c("A daemon failed at tile {k}.", x = "{cli::ansi_strip(found$failed)}"), call = NULL)
  if (!is.null(found$needs)) {
    sent <- job$sent
    if (identical(found$needs, "layer")) sent$layer <- task$layer else sent$files[[found$needs]] <- readBin(found$needs, "raw", file.size(found$needs))
    state$running <- c(state$running, list(start_job(task, job, max(daemons_set(), 1), sent)))
    return(invisible())
  }
  state$memory <- max(state$memory, found$memory, na.rm = TRUE)
  if (job$of > 1) {
    found <- tile_of_pieces(state, task, job, found)
    if (is.null(found)) return(invisible())
  } else {
    state$seconds <- c(state$seconds, found$seconds)
    found <- settle_sent(found, task, k)
  }
  state$done <- c(state$done, k)
  take(k, found)
}

# The result of a tile whose last piece has come; NULL before.
tile_of_pieces <- function(state, task, job, found) {
  key <- paste(job$k, job$of)
  state$pieces[[key]][[as.character(job$piece)]] <- found
  pieces <- state$pieces[[key]][as.character(seq_len(job$of))]
  if (any(vapply(pieces, is.null, NA))) return(NULL)
  state$pieces[[key]] <- NULL
  all <- function(name) unlist(lapply(pieces, `[[`, name))
  values <- unname(lapply(pieces, `[[`, "value"))
  value <- if (is.data.frame(values[[1]])) vctrs::vec_rbind(!!!values) else structure(values, class = "parts_of_tile")
  finish_tile(task, job$k, list(value = value, told = all("told"), rows = if (is.data.frame(value)) nrow(value), seconds = sum(all("seconds")),
                                process = unique(all("process")), memory = max(all("memory"))))
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

# A job whose daemon was lost goes to another, unless its tile has ended several: then it may be the reason.
lost_job <- function(state, job) {
  state$tries[job$k] <- state$tries[job$k] + 1L
  if (state$tries[job$k] >= 5) {
    fail("tile", c("Tile {job$k} was lost with its daemon 5 times.", i = "It may need more memory than they have: make smaller tiles."), call = NULL)
  }
  same <- function(other) identical(other[c("k", "piece", "of")], job[c("k", "piece", "of")])
  if (!any(vapply(state$running, same, NA))) state$waiting <- c(list(job), state$waiting)
}
