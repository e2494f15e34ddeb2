# Texts for people: counts, names cut short, what must not be shown.

# Text whose control characters, but for line ends and tabs, and whose marks of writing direction are written as escapes.
printable <- function(text) {
  text <- valid_text(text)
  mark <- "(*UTF)(?![\n\t])[\\p{Cc}\\x{202A}-\\x{202E}\\x{2066}-\\x{2069}]"
  marked <- grepl(mark, text, perl = TRUE)
  found <- gregexpr(mark, text[marked], perl = TRUE)
  regmatches(text[marked], found) <- lapply(regmatches(text[marked], found), function(marks) sprintf("\\u%04x", vapply(marks, utf8ToInt, 0L)))
  text
}

# Text in UTF-8, with bytes that are none as their codes.
valid_text <- function(text) {
  text <- enc2utf8(text)
  broken <- !validUTF8(text)
  text[broken] <- iconv(text[broken], "UTF-8", "UTF-8", sub = "byte")
  beyond <- !validUTF8(text)  # what is written as UTF-8 has it, of characters that there are not
  text[beyond] <- iconv(text[beyond], "ASCII", "UTF-8", sub = "byte")
  text
}

# What an error of another library says.
said_by <- function(e) valid_text(conditionMessage(e))

# The same on one line, without colours and without the place in a text that is pointed at.
said_on_a_line <- function(e) {
  lines <- strsplit(cli::ansi_strip(said_by(e)), "\n", fixed = TRUE)[[1]]
  marks <- grep("^ *\\^+$", lines)
  trimws(gsub("\\s+", " ", paste(lines[setdiff(seq_along(lines), c(marks, marks - 1))], collapse = " ")))
}

# Names short enough to be shown in a line.
cut_name <- function(names) ifelse(nchar(names) > 60, paste0(substr(names, 1, 59), "\u2026"), names)

# A text with its first letter in capitals.
capital <- function(text) paste0(ascii_upper(substr(text, 1, 1)), substring(text, 2))

# Text that cli must take as it is.
# What a text has from a character on, which substring() gives of the first million alone.
from_character <- function(text, first) substring(text, first, .Machine$integer.max)

escape <- function(text) gsub("}", "}}", gsub("{", "{{", valid_text(text), fixed = TRUE), fixed = TRUE)

format_count <- function(n) format(n, big.mark = ",", decimal.mark = ".", trim = TRUE, scientific = FALSE)

# "1 row", "24 rows"
counted <- function(n, noun, plural = paste0(noun, "s")) paste(format_count(n), if (n == 1) noun else plural)

# A text whose addresses have neither login nor parameters: a password may hold any character, so that in an address of a database all up
# to the last @ is taken for a login, elsewhere what stands before the first slash or looks like user:password.
without_secrets <- function(text) {
  text <- gsub("(postgres(?:ql)?://)[^\"']*@", "\\1", text, perl = TRUE)
  text <- gsub("(://)[^/\"'\\s?]*@", "\\1", text, perl = TRUE)
  text <- gsub("(://)[^/\"'\\s?]*:(?![0-9]+/)[^\"'\\s?]*@", "\\1", text, perl = TRUE)
  gsub("(://[^\"'\\s?]*)[?][^\"'\\s]*", "\\1", text, perl = TRUE)
}

# Numbers as the reader's locale writes them.
map_numbers <- function(values, digits = 0) {
  decimal <- getOption("OutDec", ".")
  thousands <- Sys.localeconv()[["thousands_sep"]]
  if (!nzchar(thousands)) thousands <- if (decimal == ".") "," else "."
  trimws(formatC(values, format = "f", digits = digits, big.mark = thousands, decimal.mark = decimal))
}

`%|%` <- function(value, other) if (is.na(value)) other else unname(value)
