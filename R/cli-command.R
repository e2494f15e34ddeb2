# The commands of the tool, one record each, from which their parser, help, completions and manual page are made. Files of R/cli-commands-*.R
# register theirs.

command_makers <- new.env(parent = emptyenv())

# `make` gives the record when the command is first asked for, as what it names may come after it in the sources.
register_command <- function(name, make) command_makers$all[[name]] <- make

command_names <- function() names(command_makers$all)

# Made once, and anew where formats were added, as options list them.
command_record <- function(name) {
  formats <- names(known_formats())
  if (!identical(command_makers$formats, formats)) command_makers$made <- list()
  command_makers$formats <- formats
  if (is.null(command_makers$made[[name]])) command_makers$made[[name]] <- c(command_makers$all[[name]](), list(name = name))
  command_makers$made[[name]]
}

# * `takes`: what stands behind the command, in order. LAYER and OTHER are read, LAYERS are one or more, OUTPUT is written, anything else is
#   handed on as text; in brackets what may be left out.
# * `options`: see new_option(). Those for reading and writing are added where they are needed, and all are named in the record.
# * `run(o)` has the options by name, layers as `x`, `y` and `layers`, and other arguments by their names in lower case. It gives a layer or table,
#   which is written or shown, or anything else that prints.
new_command <- function(group, summary, takes, options = list(), example, run, about = summary) {
  role <- gsub("[^A-Z]", "", takes)
  reads <- if (any(role %in% c("LAYER", "LAYERS"))) reading_options()
  second <- if ("OTHER" %in% role) list(new_option("match-crs", "flag", "reproject the second input to the CRS of the first"))
  writes <- if ("OUTPUT" %in% role) writing_options()
  stopifnot(group %in% command_groups)
  own <- options_by_name(options)
  shared <- options_by_name(c(reads, second, writes, common_options()))
  options <- c(own, shared[setdiff(names(shared), names(own))])
  list(group = group, summary = summary, about = about, takes = takes, role = role, options = options, example = example, run = run)
}

options_by_name <- function(options) stats::setNames(options, vapply(options, `[[`, "", "name"))

# `type`: flag, text, number, whole, numbers, choice (of `values`), column, columns, condition, expression, expressions, layer, file or crs.
new_option <- function(name, type, help, default = NULL, values = NULL, required = FALSE) {
  list(name = name, type = type, help = help, default = if (type == "flag") FALSE else default, values = values, required = required)
}

reading_options <- function() {
  list(
    new_option("layer", "text", "layer, where the (first) input holds several"),
    new_option("where", "condition", "condition on the columns of the (first) input; other rows are left out"),
    new_option("within", "numbers", "xmin,ymin,xmax,ymax in the layer's CRS; rows outside are left out"),
    new_option("encoding", "text", "encoding of text in a dBASE table or CSV file, over what it says"),
    new_option("daemons", "whole", "layers in tiles: how many processes to share them among"),
    new_option("from", "choice", "format of an input whose name does not tell, by its ending", values = unique(unname(endings_of("endings"))))
  )
}

writing_options <- function() {
  list(
    new_option("replace", "flag", "replace the output where it is there already"),
    new_option("append", "flag", "GeoPackage or database: add rows to a table that is there"),
    new_option("to-layer", "text", "GeoPackage or database: table to write, by default the name of the file"),
    new_option("to-format", "choice", "format of an output whose name does not tell, by its ending", values = unique(unname(endings_of("written")))),
    new_option("decimals", "whole", "GeoJSON, KML, CSV, WKT: digits after the point of coordinates")
  )
}

common_options <- function() {
  list(
    new_option("quiet", "flag", "leave out the one-line accounts"), new_option("json", "flag", "machine-readable output"),
    new_option("help", "flag", "show this help")
  )
}

relation_options <- function(relation = "intersects") {
  list(
    new_option("relation", "choice", "relation of OGC Simple Features", relation, relations),
    new_option("distance", "number", "for the relation \"within distance\""),
    new_option("unit", "choice", "unit of --distance, m by default", values = names(length_units))
  )
}

unit_option <- function(of) new_option("unit", "choice", paste0("unit of ", of, ", m by default"), values = names(length_units))

# --- what options hold -----------------------------------------------------------------------------------------------------

column_list <- function(text) trimws(strsplit(text, ",")[[1]])

# A list of columns as a selection of them; NULL for none.
columns_option <- function(text) if (!is.null(text)) rlang::expr(dplyr::all_of(!!column_list(text)))

symbol_option <- function(text) if (!is.null(text)) rlang::sym(text)

# Expressions by name on the columns of a table, for `use` "row" or "group"; checked against the columns.
expressions_option <- function(text, option, x, use = "row") {
  if (is_tiled(x)) x <- x$prototype
  trees <- parse_text(text, option, "named", NULL)
  code <- lapply(trees, function(tree) checked_quosure(with_text_of(tree, trees), x, summaries = use == "group"))
  if (use == "group") tell_left_out(trees, as.list(plain_data_frame(x)))
  code
}

# One expression on the columns of a table.
expression_option <- function(text, option, x) {
  checked_quosure(parse_text(text, option, "expression", NULL), x)
}

# Summaries leave missing values out, which is told.
tell_left_out <- function(trees, data) {
  columns <- unique(unlist(lapply(trees, function(tree) {
    groups <- nodes_where(tree, function(node) node$kind == "call" && word_of(node$value)$use == "group" && !ascii_lower(node$value) %in% c("count", "n"))
    lapply(groups, columns_of_tree)
  })))
  missing <- vapply(data[columns], function(column) sum(is.na(column)), 0L)
  lines <- paste0(names(missing), ": ", vapply(missing, counted, "", "row"))[missing > 0]
  if (length(lines)) caution("data", c("Rows without a value are left out of summaries:", stats::setNames(escape(lines), rep("*", length(lines)))))
}
