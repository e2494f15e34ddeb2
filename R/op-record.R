# Operations: one record each, from which come the commands of the tool with their parser, help, completions and manual page, the steps of workflows with
# their checks and schema, the page's controls, batches, scripts, and the commands that messages advise. Files of R/op-*.R register theirs.

operation_names <- function() names(operation_makers$all)

# Made once, and anew where formats were added, as options list them.
operation_record <- function(name) {
  formats <- names(known_formats())
  if (!identical(operation_makers$formats, formats)) operation_makers$made <- list()
  operation_makers$formats <- formats
  if (is.null(operation_makers$made[[name]])) operation_makers$made[[name]] <- c(operation_makers$all[[name]](), list(name = name))
  operation_makers$made[[name]]
}

# * `takes`: what stands behind the command, in order. LAYER and OTHER are read, LAYERS are one or more, OUTPUT is written, anything else is
#   handed on as text; in brackets what may be left out. In a call of the verb they are its first arguments.
# * `options`: see new_option(). Those for reading and writing are added where they are needed, and all are named in the record.
# * What is done, one of
#   - `verb`: the name of a function, or of several, of which one with a name is taken where the option of that name is given;
#   - `code(a)`: the R code of a call, of the codes of layers (`x`, `y`, `table`) and of the options that are given, by name;
#   - `run(o)`: anything else. `o` has the options by name, layers as `x`, `y` and `layers`, and other arguments by their names in lower case.
#   The value is a layer or table, which is written or shown, or anything else that prints.
# * `settle(o, x)` completes the options before that, `finish(found, o)` changes the value after it.
# * `says`: what else the command does, as the words behind it by the names of functions: c(declare_crs = "--declare-crs").
# * `tiles`: whether it works tile by tile, or a function of the options that tells; by default, where its verb does.
new_operation <- function(group, summary, takes, options = list(), example, run = NULL, verb = NULL, code = NULL, settle = NULL, finish = NULL,
                          says = character(), tiles = NULL, about = summary) {
  role <- gsub("[^A-Z]", "", takes)
  reads <- if (any(role %in% c("LAYER", "LAYERS"))) reading_options()
  second <- if ("OTHER" %in% role) list(match_option())
  writes <- if ("OUTPUT" %in% role) writing_options() else if ("IMAGE" %in% role) writing_options()[1]
  stopifnot(group %in% operation_groups, is.null(verb) + is.null(code) + is.null(run) == 2)
  own <- options_by_name(lapply(options, with_argument, verb))
  shared <- options_by_name(lapply(c(reads, second, writes, common_options()), with_argument, NULL))
  options <- c(own, shared[setdiff(names(shared), names(own))])
  list(group = group, summary = summary, about = about, takes = takes, role = role, options = options, example = example, verb = verb, code = code, run = run,
       settle = settle, finish = finish, says = says, tiles = tiles)
}

operation_groups <- c("Look", "In and out", "Rows and columns", "CRS", "Shapes", "Two layers", "Mend", "Statistics", "Maps", "Other")

options_by_name <- function(options) stats::setNames(options, vapply(options, `[[`, "", "name"))

# * `type`: flag, text, number, whole, numbers, choice (of `values`), column, columns, distance (a number or a column), condition, expression, expressions,
#   layer, layers (name=path), renames (new=old), keys, file or crs.
# * `argument`: what it is of the verb's arguments where the names differ, by the name of the verb where there are several; "..." is put among the dots,
#   "result" is computed from what the verb gave, NA is none.
# * `sets`: what a flag that is set gives the argument.
# * `of`: the layer whose columns it names, "x", "y" or "table"; `use`: "group" for summaries; `least`: of whole numbers; `former`: its name
#   in versions before, of which messages know; `unitless`: a number that --unit is not the unit of.
new_option <- function(name, type, help, default = NULL, values = NULL, required = FALSE, argument = NULL, sets = TRUE, of = "x", use = "row", least = -Inf,
                       former = NULL, unitless = FALSE) {
  list(name = name, type = type, help = help, default = if (type == "flag") FALSE else default, values = values, required = required, argument = argument,
       sets = sets, of = of, use = use, least = least, former = former, unitless = unitless)
}

# The option that had a name in versions before.
now_named <- function(name, options) names(Filter(function(option) identical(option$former, name), options))[1] %|% NULL

# The name of an option as a variable.
in_r <- function(name) gsub("-", "_", name, fixed = TRUE)

# An option with the arguments that it stands for, by verb: those that were told, else those of its name.
with_argument <- function(option, verbs) {
  told <- option$argument
  argument_of <- function(verb) {
    if (!is.null(told)) return(if (is.null(names(told))) told else told[verb] %|% NA_character_)
    c(intersect(paste0(c("", "."), in_r(option$name)), names(formals(function_of(verb)))), NA_character_)[1]
  }
  option$argument <- if (is.null(verbs)) told %||% NA_character_ else vapply(stats::setNames(nm = unname(verbs)), argument_of, "")
  if (option$required && !is.null(verbs) && all(is.na(option$argument))) stop("no verb takes --", option$name)
  option
}

# Of some options, what each is of a verb's arguments; NA for none.
arguments_of <- function(options, verb) vapply(options, function(option) option$argument[verb] %|% NA_character_, "")

# A function by its name, of this package or with the name of another before it.
function_of <- function(name) if (grepl("::", name, fixed = TRUE)) eval(str2lang(name)) else get(name, envir = topenv())

# The role of each input; the one with "..." takes what the others leave.
roles_of_inputs <- function(record, inputs) {
  many <- grepl("...", record$takes, fixed = TRUE)
  rep(record$role, ifelse(many, max(1, length(inputs) - length(record$role) + 1), 1))[seq_along(inputs)]
}

# Whether a verb of it works on layers in tiles, with such options.
works_on_tiles <- function(record, values) {
  if (is.function(record$tiles)) return(record$tiles(values))
  record$tiles %||% any(record$verb %in% names(tiled_verbs))
}

# The words behind `civicatlas` that do what a function does: "select --others" for drop_where(); NA for none. A command that does it without an option
# comes before one that needs it.
words_of_verb <- function(verb) {
  if (is.null(operation_makers$words)) operation_makers$words <- words_by_verb()
  operation_makers$words[verb]
}

words_by_verb <- function() {
  words <- unlist(unname(lapply(operation_names(), function(name) {
    record <- operation_record(name)
    option <- rlang::names2(record$verb)
    own <- stats::setNames(trimws(paste0(name, ifelse(nzchar(option), " --", ""), option)), record$verb)
    c(own[!grepl("::", names(own), fixed = TRUE)], stats::setNames(trimws(paste(name, record$says, recycle0 = TRUE)), names(record$says)))
  })))
  words <- words[order(grepl(" ", words))]
  words[!duplicated(names(words))]
}

# --- options that many have --------------------------------------------------------------------------------------------------

reading_options <- function() {
  list(
    new_option("layer", "text", "layer, where the (first) input holds several; of others as file#layer"),
    new_option("where", "condition", "condition on the columns of the (first) input; other rows are left out"),
    new_option("within", "numbers", "xmin,ymin,xmax,ymax in the layer's CRS; rows outside are left out"),
    new_option("encoding", "text", "encoding of text in a dBASE table or CSV file, over what it says"),
    new_option("daemons", "whole", "layers in tiles: how many processes to share them among"),
    new_option("from-format", "choice", "format of an input whose name does not tell, by its ending", values = unique(unname(endings_of("endings"))),
               former = "from")
  )
}

match_option <- function() new_option("match-crs", "flag", "reproject the second input to the CRS of the first")

writing_options <- function() {
  list(
    new_option("replace", "flag", "replace the output where it is there already"),
    new_option("append", "flag", "GeoPackage or database: add rows to a table that is there"),
    new_option("to-layer", "text", "GeoPackage or database: table to write, by default the name of the file"),
    new_option("to-format", "choice", "format of an output whose name does not tell, by its ending", values = unique(unname(endings_of("written")))),
    new_option("decimals", "whole", "GeoJSON, KML, CSV, WKT: digits after the point of coordinates"),
    new_option("shapes", "choice", "CSV: write shapes as text, or none; by default points alone, as two columns", values = shapes_in_tables)
  )
}

common_options <- function() {
  list(
    new_option("quiet", "flag", "leave out the one-line accounts"), new_option("json", "flag", "machine-readable output"),
    new_option("help", "flag", "show this help")
  )
}

# The relation is the verb's own default where none is named.
relation_options <- function(relation = "intersects") {
  list(
    new_option("relation", "choice", "relation of OGC Simple Features", relation, relations),
    new_option("distance", "number", "for the relation \"within distance\""),
    new_option("unit", "choice", "unit of --distance, m by default", values = names(length_units))
  )
}

unit_option <- function(of) new_option("unit", "choice", paste0("unit of ", of, ", m by default"), values = names(length_units))
