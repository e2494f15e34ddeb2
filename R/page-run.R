# Runs of the page: in a process of their own, which can be stopped, each in a folder of its own under the one of the page. What a run gave is read from its
# folder, so that earlier runs are there after a reload too; that are texts and layers, no R objects.

# What runs show, as a reactive: see layers_of_runs().
run_server <- function(workflow, folder, values, problems, input, output, session) {
  state <- shiny::reactiveValues(process = NULL, said = "", log = "", runs = runs_in_folder(folder), at = NULL, other = NULL)
  start_and_stop(state, workflow, folder, values, problems, input, session)
  follow_run(state, session)
  shiny::observeEvent(input$show_run, {
    state$at <- known_run(input$show_run, state$runs)
    state$other <- NULL
    session$sendCustomMessage("ran", TRUE)
  })
  shiny::observeEvent(input$compare_run, state$other <- known_run(input$compare_run, state$runs))
  run <- shiny::reactive(if (!is.null(state$at)) state$runs[[state$at]])
  other <- shiny::reactive(if (!is.null(state$other) && !identical(state$other, state$at)) state$runs[[state$other]])
  output$state <- shiny::renderText(state$said)
  output$log <- shiny::renderText(state$log)
  output$answer <- shiny::renderUI(if (!is.null(run())) answer_body(run(), other(), session))
  output$runs <- shiny::renderUI(runs_body(state$runs, state$at, state$other))
  shiny::outputOptions(output, "answer", suspendWhenHidden = FALSE)
  for (k in seq_along(workflow$outputs)) offer_output(k, run, output)
  shiny::reactive(tryCatch(silently(layers_of_runs(run(), other())), error = function(e) layers_of_runs(run(), NULL)))
}

start_and_stop <- function(state, workflow, folder, values, problems, input, session) {
  wrong <- shiny::reactive(names(Filter(Negate(is.null), problems())))
  shiny::observeEvent(input$run, {
    if (length(wrong())) {
      state$said <- paste0("First: ", title_of_input(wrong()[1], workflow), ": ", problems()[[wrong()[1]]], ".")
    } else if (is.null(state$process)) {
      begin_run(state, workflow, folder, values(), session)
    }
  })
  shiny::observe(if (!length(wrong()) && startsWith(shiny::isolate(state$said), "First: ")) state$said <- "")
  shiny::observeEvent(input$stop, {
    if (!is.null(state$process)) end_run(state, "Stopped: outputs are whole or absent, and the next run goes on from here.", session)
  })
  session$onSessionEnded(function() {
    process <- shiny::isolate(state$process)
    if (!is.null(process)) process$process$kill_tree()
  })
}

begin_run <- function(state, workflow, folder, values, session) {
  state$process <- tryCatch(start_run(workflow, values, new_run_folder(folder)), error = function(e) {
    state$said <- if (inherits(e, "civicatlas_error")) said_on_page(e) else "Nothing can be written in the folder of this page."
    NULL
  })
  if (is.null(state$process)) return()
  state$said <- "Running \u2026"
  session$sendCustomMessage("running", TRUE)
}

end_run <- function(state, said, session) {
  state$process$process$kill_tree()
  state$process <- NULL
  state$said <- said
  session$sendCustomMessage("running", FALSE)
}

# While a run is at work its log; once it ended, what came of it.
follow_run <- function(state, session) {
  shiny::observe({
    shiny::req(state$process)
    running <- state$process
    log <- log_of_run(running$folder)
    state$log <- paste(log, collapse = "\n")
    session$sendCustomMessage("progress", sum(grepl("rows in", log, fixed = TRUE)))
    if (running$process$is_alive()) return(shiny::invalidateLater(250))
    found <- run_in_folder(running$folder) %||% list(problem = "The run ended before it was done.")
    end_run(state, found$problem %||% paste0("Done in ", round(clock() - running$started, 1), " s."), session)
    if (!is.null(found$problem)) return()
    state$runs <- c(state$runs, stats::setNames(list(found), found$number))
    state$other <- state$at
    state$at <- found$number
    session$sendCustomMessage("ran", TRUE)
  })
}

known_run <- function(number, runs) if (isTRUE(as.character(number) %in% names(runs))) as.character(number)

new_run_folder <- function(folder) {
  runs <- file.path(folder, "runs")
  dir.create(runs, FALSE)
  taken <- suppressWarnings(as.integer(list.files(runs)))
  number <- max(0L, taken, na.rm = TRUE) + 1L
  while (!dir.create(file.path(runs, number), FALSE)) number <- if (dir.exists(file.path(runs, number))) number + 1L else stop_without_folder(runs)
  file.path(runs, number)
}

stop_without_folder <- function(runs) fail("file", "Nothing can be written in {.file {runs}}: the folder is read-only, or the disk is full.", call = NULL)

start_run <- function(workflow, values, folder) {
  rlang::check_installed("processx", "for runs of pages.")
  asked <- file.path(folder, ".asked")
  keep_data(list(path = workflow$path, values = values, folder = folder), asked)
  code <- sprintf(".libPaths(%s); civicatlas:::run_for_page(%s)", paste(deparse(.libPaths()), collapse = " "), deparse(asked))
  process <- processx::process$new(file.path(R.home("bin"), "Rscript"), c("--vanilla", "-e", code), stdout = NULL, stderr = NULL, cleanup_tree = TRUE)
  list(process = process, folder = folder, started = clock())
}

# --- in the process of a run -------------------------------------------------------------------------------------------------

# The run, its report, and what the page shows of it: `.found.json`, and the rows of the answer as a layer.
run_for_page <- function(path) {
  asked <- kept_data(path)
  unlink(path, expand = FALSE)  # what was typed may be nobody else's
  take_kept(file.path(dirname(asked$folder), as.integer(basename(asked$folder)) - 1L), asked$folder)
  found <- tryCatch({
    run <- rlang::inject(run_workflow(asked$path, !!!asked$values, folder = asked$folder))
    atlas_report(run, file.path(asked$folder, "report.html"), replace = TRUE)
    about_run(run, asked$folder)
  }, error = function(e) list(problem = if (inherits(e, "civicatlas_error")) said_on_page(e) else "The run failed, and said no more of why."))
  writeLines(enc2utf8(write_json(found)), file.path(asked$folder, ".found.json"), useBytes = TRUE)
}

about_run <- function(run, folder) {
  step <- step_of_answer(run)
  table <- if (!is.null(step)) result_columns_first(step, run)
  column <- if (!is.null(step)) column_of_answer(run)
  if (is.data.frame(table)) quietly(write_layer(without_lists(table), file.path(folder, ".answer.gpkg"), layer = "answer", replace = TRUE))
  rows <- function(file) {
    result <- run$results[[run$workflow$outputs[[file]]]]
    if (is.data.frame(result)) counted(nrow(result), "row")
  }
  outputs <- lapply(names(run$outputs), function(file) {
    list(file = file, what = paste(c(what_file_is(file), rows(file), format_size(file.size(run$outputs[[file]]))), collapse = ", "))
  })
  asked <- asked_table(run)
  list(answer = answer_of_run(run) %||% answer_of_outputs(run), column = column,
       column_title = if (!is.null(column)) column_titles(column, step, run), totals = totals_of_run(run), outputs = outputs,
       inputs = stats::setNames(as.list(asked$value), asked$input), finished = format(Sys.time(), "%Y-%m-%d %H:%M"))
}

what_file_is <- function(file) {
  ending <- ending_of(file)
  if (ending %in% c(names(map_devices), "html")) return("map")
  title <- format_record(format_with(ending) %|% "")$title
  if (ending %in% "csv") "table" else title %||% "file"
}

# Results that the run before kept, which never change, under a second name: they take no more room.
take_kept <- function(from, to) {
  results <- list.files(kept_folder(from), "[.]kept$")
  if (!length(results)) return(invisible())
  dir.create(kept_folder(to), FALSE)
  suppressWarnings(file.link(file.path(kept_folder(from), results), file.path(kept_folder(to), results)))
}

# --- what runs left ------------------------------------------------------------------------------------------------------------

log_of_run <- function(folder) {
  path <- file.path(folder, "run.log")
  if (file.exists(path)) readLines(path, encoding = "UTF-8", warn = FALSE) else character()
}

# Runs by their numbers, those that failed left out.
runs_in_folder <- function(folder) {
  numbers <- suppressWarnings(as.integer(list.files(file.path(folder, "runs"))))
  numbers <- as.character(sort(numbers[!is.na(numbers)]))
  runs <- lapply(stats::setNames(nm = numbers), function(number) run_in_folder(file.path(folder, "runs", number)))
  Filter(function(run) !is.null(run) && is.null(run$problem), runs)
}

# What `.found.json` says; NULL where it is not there or no such text.
run_in_folder <- function(folder) {
  path <- file.path(folder, ".found.json")
  if (!file.exists(path)) return(NULL)
  found <- tryCatch(jsonlite::fromJSON(readLines(path, encoding = "UTF-8", warn = FALSE)), error = function(e) NULL)
  if (!is.list(found) || !is.character(found$problem %||% found$answer)) return(NULL)
  c(found, list(number = basename(folder), folder = folder))
}

answer_rows <- function(run) {
  path <- file.path(run$folder, ".answer.gpkg")
  if (file.exists(path)) tryCatch(silently(read_layer(path)), error = function(e) NULL)
}

# `frames` and `styles` by name, `first` of them in the table, and those that are `hidden` at first: the answer's rows coloured by its column; beside another
# run, those of both on common classes, below the change of each row.
layers_of_runs <- function(run, other) {
  if (is.null(run)) return(list(frames = list(), styles = list(), first = NULL))
  runs <- Filter(Negate(is.null), list(run, other))
  rows <- lapply(runs, answer_rows)
  names(rows) <- vapply(runs, function(one) paste("Result of run", one$number), "")
  breaks <- if (length(rows) > 1) common_breaks(rows, run$column)
  styles <- Map(function(x, one) list(fill = filled_answer(x, one, breaks)), rows, runs)
  change <- if (length(rows) > 1) changes_between_runs(rows[[1]], rows[[2]], run$column)
  changes <- if (!is.null(change)) stats::setNames(list(change), paste0("Change from run ", other$number))
  styles <- c(lapply(changes, function(change) list(fill = filled_change(change, run))), styles)
  list(frames = Filter(is_spatial_frame, c(changes, rows)), styles = styles, first = names(styles)[1], hidden = if (length(changes)) names(rows))
}

filled_answer <- function(x, run, breaks) {
  if (!isTRUE(run$column %in% names(x))) return(NULL)
  fill <- tryCatch(filled_rows(x, run$column, NULL, "natural", 5, "harbour", breaks), civicatlas_error = function(e) NULL)
  if (!is.null(fill)) utils::modifyList(fill, list(title = run$column_title))
}

common_breaks <- function(rows, column) {
  values <- unlist(lapply(rows, function(x) if (is.numeric(x[[column %||% ""]])) as.double(x[[column]])))
  tryCatch(silently(class_breaks(values, 5)), civicatlas_error = function(e) NULL)
}

# Rows of both runs by the first column that names them, with what changed; those that changed most come first. NULL where no column names them.
changes_between_runs <- function(now, before, column) {
  numbers <- function(x) is.data.frame(x) && !is.null(column) && is.numeric(x[[column]])
  if (!is_spatial_frame(now) || !numbers(now) || !numbers(before)) return(NULL)
  key <- Filter(function(name) names_rows(now[[name]], before[[name]]), intersect(names(attribute_table(now)), names(before)))
  if (!length(key)) return(NULL)
  at <- match(now[[key[1]]], before[[key[1]]])
  title <- utils::head(Filter(function(name) is.character(now[[name]]), key[-1]), 1)
  out <- now[!is.na(at), c(key[1], title, column, shape_column_name(now))]
  earlier <- paste0(column, "_before")
  out[[earlier]] <- before[[column]][stats::na.omit(at)]
  out$change <- out[[column]] - out[[earlier]]
  out[order(-abs(out$change)), unique(c(key[1], title, "change", earlier, column, shape_column_name(out)))]
}

# Whether values are names of rows: each once, and some of them in both.
names_rows <- function(now, before) !is.double(now) && !anyDuplicated(now) && !anyDuplicated(before) && any(now %in% before)

# Classes as far on either side of none.
filled_change <- function(change, run) {
  most <- max(abs(change$change), 0, na.rm = TRUE)
  title <- paste("Change of", run$column_title)
  if (!is.finite(most) || most == 0) return(list(class = rep(0L, nrow(change)), colours = "#d9d9d2", labels = "no change", title = title))
  filled <- filled_rows(change, "change", NULL, "at", 6, "tide", class_breaks(change$change, at = signif(1.05 * most, 2) * seq(-1, 1, length.out = 7)))
  utils::modifyList(filled, list(title = title))
}

# --- the page ------------------------------------------------------------------------------------------------------------------

# The answer, that of the run that is compared, and what can be taken away.
answer_body <- function(run, other, session) {
  tags <- shiny::tags
  report <- session$registerDataObj(paste0("report", run$number), file.path(run$folder, "report.html"), report_response)
  shiny::tagList(
    tags$p(class = "answer", id = "answer-text", run$answer),
    if (!is.null(other)) tags$div(class = "before", tags$p(paste0("Run ", other$number, ": "), other$answer), compared_runs(run, other)),
    tags$p(class = "get", lapply(seq_len(NROW(run$outputs)), function(k) {
      file <- run$outputs$file[k]
      tags$span(shiny::downloadLink(paste0("get_", k), file, `aria-label` = paste("Download", file)), tags$small(run$outputs$what[k]))
    }), tags$span(tags$a(id = "report", href = report, target = "_blank", rel = "noopener", "Report"), tags$small("opens in its own tab")))
  )
}

# The report has the page's address, and yet none of its rights.
report_response <- function(path, request) {
  headers <- list("Content-Security-Policy" = "sandbox allow-scripts allow-downloads allow-popups allow-modals")
  shiny::httpResponse(200, "text/html; charset=utf-8", core(core_read_bytes(path, -1)), headers)
}

# Totals that changed, before and now, with their units.
compared_runs <- function(run, other) {
  tags <- shiny::tags
  totals <- function(one) if (is.data.frame(one$totals)) one$totals[!is.na(one$totals$column), ] else NULL
  now <- totals(run)
  before <- totals(other)
  if (!NROW(now) || !NROW(before)) return(NULL)
  at <- match(paste(now$output, now$column), paste(before$output, before$column))
  changed <- which(!is.na(at) & now$total != before$total[at] & !duplicated(now$column))
  if (!length(changed)) return(tags$p("The totals are the same."))
  cell <- function(value) tags$td(class = "number", format_number(value))
  rows <- lapply(changed, function(k) {
    values <- c(before$total[at[k]], now$total[k])
    tags$tr(tags$th(scope = "row", now$column[k]), cell(values[1]), cell(values[2]), cell(diff(values)), tags$td(now$unit[k]))
  })
  heads <- c("total", paste("run", other$number), paste("run", run$number), "change", "unit")
  tags$table(tags$thead(tags$tr(lapply(heads, function(head) tags$th(scope = "col", head)))), tags$tbody(rows))
}

# Earlier runs, the latest first, with what was asked where it differed.
runs_body <- function(runs, at, other) {
  tags <- shiny::tags
  if (!length(runs)) return(NULL)
  inputs <- unique(unlist(lapply(runs, function(run) names(run$inputs))))
  differs <- Filter(function(name) length(unique(lapply(runs, function(run) run$inputs[[name]]))) > 1, inputs)
  button <- function(what, number, label) {
    tags$button(type = "button", class = "small", `data-input` = what, `data-value` = number, `aria-label` = paste(label, "run", number), label)
  }
  lines <- lapply(rev(runs), function(run) {
    asked <- paste(differs, unlist(run$inputs[differs]), sep = ": ", recycle0 = TRUE)
    is_shown <- identical(run$number, at)
    may_compare <- !is.null(at) && !is_shown && !identical(run$number, other)
    tags$tr(class = if (is_shown) "current", tags$th(scope = "row", paste("Run", run$number)), tags$td(run$finished), tags$td(paste(asked, collapse = "; ")),
            tags$td(run$answer), tags$td(if (!is_shown) button("show_run", run$number, "Show"), if (may_compare) button("compare_run", run$number, "Compare")))
  })
  tags$section(class = "runs", tags$h2("Runs"), tags$table(tags$tbody(lines)))
}

offer_output <- function(k, run, output) {
  file <- function() file.path(run()$folder, run()$outputs$file[k])
  output[[paste0("get_", k)]] <- shiny::downloadHandler(function() basename(file()), function(target) file.copy(file(), target))
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
