#' A workflow as a drawing
#'
#' Inputs, steps and outputs from above to below, each behind what it needs; of a run with the rows of each.
#'
#' @param workflow The path of a workflow, what [read_workflow()] gives, or what [run_workflow()] gives.
#' @param as `"picture"`, or `"mermaid"` for text that pages and editors draw as a flowchart.
#' @return A ggplot, or the lines of text.
#' @examples
#' file <- system.file("workflows", "largest-room.yaml", package = "civicatlas")
#' draw_workflow(file)
#' cat(draw_workflow(file, "mermaid"), sep = "\n")
#' @export
draw_workflow <- function(workflow, as = "picture") {
  one_of(as, c("picture", "mermaid"), "as", call = rlang::current_env())
  run <- if (inherits(workflow, "workflow_run")) workflow
  if (!is.null(run)) workflow <- run$workflow
  if (!inherits(workflow, "workflow")) workflow <- read_workflow(workflow)
  graph <- graph_of_workflow(workflow, run)
  if (as == "mermaid") mermaid_of_graph(graph) else picture_of_graph(graph, workflow$title)
}

# `nodes`: id, label, kind, column and row of the drawing; `edges`: from and to, as rows of nodes.
graph_of_workflow <- function(workflow, run) {
  inputs <- names(workflow$inputs)
  steps <- names(workflow$steps)
  outputs <- names(workflow$outputs)
  id <- c(paste0("in:", inputs, recycle0 = TRUE), paste0("step:", steps), paste0("out:", outputs, recycle0 = TRUE))
  place <- function(reference) ifelse(reference %in% steps, paste0("step:", reference), paste0("in:", reference))
  needs <- lapply(workflow$steps, function(step) unique(c(step$needs, intersect(names_in_braces(c(unlist(step$options), step$takes$condition)), inputs))))
  edges <- data.frame(from = match(c(place(unlist(needs)), paste0("step:", unlist(workflow$outputs), recycle0 = TRUE)), id),
                      to = match(c(rep(paste0("step:", steps), lengths(needs)), paste0("out:", outputs, recycle0 = TRUE)), id))
  kind <- rep(c("input", "step", "output"), c(length(inputs), length(steps), length(outputs)))
  commands <- vapply(workflow$steps, `[[`, "", "command")
  labels <- c(vapply(inputs, label_of_input, "", workflow, run), paste0(steps, "\n", commands, rows_of_steps(steps, run)), outputs)
  nodes <- data.frame(id = id, label = labels, kind = kind, column = columns_of_nodes(length(id), edges))
  nodes <- nodes[rowSums(outer(seq_along(id), unlist(edges), `==`)) > 0 | kind == "step", ]
  edges[] <- lapply(edges, function(at) match(id[at], nodes$id))
  with_places(nodes, edges)
}

# Edges that pass columns get a bend in each, which takes a row as a node does (Sugiyama, Tagawa and Toda 1981).
with_places <- function(nodes, edges) {
  passes <- unlist(lapply(seq_len(nrow(edges)), function(k) {
    columns <- nodes$column[c(edges$from[k], edges$to[k])]
    if (diff(columns) > 1) stats::setNames(seq(columns[1] + 1, columns[2] - 1), rep(k, diff(columns) - 1))
  }))
  bends <- data.frame(edge = as.integer(names(passes)), column = unname(passes), node = nrow(nodes) + seq_along(passes))
  path <- lapply(seq_len(nrow(edges)), function(k) c(edges$from[k], bends$node[bends$edge == k], edges$to[k]))
  pieces <- do.call(rbind, lapply(path, function(at) data.frame(from = at[-length(at)], to = at[-1])))
  all <- data.frame(column = c(nodes$column, bends$column))
  row <- rows_of_nodes(all, pieces)
  nodes$row <- row[seq_len(nrow(nodes))]
  list(nodes = nodes, edges = edges, path = path, places = data.frame(all, row = row))
}

label_of_input <- function(name, workflow, run) {
  input <- workflow$inputs[[name]]
  value <- run$inputs[[name]] %||% input$default
  shown <- if (is.data.frame(value)) counted(nrow(value), "row") else if (is.null(value)) input$type else value_in_words(value, input$type)
  paste0(name, "\n", shortened(trimws(paste(shown, input$unit)), 26))
}

rows_of_steps <- function(steps, run) {
  rows <- run$steps$rows_out[match(steps, run$steps$step)]
  if (is.null(rows)) return("")
  ifelse(is.na(rows), "", paste0(" \u00b7 ", vapply(ifelse(is.na(rows), 0L, rows), counted, "", "row")))
}

# Layers of the drawing: a node stands behind all that it needs, and what needs nothing just before the first that needs it.
columns_of_nodes <- function(count, edges) {
  column <- rep(1, count)
  for (k in seq_len(count)) {
    before <- tapply(column[edges$from], factor(edges$to, seq_len(count)), max)
    column <- ifelse(is.na(before), 1, before + 1)
  }
  free <- setdiff(seq_len(count), edges$to)
  for (node in intersect(free, edges$from)) column[node] <- min(column[edges$to[edges$from == node]]) - 1
  unname(as.vector(column))
}

# Heights by the mean of the neighbours' (barycentres: Sugiyama, Tagawa and Toda 1981), each column spread around the middle.
rows_of_nodes <- function(nodes, edges) {
  row <- stats::ave(seq_len(nrow(nodes)), nodes$column, FUN = function(at) seq_along(at) - (length(at) + 1) / 2)
  for (pass in 1:12) {
    ends <- c(edges$from, edges$to)
    means <- tapply(row[c(edges$to, edges$from)], factor(ends, seq_len(nrow(nodes))), mean)
    aim <- ifelse(is.na(means), row, means)
    row <- stats::ave(seq_len(nrow(nodes)), nodes$column, FUN = function(at) rank(aim[at], ties.method = "first") - (length(at) + 1) / 2)
  }
  row
}

# From above to below, with room for as many boxes as keep them of a good size.
picture_of_graph <- function(graph, title) {
  nodes <- graph$nodes
  ways <- do.call(rbind, Map(way_of_edge, graph$path, seq_along(graph$path), list(graph$places)))
  fills <- c(input = "#f3e3c3", step = "#d5e6e3", output = "#e3dcec")
  boxes <- data.frame(x = nodes$row, y = -nodes$column, label = nodes$label, kind = factor(nodes$kind, names(fills)))
  room <- function(values, least) mean(range(values)) + c(-0.5, 0.5) * max(diff(range(values)) + 1, least)
  ggplot2::ggplot(boxes, ggplot2::aes(.data$x, .data$y)) +
    ggplot2::geom_path(data = ways, ggplot2::aes(group = .data$edge), colour = "#5d6d70", linewidth = 0.4,
                       arrow = grid::arrow(length = grid::unit(5, "pt"), type = "closed")) +
    ggplot2::geom_tile(ggplot2::aes(fill = .data$kind), width = 0.92, height = 2 * half_box, colour = "#5d6d70", linewidth = 0.3) +
    ggplot2::geom_text(ggplot2::aes(label = .data$label), size = 3, lineheight = 1, colour = "#1d2a30") +
    ggplot2::scale_fill_manual(NULL, values = fills, drop = TRUE) +
    ggplot2::coord_cartesian(xlim = room(graph$places$row, 5), ylim = room(-nodes$column, 8), expand = FALSE) +
    ggplot2::labs(title = title) + ggplot2::theme_void(base_size = 12) +
    ggplot2::theme(legend.position = "bottom", plot.margin = ggplot2::margin(12, 12, 8, 12), plot.title = ggplot2::element_text(face = "bold"),
                   plot.background = ggplot2::element_rect(fill = "white", colour = NA))
}

half_box <- 0.3

# The line of an edge from the border of one box through its bends to the border of the other.
way_of_edge <- function(path, edge, places) {
  at <- places[path, ]
  last <- nrow(at)
  down <- at$column + half_box * c(1, rep(0, last - 2), -1)
  data.frame(x = at$row, y = -down, edge = edge)
}

mermaid_of_graph <- function(graph) {
  nodes <- graph$nodes
  names <- paste0("n", seq_len(nrow(nodes)))
  brackets <- list(input = c("([", "])"), step = c("[", "]"), output = c("[/", "/]"))
  text <- nodes$label
  for (pair in list(c("#", "#35;"), c("\"", "#quot;"), c("<", "#lt;"), c(">", "#gt;"), c("\n", "<br>"))) text <- gsub(pair[1], pair[2], text, fixed = TRUE)
  boxes <- vapply(seq_along(names), function(k) paste0("  ", names[k], brackets[[nodes$kind[k]]][1], "\"", text[k], "\"", brackets[[nodes$kind[k]]][2]), "")
  c("flowchart TD", boxes, paste0("  ", names[graph$edges$from], " --> ", names[graph$edges$to]))
}
