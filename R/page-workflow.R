# The page of open_workflow(): a control for each input, a map and the rows of what was chosen, the run and its answer.

workflow_page <- function(workflow, folder) {
  tags <- shiny::tags
  files <- layers_in_folder(folder)
  asks <- lapply(names(workflow$inputs), function(name) ask_for_input(name, workflow$inputs[[name]], workflow, files))
  asking <- tags$section(
    class = "asking", id = "asking", `aria-label` = "What to ask",
    tags$form(class = "asks", `aria-label` = "What to ask", asks),
    tags$p(class = "act", shiny::actionButton("run", "Run", class = "go"), shiny::actionButton("stop", "Stop", disabled = NA),
           tags$progress(id = "progress", max = length(workflow$steps), value = 0, `aria-label` = "Steps done")),
    tags$p(tags$span(id = "state", class = "shiny-text-output", role = "status")),
    command_details(), tags$details(tags$summary("Log"), tags$pre(id = "log", class = "shiny-text-output code"))
  )
  seeing <- tags$section(
    class = "seeing", id = "seeing", `aria-label` = "Answer, map and rows", tags$div(id = "answer-band", shiny::uiOutput("answer")),
    explorer_body(shiny::selectInput("shown", "Rows of", inputs_of_type(workflow$inputs, "layer"), selectize = FALSE)), shiny::uiOutput("runs")
  )
  body <- tags$div(class = "panes", id = "panes", asking, seeing)
  list(title = workflow$title, body = body, server = function(input, output, session) workflow_server(workflow, folder, files, input, output, session))
}

command_details <- function() {
  tags <- shiny::tags
  tags$details(tags$summary("The same on the command line"), tags$pre(id = "command", class = "shiny-text-output code"),
               tags$button(type = "button", class = "copy", `data-of` = "command", "Copy"))
}

# Files of the folder that hold layers or tables, but for links out of it.
layers_in_folder <- function(folder) {
  files <- list.files(folder)
  inside <- startsWith(suppressWarnings(normalizePath(file.path(folder, files), "/", mustWork = FALSE)), paste0(folder, "/"))
  files <- files[inside & !is.na(vapply(files, function(file) format_with(ending_of(file)), ""))]
  files[!ascii_lower(tools::file_ext(files)) %in% c("dbf", "shx", "prj", "cpg") | !paste0(tools::file_path_sans_ext(files), ".shp") %in% files]
}

# --- inputs --------------------------------------------------------------------------------------------------------------

# "How far people walk", or the name as one.
title_of_input <- function(name, workflow) workflow$inputs[[name]]$title %||% capital(gsub("[_-]+", " ", name))

input_id <- function(name) paste0("in-", name)

ask_for_input <- function(name, input, workflow, files) {
  id <- input_id(name)
  label <- paste0(title_of_input(name, workflow), if (!is.null(input$unit)) paste0(" (", input$unit, ")"))
  control <- switch(input$type,
    number = shiny::numericInput(id, label, as.double(input$default %||% NA), as.double(input$least %||% NA), as.double(input$most %||% NA)),
    choice = shiny::selectInput(id, label, input$values, input$default, selectize = FALSE),
    condition = shiny::textAreaInput(id, label, input$default %||% "", rows = 2),
    column = shiny::selectInput(id, label, input$default %||% character(), selectize = FALSE),
    layer = , file = shiny::tagList(shiny::selectInput(id, label, choices_of_files(name, input, workflow, files), selectize = FALSE),
                                    file_of_yours(paste0(id, "-upload"), title_of_input(name, workflow))),
    shiny::textInput(id, label, input$default %||% "")
  )
  wide <- input$type %in% c("condition", "text")
  shiny::tags$div(class = if (wide) "ask wide-ask" else "ask", control, shiny::uiOutput(paste0(id, "-note"), class = "note"))
}

file_of_yours <- function(id, name) {
  label <- list("Another \u2026", shiny::tags$span(class = "visually-hidden", paste("file for", name)))
  shiny::tagList(shiny::fileInput(id, NULL, multiple = TRUE, buttonLabel = label, placeholder = "or a file of yours"),
                 shiny::tags$p(id = paste0(id, "-refused"), class = "wrong", role = "alert"))
}

# The default ("*") first, then the files of the folder; one of the user's own is "**", which is no name of a file with an ending.
choices_of_files <- function(name, input, workflow, files) {
  default <- if (!is.null(input$default)) stats::setNames("*", basename(default_of_input(input, dirname(workflow$path))))
  c(default, if (is.null(default)) c("choose \u2026" = ""), files)
}

workflow_server <- function(workflow, folder, files, input, output, session) {
  uploads <- shiny::reactiveValues()
  asked <- workflow$inputs
  layers <- inputs_of_type(asked, "layer")
  by_name <- function(names, make) lapply(stats::setNames(nm = names), make)
  for (name in inputs_of_type(asked, c("layer", "file"))) {
    take_uploads(name, choices_of_files(name, asked[[name]], workflow, files), uploads, input, session)
  }
  path_of <- function(name) path_chosen(name, input[[input_id(name)]], uploads[[name]], workflow, folder, files)
  read <- by_name(layers, function(name) shiny::reactive(layer_for_page(name, asked[[name]], path_of(name))))
  frames <- shiny::reactive(Filter(is_spatial_frame, lapply(read, function(one) one()$frame)))
  counts <- by_name(inputs_of_type(asked, "condition"), function(name) {
    kept_rows(shiny::debounce(shiny::reactive(input[[input_id(name)]]), 300), shiny::reactive(shiny::req(read[[asked[[name]]$of %||% layers[1]]]()$frame)))
  })
  for (name in inputs_of_type(asked, "column")) offer_columns(name, asked[[name]], read, session)
  values <- shiny::reactive(by_name(names(asked), function(name) {
    if (asked[[name]]$type %in% c("layer", "file")) path_of(name) else input[[input_id(name)]]
  }))
  problems <- shiny::reactive(by_name(names(asked), function(name) {
    if (name %in% layers) read[[name]]()$problem else problem_on_page(name, asked[[name]], values()[[name]])
  }))
  for (name in names(asked)) show_note(name, problems, c(read, counts)[[name]], output, input, session)
  output$command <- shiny::renderText(command_of_run(workflow, values()))
  shown <- run_server(workflow, folder, values, problems, input, output, session)
  every <- shiny::reactive({
    inputs <- frames()
    c(shown()$frames, stats::setNames(inputs, vapply(names(inputs), title_of_input, "", workflow)))
  })
  shiny::observe({
    known <- names(every())
    shiny::updateSelectInput(session, "shown", choices = known, selected = c(shown()$first, intersect(shiny::isolate(input$shown), known), known)[1])
  })
  explorer_server(input, session, every, shiny::reactive({
    kept <- lapply(names(counts), function(name) list(keep = counts[[name]]()$keep))
    names(kept) <- vapply(names(counts), function(name) title_of_input(asked[[name]]$of %||% layers[1], workflow), "")
    list(layer = c(intersect(input$shown, names(every())), names(every()))[1], styles = c(shown()$styles, kept), hidden = shown()$hidden)
  }))
}

# The path of what was chosen for an input: a file of one's own, the default, or a file of the folder; NULL for anything else.
path_chosen <- function(name, chosen, upload, workflow, folder, files) {
  if (identical(chosen, "**")) return(upload)
  if (identical(chosen, "*")) return(default_of_input(workflow$inputs[[name]], dirname(workflow$path)))
  if (isTRUE(chosen %in% files)) file.path(folder, chosen)
}

problem_on_page <- function(name, input, value) {
  if (length(value) != 1 || is.na(value) || identical(value, "")) return("needs a value")
  problem_of_value(name, input, value, there = TRUE)
}

# Below a control: what is wrong with its value, else what `about` says of it.
show_note <- function(name, problems, about, output, input, session) {
  force(about)  # as the loop that calls this goes on
  id <- input_id(name)
  shiny::observeEvent(input[[paste0(id, "-mend")]], {
    found <- about()$mend[[input[[paste0(id, "-mend")]]]]
    shiny::req(found)
    shiny::updateTextAreaInput(session, id, value = found)
  })
  output[[paste0(input_id(name), "-note")]] <- shiny::renderUI({
    problem <- problems()[[name]]
    found <- if (!is.null(about)) about()
    wrong <- !is.null(problem) || isTRUE(found$wrong)
    mends <- if (is.null(problem)) lapply(names(found$mend), function(label) {
      shiny::tags$button(type = "button", class = "small", `data-input` = paste0(id, "-mend"), `data-value` = label, label)
    })
    shiny::tagList(shiny::tags$span(class = if (wrong) "wrong", problem %||% found$said), mends)
  })
}

# Uploaded files keep their names, side by side, as those of a shapefile belong together; the first that can be read is chosen.
take_uploads <- function(name, choices, uploads, input, session) {
  force(choices)
  id <- input_id(name)
  shiny::observeEvent(input[[paste0(id, "-upload")]], {
    session$userData$has_sent(paste0(id, "-upload"))
    given <- input[[paste0(id, "-upload")]]
    if (!is_upload(given)) return()
    place <- tempfile("upload")
    dir.create(place)
    names <- gsub("[/\\\\:]", "_", basename(given$name))
    file.copy(given$datapath, file.path(place, names))
    main <- c(grep("[.]shp$", names, ignore.case = TRUE, value = TRUE), names)[1]
    uploads[[name]] <- file.path(place, main)
    shiny::updateSelectInput(session, id, choices = c(stats::setNames("**", paste(main, "(yours)")), choices), selected = "**")
  })
}

# A browser's messages may name any file: shiny tells of what it stored in a table, in a folder of its own with a name that nobody can guess.
is_upload <- function(given) {
  if (!is.data.frame(given) || !is.character(given$datapath)) return(FALSE)
  within <- function(path) grepl("^[0-9a-f]{24}$", basename(dirname(path))) && identical(normalizePath(dirname(dirname(path))), normalizePath(tempdir()))
  all(vapply(given$datapath, function(path) grepl("^[0-9]+([.][^/]*)?$", basename(path)) && within(path), NA))
}

offer_columns <- function(name, input, read, session) {
  force(input)
  shiny::observe({
    frame <- read[[input$of]]()$frame
    if (is.data.frame(frame)) shiny::updateSelectInput(session, input_id(name), choices = names(attribute_table(frame)), selected = input$default)
  })
}

# A layer that was chosen: its `frame` and what is `said` of it, or the `problem`.
layer_for_page <- function(name, input, path) {
  if (is.null(path)) return(list(problem = "choose a file"))
  tryCatch({
    frame <- silently(layer_of_input(name, input, path, NULL))
    list(frame = frame, said = paste0(counted(nrow(frame), "row"), if (is_spatial_frame(frame)) paste0("; ", crs_label(crs_of(frame)))))
  }, error = function(e) list(problem = if (inherits(e, "civicatlas_error")) said_on_page(e) else "this file cannot be read"))
}

command_of_run <- function(workflow, values) {
  defaults <- lapply(workflow$inputs, default_of_input, dirname(workflow$path))
  given <- Filter(function(name) !is.null(values[[name]]) && !identical(as.character(values[[name]]), as.character(defaults[[name]])), names(values))
  set <- paste0(given, "=", vapply(given, function(name) paste(values[[name]], collapse = ","), ""), recycle0 = TRUE)
  given <- if (length(set)) paste("--input", shell_word(paste(set, collapse = ",")))
  paste(c("civicatlas run", shell_word(workflow$path), given, "--folder results"), collapse = " ")
}
