# Conditions in other forms: as text with all its brackets, and as CQL2's JSON (OGC 21-065r2, section 6.2 and annex A).

# --- text ----------------------------------------------------------------------------------------------------------------

text_of_tree <- function(node) {
  args <- lapply(node$args, text_of_tree)
  switch(node$kind,
    column = name_in_text(node$value), text = text_in_quotes(node$value), number = node$digits %||% core(core_number_text(node$value, -1L)),
    truth = if (node$value) "TRUE" else "FALSE", missing = "NULL",
    date = paste0("DATE(", text_in_quotes(node$value), ")"), timestamp = paste0("TIMESTAMP(", text_in_quotes(node$value), ")"),
    interval = sprintf("INTERVAL(%s)", paste(vapply(node$args, end_in_text, ""), collapse = ", ")),
    geometry = node$value, list = paste0("(", paste(args, collapse = ", "), ")"),
    call = paste0(node$value, "(", paste(args, collapse = ", "), ")"),
    operation = text_of_operation(node$value, args, node)
  )
}

reserved_words <- c("AND", "OR", "NOT", "LIKE", "BETWEEN", "IN", "IS", "NULL", "TRUE", "FALSE", "WHEN", "THEN", "ELSE", "END", "DIV", "CASE")

name_in_text <- function(name) {
  plain <- grepl("^[A-Za-z_:][A-Za-z0-9_:.]*$", name) && !ascii_upper(name) %in% reserved_words
  if (plain) name else paste0("\"", gsub("\"", "\"\"", name, fixed = TRUE), "\"")
}

text_in_quotes <- function(text) paste0("'", gsub("'", "''", gsub("(\\\\+)(?='|$)", "\\1\\1", text, perl = TRUE), fixed = TRUE), "'")

end_in_text <- function(node) {
  switch(node$kind, missing = "'..'", date = , timestamp = text_in_quotes(node$value), text_of_tree(node))
}

comparisons <- c("=", "<>", "<", ">", "<=", ">=")

# Predicates that stand bare on their own, and in brackets within others.
predicates <- c(comparisons, "like", "between", "in", "isNull")

text_of_operation <- function(name, args, node) {
  if (name == "case") return(text_of_case(args, node))
  if (name == "not" && is_operation(node$args[[1]], c("like", "between", "in", "isNull"))) return(negated_text(node$args[[1]]))
  if (name %in% predicates) args <- Map(in_predicate, args, node$args)
  switch(name,
    and = , or = paste0("(", paste(args, collapse = paste0(" ", ascii_upper(name), " ")), ")"), not = paste0("(NOT ", args[[1]], ")"),
    like = paste(args[[1]], "LIKE", args[[2]]), between = paste(args[[1]], "BETWEEN", args[[2]], "AND", args[[3]]), "in" = paste(args[[1]], "IN", args[[2]]),
    isNull = paste(args[[1]], "IS NULL"), "=" = , "<>" = , "<" = , ">" = , "<=" = , ">=" = paste(args[[1]], name, args[[2]]),
    "+" = , "-" = , "*" = , "/" = , "%" = , "^" = , div = paste0("(", args[[1]], " ", ascii_upper(name), " ", args[[2]], ")"),
    paste0(ascii_upper(name), "(", paste(args, collapse = ", "), ")")
  )
}

in_predicate <- function(text, node) {
  bare <- is_operation(node, predicates) || (is_operation(node, "not") && is_operation(node$args[[1]], predicates))
  if (bare) paste0("(", text, ")") else text
}

negated_text <- function(node) {
  text <- text_of_tree(node)
  left <- in_predicate(text_of_tree(node$args[[1]]), node$args[[1]])
  rest <- from_character(text, nchar(left) + 2)
  if (node$value == "isNull") paste(left, "IS NOT NULL") else paste(left, "NOT", rest)
}

text_of_case <- function(args, node) {
  last <- length(args)
  conditions <- seq(1, last - 1, by = 2)
  otherwise <- if (node$args[[last]]$kind != "missing") paste0(" ELSE ", args[[last]])
  paste0("CASE ", paste0("WHEN ", args[conditions], " THEN ", args[conditions + 1], collapse = " "), otherwise, " END")
}

# --- JSON ----------------------------------------------------------------------------------------------------------------

#' Conditions as JSON and as text
#'
#' CQL2 (OGC 21-065r2) has two encodings: the text that people write, and JSON that programs exchange. Wherever a condition is taken as a text,
#' its JSON is taken as well.
#'
#' @param condition A condition in [CQL2][conditions], as text or JSON.
#' @return `condition_json()`: a JSON text. `condition_text()`: the text, with a bracket around every part that precedence decides about.
#' @section Errors: `civicatlas_error_argument` for what cannot be read, which points at the place.
#' @examples
#' condition_text("kind = 'library' OR kind = 'school' AND seats > 100")
#' condition_json("kind = 'library' AND seats > 100")
#' @export
condition_json <- function(condition) {
  tree <- parse_text(condition, "condition", call = rlang::current_env())
  write_json(json_of_tree(tree))
}

#' @rdname condition_json
#' @export
condition_text <- function(condition) {
  text_of_condition(parse_text(condition, "condition", call = rlang::current_env()))
}

# Without the brackets around the whole.
text_of_condition <- function(tree) {
  text <- text_of_tree(tree)
  if (is_operation(tree, c("and", "or"))) substr(text, 2, nchar(text) - 1) else text
}

json_of_tree <- function(node) {
  args <- lapply(node$args, json_of_tree)
  switch(node$kind,
    column = list(property = node$value), text = , truth = node$value, number = whole_in_json(node), missing = NULL, list = unname(args),
    date = list(date = node$value), timestamp = list(timestamp = node$value),
    interval = list(interval = lapply(node$args, end_in_json)), geometry = json_of_wkt(node$value),
    call = list(op = node$value, args = unname(args)),
    operation = if (node$value == "bbox") list(bbox = unlist(args)) else list(op = node$value, args = unname(args))
  )
}

# A whole number that JSON's readers would round is none to hand on.
whole_in_json <- function(node) {
  if (is.null(node$digits) || sprintf("%.0f", node$value) == node$digits) return(node$value)
  fail("argument", "JSON has no number {node$digits}, which is beyond 2^53: keep the condition as text.", call = NULL)
}

end_in_json <- function(node) switch(node$kind, missing = "..", date = , timestamp = node$value, json_of_tree(node))

json_of_wkt <- function(text) {
  shapes <- shapes_from_wkt(text)
  bytes <- core(core_encode_geojson(handles_of(shapes), store_of(shapes), list(), -1L, "", "lines"))$bytes
  parse_json(rawToChar(bytes), simplifyVector = FALSE)$geometry
}

tree_of_json <- function(text, what, call) {
  value <- tryCatch(parse_json(text, simplifyVector = FALSE), error = function(e) {
    fail(c("choice", "argument"), c("Cannot read {.arg {what}}: it begins as JSON and is none.", x = "{said_by(e)}"), call = call)
  })
  refuse <- function(part) fail(c("choice", "argument"), c("Cannot read {.arg {what}} as CQL2's JSON.", x = part), call = call)
  tree <- node_of_json(value, refuse)
  # Read once more as text, which checks it as any other and gives places to point at.
  parse_text(text_of_tree(tree), what, call = call)
}

node_of_json <- function(value, refuse, depth = 0) {
  if (depth > 90) refuse("It is nested too deep.")
  below <- function(values) lapply(values, node_of_json, refuse, depth + 1)
  if (!is.list(value)) return(literal_of_json(value, refuse))
  if (is.null(names(value))) return(node_of("list", args = below(value)))
  member <- intersect(c("op", "property", "date", "timestamp", "interval", "bbox", "type"), names(value))[1]
  if (is.na(member)) refuse(paste("A part has none of op, property, date, timestamp, interval, bbox and type, but:", paste(names(value), collapse = ", ")))
  if (member %in% c("op", "property", "date", "timestamp", "type") && !rlang::is_string(value[[member]])) refuse(paste0("\"", member, "\" is no text."))
  switch(member,
    op = operation_of_json(value$op, below(value$args), refuse), property = node_of("column", value$property),
    date = , timestamp = node_of(member, value[[member]]),
    interval = node_of("interval", args = lapply(value$interval, interval_end_of_json, refuse, depth)), bbox = node_of("operation", "bbox", below(value$bbox)),
    type = node_of("geometry", wkt_of_json(value, refuse))
  )
}

literal_of_json <- function(value, refuse) {
  if (is.null(value)) return(node_of("missing"))
  if (rlang::is_string(value)) return(node_of("text", value))
  if (rlang::is_bool(value)) return(node_of("truth", value))
  if (is.numeric(value) && length(value) == 1) node_of("number", as.double(value)) else refuse("A value is neither text, number nor truth.")
}

operation_of_json <- function(op, args, refuse) {
  wanted <- args_wanted(op)
  if (is.na(wanted)) return(node_of("call", op, args))
  n <- length(args)
  fits <- switch(wanted, "two or more" = n >= 2, "three or more, an odd number of" = n >= 3 && n %% 2 == 1, n == as.integer(wanted))
  if (!fits) refuse(paste0("\"", op, "\" takes ", wanted, " args, and is given ", n, "."))
  if (op == "in" && args[[2]]$kind != "list") refuse("\"in\" takes an array as its second arg.")
  node_of("operation", op, args)
}

# How many args an operation of the language takes; NA for functions.
args_wanted <- function(op) {
  if (op %in% c("and", "or")) return("two or more")
  if (op == "case") return("three or more, an odd number of")
  if (op %in% c("not", "isNull", "casei", "accenti")) return("1")
  if (op == "between") return("3")
  if (op %in% c(comparisons, arithmetic, "like", "in") || grepl("^[st]_[a-z]+$", op)) "2" else NA
}

interval_end_of_json <- function(value, refuse, depth) {
  if (!rlang::is_string(value)) return(node_of_json(value, refuse, depth + 1))
  if (value == "..") node_of("missing") else node_of(if (grepl("T", value, fixed = TRUE)) "timestamp" else "date", value)
}

# A geometry of GeoJSON as well-known text.
wkt_of_json <- function(value, refuse) {
  levels <- c(Point = 0, MultiPoint = 1, LineString = 1, MultiLineString = 2, Polygon = 2, MultiPolygon = 3)
  if (value$type == "GeometryCollection") {
    return(paste0("GEOMETRYCOLLECTION (", paste(vapply(value$geometries, wkt_of_json, "", refuse), collapse = ", "), ")"))
  }
  level <- levels[value$type]
  if (is.na(level)) refuse(paste0("\"", value$type, "\" is no geometry."))
  position <- function(numbers) {
    if (!length(numbers) %in% 2:4 || !all(vapply(numbers, is.numeric, NA))) refuse("A position is no list of numbers.")
    paste(core(core_number_text(as.double(unlist(numbers)), -1L)), collapse = " ")
  }
  text <- function(values, level) {
    if (level == 0) return(position(values))
    inner <- vapply(values, text, "", level - 1)
    paste0("(", paste(inner, collapse = ", "), ")")
  }
  has_z <- length(unlist(value$coordinates)) > 0 && length(first_position(value$coordinates)) == 3
  body <- if (level == 0) paste0("(", text(value$coordinates, 0), ")") else text(value$coordinates, level)
  paste0(ascii_upper(value$type), if (has_z) " Z", " ", body)
}

first_position <- function(values) if (is.list(values[[1]])) first_position(values[[1]]) else values
