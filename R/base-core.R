# Calls of the core.

# Which kind of error of ours each error of the core is.
core_error_kinds <- c(
  "civic::FormatError" = "format",
  "civic::LimitError" = "format",
  "civic::FileError" = "file",
  "civic::CrsError" = "crs",
  "civic::ArgumentError" = "argument"
)

# Runs a call of the core, with a progress bar where it takes long; its errors become ours, with the source they arose in.
core <- function(expr, source = NULL, call = rlang::caller_env(2)) {
  set_limits()
  tryCatch(
    with_progress(work_of(call), expr),
    `civic::Interrupted` = function(e) rlang::interrupt(),
    `C++Error` = function(e) {
      kind <- core_error_kinds[intersect(class(e), names(core_error_kinds))]
      if (!length(kind)) kind <- "core"
      text <- said_by(e)
      message <- if (is.null(source)) c("{text}") else c("Cannot read {.file {source}}.", x = "{text}")
      fail(kind, c(message, if (inherits(e, "civic::LimitError")) unpack_remedy()), call = call)
    }
  )
}

# What a decoder or writer met and went on from: one warning that lists each kind with its count and first place.
report_notices <- function(notices, source) {
  if (is.null(notices) || !nrow(notices)) return(invisible())
  lines <- sprintf("%s: %s (first: %s)", format_count(notices$count), notices$what, valid_text(notices$first))
  caution("data", c("While handling {.file {basename(source)}}:", stats::setNames(escape(lines), rep("!", length(lines)))))
}

unpack_remedy <- function() {
  c(i = "If you trust the source, allow more bytes: {.code options(civicatlas.unpack_limit = 1e10)}.")
}
