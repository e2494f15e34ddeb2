# Work that may end its process, as libraries of others do on a damaged file or a full disk, done in another process.

# Calls `work` without arguments in a process forked from this one, which may take so many bytes of memory; where there is no
# fork, in this one. Gives its value; its messages, warnings and errors come through. `died` is called where the process ended without a word.
in_a_child <- function(work, died, memory = 1e12) {
  if (.Platform$OS.type == "windows") return(work())
  result <- tempfile("child", fileext = ".rds")
  on.exit(unlink(result))
  child <- core_fork(memory)
  if (child == 0) tryCatch(saveRDS(conditions_of(work()), result, compress = FALSE), finally = core_end_at_once())
  on.exit(tools::pskill(child, tools::SIGKILL), add = TRUE, after = FALSE)
  core(core_wait_for(child))
  on.exit(unlink(result))
  found <- tryCatch(readRDS(result), error = function(e) NULL, warning = function(w) NULL)
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

# Reads a file with another library, first in a process of its own that gives nothing back, unless it was written here and nobody changed
# it since: so a damaged file that would crash the library, or fill the memory, is an error.
read_guarded <- function(path, name, call, read) {
  if (!is_ours(path)) {
    in_a_child(function() {
      read()
      NULL
    }, died = function() too_damaged(name, call), memory = 2 * room_for(path))
  }
  read()
}

too_damaged <- function(name, call) {
  fail("format", c("Cannot read {.file {name}}.", x = "It is so damaged that its reader crashed, or unpacks to more than is allowed.",
                   unpack_remedy()), call = call)
}

room_for <- function(path) if (unpack_option() > 0) unpack_option() else max(1e9, 100 * file.size(path))

# Files that were written in this session, by their stamps.
written_here <- new.env(parent = emptyenv())
stamp_of <- function(path) file.info(path, extra_cols = FALSE)[c("size", "mtime", "ctime")]
note_written <- function(path) written_here[[normalizePath(path)]] <- stamp_of(path)
is_ours <- function(path) identical(written_here[[normalizePath(path)]], stamp_of(path))
