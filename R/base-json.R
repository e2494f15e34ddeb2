# JSON from others. jsonlite 1.8.4 takes the text of its own errors for a format, so that a "%n" in damaged JSON ends R, and what is no JSON for
# an address or path to read: only what is valid comes to it.
parse_json <- function(text, ...) {
  valid <- jsonlite::validate(text)
  if (!valid) rlang::abort(c("It is no JSON.", x = valid_text(attr(valid, "err"))), use_cli_format = FALSE)
  jsonlite::fromJSON(text, ...)
}
