# The steps of a run: planned, performed here or by a daemon, and settled. A `run` is an environment of the `workflow`, the `values` of its inputs,
# the `results` and `keys` of inputs and steps by name, the `lines` of steps that are settled, its `folder`, whether it `keeps` results, which steps run
# `again`, the `log` and the `call`.

# Runs the steps of runs, here or side by side on daemons, and `finish()`es each run as soon as all of its steps are settled: what that gives, by run.
run_steps <- function(runs, finish) {
  if (daemons_set() > 1) return(steps_side_by_side(runs, finish))
  lapply(runs, function(run) {
    steps_here(run)
    finish(run)
  })
}

# Those that are not settled yet, in their order.
steps_here <- function(run) {
  for (name in setdiff(names(run$workflow$steps), names(run$lines))) {
    plan <- plan_step(name, run)
    settle_step(plan, if (is.null(plan$kept)) performed(plan, run), run)
  }
}

table_of_steps <- function(run) vctrs::vec_rbind(!!!run$lines[names(run$workflow$steps)])

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

# Takes what came of a step into the run, with its line in the table.
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
  run$lines[[name]] <- tibble::as_tibble(line)
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

# Steps of all runs go to daemons as soon as all that they need is there, those of layers in tiles excepted, which share out their tiles.
steps_side_by_side <- function(runs, finish) {
  queue <- rlang::env(running = list())
  finished <- vector("list", length(runs))
  done <- function() {
    for (k in which(vapply(finished, is.null, NA))) if (!length(open_steps(runs[[k]]))) finished[[k]] <<- finish(runs[[k]])
    !any(vapply(finished, is.null, NA))
  }
  alone <- function() {
    tell_no_daemons(counted(sum(lengths(lapply(runs, open_steps))), "step"))
    for (run in runs) steps_here(run)
    done()
  }
  receive <- function(job, found) settle_step(job$plan, found_by_daemon(job, found), job$run)
  run_jobs(queue, done, function(daemons) for (run in runs) begin_steps(queue, run, daemons), receive, alone)
  finished
}

open_steps <- function(run) setdiff(names(run$workflow$steps), names(run$lines))

# As many as there are daemons of the steps not yet begun of which all that they need is there.
begin_steps <- function(queue, run, daemons) {
  open <- open_steps(run)
  ready <- Filter(function(name) !any(run$workflow$steps[[name]]$needs %in% open), setdiff(open, run$begun))
  for (name in ready) {
    if (daemons > 0 && length(queue$running) >= daemons) return(invisible())
    run$begun <- c(run$begun, name)
    begin_step(name, queue, run, daemons)
  }
}

begin_step <- function(name, queue, run, daemons) {
  plan <- plan_step(name, run)
  if (!is.null(plan$kept)) return(settle_step(plan, NULL, run))
  layers <- layers_of_plan(plan, run)
  if (daemons == 0 || !goes_to_daemon(plan$step, layers)) return(settle_step(plan, performed(plan, run), run))
  arguments <- list(plan = plan[c("step", "options", "condition")], layers = layers, values = run$values[inputs_of_type(run$workflow$inputs, "file")])
  queue$running <- c(queue$running, list(begin_job(list(plan = plan, run = run), "step_on_daemon", arguments, daemons)))
}

goes_to_daemon <- function(step, layers) length(layers) > 0 && all(vapply(layers, is.data.frame, NA)) && !is_drawing(step)

layers_of_plan <- function(plan, run) {
  names <- intersect(plan$step$needs, c(inputs_of_type(run$workflow$inputs, "layer"), names(run$workflow$steps)))
  lapply(stats::setNames(names, names), layer_of, run)
}

step_on_daemon <- function(plan, layers, values) suppressWarnings(performed(plan, rlang::env(results = layers, values = values)))

# What a daemon said in warnings is said here again; a step whose daemon was lost is done here.
found_by_daemon <- function(job, found) {
  if (!is.null(found$lost)) return(performed(job$plan, job$run))
  if (!is.null(found$failed)) return(list(error = found$failed))
  for (line in found$said) caution("data", escape(line))
  found
}
