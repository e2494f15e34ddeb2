# Work that may end its process, as libraries of others do on a damaged file or a full disk, done in another process.

# Calls `work` without arguments in a process forked from this one, which may take so many bytes of memory; where there is no
# fork, in this one. Gives its value; its messages, warnings and errors come through. `died` is called where the process ended without a word.
in_a_child <- function(work, died, memory = 1e12) {
  if (.Platform$OS.type == "windows") return(work())
  result <- tempfile("child", fileext = ".rds")
  on.exit(unlink(result))
  child <- core_fork(memory)
  if (child == 0) tryCatch(saveRDS(conditions_of(work()), result, compress = FALSE), finally = core_end_at_once())
  core(core_wait_for(child))
  # Not opened where it is not there: a warning that is caught would leave the connection open for ever.
  found <- if (file.exists(result)) tryCatch(readRDS(result), error = function(e) NULL, warning = function(w) NULL)
  full <- grepl("cannot allocate|bad_alloc", conditionMessage(found$error %||% simpleError("")))
  if (is.null(found) || full) return(died())
  for (said in found$said) if (inherits(said, "warning")) warning(said) else message(said)
  if (!is.null(found$error)) rlang::cnd_signal(found$error)
  found$value
}

conditions_of <- function(expr) {
  said <- list()
  keep <- function(restart) {
    function(condition) {
      said[[length(said) + 1]] <<- condition
      tryInvokeRestart(restart)
    }
  }
  error <- NULL
  value <- tryCatch(withCallingHandlers(expr, warning = keep("muffleWarning"), message = keep("muffleMessage")), error = function(e) {
    error <<- e
    NULL
  })
  list(value = value, error = error, said = said)
}

# Reads a file with another library in a process of its own: so one that would crash the library, or fill the memory, is an error.
# `failed` is called with an error of the library.
read_apart <- function(path, name, call, read, failed = rlang::cnd_signal) {
  tryCatch(in_a_child(read, died = function() too_damaged(name, call), memory = memory_for(path)), error = function(e) {
    if (inherits(e, "civicatlas_error")) rlang::cnd_signal(e)
    failed(e)
  })
}

# The same, but in this process where the file was written here, and nobody changed it since.
read_guarded <- function(path, name, call, read) if (is_ours(path)) read() else read_apart(path, name, call, read)

too_damaged <- function(name, call) {
  fail("format", c("Cannot read {.file {name}}.", x = "It is so damaged that its reader crashed, or unpacks to more than is allowed.",
                   unpack_remedy()), call = call)
}

# Twice what the file may unpack to, as R holds the result too.
memory_for <- function(path) 2 * core(core_room_for(file.size(path)))

# Files that were written in this session, by their stamps.
written_here <- new.env(parent = emptyenv())
note_written <- function(path) written_here[[normalizePath(path)]] <- stamps_of(path)
is_ours <- function(path) identical(written_here[[normalizePath(path, mustWork = FALSE)]], stamps_of(path))

# What changes where files do.
stamps_of <- function(paths) file.info(as.character(paths), extra_cols = FALSE)[c("size", "mtime", "ctime")]
