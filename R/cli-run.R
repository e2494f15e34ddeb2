#' The command-line tool
#'
#' `civicatlas COMMAND ...` on the command line calls this; `civicatlas --help` lists the commands. Messages go to standard
#' error, data to standard output.
#' @param args Character vector of arguments.
#' @return The exit code: 0 done, 1 the work failed, 2 wrong usage, 130 interrupted.
#' @examples
#' run_command_line(c("describe", demo_file("wards.shp")))
#' @export
run_command_line <- function(args) {
  tryCatch(run_arguments(args), error = function(e) if (is_reader_gone(e)) 0L else rlang::cnd_signal(e))
}

# What `civicatlas` does with what was typed: arguments are bytes of the locale, or UTF-8 where the locale holds less.
run_tool <- function(args) {
  Sys.unsetenv(c("R_DEFAULT_PACKAGES", "R_ENABLE_JIT"))  # which are for this process and not for those that it starts
  packages <- c("methods", "datasets", "utils", "grDevices", "graphics", "stats")
  for (package in setdiff(packages, sub("^package:", "", search()))) attachNamespace(package)
  options(options_of_environment())
  args <- tryCatch(settled_texts(args), civicatlas_error = function(e) {
    message("civicatlas: ", conditionMessage(e))
    NULL
  })
  if (is.null(args)) 2L else run_command_line(args)
}

# Texts in UTF-8. In a locale that has ASCII alone (cron's, as a rule) this process and those that it starts take one that has all.
settled_texts <- function(texts) {
  if (l10n_info()$`UTF-8`) return(texts)
  if (!Sys.getlocale("LC_CTYPE") %in% c("C", "POSIX")) return(enc2utf8(texts))
  takes <- function(locale) nzchar(suppressWarnings(Sys.setlocale("LC_CTYPE", locale)))
  locale <- Find(takes, c("C.UTF-8", "C.utf8", "en_US.UTF-8", "UTF-8"))
  if (!is.null(locale)) {
    if (nzchar(Sys.getenv("LC_ALL"))) Sys.setenv(LC_ALL = locale) else Sys.setenv(LC_CTYPE = locale)
    Encoding(texts) <- "UTF-8"
  } else if (any(grepl("[^ -~]", texts, useBytes = TRUE))) {
    wrong_usage("the locale holds ASCII alone, and there is none of UTF-8 here: set LC_ALL to one that `locale -a` lists")
  }
  texts
}

# Whoever read the output, as `head` does, wants no more of it.
is_reader_gone <- function(e) grepl("SIGPIPE", conditionMessage(e), fixed = TRUE)

run_arguments <- function(args) {
  if (!length(args) || args[1] %in% c("--help", "-h") || identical(args, "help")) {
    show_help(first_page())
    return(if (length(args)) 0L else 2L)
  }
  if (args[1] == "--version") {
    cat("civicatlas ", format(utils::packageVersion("civicatlas")), "\n", sep = "")
    return(0L)
  }
  if (identical(args, c("help", "expressions"))) {
    show_help(words_in_lines())
    return(0L)
  }
  if (args[1] == "help") args <- c(args[2], "--help")
  with_terminal_manners(list(quiet = "--quiet" %in% args, json = "--json" %in% args, command = args[1]), run_command(args))
}

# One command with its arguments: reads, works and delivers, and gives what --json prints.
run_command <- function(args, known = new.env(parent = emptyenv())) {
  command <- find_command(args[1])
  parsed <- parse_arguments(command, args[-1])
  said$command <- without_secrets(paste(c("civicatlas", vapply(args, shell_word, "")), collapse = " "))  # as histories have it
  said$record <- command
  on.exit(said$command <- said$record <- NULL)
  if (isTRUE(parsed$options$help)) {
    show_help(command_help(command))
    return(invisible(NULL))
  }
  check_texts(command, parsed)
  check_outputs(command, parsed)
  with_daemons(parsed$options$daemons, {
    o <- with_inputs(command, parsed, known)
    before <- said$accounts
    result <- run_if_whole(result_of(command, o))
    if (identical(said$accounts, before)) tell_rows(command, o$x, result)
    deliver(result, o, known)
  })
}

# The account of a command whose verb gave none: rows in and out, and columns that came or went.
tell_rows <- function(command, x, result) {
  if (command$group == "Look" || !is.data.frame(x) || !is.data.frame(result)) return(invisible())
  listed <- function(names) if (length(names) > 4) counted(length(names), "column") else paste(names, collapse = ", ")
  columns <- function(names, what) if (length(names)) paste0("; ", what, " ", listed(names))
  own <- setdiff(names(x), shape_column_name(x))
  came <- if (is_spatial_frame(result)) setdiff(names(result), names(x))
  gone <- if (is_spatial_frame(result)) setdiff(own, names(result))
  counts <- paste0(counted(nrow(x), "row"), " in, ", format_count(nrow(result)), " out", columns(came, "new:"), columns(gone, "gone:"))
  say("{.code {command$name}}: {counts}.")
}

find_command <- function(name) {
  if (name %in% operation_names()) return(operation_record(name))
  begins <- operation_names()[startsWith(operation_names(), name)]
  nearest <- c(begins, nearest_word(name, operation_names(), most = 1))[1]
  wrong_usage("there is no command \"{name}\"; the nearest is \"{nearest}\"")
}

# The options with what stands behind the command: layers read, the rest by name.
with_inputs <- function(command, parsed, known) {
  o <- c(parsed$options, list(known = known))
  texts <- split(parsed$inputs, factor(roles_of_inputs(command, parsed$inputs), unique(command$role)))
  for (role in names(texts)[lengths(texts) > 0]) {
    read <- function(text) for_operation(read_input(text, o, known, first = !role %in% c("OTHER", "TABLE")), command, o)
    switch(role,
      LAYER = o$x <- read(texts$LAYER),
      SOURCE = o$source <- if (is_in_memory(texts$SOURCE)) read(texts$SOURCE) else texts$SOURCE,
      TABLE = o$table <- read(texts$TABLE),
      OTHER = o$y <- brought_to(o$x, read(texts$OTHER), o$match_crs),
      LAYERS = o$layers <- stats::setNames(lapply(texts$LAYERS, read), texts$LAYERS),
      o[[ascii_lower(role)]] <- texts[[role]]
    )
  }
  for (name in options_of_type(command, "layer", o)) o[[name]] <- read_input(o[[name]], o, known, first = FALSE)
  for (name in options_of_type(command, "layers", o)) o[[name]] <- lapply(named_values(o[[name]], name), read_input, o, known, first = FALSE)
  o
}

# The names of the options of a type that are given.
options_of_type <- function(command, type, options) {
  types <- vapply(command$options, `[[`, "", "type")
  intersect(in_r(names(types)[types == type]), names(Filter(Negate(is.null), options)))
}

# What stands behind a command in some roles.
inputs_of_line <- function(command, parsed, reads = c("LAYER", "OTHER", "LAYERS", "INPUT", "SOURCE", "FILES", "TABLE")) {
  parsed$inputs[roles_of_inputs(command, parsed$inputs) %in% reads]
}

# Standard input, or a layer that a batch keeps under a name.
is_in_memory <- function(text) text == "-" || startsWith(text, "@")

# Can the conditions and expressions be read, and the layers in memory be meant? Known before any layer is.
check_texts <- function(command, parsed) {
  if ("@" %in% parsed$inputs) wrong_usage("@ has no name behind it: write @name")
  if (command$name == "layers" && is_in_memory(parsed$inputs)) {
    wrong_usage("layers lists those of a file, address or database, and {parsed$inputs} is one layer")
  }
  for (text in inputs_of_line(command, parsed, "CONDITION")) parse_text(text, "condition", call = NULL)
  for (option in command$options) {
    text <- parsed$options[[in_r(option$name)]]
    if (option$type %in% names(forms_of_texts) && !is.null(text)) parse_text(text, option$name, forms_of_texts[[option$type]], NULL)
  }
}

# Can what the command writes be written where it is to go? Known before the work.
check_outputs <- function(command, parsed) {
  o <- parsed$options
  if (isTRUE(o$replace) && isTRUE(o$append)) wrong_usage("--replace and --append: give one of them")
  images <- c(inputs_of_line(command, parsed, "IMAGE"), o$drawing)
  for (file in images) check_output_file(file, c(names(map_devices), "html", if (identical(file, o$drawing)) "mmd"), o)
  if (!is.null(o$report)) check_output_file(o$report, c("html", "pdf"), o)
  if (!is.null(o$script)) check_output_file(o$script, c("r", "sh"), o)
  for (target in inputs_of_line(command, parsed, "OUTPUT")) check_output_layer(target, o, inputs_of_line(command, parsed))
}

check_output_file <- function(file, endings, o) {
  ending <- ascii_lower(tools::file_ext(file))
  if (!ending %in% endings) wrong_usage("{file} ends in none of {paste0('.', endings, collapse = ', ')}")
  whole <- function(path) suppressWarnings(normalizePath(path, "/", mustWork = FALSE))
  is_made <- !is.null(o$folder) && identical(whole(dirname(file)), whole(o$folder))  # by the run
  if (!is_made) need_place(path.expand(file), NULL)
  need_free(path.expand(file), isTRUE(o$replace), NULL)
}

check_output_layer <- function(target, o, inputs) {
  if (target == "-" || startsWith(target, "@") || !is.null(format_of_address(target))) return(invisible())
  target <- path.expand(target)
  need_place(target, NULL)
  if (any(vapply(inputs, is_tile_folder, NA))) return(invisible())  # a folder of tiles, or a file: told by who writes it
  if (!is.null(o$to_format)) {
    need_single_file(target, o$to_format)
    return(need_free(target, isTRUE(o$replace), NULL))
  }
  format <- target_format(target, NULL)
  if (holds(format, "append")) return(need_free_layer(target, o))
  if (isTRUE(o$append)) check_target(tibble::tibble(), target, format, list(append = TRUE), NULL)
  need_free(target, isTRUE(o$replace), NULL)
}

# Of a file of several layers only one of the same name stands in the way.
need_free_layer <- function(target, o) {
  if (isTRUE(o$replace) || isTRUE(o$append) || !file.exists(target)) return(invisible())
  layer <- o$to_layer %||% stem_of(target)
  layers <- tryCatch(quietly(list_layers(target)$layer), civicatlas_error = function(e) NULL)  # what is wrong with it is told by who writes to it
  if (layer %in% layers) {
    remedy <- "Replace it with {.code --replace}, add rows with {.code --append}, or name another with {.code --to-layer}."
    fail("file", c("{.file {target}} has a layer {.val {layer}} already.", i = remedy), call = NULL)
  }
}

# A layer from a file, an address, standard input ("-") or the memory of a batch ("@name").
read_input <- function(text, o, known, first, columns = NULL) {
  text_of <- function(name) if (first) o[[name]]
  if (is_in_memory(text)) {
    layer <- if (text == "-") read_stream(o$from_format) else known[[substring(text, 2)]]
    if (is.null(layer)) wrong_usage("there is no layer {text} yet")
    layer <- chosen_rows(layer, text_of("where"), text_of("within"))
    return(if (is.null(columns)) layer else choose_columns(layer, dplyr::all_of(column_list(columns)), "columns", NULL))
  }
  place <- if (is.null(o$from_format)) text else with_ending(text, o$from_format)
  read_layer(place, layer = text_of("layer"), where = !!text_of("where"), within = text_of("within"), columns = !!(if (!is.null(columns)) column_list(columns)),
             encoding = o$encoding, skip = o[["skip"]] %||% 0, range = o[["range"]], decimal = o[["decimal"]], missing = o[["missing"]],
             coords = if (!is.null(o$coords)) column_list(o$coords), wkt = o[["wkt"]], damaged = if (isTRUE(o$skip_damaged)) "skip" else "refuse")
}

# A file whose name does not tell its format, under one that does.
with_ending <- function(path, ending) {
  if (!is.na(format_with(ending_of(path))) || !file.exists(path)) return(path)
  copy <- tempfile(fileext = paste0(".", ending))
  if (!file.symlink(normalizePath(path), copy)) file.copy(path, copy)
  copy
}

# What a command gives: written where an output is named, else shown.
deliver <- function(result, o, known) {
  if (is_tiled(result)) return(deliver_tiled(result, o, known))
  if (!is.null(o$output) && is.data.frame(result)) return(deliver_layer(result, o, known))
  if (!isTRUE(o$json)) show_result(result)
  as_data(result)
}

# A tiled layer goes tile by tile into a folder or a file that takes rows one after the other, stays put off under a name, or is shown.
deliver_tiled <- function(x, o, known) {
  if (is.null(o$output) || identical(o$output, "-") || !is.null(o$to_format)) return(deliver(collect_tiles(x), o, known))
  if (startsWith(o$output, "@")) {
    assign(substring(o$output, 2), x, envir = known)
    return(list(output = o$output))
  }
  out <- write_layer(x, o$output, layer = o$to_layer, replace = o$replace, append = o$append, decimals = o$decimals, shapes = o$shapes)
  if (!isTRUE(o$json)) return(NULL)
  list(output = o$output, rows = if (is_tiled(out)) rows_in(out$source) else nrow(out), columns = setdiff(names(out), shape_column_name(x$prototype)),
       crs = if (is_spatial_frame(x$prototype)) crs_data(crs_of(x)))
}

deliver_layer <- function(x, o, known) {
  if (startsWith(o$output, "@")) {
    assign(substring(o$output, 2), x, envir = known)
    return(list(output = o$output, rows = nrow(x)))
  }
  x <- without_lists(x)
  if (o$output == "-") {
    write_stream(x)
    return(NULL)
  }
  written(x, o$output, o)
}

written <- function(x, target, options) {
  if (is.null(options$to_format) || identical(format_with(ending_of(target)), format_with(options$to_format))) {
    x <- write_layer(x, target, layer = options$to_layer, replace = options$replace, append = options$append, decimals = options$decimals,
                     shapes = options$shapes)
  } else {
    x <- written_as(x, target, options)
  }
  if (!isTRUE(options$json)) return(NULL)
  spatial <- is_spatial_frame(x)
  list(output = if (grepl("://", target, fixed = TRUE)) shown_address(target) else target, rows = nrow(x),
       columns = columns_written(x), renamed = written_names(x), crs = if (spatial) crs_data(crs_of(x)),
       history = if (spatial) history_of(x), account = if (spatial) account_of(x))
}

# Names as the file has them.
columns_written <- function(x) {
  names <- names(attribute_table(x))
  renamed <- written_names(x)
  at <- match(names, renamed$name)
  ifelse(is.na(at), names, renamed$written[at])
}

# A name without its format's ending is that of one file alone.
need_single_file <- function(target, ending) {
  format <- format_with(ending, "written")
  is_told <- identical(format_with(ending_of(target)), format)
  if (!is_told && length(format_record(format)$beside)) wrong_usage("--to-format {ending} is of several files: end the name of the output in .{ending}")
}

# A file whose name does not tell its format.
written_as <- function(x, target, options) {
  format <- format_with(options$to_format, "written")
  ending <- options$to_format
  need_single_file(target, ending)
  need_place(target, NULL)
  need_free(target, options$replace, NULL)
  beside <- paste0(name_beside(target), ".", options$to_format)
  on.exit(unlink(beside, expand = FALSE))
  x <- quietly(write_layer(x, beside, layer = if (holds(format, "append")) options$to_layer %||% stem_of(target), decimals = options$decimals,
                           shapes = options$shapes))
  size <- file.size(beside)
  publish(beside, target, NULL)
  say("Wrote {.file {target}}: {counted(nrow(x), 'row')}, {format_size(size)}.")
  x
}

show_result <- function(result) {
  if (is.null(result) || inherits(result, "shown_already")) return(invisible())
  if (is.data.frame(result)) {
    table <- attribute_table(result)
    if (ncol(table)) print_table(without_lists(table), indent = "", width = if (isatty(stdout())) cli::console_width() else Inf)
  } else {
    print(result)
  }
}

# Results as JSON has them: numbers and codes.
as_data <- function(result) UseMethod("as_data")
as_data.data.frame <- function(result) attribute_table(result)
as_data.default <- function(result) {
  data <- unclass(result)
  attributes(data) <- attributes(data)["names"]
  data
}

crs_data <- function(crs) if (!is.null(crs)) list(code = crs$code, name = crs$name)

# Runs the work with warnings and errors as lines on standard error, and gives the exit code.
with_terminal_manners <- function(options, work) {
  cli::stop_app()  # the next message starts another, in this theme
  old <- options(civicatlas.quiet = isTRUE(options$quiet), cli.width = if (isatty(stderr())) cli::console_width() else 100, cli.theme = terminal_words())
  said$on_command_line <- TRUE
  on.exit({
    cli::stop_app()
    options(old)
    said$on_command_line <- FALSE
  })
  tryCatch(
    withCallingHandlers({
      result <- force(work)
      if (isTRUE(options$json) && !is.null(result)) cat(as_json(result), "\n", sep = "")
      0L
    }, warning = function(w) {
      message("! ", conditionMessage(w))
      tryInvokeRestart("muffleWarning")
    }),
    civicatlas_error_usage = function(e) report_failure(e, options, 2L),
    civicatlas_error_choice = function(e) report_failure(e, options, 2L),
    error = function(e) report_failure(e, options, 1L),
    interrupt = function(e) {
      message("civicatlas: interrupted")
      130L  # as shells have it
    }
  )
}

report_failure <- function(e, options, code) {
  if (is_reader_gone(e)) rlang::cnd_signal(e)
  text <- cli::ansi_strip(conditionMessage(e))
  if (isTRUE(options$json)) {
    kind <- sub("civicatlas_error_", "", grep("^civicatlas_error_", class(e), value = TRUE)[1])
    cat(as_json(c(list(error = list(kind = kind, message = text)), list(result = e$result)[!is.null(e$result)])), "\n", sep = "")
  }
  known <- if (options$command %in% operation_names()) paste(options$command, "")
  see <- if (inherits(e, "civicatlas_error_usage")) paste0("\nSee: civicatlas ", known, "--help")
  message("civicatlas: ", text, see)
  code
}

as_json <- function(x) write_json(x, pretty = TRUE)
