# Runs of the page: in a process of their own, which can be stopped, each in a folder of its own under the one of the page.

run_server <- function(workflow, folder, values, problems, input, output, session) {
  state <- shiny::reactiveValues(process = NULL, said = "", last = NULL, before = NULL, log = "")
  shiny::observeEvent(input$run, {
    wrong <- names(Filter(Negate(is.null), problems()))
    if (length(wrong)) {
      state$said <- paste0("First: ", wrong[1], " ", problems()[[wrong[1]]], ".")
      return()
    }
    state$process <- start_run(workflow, values(), new_run_folder(folder))
    state$said <- "Running \u2026"
    running_in_browser(session, TRUE)
  })
  shiny::observeEvent(input$stop, {
    if (is.null(state$process)) return()
    state$process$process$kill_tree()
    state$said <- "Stopped: outputs are whole or absent, and the next run goes on from here."
    state$process <- NULL
    running_in_browser(session, FALSE)
  })
  shiny::observe({
    shiny::req(state$process)
    running <- state$process
    log <- log_of_run(running$folder)
    state$log <- paste(log, collapse = "\n")
    session$sendCustomMessage("progress", sum(grepl("rows in", log, fixed = TRUE)))
    if (running$process$is_alive()) return(shiny::invalidateLater(250))
    found <- result_of_run(running)
    state$process <- NULL
    running_in_browser(session, FALSE)
    state$said <- found$problem %||% paste0("Done in ", round(found$seconds, 1), " s.")
    if (!is.null(found$problem)) return()
    state$before <- state$last
    state$last <- found
  })
  session$onSessionEnded(function() {
    process <- shiny::isolate(state$process)
    if (!is.null(process)) process$process$kill_tree()
  })
  output$state <- shiny::renderText(state$said)
  output$log <- shiny::renderText(state$log)
  output$answer <- shiny::renderUI(if (!is.null(state$last)) answer_body(state$last, state$before))
  for (k in seq_along(workflow$outputs)) offer_output(k, state, output)
  output$get_report <- shiny::downloadHandler("report.html", function(file) file.copy(state$last$report, file))
}

running_in_browser <- function(session, running) session$sendCustomMessage("running", running)

new_run_folder <- function(folder) {
  runs <- file.path(folder, "runs")
  dir.create(runs, FALSE)
  taken <- suppressWarnings(as.integer(list.files(runs)))
  number <- max(0L, taken, na.rm = TRUE) + 1L
  while (!dir.create(file.path(runs, number), FALSE)) number <- if (dir.exists(file.path(runs, number))) number + 1L else stop_without_folder(runs)
  file.path(runs, number)
}

stop_without_folder <- function(runs) fail("file", "No folder can be made in {.file {runs}}.", call = NULL)

start_run <- function(workflow, values, folder) {
  rlang::check_installed("processx", "for runs of pages.")
  asked <- file.path(folder, ".asked.rds")
  saveRDS(list(path = workflow$path, values = values, folder = folder, libraries = .libPaths()), asked)
  code <- sprintf("asked <- readRDS(%s); .libPaths(asked$libraries); civicatlas:::run_for_page(asked)", deparse(asked))
  process <- processx::process$new(file.path(R.home("bin"), "Rscript"), c("--vanilla", "-e", code), stdout = NULL, stderr = NULL, cleanup_tree = TRUE)
  list(process = process, folder = folder, started = clock())
}

# In the process of a run: the run, its report, and what the page shows of it.
run_for_page <- function(asked) {
  take_kept(file.path(dirname(asked$folder), as.integer(basename(asked$folder)) - 1L), asked$folder)
  found <- tryCatch({
    run <- rlang::inject(run_workflow(asked$path, !!!asked$values, folder = asked$folder))
    atlas_report(run, file.path(asked$folder, "report.html"), replace = TRUE)
    tables <- Filter(is.data.frame, run$results[unique(unname(run$steps_of_outputs))])
    list(answer = answer_of_run(run) %||% answer_of_outputs(run), totals = vctrs::vec_rbind(!!!totals_of_run(run, run$workflow, list())), outputs = run$outputs,
         inputs = run$inputs)
  }, error = function(e) list(problem = if (inherits(e, "civicatlas_error")) said_on_a_line(e) else "The run failed."))
  saveRDS(found, file.path(asked$folder, ".found.rds"))
}

# Results that the run before kept, which never change, under a second name: they take no more room.
take_kept <- function(from, to) {
  results <- setdiff(list.files(kept_folder(from), "[.]rds$"), "outputs.rds")
  if (!length(results)) return(invisible())
  dir.create(kept_folder(to), FALSE)
  suppressWarnings(file.link(file.path(kept_folder(from), results), file.path(kept_folder(to), results)))
}

log_of_run <- function(folder) {
  path <- file.path(folder, "run.log")
  if (file.exists(path)) readLines(path, encoding = "UTF-8", warn = FALSE) else character()
}

result_of_run <- function(running) {
  path <- file.path(running$folder, ".found.rds")
  found <- if (file.exists(path)) readRDS(path) else list(problem = "The run ended before it was done.")
  c(found, list(seconds = clock() - running$started, report = file.path(running$folder, "report.html")))
}

# The answer, with that of the run before beside it, the files, and the report.
answer_body <- function(found, before) {
  tags <- shiny::tags
  page <- paste(readLines(found$report, encoding = "UTF-8", warn = FALSE), collapse = "\n")
  shiny::tagList(
    tags$p(class = "answer", id = "answer-text", found$answer),
    if (!is.null(before)) tags$div(class = "before", tags$p("The run before: ", before$answer), compared_runs(found, before)),
    tags$p(class = "get", lapply(seq_along(found$outputs), function(k) shiny::downloadLink(paste0("get_", k), names(found$outputs)[k])),
           shiny::downloadLink("get_report", "report.html")),
    tags$iframe(class = "report", title = "Report", sandbox = "allow-scripts allow-downloads allow-popups", srcdoc = page)
  )
}

# Totals of the outputs that changed, now and before, side by side.
compared_runs <- function(found, before) {
  tags <- shiny::tags
  columns <- intersect(names(found$totals), names(before$totals))
  numbers <- setdiff(columns[vapply(found$totals[columns], is.numeric, NA)], "output")
  same <- match(found$totals$output, before$totals$output)
  cells <- function(row, values) lapply(values, function(value) tags$td(class = "number", format(value, big.mark = ",", digits = 7)))
  rows <- lapply(which(!is.na(same)), function(row) {
    lapply(numbers, function(name) {
      values <- c(before$totals[[name]][same[row]], found$totals[[name]][row])
      if (!anyNA(values) && values[1] != values[2]) tags$tr(tags$td(found$totals$output[row]), tags$td(name), cells(row, c(values, diff(values))))
    })
  })
  tags$table(tags$thead(tags$tr(lapply(c("output", "total of", "before", "now", "change"), tags$th))), tags$tbody(rows))
}

offer_output <- function(k, state, output) {
  output[[paste0("get_", k)]] <- shiny::downloadHandler(function() names(state$last$outputs)[k], function(file) file.copy(state$last$outputs[[k]], file))
}

register_operation("page", function() {
  new_operation("In and out", "a page in the browser for a workflow, or for layers", "FILES...", list(
    new_option("folder", "file", "folder whose files can be chosen, and for results", "."), new_option("port", "whole", "port to listen on"),
    new_option("no-browser", "flag", "tell the address alone")
  ), "civicatlas page out-of-reach.yaml", function(o) {
    workflows <- grepl("[.]ya?ml$", o$files, ignore.case = TRUE)
    if (any(workflows) && length(o$files) > 1) wrong_usage("one workflow, or layers")
    layers <- stats::setNames(as.list(o$files), stem_of(o$files))
    shown <- if (workflows[1]) quote(open_workflow(o$files, o$folder)) else rlang::call2("look_at", !!!layers)
    structure(list(address = eval(rlang::call_modify(shown, port = o$port, browse = !o$no_browser))), class = "shown_already")
  })
})
