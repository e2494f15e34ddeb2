# Messages name functions and arguments of R; on the command line they name commands and options instead, so that what they advise can be typed.

# The theme of cli by which that happens.
terminal_words <- function() {
  in_quotes <- function(change) list(transform = function(x) paste0("`", change(as.character(x)), "`"))
  list(span.fn = in_quotes(command_in_words), span.arg = in_quotes(option_in_words), span.code = in_quotes(code_in_words))
}

# The command that does what a verb of R does; other functions as they are.
command_in_words <- function(verb) {
  command <- command_of_verb[verb]
  unname(ifelse(is.na(command), paste0(verb, "()"), command))
}

command_of_verb <- c(
  read_layer = "convert", write_layer = "convert", declare_crs = "convert --crs", mend_numbers = "convert --mend-numbers", list_layers = "layers",
  describe_layer = "describe", load_layers = "load", stack_layers = "stack", keep_rows = "keep", drop_rows = "drop", shapes_from_coordinates = "build",
  join_table = "join-table",
  rate_of = "rates",
  crs = "crs", find_crs = "crs --find", crs_for = "crs --suggest", reproject_to = "reproject", add_measures = "measure", area_of = "measure --area",
  length_of = "measure --length", perimeter_of = "measure --perimeter", buffer_by = "buffer", bands_around = "bands", simplify_by = "simplify",
  centroid_of = "centroid", inner_point_of = "inner-point", parts_of = "parts", boundary_of = "boundary", flatten_layer = "flatten", hull_of = "hull",
  dissolve_by = "dissolve", check_shapes = "check", repair_shapes = "repair", find_gaps = "gaps", find_slivers = "slivers", close_gaps = "close-gaps",
  absorb_slivers = "absorb", overlay_with = "overlay", clip_to = "clip", erase_by = "erase", split_by = "split", join_where = "join", join_nearest = "nearest",
  keep_where = "select", drop_where = "select --others", pick_where = "pick", summarise_into = "summarise", related_pairs = "relate",
  distance_matrix = "distances", cross_table = "cross-table", flows_between = "flows", neighbours_of = "neighbours",
  autocorrelation_of = "autocorrelation", local_clusters = "clusters", choropleth_map = "map", category_map = "map --as category",
  symbol_map = "map --as symbols", flow_map = "map --as flows", bivariate_map = "map --as bivariate", plain_map = "map --as plain", save_map = "map",
  interactive_map = "map", class_breaks = "classes", map_points = "map --points", map_outlines = "map --outlines", map_labels = "map --labels"
)

option_in_words <- function(argument) {
  names <- c(x = "LAYER", y = "OTHER", source = "LAYER", target = "OUTPUT", regions = "LAYER", features = "OTHER", "..." = "--with")
  argument <- sub("^[.](?=[a-z])", "", argument, perl = TRUE)
  unname(ifelse(argument %in% names(names), names[argument], paste0("--", gsub("_", "-", argument, fixed = TRUE))))
}

# A call of a verb as a command, `name = value` as an option; anything else as it is.
code_in_words <- function(code) vapply(code, code_in_words_each, "", USE.NAMES = FALSE)

code_in_words_each <- function(code) {
  expression <- tryCatch(parse(text = code, keep.source = FALSE)[[1]], error = function(e) NULL)
  if (rlang::is_call(expression, "=", n = 2)) return(option_with_value(as.character(expression[[2]]), expression[[3]]))
  if (!is.call(expression) || !is.symbol(expression[[1]]) || is.na(command_of_verb[as.character(expression[[1]])])) return(code)
  verb <- as.character(expression[[1]])
  command <- unname(command_of_verb[verb])
  args <- as.list(expression)[-1]
  names <- rlang::names2(args)
  layers <- vapply(args, is.symbol, NA) & !nzchar(names)
  positions <- c(reproject_to = "crs", buffer_by = "distance", dissolve_by = "by")
  names[!nzchar(names) & !layers] <- if (verb == "declare_crs") "" else if (verb %in% names(positions)) positions[[verb]] else "with"
  options <- unlist(Map(option_with_value, names[!layers], args[!layers]))
  record <- tryCatch(command_record(sub(" .*", "", command)), error = function(e) NULL)
  takes <- intersect(sub("INPUT", "LAYER", record$role), c("LAYER", "OTHER", "OUTPUT"))
  first <- sub(" .*", "", command)
  rest <- if (grepl(" ", command, fixed = TRUE)) sub("^[^ ]+ ", "", command)
  paste(c("civicatlas", first, takes, rest, options), collapse = " ")
}

option_with_value <- function(name, value) {
  if (isTRUE(value)) return(option_in_words(name))
  text <- if (is.character(value)) shell_word(value) else paste(deparse(value), collapse = " ")
  paste(c(if (nzchar(name)) option_in_words(name), text), collapse = " ")
}
