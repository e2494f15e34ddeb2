# What kinds of values conditions and expressions are about: "number", "text", "truth", "time", "shape", or "any" where nothing tells. Sides of a
# comparison must be alike, and what calculates must be given numbers; errors point at the place.

# Checks the tree of a text against the columns of a table. `wanted` is the kind that it must be; `summaries` of many rows are allowed or not.
check_kinds <- function(tree, data, call, wanted = "truth", summaries = FALSE) {
  if (is_of_r(tree)) return(invisible("any"))
  context <- list(tree = tree, data = data, call = call, summaries = summaries)
  kind <- kind_of_node(tree, context)
  if (kind %in% c(wanted, "any") || "any" %in% wanted) return(invisible(kind))
  wrong_kind(tree, context, paste("this is", in_words(kind), "and no condition"), "Compare it with something: column = value.")
}

wrong_kind <- function(node, context, problem, remedy = "") {
  fail_at(attr(context$tree, "text"), node$at, attr(context$tree, "what"), problem, remedy, context$call)
}

kind_of_node <- function(node, context) {
  switch(node$kind,
    text = , number = , truth = node$kind, missing = "any", date = , timestamp = "time", interval = kind_of_interval(node, context), geometry = "shape",
    column = kind_of_column_values(context$data[[node$value]]), list = kind_of_list(node, context), call = kind_of_call(node, context),
    operation = kind_of_operation(node, context)
  )
}

need_kind <- function(node, context, wanted, word) {
  kind <- kind_of_node(node, context)
  if ("any" %in% wanted || kind %in% c(wanted, "any")) return(kind)
  wrong_kind(node, context, paste0(word, " takes ", in_words(wanted[1]), ", and this is ", in_words(kind)),
             remedy_for_kind(node, kind, wanted[1], context$data))
}

kind_of_interval <- function(node, context) {
  for (arg in node$args) need_kind(arg, context, "time", "INTERVAL")
  "interval"
}

kind_of_list <- function(node, context) {
  kinds <- setdiff(vapply(node$args, kind_of_node, "", context), "any")
  if (length(unique(kinds)) > 1) wrong_kind(node, context, "the values of a list must be of one kind")
  c(kinds, "any")[1]
}

kind_of_call <- function(node, context) {
  word <- need_word(context$tree, node, context$call)
  if (word$use == "group" && !context$summaries) {
    wrong_kind(node, context, paste0(word$name, "() is of many rows, and this looks at one"), "Work it out first, and use the number.")
  }
  if (word$use == "shape" && context$summaries) wrong_kind(node, context, paste0(word$name, "() stands in no summary"), "Compute a column first.")
  takes <- rep_len(c(word$takes, rep(utils::tail(word$takes, 1), length(node$args))), length(node$args))
  Map(function(arg, wanted) need_kind(arg, context, wanted, paste0(word$name, "()")), node$args, takes)
  if (word$gives == "as given") kind_of_alike(node, node$args, context) else word$gives
}

kind_of_operation <- function(node, context) {
  name <- node$value
  if (name == "case") return(kind_of_case(node, context))
  takes <- kind_taken_by(name)
  if (identical(takes, "alike")) {
    kind <- kind_of_alike(node, node$args, context)
    if (kind == "interval") wrong_kind(node, context, "intervals have relations of their own", "Such as T_EQUALS, T_DURING, T_BEFORE.")
  } else {
    args <- Filter(function(arg) !is_layer_beside(arg, takes, context), node$args)
    for (arg in args) need_kind(arg, context, takes, ascii_upper(name))
  }
  kind_given_by(name)
}

# Layers by name stand where shapes do.
is_layer_beside <- function(arg, takes, context) identical(takes, "shape") && arg$kind == "column" && !arg$value %in% names(context$data)

arithmetic <- c("+", "-", "*", "/", "%", "div", "^")

kind_taken_by <- function(operation) {
  if (operation %in% c("and", "or", "not")) return("truth")
  if (operation %in% c(arithmetic, "bbox")) return("number")
  if (operation %in% c("like", "casei", "accenti")) return("text")
  if (operation == "isNull") return("any")
  if (startsWith(operation, "t_")) return(c("time", "interval"))
  if (startsWith(operation, "s_")) "shape" else "alike"
}

kind_given_by <- function(operation) {
  if (operation %in% arithmetic) return("number")
  if (operation == "bbox") "shape" else if (operation %in% c("casei", "accenti")) "text" else "truth"
}

kind_of_alike <- function(node, args, context) {
  kinds <- vapply(args, kind_of_node, "", context)
  known <- kinds[kinds != "any"]
  if (length(unique(known)) <= 1) return(c(known, "any")[1])
  other <- which(kinds != "any" & kinds != known[1])[1]
  pair <- c(match(known[1], kinds), other)
  wrong_kind(node, context, paste0(in_words(known[1]), " is compared with ", in_words(kinds[other])), remedy_for_pair(args[pair], kinds[pair], context$data))
}

kind_of_case <- function(node, context) {
  last <- length(node$args)
  conditions <- seq(1, last - 1, by = 2)
  for (arg in node$args[conditions]) need_kind(arg, context, "truth", "WHEN")
  kind_of_alike(node, node$args[-conditions], context)
}

kind_of_column_values <- function(values) {
  if (is.null(values) || (is.logical(values) && all(is.na(values)))) return("any")
  kinds <- c(shapes = "shape", Date = "time", POSIXt = "time", character = "text", factor = "text", logical = "truth", integer = "number", numeric = "number",
             integer64 = "number")
  c(stats::na.omit(kinds[class(values)]), "any")[[1]]
}

in_words <- function(kind) {
  c(number = "a number", text = "a text", truth = "a condition", time = "a date or time", interval = "an interval", shape = "a shape", any = "a value")[[kind]]
}

# --- what to write instead -------------------------------------------------------------------------------------------------

remedy_for_kind <- function(node, kind, wanted, data) {
  if (node$kind == "text" && node$value %in% names(data)) return(remedy_for_name(node))
  if (node$kind == "column" && kind == "text" && wanted == "number") remedy_for_text(node$value) else ""
}

remedy_for_pair <- function(nodes, kinds, data) {
  names <- Filter(function(node) node$kind == "text" && node$value %in% names(data), nodes)
  if (length(names)) return(remedy_for_name(names[[1]]))
  if (setequal(kinds, c("text", "time"))) return("Write a date as DATE('2026-11-29').")
  if (!setequal(kinds, c("text", "number"))) return("")
  texts <- Filter(function(node) node$kind == "column" && kind_of_column_values(data[[node$value]]) == "text", nodes)
  if (length(texts)) remedy_for_text(texts[[1]]$value) else "A number has no quotes."
}

remedy_for_name <- function(node) paste0("A column's name has no single quotes: ", node$value, ".")

remedy_for_text <- function(column) {
  mend <- typed("mend them with mend_numbers(x).", "mend them first: civicatlas convert INPUT OUTPUT --mend-numbers.")
  paste0("\"", column, "\" holds texts: compare it with '...', or ", mend)
}
