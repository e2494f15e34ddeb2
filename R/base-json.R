# JSON from others. jsonlite 1.8.4 takes the text of its own errors for a format, so that a "%n" in damaged JSON ends R, and what is no JSON for
# an address or path to read: only what is valid comes to it.
parse_json <- function(text, ...) {
  valid <- jsonlite::validate(text)
  if (!valid) rlang::abort(c("It is no JSON.", x = valid_text(attr(valid, "err"))), use_cli_format = FALSE)
  # R has no zero byte in texts, and jsonlite would leave out what follows it.
  if (any(grepl("(?<!\\\\)(\\\\\\\\)*\\\\u0000", text, perl = TRUE))) rlang::abort("A text in it has a zero byte, \\u0000.", use_cli_format = FALSE)
  jsonlite::fromJSON(text, ...)
}

# As JSON text in UTF-8. Numbers keep all their digits, of which jsonlite would write 15: they go through it as marked texts.
write_json <- function(x, ...) {
  text <- jsonlite::toJSON(with_numbers_marked(x), auto_unbox = TRUE, null = "null", na = "null", ...)
  enc2utf8(gsub("\"\\\\u0002(-?[0-9][0-9.e+-]*)\"", "\\1", as.character(text), perl = TRUE))
}

with_numbers_marked <- function(x) {
  if (is.list(x)) {
    x[] <- lapply(x, with_numbers_marked)
    return(x)
  }
  if (!is.double(x) || (is.object(x) && !inherits(x, "AsIs"))) return(x)
  text <- number_in_json(as.double(x))
  attributes(text) <- attributes(x)
  text
}

number_in_json <- function(x) {
  whole <- is.finite(x) & x == trunc(x) & abs(x) < 1e15
  text <- ifelse(whole, sprintf("%.0f", x), core(core_number_text(x, -1L)))
  ifelse(is.finite(x), paste0("\u0002", text), NA_character_)
}
