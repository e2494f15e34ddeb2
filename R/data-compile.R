# Trees of conditions and expressions as R code: calls of R's own vectorised operators and of our functions on the columns, with R's three
# values of truth, which are those of CQL2. Conditions become SQL from there (io-sql.R).

# The R code of a tree as a quosure. `layers` are frames by name that shapes may be compared with, `crs` is that of places written in it, `shapes`
# are those of the rows.
quosure_of_tree <- function(tree, layers = list(), crs = NULL, shapes = NULL, call = rlang::caller_env()) {
  context <- list(tree = tree, layers = layers, crs = crs, shapes = shapes, call = call)
  rlang::new_quosure(code_of(tree, context), rlang::env(asNamespace("civicatlas")))
}

with_text_of <- function(tree, whole) structure(tree, text = attr(whole, "text"), what = attr(whole, "what"))

code_of <- function(node, context) {
  told <- function(problem, remedy = "") fail_at(attr(context$tree, "text"), node$at, attr(context$tree, "what"), problem, remedy, context$call)
  switch(node$kind,
    column = if (node$value %in% names(context$layers)) context$layers[[node$value]] else as.name(node$value),
    text = , number = , truth = node$value,
    missing = NA,
    date = as_date_exactly(node$value) %||% told("this is no date", "DATE('2026-11-29')."),
    timestamp = as_time_exactly(node$value) %||% told("this is no time in UTC", "TIMESTAMP('2026-11-29T06:30:00Z')."),
    interval = rlang::call2("interval_of", !!!lapply(node$args, code_of, context)),
    geometry = tryCatch(shapes_from_wkt(node$value, crs = context$crs), civicatlas_error = function(e) told(paste("the shape cannot be read:", said_by(e)))),
    list = lapply(node$args, code_of, context),
    call = code_of_call(node, context),
    operation = code_of_operation(node, context)
  )
}

code_of_call <- function(node, context) {
  word <- need_word(context$tree, node, context$call)
  args <- lapply(node$args, code_of, context)
  if (word$use == "shape") {
    if (is.null(context$shapes)) wrong_kind(node, context, paste0(word$name, "() is of the shapes of rows, and there are none"))
    args <- c(list(context$shapes), args)
  }
  do.call(word$code, args, quote = TRUE)
}

code_of_operation <- function(node, context) {
  args <- if (node$value %in% "bbox") list() else lapply(node$args, code_of, context)
  switch(node$value,
    and = balanced("&", args), or = balanced("|", args), not = rlang::call2("!", in_brackets(args[[1]])),
    "=" = , "<>" = , "<" = , ">" = , "<=" = , ">=" = comparison(node$value, node$args, args),
    between = balanced("&", list(comparison(">=", node$args[1:2], args[1:2]), comparison("<=", node$args[c(1, 3)], args[c(1, 3)]))),
    "in" = code_of_list(node, args),
    isNull = rlang::call2("is.na", args[[1]]),
    like = rlang::call2("is_like", !!!args),
    casei = rlang::call2("without_case", args[[1]]), accenti = rlang::call2("without_marks", args[[1]]),
    "%" = rlang::call2("rest_of_division", !!!args), div = rlang::call2("whole_division", !!!args),
    "+" = , "-" = , "*" = , "/" = , "^" = rlang::call2(node$value, !!!lapply(args, in_brackets)),
    case = code_of_case(args),
    bbox = box_of_node(node, context),
    rlang::call2(if (startsWith(node$value, "t_")) "times_related" else "shapes_related", !!!args, substring(node$value, 3))
  )
}

in_brackets <- function(code) if (is.call(code)) rlang::call2("(", code) else code

# Many parts in a tree of little depth, as R goes down one level for each.
balanced <- function(name, parts) {
  if (length(parts) == 1) return(parts[[1]])
  half <- length(parts) %/% 2
  rlang::call2(name, in_brackets(balanced(name, parts[seq_len(half)])), in_brackets(balanced(name, parts[-seq_len(half)])))
}

# R's own operators, which SQL knows too, where the nodes tell that they mean the same.
comparison <- function(name, nodes, args) {
  kinds <- vapply(nodes, `[[`, "", "kind")
  numbers <- "number" %in% kinds || any(vapply(nodes, is_operation, NA, c("+", "-", "*", "/", "^")))
  plain <- numbers || (name %in% c("=", "<>") && any(c("text", "truth") %in% kinds))
  operator <- switch(name, "=" = "==", "<>" = "!=", name)
  if (plain) rlang::call2(operator, !!!lapply(args, in_brackets)) else rlang::call2("compared", operator, !!!args)
}

# Text has the order of its characters' codes, whatever the locale; a date is the beginning of its day in UTC.
compared <- function(operator, a, b) {
  is_text <- function(x) is.character(x) || is.factor(x)
  if (inherits(a, c("Date", "POSIXt")) || inherits(b, c("Date", "POSIXt"))) {
    a <- seconds_of(a, NA_real_)
    b <- seconds_of(b, NA_real_)
  } else if (is_text(a) || is_text(b)) {
    a <- as.character(a)
    b <- as.character(b)
    if (!operator %in% c("==", "!=")) {
      known <- sort(unique(c(a, b)), method = "radix")
      a <- match(a, known)
      b <- match(b, known)
    }
  }
  get(operator, envir = baseenv())(a, b)
}

# Constants of one kind as one vector, which SQL can take; anything else one comparison after the other.
code_of_list <- function(node, args) {
  items <- args[[2]]
  constant <- vapply(node$args[[2]]$args, function(item) item$kind %in% c("text", "number", "truth", "missing"), NA)
  if (all(constant)) return(rlang::call2("is_among", args[[1]], do.call(vctrs::vec_c, unname(items))))
  balanced("|", lapply(items, function(item) rlang::call2("compared", "==", args[[1]], item)))
}

# Unknown for a missing value, and where the value is not found among some that are missing.
is_among <- function(x, values) {
  if (is.factor(x)) x <- as.character(x)
  found <- x %in% values[!is.na(values)]
  found[is.na(x)] <- NA
  if (anyNA(values)) found[!found] <- NA
  found
}

code_of_case <- function(args) {
  last <- length(args)
  conditions <- seq(1, last - 1, by = 2)
  pairs <- Map(function(condition, value) rlang::call2("~", condition, value), args[conditions], args[conditions + 1])
  rlang::call2(quote(dplyr::case_when), !!!pairs, .default = args[[last]])
}

# SQL's: towards 0.
whole_division <- function(a, b) trunc(a / b)
rest_of_division <- function(a, b) a - b * trunc(a / b)

# --- texts ---------------------------------------------------------------------------------------------------------------

# % stands for any characters, _ for one, and a backslash before them for themselves.
is_like <- function(x, pattern) {
  known <- unique(as.character(x))
  found <- grepl(pattern_as_regex(pattern), known, perl = TRUE)
  found[is.na(known)] <- NA
  found[match(as.character(x), known)]
}

pattern_as_regex <- function(pattern) {
  literal <- function(letter) if (grepl("^[A-Za-z0-9 ]$", letter) || utf8ToInt(letter) > 127) letter else paste0("\\", letter)
  paste0("(*UTF8)(?s)^", translate_pattern(pattern, c("%" = ".*", "_" = "."), literal), "\\z")
}

# A pattern in another language: its two signs, and other characters by `literal`.
translate_pattern <- function(pattern, signs, literal) {
  letters <- strsplit(enc2utf8(pattern), "")[[1]]
  out <- character(length(letters))
  escaped <- FALSE
  for (k in seq_along(letters)) {
    escapes <- !escaped && letters[k] == "\\" && k < length(letters)
    if (!escapes) out[k] <- if (!escaped && letters[k] %in% names(signs)) signs[[letters[k]]] else literal(letters[k])
    escaped <- escapes
  }
  paste(out, collapse = "")
}

# Full case folding of Unicode, and letters without their marks.
without_case <- function(x) distinct_texts(x, function(text) utf8::utf8_normalize(enc2utf8(text), map_case = TRUE))
without_marks <- function(x) distinct_texts(x, function(text) core(core_without_marks(enc2utf8(text))))

# Works out each text once.
distinct_texts <- function(x, change) {
  x <- as.character(x)
  known <- unique(x)
  known[is.na(known)] <- NA
  out <- known
  out[!is.na(known)] <- change(valid_text(known[!is.na(known)]))
  out[match(x, known)]
}

# --- times ---------------------------------------------------------------------------------------------------------------

as_date_exactly <- function(text) {
  if (!grepl("^-?[0-9]{4,}-[0-9]{2}-[0-9]{2}$", text)) return(NULL)
  date <- as.Date(text, optional = TRUE)
  if (!is.na(date) && format(date) == text) date
}

as_time_exactly <- function(text) {
  if (!grepl("^[0-9]{4}-[0-9]{2}-[0-9]{2}T[0-9]{2}:[0-9]{2}:[0-9]{2}([.][0-9]+)?Z$", text)) return(NULL)
  time <- as_datetime(text)
  if (!is.na(time)) time
}

# An end that is open, or another kind of value, is `open`.
interval_of <- function(from, to) structure(list(from = from, to = to), class = "time_interval")

# Beginning and end of instants and intervals, in seconds: a date is the beginning of its day in UTC, an open end lies infinitely far.
ends_of_time <- function(x) {
  if (inherits(x, "time_interval")) return(list(from = seconds_of(x$from, -Inf), to = seconds_of(x$to, Inf)))
  at <- seconds_of(x, NA_real_)
  list(from = at, to = at)
}

seconds_of <- function(x, open) {
  if (inherits(x, "Date")) return(as.double(x) * 86400)
  if (inherits(x, "POSIXt")) return(as.double(as.POSIXct(x)))
  rep_len(open, length(x))
}

# The relations of 21-065r2, section 7.5, after Allen (1983): of instants and intervals a and b.
times_related <- function(a, b, relation) {
  a <- ends_of_time(a)
  b <- ends_of_time(b)
  switch(relation,
    after = a$from > b$to, before = a$to < b$from, disjoint = a$from > b$to | a$to < b$from, intersects = !(a$from > b$to | a$to < b$from),
    equals = a$from == b$from & a$to == b$to, contains = a$from < b$from & a$to > b$to, during = a$from > b$from & a$to < b$to,
    finishes = a$from > b$from & a$to == b$to, finishedby = a$from < b$from & a$to == b$to,
    starts = a$from == b$from & a$to < b$to, startedby = a$from == b$from & a$to > b$to,
    meets = a$to == b$from, metby = a$from == b$to,
    overlaps = a$from < b$from & a$to > b$from & a$to < b$to, overlappedby = a$from > b$from & a$from < b$to & a$to > b$to
  )
}

# --- rows ----------------------------------------------------------------------------------------------------------------

# The R code of a tree as a quosure, checked against the columns of a table. `wanted` and `summaries` are check_kinds()'s.
checked_quosure <- function(tree, x, wanted = "any", summaries = FALSE, layers = list(), crs = NULL, call = NULL) {
  columns <- as.list(plain_data_frame(x))
  need_columns_of_tree(tree, names(columns), names(layers), call)
  check_kinds(tree, columns, call, wanted, summaries)
  spatial <- is_spatial_frame(x)
  quosure_of_tree(tree, layers, crs %||% if (spatial) crs_of(x), if (spatial) as_shapes(x), call)
}

# The values of a tree for the rows of a table.
values_of_tree <- function(x, tree, ...) rep_len(rlang::eval_tidy(checked_quosure(tree, x, ...), plain_data_frame(dplyr::ungroup(x))), nrow(x))

# Whether a condition holds for each row: TRUE, FALSE, or NA where that is unknown.
truth_of_tree <- function(x, tree, layers = list(), crs = NULL, call = rlang::caller_env()) {
  values_of_tree(x, tree, "truth", layers = layers, crs = crs, call = call)
}

rows_of_tree <- function(x, tree, ...) which(truth_of_tree(x, tree, ...))

# A rectangle; on longitude and latitude its west may lie east of its east.
box_of_node <- function(node, context) {
  edges <- vapply(node$args, `[[`, 0, "value")
  if (length(edges) == 6) edges <- edges[c(1, 2, 4, 5)]
  if (edges[2] > edges[4]) wrong_kind(node, context, "ymin lies above ymax", "In order: xmin, ymin, xmax, ymax.")
  if (edges[1] > edges[3] && !in_plain_degrees(new_shapes(crs = context$crs))) {
    wrong_kind(node, context, "xmin lies above xmax, which means a box over the antimeridian, on longitude and latitude alone",
             "In order: xmin, ymin, xmax, ymax.")
  }
  box_shape(edges, context$crs)
}

# Of no width or height it is a line or a point.
box_shape <- function(edges, crs) {
  if (edges[1] == edges[3] && edges[2] == edges[4]) return(point_shapes(edges[1], edges[2], crs))
  ring <- function(west, east) {
    at <- core(core_number_text(c(west, edges[2], east, edges[4]), -1L))
    sprintf("((%1$s %2$s, %3$s %2$s, %3$s %4$s, %1$s %4$s, %1$s %2$s))", at[1], at[2], at[3], at[4])
  }
  if (edges[1] == edges[3] || edges[2] == edges[4]) {
    at <- core(core_number_text(edges, -1L))
    return(shapes_from_wkt(sprintf("LINESTRING (%s %s, %s %s)", at[1], at[2], at[3], at[4]), crs = crs))
  }
  if (edges[1] <= edges[3]) return(shapes_from_wkt(paste("POLYGON", ring(edges[1], edges[3])), crs = crs))
  shapes_from_wkt(sprintf("MULTIPOLYGON (%s, %s)", ring(edges[1], 180), ring(-180, edges[3])), crs = crs)
}
