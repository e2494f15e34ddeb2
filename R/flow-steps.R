# The steps of a run: planned, performed here or by a daemon, and settled. A `run` is an environment of the `workflow`, the `values` of its inputs,
# the `results` and `keys` of inputs and steps by name, its `folder`, whether it `keeps` results, which steps run `again`, the `log` and the `call`.

# The steps as a table, in their order.
run_steps <- function(run) {
  lines <- if (daemons_set() > 1) steps_side_by_side(run) else lapply(names(run$workflow$steps), function(name) {
    plan <- plan_step(name, run)
    settle_step(plan, if (is.null(plan$kept)) performed(plan, run), run)
  })
  vctrs::vec_rbind(!!!lines)
}

# What is to be done, and what was kept of it from before.
plan_step <- function(name, run) {
  step <- run$workflow$steps[[name]]
  texts <- texts_of_step(step, run)
  key <- rlang::hash(list(step$command, texts$options, texts$condition, step$takes, run$keys[step$needs], own_version()))
  again <- length(intersect(c(name, step$needs), run$again)) > 0
  if (again) run$again <- union(run$again, name)
  kept <- if (run$keeps && !again) kept_result(run$folder, key)
  list(name = name, step = step, options = texts$options, condition = texts$condition, key = key, kept = kept, started = clock())
}

# Options and condition of a step, with values in place of the names in braces.
texts_of_step <- function(step, run) filled_step(step, texts_of_values(run$values, run$workflow))

filled_step <- function(step, values) {
  known <- operation_record(step$command)$options
  fill <- function(text, name) with_values(text, values, known[[name]]$type %in% c("condition", "expression", "expressions"))
  condition <- step$takes$condition
  list(options = Map(fill, step$options, names(step$options)), condition = if (!is.null(condition)) with_values(condition, values, TRUE))
}

# The values that stand for names in braces, with the types of their inputs.
texts_of_values <- function(values, workflow) {
  known <- Filter(Negate(is.null), values[setdiff(names(values), inputs_of_type(workflow$inputs, c("layer", "file")))])
  types <- vapply(workflow$inputs[names(known)], function(input) input$type, "")
  structure(lapply(known, function(value) paste(plain_text(value), collapse = ",")), types = types)
}

# The `result` of a step with what was `said` in warnings, or its `error`.
performed <- function(plan, run) {
  said <- character()
  found <- withCallingHandlers(
    tryCatch(list(result = perform_step(plan$step, plan$options, plan$condition, run)), error = function(e) list(error = said_by(e))),
    warning = function(w) said <<- c(said, said_on_a_line(w))
  )
  c(found, list(said = said, memory = memory_in_use()))
}

# Takes what came of a step into the run, and gives its line in the table.
settle_step <- function(plan, found, run) {
  name <- plan$name
  about <- list(step = name, command = plan$step$command)
  if (!is.null(found$error)) {
    run$log(c(about, list(error = found$error)))
    fail("workflow", c("The step {.val {name}} failed: {about$command}.", x = "{cli::ansi_strip(found$error)}"), call = run$call)
  }
  rows <- function(x) if (is.data.frame(x)) nrow(x) else NA_integer_
  kept <- plan$kept
  result <- kept$result %||% found$result
  rows_in <- kept$rows_in %||% rows(run$results[[plan$step$needs[1]]])
  said <- kept$said %||% found$said
  run$said <- c(run$said, paste0(name, ": ", said, recycle0 = TRUE))
  if (run$keeps && is.null(kept) && is.data.frame(result)) keep_result(run$folder, plan$key, list(result = result, rows_in = rows_in, said = said))
  run$results[[name]] <- result
  run$keys[[name]] <- plan$key
  counted <- new_account(result, run$results[plan$step$needs])
  line <- c(about, list(rows_in = rows_in, rows_out = rows(result), counted = counted, seconds = round(clock() - plan$started, 3),
                        kept = !is.null(kept), warnings = length(said)))
  run$log(c(line, list(megabytes = megabytes(utils::object.size(result)), peak_megabytes = megabytes(found$memory), said = said)))
  tibble::as_tibble(line)
}

megabytes <- function(bytes) if (!is.null(bytes)) round(as.double(bytes) / 1e6, 3)

# A command with layers in place of files; what draws gives what it would draw (see write_output()).
perform_step <- function(step, options, condition, run) {
  record <- operation_record(step$command)
  values <- values_of_options(record, options, function(option, name) if (option$type == "layer") layer_of(name, run) else run$values[[name]])
  o <- c(values, list(condition = condition, known = new.env(parent = emptyenv())))
  layer <- function(role) if (!is.null(step$takes[[role]])) for_operation(layer_of(step$takes[[role]], run), record, values)
  o$x <- if (!is.null(step$takes$layer)) chosen_rows(layer("layer"), o$where, o$within)
  o$y <- if (!is.null(step$takes$other)) brought_to(o$x, layer("other"), o$match_crs)
  o$table <- layer("table")
  if (!is.null(step$takes$layers)) o$layers <- lapply(stats::setNames(step$takes$layers, step$takes$layers), layer_of, run)
  if ("IMAGE" %in% record$role) return(structure(list(command = step$command, o = o), class = "drawing"))
  run_if_whole(result_of(record, o))
}

# The layer of a step or input, read once a run.
layer_of <- function(name, run) {
  if (is.null(run$results[[name]])) run$results[[name]] <- layer_of_input(name, run$workflow$inputs[[name]], run$values[[name]], run$call)
  run$results[[name]]
}

# --- side by side --------------------------------------------------------------------------------------------------------

# Steps go to daemons as soon as all that they need is there, those of layers in tiles excepted, which share out their tiles.
steps_side_by_side <- function(run) {
  state <- new.env(parent = emptyenv())
  state$lines <- list()
  state$running <- list()
  on.exit(lapply(state$running, function(job) mirai::stop_mirai(job$mirai)))
  steps <- names(run$workflow$steps)
  while (length(state$lines) < length(steps)) {
    begin_steps(state, run)
    came <- vapply(state$running, function(job) !mirai::unresolved(job$mirai), NA)
    if (!any(came)) Sys.sleep(0.002)
    jobs <- state$running[came]
    state$running[came] <- NULL
    for (job in jobs) state$lines[[job$plan$name]] <- settle_step(job$plan, found_by_daemon(job, run), run)
  }
  state$lines[steps]
}

begin_steps <- function(state, run) {
  for (name in ready_steps(state, run$workflow$steps)) {
    if (daemons_set() > 0 && length(state$running) >= daemons_set()) return(invisible())
    begin_step(name, state, run)
  }
}

# The steps not yet begun of which all that they need is there.
ready_steps <- function(state, steps) {
  open <- setdiff(names(steps), names(state$lines))
  Filter(function(name) !any(steps[[name]]$needs %in% open), setdiff(open, names(state$running)))
}

begin_step <- function(name, state, run) {
  plan <- plan_step(name, run)
  if (!is.null(plan$kept)) {
    state$lines[[name]] <- settle_step(plan, NULL, run)
    return(invisible())
  }
  layers <- layers_of_plan(plan, run)
  if (goes_to_daemon(plan$step, layers)) state$running[[name]] <- begin_job(plan, layers, run)
  else state$lines[[name]] <- settle_step(plan, performed(plan, run), run)
}

goes_to_daemon <- function(step, layers) {
  daemons_set() > 0 && length(layers) > 0 && all(vapply(layers, is.data.frame, NA)) && !is_drawing(step)
}

layers_of_plan <- function(plan, run) {
  names <- intersect(plan$step$needs, c(inputs_of_type(run$workflow$inputs, "layer"), names(run$workflow$steps)))
  lapply(stats::setNames(names, names), layer_of, run)
}

begin_job <- function(plan, layers, run) {
  lean <- plan[c("step", "options", "condition")]
  arguments <- list(plan = lean, layers = layers, values = run$values[inputs_of_type(run$workflow$inputs, "file")], version = own_version(),
                    threads = threads_for(daemons_set()))
  work <- mirai::mirai(do.call(get("perform_for", suspendInterrupts(asNamespace("civicatlas"))), arguments), arguments = arguments)
  list(plan = plan, mirai = work)
}

# What a daemon does.
perform_for <- function(plan, layers, values, version, threads) {
  if (own_version() != version) return(list(error = paste0("A daemon has version ", own_version(), " of civicatlas, and this process has ", version, ".")))
  old <- options(civicatlas.threads = threads, civicatlas.quiet = TRUE)
  on.exit(options(old))
  suppressWarnings(performed(plan, rlang::env(results = layers, values = values)))
}

# What a daemon said in warnings is said here again; a step whose daemon was lost is done here.
found_by_daemon <- function(job, run) {
  found <- job$mirai$data
  if (mirai::is_mirai_error(found)) return(list(error = as.character(found)))
  if (mirai::is_error_value(found)) return(performed(job$plan, run))
  for (line in found$said) caution("data", escape(line))
  found
}
