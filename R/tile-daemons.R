# Tiles handed out to the daemons of mirai::daemons(): whole, or in pieces of rows where a tile costs more than a daemon's share. A job is `piece` of
# tile `k`, which is cut into so many (`of`).

# How many daemons the user has set up; 0 without the package.
daemons_set <- function() {
  if (!isNamespaceLoaded("mirai")) return(0)
  connections <- mirai::status()$connections
  if (is.numeric(connections)) connections else 0
}

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

# A daemon that is told to stop while it loads the package does so afterwards, so that it never has half of one.
start_job <- function(task, job, daemons, sent = list()) {
  lean <- task[c("id", "write", "numbers", "work", "results")]
  threads <- threads_for(daemons)
  arguments <- list(task = lean, job = job[c("k", "piece", "of")], sent = sent, version = own_version(), threads = threads,
                    options = options()[c("civicatlas.no_shared_folder", "civicatlas.unpack_limit")])
  work <- mirai::mirai(get("do_job", suspendInterrupts(asNamespace("civicatlas")))(task, job, sent, version, threads, options), .args = arguments)
  c(job[c("k", "piece", "of")], list(started = clock(), sent = sent, mirai = work))
}

own_version <- function() as.character(utils::packageVersion("civicatlas"))

# Each daemon with its share of this machine, so that they do not stand in each other's way, and no more than is asked for.
threads_for <- function(daemons) {
  share <- max(1L, as.integer(core_processors() %/% max(daemons, 1)))
  if (is.null(getOption("civicatlas.threads"))) share else min(share, as.integer(getOption("civicatlas.threads")))
}

# What a daemon does: it asks for what it lacks, the steps or files of tiles, and is asked again with them.
do_job <- function(task, job, sent, version, threads, options) {
  if (own_version() != version) return(list(refused = paste0("has version ", own_version(), " of civicatlas, and this process has ", version)))
  old <- options(c(options, list(civicatlas.threads = threads, civicatlas.quiet = TRUE)))
  on.exit(options(old))
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
  if (mirai::is_mirai_error(found)) found <- list(failed = as.character(found))
  if (mirai::is_error_value(found)) return(lost_job(state, job))
  if (!is.null(found$failed)) fail("tile", c("A daemon failed at tile {k}.", x = "{cli::ansi_strip(found$failed)}"), call = NULL)
  if (!is.null(found$refused)) fail("tile", c("A daemon {found$refused}.", i = "Install the same version there."), call = NULL)
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
