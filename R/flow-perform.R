#' A command on frames
#'
#' What `civicatlas COMMAND` does with files, done with frames: scripts that are made of workflows use it for what no single function of R does.
#'
#' @param command The name of a command of the [command-line tool][commands] that reads layers.
#' @param ... What stands behind the command, in its order: frames or layers in tiles in place of files, a condition as text. The output is left out; an
#'   image is a path. By name come its options, with `_` for `-`: numbers, texts, `TRUE` for flags, a frame where a layer is named.
#' @return What the command gives: a frame or table, or a layer in tiles with the work put off; of those that draw the path, invisibly.
#' @section Errors: those of the command; `civicatlas_error_argument` for options that it has not.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' perform_command("compute", wards, set = "old = over_65 / residents")
#' @export
perform_command <- function(command, ...) {
  call <- rlang::current_env()
  command <- one_of(command, commands_of_workflows(), "command", call = call)
  record <- operation_record(command)
  given <- rlang::list2(...)
  named <- nzchar(rlang::names2(given))
  names(given) <- ifelse(named, gsub("_", "-", rlang::names2(given), fixed = TRUE), "")
  for (name in names(given)[named]) if (!name %in% names(record$options)) one_of(name, names(record$options), "...", call = call)
  missing <- setdiff(names(Filter(function(option) option$required, record$options)), names(given))
  if (length(missing)) {
    fail("argument", "The command {.val {command}} needs {.arg {gsub('-', '_', missing[1])}}: {record$options[[missing[1]]]$help}.", call = call)
  }
  inputs <- inputs_by_role(record, given[!named], call)
  run <- rlang::env(results = list(), values = list(), call = call)
  takes <- lapply(inputs[intersect(names(inputs), layer_roles)], keep_under_names, run)
  options <- Map(text_of_option, given[named], names(given)[named], list(run))
  step <- list(command = command, takes = takes)
  result <- perform_step(step, options[!vapply(options, is.null, NA)], inputs$condition[[1]], run)
  if (!inherits(result, "drawing")) return(result)
  draw_into(result, inputs$image[[1]], call)
}

layer_roles <- c("layer", "other", "layers", "table")
is_layer <- function(x) is.data.frame(x) || is_tiled(x)

# What stands behind a command as lists by the names of roles.
inputs_by_role <- function(record, inputs, call) {
  roles <- ascii_lower(setdiff(record$role, "OUTPUT"))
  record$takes <- record$takes[record$role != "OUTPUT"]
  record$role <- setdiff(record$role, "OUTPUT")
  least <- sum(!grepl("[", record$takes, fixed = TRUE))
  found <- split(inputs, factor(ascii_lower(roles_of_inputs(record, inputs)), roles))[roles]
  fits <- length(inputs) >= least && length(inputs) == sum(lengths(found))
  for (role in roles) fits <- fits && all(vapply(found[[role]], if (role %in% layer_roles) is_layer else rlang::is_string, NA))
  if (!fits) fail("argument", "The command {.val {record$name}} takes {.val {record$takes}}: frames for layers, texts for the rest.", call = call)
  found[lengths(found) > 0]
}

# Frames under names by which a step refers to them.
keep_under_names <- function(frames, run) {
  vapply(frames, function(frame) {
    name <- paste0("layer", length(run$results) + 1)
    run$results[[name]] <- frame
    name
  }, "")
}

# The value of an option as the command line has it; NULL for a flag that is not set.
text_of_option <- function(value, name, run) {
  if (is_layer(value)) return(keep_under_names(list(value), run))
  if (isTRUE(value)) return("true")
  if (isFALSE(value) || is.null(value)) return(NULL)
  paste(plain_text(value), collapse = ",")
}

draw_into <- function(drawing, path, call) {
  if (is.null(path)) return(invisible(result_of(operation_record(drawing$command), drawing$o)))
  path <- path.expand(path)
  need_place(path, call)
  beside <- paste0(name_beside(path), ".", ending_of(path))
  on.exit(unlink(beside, expand = FALSE))
  drawing$o$image <- beside
  quietly(result_of(operation_record(drawing$command), utils::modifyList(drawing$o, list(json = TRUE))))
  publish(beside, path, call)
  say("Wrote {.file {path}}.")
  invisible(path)
}
