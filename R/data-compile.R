# Trees of conditions and expressions as R code: calls of R's own vectorised operators and of our functions on the columns, with R's three
# values of truth, which are those of CQL2.

# The R code of a tree as a quosure. `layers` are frames by name that shapes may be compared with, `crs` is that of places written in it, `shapes`
# are those of the rows.
quosure_of_tree <- function(tree, layers = list(), crs = NULL, shapes = NULL, call = rlang::caller_env(), is_condition = TRUE) {
  context <- list(tree = tree, layers = layers, crs = crs, shapes = shapes, call = call, is_condition = is_condition)
  rlang::new_quosure(code_of(tree, context), attr(tree, "env") %||% rlang::env(asNamespace("civicatlas")))
}

code_of <- function(node, context) {
  if (!is.null(node$code)) return(node$code)
  told <- function(problem, remedy = "") fail_at(attr(context$tree, "text"), node$at, attr(context$tree, "what"), problem, remedy, context$call)
  switch(node$kind,
    column = if (node$value %in% names(context$layers)) context$layers[[node$value]] else as.name(node$value),
    number = if (is.null(node$digits)) node$value else rlang::call2("number_of_digits", node$digits),
    text = , truth = node$value,
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
  if (node$value == "or") node$args <- equalities_as_lists(node$args)
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
    "^" = code_of_power(node$args, args),
    "+" = , "-" = , "*" = rlang::call2(node$value, !!!lapply(as_doubles(node$args, args), in_brackets)),
    "/" = rlang::call2(if (isTRUE(context$is_condition)) "divided" else "/", !!!lapply(args, in_brackets)),
    case = code_of_case(args),
    bbox = box_of_node(node, context),
    rlang::call2(if (startsWith(node$value, "t_")) "times_related" else "shapes_related", !!!args, substring(node$value, 3))
  )
}

# What two columns of integers make may be more than an integer holds.
as_doubles <- function(nodes, args) {
  is_double <- function(node) node$kind == "number" || is_operation(node, arithmetic)
  if (any(vapply(nodes, is_double, NA))) args else c(rlang::call2("as.double", args[[1]]), args[-1])
}

# A whole number from 2^53 on, which is its nearest double here and itself in SQL.
number_of_digits <- function(digits) as.double(digits)

# R's own power, but where that makes 1 of a missing value.
code_of_power <- function(nodes, args) {
  exponent <- nodes[[2]]
  if (exponent$kind == "number" && exponent$value > 0 && nodes[[1]]$kind != "number") return(rlang::call2("^", !!!lapply(args, in_brackets)))
  rlang::call2("raised", !!!args)
}

raised <- function(base, exponent) {
  out <- (base + 0)^exponent
  out[is.na(base) | is.na(exponent)] <- NA
  out
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

# By 0 without a sign, which some formats do not keep.
divided <- function(a, b) a / (b + 0)

# Constants of one kind as one vector, which SQL can take; anything else one comparison after the other.
code_of_list <- function(node, args) {
  values <- constants_of_list(node$args[[2]])
  if (!is.null(values)) return(rlang::call2("is_among", args[[1]], values))
  nodes <- node$args[[2]]$args
  balanced("|", Map(function(item, code) comparison("=", list(node$args[[1]], item), list(args[[1]], code)), nodes, unname(args[[2]])))
}

# Parts of OR that compare one column with several values as one list each: x = 1 OR x = 2 is x IN (1, 2).
equalities_as_lists <- function(parts) {
  plain <- function(node) node$args[[1]]$kind == "column" && node$args[[2]]$kind %in% c("text", "number") && is.null(node$args[[2]]$digits)
  of <- vapply(parts, function(part) if (is_operation(part, "=") && plain(part)) paste(part$args[[2]]$kind, part$args[[1]]$value) else "", "")
  several <- setdiff(of[duplicated(of)], "")
  lists <- lapply(several, function(one) {
    same <- unname(parts[of == one])
    node_of("operation", "in", list(same[[1]]$args[[1]], node_of("list", args = lapply(same, function(part) part$args[[2]]))), same[[1]]$at)
  })
  c(parts[!of %in% several], lists)
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
whole_division <- function(a, b) trunc(divided(a, b))
rest_of_division <- function(a, b) a - b * whole_division(a, b)

# --- texts ---------------------------------------------------------------------------------------------------------------

# % stands for any characters, _ for one, and a backslash before them for themselves.
is_like <- function(x, pattern) {
  known <- unique(as.character(x))
  core(core_is_like(enc2utf8(known), enc2utf8(pattern)))[match(as.character(x), known)]
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
  quosure_of_tree(tree, layers, crs %||% if (spatial) crs_of(x), if (spatial) as_shapes(x), call, identical(wanted, "truth"))
}

# The values of a tree for the rows of a table.
values_of_tree <- function(x, tree, ...) rep_len(rlang::eval_tidy(checked_quosure(tree, x, ...), plain_data_frame(dplyr::ungroup(x))), nrow(x))

# Whether a condition holds for each row: TRUE, FALSE, or NA where that is unknown.
truth_of_tree <- function(x, tree, layers = list(), crs = NULL, call = rlang::caller_env()) {
  if (is_of_r(tree)) return(truth_of_code(x, quosure_of_tree(tree), call))
  values_of_tree(x, tree, "truth", layers = layers, crs = crs, call = call)
}

truth_of_code <- function(x, quosure, call) {
  holds <- column_values(x, quosure, "where", call)
  if (is.logical(holds) && length(holds) %in% c(1, nrow(x))) return(rep_len(holds, nrow(x)))
  fail("argument", "{.arg where} must give {.code TRUE} or {.code FALSE} for each row.", call = call)
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
  spans <- if (in_plain_degrees(new_shapes(crs = crs))) spans_on_globe(edges[1], edges[3]) else list(edges[c(1, 3)])
  parts <- vapply(spans, function(span) text_of_box(span[1], edges[2], span[2], edges[4]), "")
  kind <- paste0(if (length(parts) > 1) "MULTI", sub(" .*", "", parts[1]))
  inner <- paste(sub("^[A-Z]+ ", "", parts), collapse = ", ")
  shapes_from_wkt(paste(kind, if (length(parts) > 1) paste0("(", inner, ")") else inner), crs = crs)
}

# No edge is longer than half of the way, as one of more than half a turn would be taken for the shorter one around the globe.
text_of_box <- function(west, south, east, north) {
  x <- core(core_number_text(unique(c(west, west / 2 + east / 2, east)), -1L))
  y <- core(core_number_text(unique(c(south, north)), -1L))
  if (length(x) == 1 && length(y) == 1) return(sprintf("POINT (%s %s)", x, y))
  if (length(x) == 1 || length(y) == 1) return(sprintf("LINESTRING (%s)", paste(x, y, collapse = ", ")))
  sprintf("POLYGON ((%s))", paste(c(paste(x, y[1]), paste(rev(x), y[2]), paste(x[1], y[1])), collapse = ", "))
}

# From west to east on the globe, in one or two stretches from -180 to 180.
spans_on_globe <- function(west, east) {
  if (west > east) east <- east + 360
  if (east - west >= 360) return(list(c(-180, 180)))
  if (max(abs(c(west, east))) > 36000) return(list(c(west, east)))  # on no globe
  turn <- if (abs(west) <= 180) 0 else 360 * floor((west + 180) / 360)
  if (east - turn <= 180) return(list(c(west, east) - turn))
  c(if (west - turn < 180) list(c(west - turn, 180)), list(c(-180, east - turn - 360)))
}
