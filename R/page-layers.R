# The page of look_at(): layers, their rows, conditions and class intervals, and the R code that does what was chosen.

layers_page <- function(frames, codes) {
  tags <- shiny::tags
  title <- if (length(frames) == 1) names(frames) else paste(paste(utils::head(names(frames), -1), collapse = ", "), "and", utils::tail(names(frames), 1))
  body <- shiny::tagList(
    tags$form(
      class = "asks", `aria-label` = "What to show",
      tags$div(class = "ask", shiny::selectInput("layer", "Rows of", names(frames), selectize = FALSE)),
      tags$div(class = "ask wide-ask", shiny::textAreaInput("condition", "where (a condition on columns)", rows = 2), shiny::uiOutput("kept", class = "note")),
      tags$div(class = "ask", shiny::selectInput("column", "coloured by", c("one colour" = ""), selectize = FALSE)),
      shown_with_column(shiny::selectInput("method", "in classes of", setdiff(class_methods, "at"), selectize = FALSE)),
      shown_with_column(shiny::numericInput("classes", "how many", 5, 2, 12, 1)),
      shown_with_column(shiny::selectInput("palette", "in colours of", setdiff(names(palettes), "quay"), "harbour", selectize = FALSE))
    ),
    explorer_body(), shiny::uiOutput("spread"),
    tags$section(tags$h2("The same in R"), tags$pre(id = "code", class = "shiny-text-output code"),
                 tags$button(type = "button", class = "copy", `data-of` = "code", "Copy")),
    command_details()
  )
  list(title = title, body = body, server = function(input, output, session) layers_server(frames, codes, input, output, session))
}

shown_with_column <- function(control) shiny::conditionalPanel("input.column", class = "ask", control)

layers_server <- function(frames, codes, input, output, session) {
  frame <- shiny::reactive(frames[[shiny::req(input$layer)]])
  shiny::observe(shiny::updateSelectInput(session, "column", choices = c("one colour" = "", names(attribute_table(frame())))))
  kept <- kept_rows(shiny::reactive(input$condition), frame)
  column <- shiny::reactive(if (isTRUE(input$column %in% names(frame()))) input$column)
  fill <- shiny::reactive({
    if (is.null(column())) return(NULL)
    classes <- input$classes
    tryCatch(filled_rows(frame(), column(), kept()$keep, input$method, if (isTRUE(classes >= 2 && classes <= 12)) round(classes) else 5, input$palette),
             civicatlas_error = function(e) list(problem = said_on_page(e)))
  })
  explorer_server(input, session, shiny::reactive(frames), shiny::reactive({
    styles <- stats::setNames(list(list(keep = kept()$keep, fill = if (is.null(fill()$problem)) fill())), input$layer)
    list(layer = input$layer, styles = styles)
  }))
  output$kept <- shiny::renderUI(shiny::tags$span(class = if (kept()$wrong) "wrong", kept()$said))
  output$spread <- shiny::renderUI({
    if (!is.null(fill()$problem)) return(shiny::tags$p(class = "wrong", fill()$problem))
    if (!is.null(fill()$breaks)) shiny::plotOutput("histogram", height = "260px")
  })
  output$histogram <- shiny::renderPlot({
    shiny::req(fill()$breaks)
    draw_classes(fill()$breaks, input$palette, label = column())
  }, alt = "Distribution of the values with the class intervals", res = 96)
  output$command <- shiny::renderText({
    chosen <- names(frames) == input$layer
    others <- Map(function(name, code, x) list(file = file_of_code(code, name), points = only_points(as_shapes(x))), names(frames), codes, frames)[!chosen]
    command_of_choices(file_of_code(codes[[which(chosen)[1]]], input$layer), if (!kept()$wrong) input$condition, column(), input, others)
  })
  output$code <- shiny::renderText({
    condition <- if (!kept()$wrong) input$condition
    chosen <- names(frames) == input$layer
    others <- Map(function(name, code, x) list(name = name, code = code, verb = verb_over_map(x)), names(frames), codes, frames)[!chosen]
    paste(code_of_choices(input$layer, codes[[which(chosen)[1]]], condition, column(), fill(), input, others), collapse = "\n")
  })
}

# Which rows a condition keeps, with what to say of it; a condition that cannot be read keeps all.
kept_rows <- function(text, frame) {
  shiny::reactive({
    x <- frame()
    condition <- trimws(text() %||% "")
    if (!nzchar(condition)) return(list(keep = NULL, said = counted(nrow(x), "row"), wrong = FALSE))
    tryCatch({
      truth <- truth_of_tree(x, parse_text(condition, "condition", call = NULL), call = NULL)
      keep <- !is.na(truth) & truth
      unknown <- if (anyNA(truth)) paste0(", unknown for ", format_count(sum(is.na(truth))))
      tree <- parse_text(condition, "condition", call = NULL)
      hints <- if (!any(keep)) near_misses(x, tree)
      said <- paste(c(paste0(format_count(sum(keep)), " of ", counted(nrow(x), "row"), unknown), hints), collapse = ". ")
      list(keep = keep, said = said, wrong = FALSE, mend = if (!any(keep)) mended_conditions(x, tree, condition))
    }, civicatlas_error = function(e) list(keep = NULL, said = said_on_page(e), wrong = TRUE))
  })
}

# The condition with texts that are there for those that are not, by what a button says: "Take 'library' (26 rows)".
mended_conditions <- function(x, tree, condition) {
  compared <- nodes_where(tree, function(node) is_operation(node, "=") && node$args[[1]]$kind == "column" && node$args[[2]]$kind == "text")
  found <- unlist(lapply(compared, function(node) {
    values <- as.character(x[[node$args[[1]]$value]])
    near <- spelt_alike(node$args[[2]]$value, values)[1]
    if (is.na(near)) return(NULL)
    at <- node$args[[2]]$at
    text <- paste0(substr(condition, 1, at[1] - 1), text_in_quotes(near), substring(condition, at[2] + 1))
    stats::setNames(list(text), paste0("Take ", text_in_quotes(near), " (", counted(sum(values == near, na.rm = TRUE), "row"), ")"))
  }), recursive = FALSE)
  utils::head(found, 3)
}

# What was chosen as a line of the shell; `others`: of each layer drawn over it its `file`, and whether it is of `points`.
command_of_choices <- function(file, condition, column, input, others) {
  where <- if (nzchar(trimws(condition %||% ""))) paste("--where", shell_word(trimws(condition)))
  first <- others[!duplicated(lapply(others, `[[`, "points"))]  # a map takes one of each
  over <- vapply(first, function(other) paste(if (other$points) "--points" else "--outlines", shell_word(other$file)), "")
  classes <- c(paste("--classes", round(input$classes)), paste("--method", shell_word(input$method)), paste("--palette", input$palette))
  fill <- if (is.null(column)) "--as plain" else c(paste("--fill", shell_word(name_in_text(column))), classes)
  paste(c("civicatlas map", shell_word(file), "map.png", fill, where, over), collapse = " ")
}

# The file that a layer was read from, or the one that it would be written to.
file_of_code <- function(code, name) {
  read <- parse(text = code)[[1]]
  if (rlang::is_call(read, "read_layer") && rlang::is_string(read[[2]])) read[[2]] else paste0(name, ".gpkg")
}

# How a layer is added over the map of another.
verb_over_map <- function(x) {
  shapes <- as_shapes(x)
  if (only_points(shapes)) "map_points" else if (any(geometry_type_of(shapes) %in% c("polygon", "multipolygon"))) "map_outlines" else "map_lines"
}

# What was chosen as R code. `others` are layers over it: their `name`, `code` and `verb`.
code_of_choices <- function(name, code, condition, column, fill, input, others = list()) {
  x <- as.name(make.names(name))
  made <- function(name, code) if (!identical(code, name)) list(rlang::call2("<-", as.name(make.names(name)), parse(text = code)[[1]]))
  lines <- c(made(name, code), unlist(lapply(unname(others), function(other) made(other$name, other$code)), recursive = FALSE))
  if (nzchar(trimws(condition %||% ""))) lines <- c(lines, rlang::call2("<-", x, rlang::call2("keep_rows", x, condition)))
  draw <- if (is.null(column)) {
    rlang::call2("plain_map", x)
  } else if (is.null(fill$breaks)) {
    rlang::call2("category_map", x, as.name(column))
  } else {
    args <- list(classes = as.integer(round(input$classes)), method = input$method, palette = input$palette)
    defaults <- list(classes = 5L, method = "natural", palette = "harbour")
    rlang::call2("choropleth_map", x, as.name(column), !!!args[!mapply(identical, args, defaults[names(args)])])
  }
  for (other in others) draw <- rlang::call2("+", draw, rlang::call2(other$verb, as.name(make.names(other$name))))
  c("library(civicatlas)", vapply(c(lines, draw), code_as_text, ""))
}
