# The part of YAML 1.2 that workflows are written in, read with the line and column of everything: mappings, lists, both also in brackets, plain and
# quoted texts, blocks behind | and >. All values are texts; what they mean is decided by whoever asks for a number or a truth.

# A node is a list of `kind` ("map", "list" or "text"), `value` (nodes by key, nodes, or the text), `quoted`, `line` and `column`; those of a map
# have `keys`, their places by name. An error names line and column.
read_yaml_nodes <- function(lines) {
  broken <- which(!validUTF8(lines))
  if (length(broken)) yaml_problem(broken[1], 1, "this line is not in UTF-8", "Save the file in UTF-8.")
  lines <- sub("\r$", "", enc2utf8(lines))
  tabs <- grep("^ *\t", lines)
  if (length(tabs)) yaml_problem(tabs[1], regexpr("\t", lines[tabs[1]])[1], "a tab, where YAML takes blanks alone", "Put two blanks for each level.")
  bare <- vapply(lines, without_comment, "", USE.NAMES = FALSE)
  there <- which(grepl("\\S", bare) & !grepl("^---\\s*$", bare))
  reader <- new.env(parent = emptyenv())
  reader$lines <- lines
  reader$bare <- bare
  reader$there <- there
  reader$at <- 1
  if (!length(there)) yaml_problem(1, 1, "the file is empty")
  node <- yaml_block(reader, indent_of(bare[there[1]]))
  if (reader$at <= length(there)) {
    line <- there[reader$at]
    yaml_problem(line, indent_of(bare[line]) + 1, "this line is indented less or more than those that it belongs to", "Lines of one level begin in one column.")
  }
  node
}

yaml_problem <- function(line, column, problem, remedy = "") {
  rlang::abort(problem, class = "civicatlas_yaml_problem", line = line, column = column, remedy = remedy)
}

indent_of <- function(line) attr(regexpr("^ *", line), "match.length")

# A text in double quotes. What matched is kept, as going back in a long text takes more than the matcher has.
yaml_quoted <- "\"(?:[^\"\\\\]++|\\\\.)*+\""

# A # begins a comment at the beginning or behind a blank, outside quotes.
without_comment <- function(line) {
  if (!grepl("#", line, fixed = TRUE)) return(sub("\\s+$", "", line))
  hidden <- gsub(paste0(yaml_quoted, "|'[^']*+'"), "", line, perl = TRUE)
  if (!grepl("(^|\\s)#", hidden)) return(sub("\\s+$", "", line))
  pattern <- paste0("^((?:", yaml_quoted, "|'[^']*+'|[^#]|(?<=\\S)#)*?)(?:(?<=\\s)|^)#.*$")
  sub("\\s+$", "", sub(pattern, "\\1", line, perl = TRUE))
}

yaml_block <- function(reader, indent) {
  line <- reader$there[reader$at]
  text <- from_character(reader$bare[line], indent + 1)
  if (grepl("^-( |$)", text)) return(yaml_list(reader, indent))
  if (grepl(yaml_key_pattern, text, perl = TRUE)) return(yaml_map(reader, indent))
  reader$at <- reader$at + 1
  yaml_value(text, line, indent + 1)
}

yaml_key_pattern <- paste0("^(", yaml_quoted, "|'[^']*+'|[^\\s\\[{\"'#&*!|>%@`-][^:]*?|[^\\s:]+?)\\s*:(?=\\s|$)")

yaml_map <- function(reader, indent) {
  first <- reader$there[reader$at]
  values <- list()
  keys <- list()
  while (reader$at <= length(reader$there)) {
    line <- reader$there[reader$at]
    here <- indent_of(reader$bare[line])
    if (here < indent) break
    text <- from_character(reader$bare[line], indent + 1)
    if (here > indent) yaml_problem(line, here + 1, "this line is indented more than those before it", "Lines of one level begin in one column.")
    found <- regmatches(text, regexpr(yaml_key_pattern, text, perl = TRUE))
    if (!length(found)) yaml_problem(line, indent + 1, "a name and a colon are missing", "Write: name: value.")
    key <- yaml_scalar(sub("\\s*:$", "", found))$value
    if (!isTRUE(nzchar(key))) yaml_problem(line, indent + 1, "this name cannot be read", "Names with blanks or signs in them stand in double quotes.")
    if (key %in% names(values)) yaml_problem(line, indent + 1, paste0("\"", key, "\" stands here twice"))
    keys[[key]] <- list(line = line, column = indent + 1)
    values[[key]] <- yaml_behind(reader, line, indent, from_character(text, nchar(found) + 1), indent + nchar(found))
  }
  list(kind = "map", value = values, keys = keys, line = first, column = indent + 1)
}

yaml_list <- function(reader, indent) {
  first <- reader$there[reader$at]
  values <- list()
  while (reader$at <= length(reader$there)) {
    line <- reader$there[reader$at]
    text <- from_character(reader$bare[line], indent + 1)
    if (indent_of(reader$bare[line]) != indent || !grepl("^-( |$)", text)) break
    rest <- sub("^- *", "", text)
    inner <- indent + nchar(text) - nchar(rest)
    if (grepl(yaml_key_pattern, rest, perl = TRUE)) {  # a map whose first key stands behind the dash
      reader$bare[line] <- paste0(strrep(" ", inner), rest)
      values[[length(values) + 1]] <- yaml_map(reader, inner)
    } else {
      values[[length(values) + 1]] <- yaml_behind(reader, line, indent, rest, inner)
    }
  }
  list(kind = "list", value = values, line = first, column = indent + 1)
}

# What stands behind a key or dash: on its line, or indented below it.
yaml_behind <- function(reader, line, indent, rest, column) {
  reader$at <- reader$at + 1
  text <- sub("^\\s+", "", rest)
  column <- column + nchar(rest) - nchar(text) + 1
  if (grepl("^[|>][-+]?$", text)) return(yaml_lines(reader, line, indent, substr(text, 1, 1), column))
  if (nzchar(text)) return(yaml_value(text, line, column))
  below <- if (reader$at <= length(reader$there)) reader$there[reader$at]
  if (length(below) && belongs_below(reader$bare[below], indent)) return(yaml_block(reader, indent_of(reader$bare[below])))
  list(kind = "text", value = "", quoted = FALSE, line = line, column = column)
}

# A list may begin in the column of its key.
belongs_below <- function(line, indent) indent_of(line) > indent || (indent_of(line) == indent && grepl("^ *-( |$)", line))

# A block of lines, kept as they are or put into one.
yaml_lines <- function(reader, line, indent, sign, column) {
  last <- line
  blank <- !grepl("\\S", reader$lines)
  while (last < length(reader$lines) && (indent_of(reader$lines[last + 1]) > indent || blank[last + 1])) last <- last + 1
  rows <- seq_len(last - line) + line
  rows <- rows[seq_len(max(0, which(!blank[rows])))]
  depth <- min(indent_of(reader$lines[rows][!blank[rows]]), 1e6)
  block <- from_character(reader$lines[rows], depth + 1)
  reader$at <- match(TRUE, reader$there > last, length(reader$there) + 1L)
  list(kind = "text", value = paste(block, collapse = if (sign == "|") "\n" else " "), quoted = TRUE, line = line, column = column)
}

# What stands on one line: a text, or a list or map in brackets.
yaml_value <- function(text, line, column) {
  open <- substr(text, 1, 1)
  if (open %in% c("[", "{")) return(yaml_flow(text, line, column))
  if (open %in% c("&", "*", "!", "%", "@", "`")) yaml_problem(line, column, paste0("a value cannot begin with ", open), "Put it in double quotes.")
  found <- yaml_scalar(text)
  if (is.null(found)) yaml_problem(line, column, "a quote is not closed", "A quote within single quotes is written twice.")
  if (!found$quoted && grepl(": ", text, fixed = TRUE)) {
    yaml_problem(line, column + regexpr(": ", text)[1], "a second colon on one line", "Put the value in quotes.")
  }
  list(kind = "text", value = found$value, quoted = found$quoted, line = line, column = column)
}

yaml_scalar <- function(text) {
  quote <- substr(text, 1, 1)
  if (!quote %in% c("'", "\"")) return(list(value = trimws(text), quoted = FALSE))
  pattern <- if (quote == "'") "^'(?:[^']++|'')*+'\\s*$" else paste0("^", yaml_quoted, "\\s*$")
  if (!grepl(pattern, text, perl = TRUE)) return(NULL)
  inner <- sub("\\s+$", "", text)
  inner <- substr(inner, 2, nchar(inner) - 1)
  if (quote == "'") return(list(value = gsub("''", "'", inner, fixed = TRUE), quoted = TRUE))
  list(value = without_escapes(inner), quoted = TRUE)
}

# \n and \t are a line's end and a tab, \" and \\ what stands behind the backslash; others stay.
without_escapes <- function(text) {
  found <- gregexpr("\\\\[nt\"\\\\]", text)
  means <- c("\\n" = "\n", "\\t" = "\t", "\\\"" = "\"", "\\\\" = "\\")
  regmatches(text, found) <- lapply(regmatches(text, found), function(escapes) unname(means[escapes]))
  text
}

yaml_item_pattern <- paste0("(?:", yaml_quoted, "|'(?:[^']++|'')*+'|\\[[^\\]]*+\\]|\\{[^}]*+\\}|[^,\"'\\[{]++|[\\[{])+")

# [a, b] and {a: b}, and such in them, as lists of numbers and names are.
yaml_flow <- function(text, line, column) {
  list_like <- startsWith(text, "[")
  if (!endsWith(text, if (list_like) "]" else "}")) yaml_problem(line, column, "a bracket is not closed on its line")
  inner <- substr(text, 2, nchar(text) - 1)
  found <- gregexpr(yaml_item_pattern, inner, perl = TRUE)
  items <- if (nzchar(trimws(inner))) regmatches(inner, found)[[1]] else character()
  places <- column + found[[1]][seq_along(items)] + nchar(items) - nchar(sub("^\\s+", "", items))  # of what is behind the blanks
  items <- trimws(items)
  if (list_like) return(list(kind = "list", value = Map(yaml_value, items, line, places, USE.NAMES = FALSE), line = line, column = column))
  pairs <- regmatches(items, regexpr(":\\s+", items), invert = TRUE)
  if (any(lengths(pairs) != 2)) yaml_problem(line, column, "a name and a colon are missing within the brackets")
  names <- vapply(pairs, function(pair) yaml_scalar(trimws(pair[1]))$value %||% "", "")
  if (!all(nzchar(names)) || anyDuplicated(names)) yaml_problem(line, column, "a name within the brackets cannot be read, or stands there twice")
  values <- Map(function(pair, item, place) yaml_value(pair[2], line, place + nchar(item) - nchar(pair[2])), pairs, items, places)
  keys <- lapply(places, function(place) list(line = line, column = place))
  list(kind = "map", value = stats::setNames(values, names), keys = stats::setNames(keys, names), line = line, column = column)
}
