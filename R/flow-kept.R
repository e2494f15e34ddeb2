# What a run leaves in its folder: results of steps that are kept for the next, outputs, and the log.

# One run at a time is at work in a folder: the lock of this one, once others have ended that are waited for.
lock_folder <- function(folder, call) {
  path <- file.path(folder, ".run-lock")
  until <- clock() + busy_wait()
  repeat {
    lock <- core(core_lock_file(path), call = call)
    if (!is.null(lock$held)) return(lock$held)
    if (clock() > until) break
    Sys.sleep(0.05)
  }
  fail("file", c("Another run is at work in {.file {folder}}: {lock$holder}.",
                 i = "Give another {.arg folder}, or wait longer, here a minute: {.code options(civicatlas.busy_wait = 60000)}."), call = call)
}

# Lists of `result`, `rows_in` and what was `said` in warnings.
kept_folder <- function(folder) file.path(folder, ".kept")
kept_path <- function(folder, key) file.path(kept_folder(folder), paste0(key, ".kept"))

# NULL where there is none, or one that cannot be read.
kept_result <- function(folder, key) {
  path <- kept_path(folder, key)
  result <- kept_data(path)
  if (!is.null(result)) Sys.setFileTime(path, Sys.time())  # used last
  result
}

keep_result <- function(folder, key, result) {
  dir.create(kept_folder(folder), FALSE)
  keep_data(result, kept_path(folder, key))
}

# Those used longest ago go where all take more than the option allows.
prune_kept <- function(folder) {
  files <- list.files(kept_folder(folder), full.names = TRUE)
  about <- file.info(files)
  newest <- order(about$mtime, decreasing = TRUE)
  over <- cumsum(about$size[newest]) > as.double(getOption("civicatlas.kept_bytes", 2e9))
  unlink(files[newest][over], expand = FALSE)
}

#' @rdname run_workflow
#' @export
forget_runs <- function(folder = ".") {
  files <- list.files(kept_folder(folder), full.names = TRUE)
  size <- sum(file.size(files))
  unlink(kept_folder(folder), recursive = TRUE, expand = FALSE)
  say("{.fn forget_runs}: {counted(length(files), 'result')} of {format_size(size)} removed from {.file {folder}}.")
  invisible(length(files))
}

# --- outputs ------------------------------------------------------------------------------------------------------------

# Steps by the name of the file in the folder that gets what they gave. Those stay as they are that a run before wrote of the same results, and
# nobody changed.
write_outputs <- function(outputs, run) {
  before <- recorded_outputs(run$folder)
  vapply(names(outputs), function(file) {
    target <- file.path(run$folder, file)
    key <- run$keys[[outputs[[file]]]]
    same <- run$keeps && identical(before[[file]], list(key = key, state = state_of_output(target)))
    if (same) return(target)
    note <- function(state) {
      before[[file]] <<- list(key = key, state = state)
      write_lines(write_json(before), file.path(run$folder, outputs_record))
    }
    note("being written")
    write_output(target, outputs[[file]], run)
    note(state_of_output(target))
    target
  }, "")
}

# What runs wrote into a folder: of each file the `key` of the result that it holds, and its `state` as it was written.
outputs_record <- ".outputs.json"

recorded_outputs <- function(folder) {
  path <- file.path(folder, outputs_record)
  if (!file.exists(path)) return(list())
  tryCatch(as.list(parse_json(rawToChar(core(core_read_bytes(path, -1))), simplifyVector = FALSE)), error = function(e) list())
}

state_of_output <- function(target) paste(tools::md5sum(files_of_output(target)), collapse = " ")

# No output takes the place of a file that no run wrote, or that somebody changed since.
need_outputs_free <- function(folder, files, call) {
  before <- recorded_outputs(folder)
  for (file in files) {
    there <- Filter(file.exists, file.path(folder, files_of_output(file)))
    is_ours <- isTRUE(before[[file]]$state %in% c("being written", state_of_output(file.path(folder, file))))
    if (!length(there) || is_ours) next
    why <- if (is.null(before[[file]])) "no run wrote it" else "it was changed since a run wrote it"
    fail("file", c("The output {.file {there[1]}} is there already, and {why}.",
                   i = "Replace it with {.code {typed('replace = TRUE', '--replace')}}, or give another {.arg folder}."), call = call)
  }
}

# A file for each step that gives a layer or table.
files_of_steps <- function(run) {
  steps <- Filter(function(name) is.data.frame(run$results[[name]]) || is_tiled(run$results[[name]]), names(run$workflow$steps))
  ending <- vapply(steps, function(name) if (is_spatial_frame(run$results[[name]]) || is_tiled(run$results[[name]])) ".gpkg" else ".csv", "")
  stats::setNames(as.list(steps), paste0("steps/", gsub("[^A-Za-z0-9_-]", "_", steps), ending))
}

write_output <- function(target, step, run) {
  file <- basename(target)
  dir.create(dirname(target), FALSE, TRUE)
  result <- run$results[[step]]
  if (inherits(result, "drawing")) {
    draw_into(result, target, run$call)
  } else if (is_tiled(result)) {
    write_layer(result, target, replace = TRUE)
  } else if (is.data.frame(result)) {
    write_layer(without_lists(result), target, replace = TRUE)
  } else {
    fail("argument", "The step {.val {step}} gives no layer that could be written to {.file {file}}.", call = run$call)
  }
  target
}

# --- the log -------------------------------------------------------------------------------------------------------------

# A function that adds a line about a step to run.log, as text, and to run.jsonl.
new_run_log <- function(folder, workflow, values) {
  text <- file.path(folder, "run.log")
  lines <- file.path(folder, "run.jsonl")
  unlink(c(text, lines), expand = FALSE)  # a link too, behind which would lie another file
  shown <- vapply(values, function(value) if (is.data.frame(value)) counted(nrow(value), "row") else without_secrets(paste(value, collapse = ",")), "")
  now <- format(Sys.time(), "%Y-%m-%dT%H:%M:%SZ", tz = "UTC")
  writeLines(enc2utf8(c(paste0(now, "  ", workflow$title), paste0("  ", names(shown), " = ", shown, recycle0 = TRUE))), text, useBytes = TRUE)
  started <- list(started = now, workflow = workflow$title, version = as.character(utils::packageVersion("civicatlas")), inputs = as.list(shown))
  writeLines(write_json(started), lines, useBytes = TRUE)
  add <- function(line, file) cat(enc2utf8(line), "\n", file = file, sep = "", append = TRUE)
  function(about) {
    add(write_json(about), lines)
    memory <- if (is.null(about$peak_megabytes) || is.na(about$peak_megabytes)) "" else sprintf(", %.0f MB at most", about$peak_megabytes)
    counts <- sprintf("%s: %s, %s rows in, %s out, %s s%s%s", about$step, about$command, about$rows_in %||% "?", about$rows_out %||% "?",
                      about$seconds %||% "?", memory, if (isTRUE(about$kept)) ", kept from before" else "")
    if (nzchar(about$counted %||% "")) counts <- paste0(counts, ": ", about$counted)
    add(paste0("  ", if (is.null(about$error)) counts else paste0(about$step, ": failed: ", about$error)), text)
    for (warning in about$said) add(paste0("    ! ", warning), text)
  }
}
