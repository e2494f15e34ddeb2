# Jobs on the daemons of mirai::daemons(): one schedule for tiles and for the steps of workflows and sweeps. A job is a list of what it is about, when
# it `started`, and the `mirai` that stands for what comes of it.

# Seconds since the process began.
clock <- function() proc.time()[["elapsed"]]

# How many daemons the user has set up; 0 without the package.
daemons_set <- function() {
  if (!isNamespaceLoaded("mirai")) return(0)
  connections <- mirai::status()$connections
  if (is.numeric(connections)) connections else 0
}

# Runs jobs until all is `done()`. `queue` is an environment whose `running` are jobs; `begin(daemons)` adds to them, `receive(job, found)` takes what came
# of one, and `alone()` does the rest where no daemon has been there for so long as the user waits for one.
run_jobs <- function(queue, done, begin, receive, alone) {
  on.exit(lapply(queue$running, function(job) mirai::stop_mirai(job$mirai)))
  seen <- looked <- clock()
  daemons <- daemons_set()
  while (!done()) {
    if (clock() - looked > 0.2) {
      daemons <- daemons_set()
      looked <- clock()
    }
    if (daemons > 0) seen <- clock()
    if (clock() - seen > patience_for_daemons()) return(alone())
    begin(daemons)
    came <- which(!vapply(queue$running, function(job) mirai::unresolved(job$mirai), NA))
    if (!length(came)) Sys.sleep(0.002)
    jobs <- queue$running[came]
    queue$running[came] <- NULL
    for (job in jobs) receive(job, outcome_of(job$mirai$data))
  }
}

patience_for_daemons <- function() as.double(getOption("civicatlas.daemon_wait", 30))

tell_no_daemons <- function(left) {
  caution("data", "No daemon has been connected for {patience_for_daemons()} seconds; what is left, {left}, is done here.")
}

# What came of a job: what its function gave, a list, or `failed` with the text of an error, or `lost` with its daemon.
outcome_of <- function(data) {
  if (mirai::is_mirai_error(data)) return(list(failed = as.character(data)))
  if (mirai::is_error_value(data)) return(list(lost = TRUE))
  if (!is.null(data$refused)) fail("daemon", c("A daemon {data$refused}.", i = "Install the same version there."), call = NULL)
  data
}

# Begins a job: a function of ours, by its name, with arguments by theirs. A daemon that is told to stop while it loads the package does so afterwards,
# so that it never has half of one.
begin_job <- function(about, name, arguments, daemons) {
  sent <- list(name = name, arguments = arguments, version = own_version(),
               options = c(list(civicatlas.threads = threads_for(daemons)), options()[c("civicatlas.no_shared_folder", "civicatlas.unpack_limit")]))
  work <- mirai::mirai(get("do_job", suspendInterrupts(asNamespace("civicatlas")))(name, arguments, version, options), .args = sent)
  c(about, list(started = clock(), mirai = work))
}

# What a daemon does.
do_job <- function(name, arguments, version, options) {
  if (own_version() != version) return(list(refused = paste0("has version ", own_version(), " of civicatlas, and this process has ", version)))
  old <- options(c(options, list(civicatlas.quiet = TRUE)))
  on.exit(options(old))
  call <- as.call(lapply(c(name, names(arguments)), as.name))  # by names, so that no message has the values
  names(call) <- c("", names(arguments))
  eval(call, list2env(arguments, parent = topenv()))
}

own_version <- function() as.character(utils::packageVersion("civicatlas"))

# Each daemon with its share of this machine, so that they do not stand in each other's way, and no more than is asked for.
threads_for <- function(daemons) {
  share <- max(1L, as.integer(core_processors() %/% max(daemons, 1)))
  if (is.null(getOption("civicatlas.threads"))) share else min(share, as.integer(getOption("civicatlas.threads")))
}

# The most bytes that this process has held; NA where the system does not tell.
memory_in_use <- function() {
  lines <- tryCatch(readLines("/proc/self/status"), error = function(e) character(), warning = function(w) character())
  as.double(sub("[^0-9]*([0-9]+).*", "\\1", grep("^VmHWM", lines, value = TRUE)))[1] * 1024
}
