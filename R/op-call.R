# What an operation does, as R code: the call of its verb. A run evaluates it, and a script has it as it is.

# What came of an operation whose options, layers and other arguments are `o`.
result_of <- function(record, o) {
  if (!is.null(record$settle)) o <- record$settle(o, o$x)
  if (!is.null(record$run)) return(record$run(o))
  single <- Filter(Negate(is.null), o[c("x", "y", "table")])
  many <- stats::setNames(as.list(o$layers), variables_of_layers(o$layers))
  code <- call_of_operation(record, o, lapply(stats::setNames(nm = names(single)), as.name), code_for_run(o))
  found <- eval(code, list2env(c(single, many), parent = topenv()))
  if (is.null(record$finish)) found else record$finish(found, o)
}

# What of an operation cannot be said before its layers are there.
more_is_left <- function(...) rlang::abort("more is left than a call", class = "civicatlas_residual")

# Variables for layers of which there are many, by the names that these have.
variables_of_layers <- function(layers) stats::setNames(sprintf("layer%d", seq_along(layers)), names(layers))

# `o`: options by name; `layers`: codes by x, y and table; `coded(option, value)`: the code of an option.
call_of_operation <- function(record, o, layers, coded) {
  named <- stats::setNames(record$options, in_r(names(record$options)))
  named <- named[intersect(names(named), names(Filter(Negate(is.null), o)))]
  codes <- Map(function(option, name) coded(option, o[[name]]), named, names(named))
  codes <- Filter(Negate(is.null), codes)
  if (!is.null(record$code)) return(record$code(c(layers, codes)))
  verb <- chosen_verb(record$verb, names(codes))
  argument <- arguments_of(named[names(codes)], verb)
  inputs <- c(layers$x, layers$y, layers$table, if ("CONDITION" %in% record$role) coded(list(type = "condition", name = "condition"), o$condition))
  names(inputs) <- names(formals(function_of(verb)))[seq_along(inputs)]  # so that a layer named "w" is no "where"
  dots <- unlist(unname(codes[argument %in% "..."]), recursive = FALSE)
  rest <- codes[!is.na(argument) & !argument %in% c("...", "result")]
  names(rest) <- argument[names(rest)]
  with_results(call_of(verb, c(inputs, dots, rest)), codes[argument %in% "result"])
}

# Of several functions the one whose option is given, else the one without.
chosen_verb <- function(verbs, given) {
  by_option <- verbs[in_r(rlang::names2(verbs)) %in% given]
  if (length(by_option)) by_option[[1]] else verbs[[1]]
}

# A call without arguments that are the function's defaults, and without the names of the first two, unless R would take another name for theirs.
call_of <- function(verb, args) {
  fun <- function_of(verb)
  whole <- as.list(match.call(fun, rlang::call2("f", !!!args)))[-1]
  formals <- formals(fun)
  is_default <- vapply(names(whole), function(arg) arg %in% names(formals) && same_value(whole[[arg]], formals[[arg]]), NA)
  whole <- whole[!is_default]
  plain <- names(whole) %in% utils::head(names(formals), 2) & !vapply(whole, is.logical, NA)
  begins <- function(name) nzchar(name) && any(startsWith(names(formals), name))
  if (!any(vapply(setdiff(names(whole), names(formals)), begins, NA))) names(whole)[plain] <- ""
  rlang::call2(str2lang(verb), !!!whole)
}

same_value <- function(value, default) {
  if (is.call(value) || is.name(value) || is.name(default)) return(FALSE)
  default <- tryCatch(eval(default, baseenv()), error = function(e) NA)
  isTRUE(all.equal(value, default, check.attributes = FALSE)) && length(value) == length(default)
}

# Columns that are computed from what the verb gave.
with_results <- function(code, results) {
  for (result in results) code <- result(code)
  code
}

# --- the codes of options ----------------------------------------------------------------------------------------------------

# Of a value; NULL for none. Columns are looked for, and expressions checked, in the layers that `o` has.
code_for_run <- function(o) {
  layer_of <- function(option) if (is_tiled(o[[option$of]])) o[[option$of]]$prototype else o[[option$of]]
  function(option, value) {
    for (column in columns_of_option(option, value)) need_column(layer_of(option), column, option$name, call = NULL)
    switch(option$type,
      expressions = if (option$argument[[1]] %in% "result") function(code) rlang::call2("computed", code, value, option$name)
                    else expressions_option(value, option$name, layer_of(option), option$use),
      expression = expression_option(value, option$name, layer_of(option)),
      layers = lapply(variables_of_layers(value), as.name),
      plain_code(option, value)
    )
  }
}

columns_of_option <- function(option, value) {
  switch(option$type, column = value, columns = column_list(value), renames = unname(named_values(value, option$name)),
         distance = if (is.na(suppressWarnings(as.double(value)))) value, keys = names(keys_of_text(value)))
}

# Codes that need no layer.
plain_code <- function(option, value) {
  switch(option$type,
    flag = if (value) option$sets,
    column = as.name(value),
    columns = code_of_columns(option, column_list(value)),
    distance = if (is.na(suppressWarnings(as.double(value)))) as.name(value) else as.double(value),
    renames = lapply(named_values(value, option$name), as.name),
    keys = code_of_keys(keys_of_text(value)),
    file = column_list(value),
    value
  )
}

# Columns among the dots, or as texts.
code_of_columns <- function(option, columns) {
  if (option$argument[[1]] %in% "...") return(lapply(columns, as.name))
  if (length(columns) == 1) columns else rlang::call2("c", !!!columns)
}

# "left=right" or the name of both, separated by commas.
keys_of_text <- function(text) {
  pairs <- strsplit(column_list(text), "\\s*=\\s*")
  stats::setNames(vapply(pairs, function(pair) pair[length(pair)], ""), vapply(pairs, `[`, "", 1))
}

code_of_keys <- function(keys) {
  if (length(keys) == 1 && names(keys) == keys) unname(keys) else rlang::call2("c", !!!keys)
}
