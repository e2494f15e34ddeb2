#' A page for a workflow, or for layers
#'
#' Pages in the browser, served by this process: `open_workflow()` asks for the inputs of a workflow, with a map and a table of what was chosen, runs
#' it and shows the answer, beside that of the run before; `look_at()` shows layers on a map and their rows, with conditions and class intervals, and
#' writes down what is chosen as R code.
#'
#' The page is for this machine alone, under an address with a key that nobody else knows. Files are those of one folder, and uploads of at most
#' `options(civicatlas.upload_bytes)` (500 million). It needs no other address. Escape, or Ctrl-C, ends it.
#'
#' @param path Path of a workflow.
#' @param folder Folder whose files can be chosen, and in which results go, each run in a folder of its own; made where it is not there.
#' @param ... Spatial frames or tables, named or by their expressions; or paths of layers.
#' @param port Port to listen on; by default one that is free.
#' @param host Address to listen on: with another than this machine's own, others who know the address with its key can use the page.
#' @param browse `TRUE` to open the browser.
#' @return The address, invisibly, when the page is closed.
#' @section Errors: `civicatlas_error_workflow` for mistakes in the workflow; `civicatlas_error_argument` where there is no layer to look at.
#' @examples
#' if (interactive()) {
#'   open_workflow(system.file("workflows", "out-of-reach.yaml", package = "civicatlas"))
#'   look_at(wards = read_layer(demo_file("wards.shp")), rooms = read_layer(demo_file("rooms.geojson")))
#' }
#' @export
open_workflow <- function(path, folder = ".", port = NULL, host = "127.0.0.1", browse = interactive()) {
  workflow <- if (inherits(path, "workflow")) path else read_workflow(path)
  if (!dir.exists(folder) && !dir.create(folder, FALSE, TRUE)) fail("file", "The folder {.file {folder}} cannot be made.", call = rlang::current_env())
  serve_page(workflow_page(workflow, normalizePath(folder, "/")), port, host, browse)
}

#' @rdname open_workflow
#' @export
look_at <- function(..., port = NULL, host = "127.0.0.1", browse = interactive()) {
  call <- rlang::current_env()
  given <- rlang::dots_list(..., .named = TRUE)
  layers <- lapply(given, function(one) if (rlang::is_string(one)) read_layer(one) else one)
  if (!length(layers) || !all(vapply(layers, is_spatial_frame, NA))) fail("argument", "Give one or more spatial frames, or paths of layers.", call = call)
  codes <- vapply(rlang::enexprs(...), function(code) code_as_text(if (rlang::is_string(code)) call("read_layer", code) else code), "")
  serve_page(layers_page(layers, codes), port, host, browse)
}

# A page is a list of `title`, `body` (tags) and `server`.
serve_page <- function(page, port, host, browse) {
  rlang::check_installed(c("shiny", "bslib"), "for pages.")
  key <- random_key()
  port <- free_port(port, host, rlang::caller_env())
  address <- paste0("http://", host, ":", port, "/?key=", key)
  say("The page is at {.url {address}}.")
  before <- options(shiny.maxRequestSize = least_request, shiny.sanitize.errors = TRUE, cli.theme = NULL)
  on_command_line <- said$on_command_line
  said$on_command_line <- FALSE
  on.exit({
    options(before)
    said$on_command_line <- on_command_line
  })
  once <- rlang::env(word = random_key())
  # What stands in the command line of a browser any process reads: a word there is good for one opening of the page.
  browser <- if (browse) function(url) utils::browseURL(sub("key=.*", paste0("once=", once$word), address))
  app <- app_of_page(page, key, once)
  suppressPackageStartupMessages(shiny::runApp(app, port = port, host = host, launch.browser = browser %||% FALSE, quiet = TRUE))
  invisible(address)
}

# What an error says, for somebody who has the page alone: without code to type, and without the folders of files.
said_on_page <- function(e) {
  lines <- strsplit(cli::ansi_strip(said_by(e)), "\n", fixed = TRUE)[[1]]
  marks <- grep("^ *\\^+$", lines)
  code <- grep("^\\S .*`[^`]*`", lines)
  lines <- lines[setdiff(seq_along(lines), c(marks, marks - 1, if (!1 %in% code) code))]
  text <- trimws(gsub("\\s+", " ", gsub("^([^[:alnum:]]|\\S(?= [A-Z\"'])) ", "", lines, perl = TRUE)))
  text <- sub("^(Cannot read '[^']*')[.] (?=[a-z])", "\\1: ", paste(text, collapse = " "), perl = TRUE)
  text <- gsub("'[^' ]*[/\\\\]([^'/\\\\]+)'", "'\\1'", text)
  sub("^Cannot read `(condition|where)`: ", "", gsub("`([a-z_]+)[(][)]`", "\\1", text))
}

# A request is held in memory before it is known who sent it: one of many bytes comes in while somebody with the key sends a file, and no larger.
make_room <- function(input, session) {
  fields <- list()  # the bytes that each announced
  take <- function(changed) {
    fields <<- changed
    announced$bytes[[session$token]] <- if (length(fields)) max(unlist(fields))
    options(shiny.maxRequestSize = max(least_request, unlist(announced$bytes)))
  }
  shiny::observeEvent(input$announced, {
    given <- input$announced
    if (!is.list(given) || !rlang::is_string(given$field) || !rlang::is_bare_numeric(given$bytes, 1)) return()
    take(utils::modifyList(fields, stats::setNames(list(min(given$bytes, upload_limit(), na.rm = TRUE)), given$field)))
    session$sendCustomMessage("send", given$field)
  })
  session$userData$has_sent <- function(field) take(fields[setdiff(names(fields), field)])
  session$onSessionEnded(function() take(list()))
}

announced <- rlang::env(bytes = list())  # by session

least_request <- 1e5

# In bytes, of one file.
upload_limit <- function() as.double(getOption("civicatlas.upload_bytes", 5e8))

free_port <- function(port, host, call) {
  tryCatch({
    port <- port %||% httpuv::randomPort(host = host)
    suppressMessages(httpuv::stopServer(httpuv::startServer(host, port, list(), quiet = TRUE)))
    port
  }, error = function(e) {
    place <- paste0(host, if (!is.null(port)) paste0(", port ", port))
    fail("argument", "Nothing can listen on {place}: another program does, or the address is not this machine's.", call = call)
  })
}

# 128 bits from the system's source of random numbers, which set.seed() does not touch.
random_key <- function() paste(core_random_bytes(16L), collapse = "")

is_first_opening <- function(query, once) {
  word <- shiny::parseQueryString(query %||% "")$once
  first <- !is.null(once$word) && identical(word, once$word)
  if (first) once$word <- NULL
  first
}

app_of_page <- function(page, key, once = rlang::env()) {
  knows_key <- function(query) identical(shiny::parseQueryString(query %||% "")$key, key)
  resource <- function(name) paste(readLines(system.file("page", name, package = "civicatlas"), encoding = "UTF-8"), collapse = "\n")
  ui <- function(request) {
    if (is_first_opening(request$QUERY_STRING, once)) return(shiny::httpResponse(303, headers = list(Location = paste0("/?key=", key))))
    if (!knows_key(request$QUERY_STRING)) return(shiny::httpResponse(403, "text/plain", "This page opens with the whole address, with its key."))
    head <- shiny::tags$head(shiny::tags$style(shiny::HTML(resource("page.css"))), shiny::tags$script(shiny::HTML(resource("page.js"))))
    main <- shiny::tags$main(`data-most-bytes` = format(upload_limit(), scientific = FALSE), shiny::h1(page$title), page$body)
    bslib::page(head, main, title = page$title, lang = "en", theme = bslib::bs_theme(version = 5))
  }
  server <- function(input, output, session) {
    if (!knows_key(shiny::isolate(session$clientData$url_search))) return(session$close())
    make_room(input, session)
    page$server(input, output, session)
  }
  shiny::shinyApp(ui, server)
}
