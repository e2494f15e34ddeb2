# What the command-line tool answers before any package is loaded. The texts are in overview.txt, which `make docs` writes: each begins after a form
# feed with the arguments that ask for it. A line "<tab>left<tab>text" is laid out in two columns, one that begins with blanks stays as it is.

# Lines of help as a terminal of a width shows them.
laid_out <- function(lines, width) {
  pieces <- strsplit(lines, "\t", fixed = TRUE)
  left <- vapply(pieces, function(piece) if (length(piece) == 3) nchar(piece[2]) else 0L, 0L)
  least <- min(max(left), 34, width %/% 2)
  unlist(lapply(seq_along(lines), function(k) {
    if (left[k] > 0) return(in_two_columns(pieces[[k]][2], pieces[[k]][3], least, width))
    if (grepl("^( |$)", lines[k])) lines[k] else strwrap(lines[k], width)
  }))
}

in_two_columns <- function(left, right, least, width) {
  text <- strwrap(right, max(width - least - 4, 20))
  indent <- strrep(" ", least + 4)
  if (nchar(left) > least) return(c(paste0("  ", left), paste0(indent, text)))
  c(paste0("  ", formatC(left, width = -least), "  ", text[1]), paste0(indent, text[-1], recycle0 = TRUE))
}

# What arguments ask for, where it is in the texts; else NULL.
asked_for <- function(arguments, file) {
  if (!length(arguments) || length(arguments) > 2) return(NULL)
  if (arguments[1] %in% c("--help", "-h")) arguments <- "help"
  if (identical(arguments[2], "--help") || identical(arguments[2], "-h")) arguments <- c("help", arguments[1])
  texts <- strsplit(paste(readLines(file, encoding = "UTF-8"), collapse = "\n"), "\f", fixed = TRUE)[[1]]
  found <- texts[startsWith(texts, paste0(paste(arguments, collapse = " "), "\n"))]
  if (length(found)) strsplit(found, "\n", fixed = TRUE)[[1]][-1]
}

# Columns of the terminal that output goes to; of none a hundred.
terminal_width <- function() {
  if (!isatty(stdout())) return(100)
  size <- suppressWarnings(system("stty size 2> /dev/null", intern = TRUE))
  width <- suppressWarnings(as.integer(sub(".* ", "", size)))
  if (length(width) == 1 && isTRUE(width > 20)) width else 80
}
