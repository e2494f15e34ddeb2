#' The command-line tool
#'
#' `civicatlas COMMAND ...` on the command line calls this; `civicatlas --help` lists the commands. Messages go to standard
#' error, data to standard output.
#' @param args Character vector of arguments.
#' @return The exit code: 0 done, 1 the work failed, 2 wrong usage.
#' @examples
#' run_command_line(c("describe", demo_file("wards.shp")))
#' @export
run_command_line <- function(args) {
  tryCatch(run_arguments(args), error = function(e) if (is_reader_gone(e)) 0L else rlang::cnd_signal(e))
}

# Whoever read the output, as `head` does, wants no more of it.
is_reader_gone <- function(e) grepl("SIGPIPE", conditionMessage(e), fixed = TRUE)

run_arguments <- function(args) {
  if (!length(args) || args[1] %in% c("--help", "-h", "help")) {
    cat(overview())
    return(if (length(args)) 0L else 2L)
  }
  if (args[1] == "--version") {
    cat("civicatlas ", format(utils::packageVersion("civicatlas")), "\n", sep = "")
    return(0L)
  }
  if (!args[1] %in% names(commands())) {
    names <- names(commands())
    begins <- names[startsWith(names, args[1])]
    nearest <- c(begins, names[which.min(utils::adist(args[1], names))])[1]
    return(wrong_usage(sprintf("there is no command \"%s\"; the nearest is \"%s\"", args[1], nearest), "civicatlas --help"))
  }
  run_command(args[1], commands()[[args[1]]], args[-1])
}

run_command <- function(name, command, args) {
  parser <- command_parser(name, command)
  problem <- function(e) sub(".*: *\n *", "", trimws(conditionMessage(e)))
  parsed <- tryCatch(
    optparse::parse_args(parser, args, print_help_and_exit = FALSE, positional_arguments = TRUE, convert_hyphens_to_underscores = TRUE),
    error = problem, warning = problem
  )
  help <- paste0("civicatlas ", name, " --help")
  if (is.character(parsed)) return(wrong_usage(parsed, help))
  if (parsed$options$help) {
    optparse::print_help(parser)
    return(0L)
  }
  inputs <- parsed$args
  if (length(inputs) < command$inputs[1] || length(inputs) > command$inputs[2]) {
    return(wrong_usage(paste0("it takes ", command$arguments, "; given: ", length(inputs)), help))
  }
  for (option in command$required) {
    if (is.null(parsed$options[[option]])) return(wrong_usage(paste0("--", gsub("_", "-", option), " is missing"), help))
  }
  with_terminal_manners(parsed$options, command$run(inputs, parsed$options))
}

wrong_usage <- function(problem, help) {
  message("civicatlas: ", problem, "\nSee: ", help)
  2L
}

# Runs the work with warnings and errors as lines on standard error, and gives the exit code.
with_terminal_manners <- function(options, work) {
  old <- options(civicatlas.quiet = isTRUE(options$quiet), cli.width = if (isatty(stderr())) cli::console_width() else 100)
  said$on_command_line <- TRUE
  on.exit({
    options(old)
    said$on_command_line <- FALSE
  })
  tryCatch(
    withCallingHandlers({
      result <- force(work)
      if (isTRUE(options$json)) cat(as_json(result), "\n", sep = "")
      0L
    }, warning = function(w) {
      message("! ", conditionMessage(w))
      tryInvokeRestart("muffleWarning")
    }),
    civicatlas_error_choice = function(e) report_failure(e, options, 2L),
    error = function(e) report_failure(e, options, 1L),
    interrupt = function(e) {
      message("civicatlas: interrupted")
      1L
    }
  )
}

report_failure <- function(e, options, code) {
  if (is_reader_gone(e)) rlang::cnd_signal(e)
  text <- cli::ansi_strip(conditionMessage(e))
  if (isTRUE(options$json)) {
    kind <- sub("civicatlas_error_", "", grep("^civicatlas_error_", class(e), value = TRUE)[1])
    cat(as_json(list(error = list(kind = kind, message = text))), "\n", sep = "")
  }
  message("civicatlas: ", text)
  code
}

as_json <- function(x) jsonlite::toJSON(x, auto_unbox = TRUE, null = "null", na = "null", digits = NA, pretty = TRUE)

overview <- function() {
  summaries <- vapply(commands(), `[[`, "", "summary")
  lines <- paste0("  ", formatC(names(summaries), width = -max(nchar(names(summaries)))), "  ", summaries)
  paste0("usage: civicatlas COMMAND INPUTS [OUTPUT] [OPTIONS]\n\n", paste(lines, collapse = "\n"),
         "\n\nEvery command has --help with an example, --quiet, and --json for machine-readable output.\n")
}

command_parser <- function(name, command) {
  common <- list(option("quiet", FALSE, "leave out the one-line accounts"), option("json", FALSE, "machine-readable output"))
  help <- optparse::make_option(c("-h", "--help"), action = "store_true", default = FALSE, help = "show this help")
  optparse::OptionParser(
    usage = paste0("civicatlas ", name, " ", command$arguments, " [OPTIONS]"), option_list = c(lapply(c(command$options, common), parser_option), help),
    add_help_option = FALSE, description = paste0("\n", command$about %||% command$summary),
    epilogue = paste0("Example:\n  ", command$example)
  )
}

# An option with a value, or a flag where the default is FALSE.
option <- function(name, default = NULL, help, type = if (is.numeric(default)) "double" else "character") {
  list(name = name, default = default, help = help, type = type)
}

parser_option <- function(option) {
  flag <- isFALSE(option$default)
  optparse::make_option(paste0("--", option$name), action = if (flag) "store_true" else "store", default = option$default, help = option$help,
                        type = if (flag) "logical" else option$type, metavar = if (flag) NULL else ascii_upper(gsub("-", "_", option$name)))
}

output_options <- list(
  option("replace", FALSE, "replace the output where it is there already"),
  option("to-layer", NULL, "GeoPackage or database: table to write [name of the file]"),
  option("append", FALSE, "GeoPackage or database: add rows to a table that is there"),
  option("decimals", NULL, "GeoJSON, KML, CSV, WKT: digits after the point of coordinates", type = "integer")
)
input_options <- list(
  option("layer", NULL, "layer, where the (first) input holds several"),
  option("encoding", NULL, "encoding of text in a dBASE table or CSV file, over what it says")
)
class_options <- list(
  option("fill", NULL, "column, or expression on columns, to map"), option("classes", 5, "number of classes [%default]"),
  option("method", "natural", paste("natural, quantile, equal, \"standard deviation\", geometric, pretty, head-tail, \"maximum gaps\" or, of maps,",
                                    "continuous [%default]")),
  option("at", NULL, "your own breaks instead, separated by commas"),
  option("rounded", FALSE, "round the breaks to readable numbers"),
  option("palette", "harbour", "harbour, ember, moss, dusk, slate, tide or thaw, or colours separated by commas [%default]"), option("title", NULL, "title")
)
relation_options <- list(
  option("relation", "intersects", "relation of OGC Simple Features [%default]"),
  option("distance", NULL, "for the relation \"within distance\"", type = "double"),
  option("unit", NULL, "unit of --distance [m]"),
  option("match-crs", FALSE, "reproject the second input to the CRS of the first")
)
