# The map and the table of pages: layers drawn in the browser from shapes that are thinned here for what it shows, rows read a hundred at a time,
# and what is chosen in one marked in the other.

# `choice`: a control for the layer whose rows are shown.
explorer_body <- function(choice = NULL) {
  tags <- shiny::tags
  button <- function(id, text, label) tags$button(id = id, type = "button", `aria-label` = label, title = label, text)
  tags$section(
    class = "explorer", `aria-label` = "Map and rows",
    tags$div(class = "map-side", tags$div(
      class = "chart",
      tags$canvas(id = "map", tabindex = "0", role = "img", `aria-label` = "Map: arrow keys move it, + and - change its scale, a click marks a row"),
      tags$div(class = "tools", button("nearer", "+", "Nearer"), button("farther", "\u2212", "Farther"), button("whole", "\u25a1", "All of it"),
               tags$button(id = "measure", type = "button", `aria-pressed` = "false", title = "Measure: click points on the map", "\u21a6",
                           tags$span(class = "visually-hidden", "Measure"))),
      tags$div(id = "key", class = "key")
    ),
    tags$div(
      class = "below", tags$fieldset(id = "layers", class = "layers", tags$legend("Layers"), tags$ul()),
      tags$p(id = "measured", class = "said", role = "status"), tags$p(id = "said", class = "said", role = "status")
    )),
    tags$div(
      class = "rows", choice, tags$p(id = "count", class = "count", role = "status"),
      tags$div(class = "wide", tags$table(id = "rows", role = "grid", `aria-labelledby` = "count", tags$thead(), tags$tbody())),
      tags$p(class = "turn", button("before", "\u2190", "Rows before"), tags$span(id = "place"), button("after", "\u2192", "Rows after"))
    )
  )
}

# `layers` is a reactive list of frames by name, `look` a reactive list of `layer` (the name of the one in the table) and `styles`: by the names of layers
# `keep` (whether a condition holds for each row) and `fill` (see filled_rows()), and `hidden`, names of layers that are off at first.
explorer_server <- function(input, session, layers, look) {
  drawn <- shiny::reactive(on_one_crs(layers()))
  marked <- shiny::reactiveVal(integer())
  order <- shiny::reactiveVal(list(column = NULL, down = FALSE))
  from <- shiny::reactiveVal(1L)
  at <- function() match(look()$layer, names(layers()))
  sent <- 0

  shiny::observe({
    found <- drawn()
    hidden <- intersect(names(found$frames), shiny::isolate(look()$hidden))
    session$sendCustomMessage("layers", list(names = as.list(names(found$frames)), hidden = as.list(hidden), box = found$box,
                                             home = found$home, said = found$said))
  })
  shiny::observe({
    view <- input$view
    shiny::req(view, length(drawn()$frames))
    for (k in seq_along(drawn()$frames)) {
      bytes <- drawn_bytes(drawn()$frames[[k]], view)
      sent <<- sent + 1
      url <- session$registerDataObj(paste0("shapes", k), bytes, function(data, request) shiny::httpResponse(200, "application/octet-stream", data))
      session$sendCustomMessage("shapes", list(layer = k, url = paste0(url, "&of=", sent)))
    }
  })
  shiny::observe({
    shiny::req(length(layers()))
    for (k in seq_along(layers())) session$sendCustomMessage("style", style_message(k, layers()[[k]], look()$styles[[names(layers())[k]]]))
  })

  rows <- shiny::reactive({
    shiny::req(look()$layer)
    table <- attribute_table(layers()[[look()$layer]])
    kept <- which(look()$styles[[look()$layer]]$keep %||% rep(TRUE, nrow(table)))
    list(table = table, rows = sorted_rows(table, kept, order()))
  })
  shiny::observeEvent(look()$layer, {
    marked(integer())
    order(list(column = NULL, down = FALSE))
  })
  shiny::observeEvent(rows(), from(1L))
  shiny::observe(session$sendCustomMessage("rows", rows_message(rows(), from(), marked(), order())))
  shiny::observe(session$sendCustomMessage("marked", list(layer = at(), rows = as.list(marked()))))
  show_from <- function(row) from(as.integer(max(1, min(row, length(rows()$rows) - rows_shown + 1))))
  shiny::observeEvent(input$turn, show_from(from() + sign(as.double(input$turn)) * rows_shown))
  shiny::observeEvent(input$sort, {
    name <- names(rows()$table)[input$sort]
    shiny::req(name)
    order(list(column = name, down = identical(order()$column, name) && !order()$down))
  })
  shiny::observeEvent(input$mark, marked(setdiff(as.integer(input$mark), marked())))
  shiny::observeEvent(input$click, {
    hit <- rows_at(drawn()$frames[[at()]], input$click)
    marked(hit)
    place <- match(hit[1], rows()$rows)
    if (!is.na(place)) show_from(place - 2)
  })
  shiny::observeEvent(input$measure, session$sendCustomMessage("measured", measured_in_words(input$measure, drawn()$crs)))
  marked
}

# Length of the line through some places of the map, and from three on the area that it encloses: along the ellipsoid.
measured_in_words <- function(places, crs) {
  xy <- matrix(suppressWarnings(as.double(unlist(places))), 2)
  if (ncol(xy) < 2 || anyNA(xy)) return("")
  ring <- function(xy) paste(core(core_number_text(xy[1, ], -1L)), core(core_number_text(xy[2, ], -1L)), collapse = ", ")
  measure <- function(text, of) silently(of(if (is.null(crs)) shapes_from_wkt(text) else reproject_to(shapes_from_wkt(text, crs = crs), geographic_base(crs))))
  length <- measure(paste0("LINESTRING (", ring(xy), ")"), length_of)
  area <- if (ncol(xy) > 2) measure(paste0("POLYGON ((", ring(xy[, c(seq_len(ncol(xy)), 1)]), "))"), area_of)
  if (is.null(crs)) return(paste(c(format_number(length), if (!is.null(area)) paste(format_number(area), "square")), collapse = "; "))
  large <- function(value, limit, units) paste(format_number(signif(value / if (value >= limit) limit else 1, 4)), units[1 + (value >= limit)])
  area <- if (!is.null(area)) if (area >= 1e6) large(area, 1e6, c("", "km\u00b2 enclosed")) else large(area, 1e4, c("m\u00b2 enclosed", "ha enclosed"))
  paste(c(large(length, 1000, c("m", "km")), area), collapse = "; ")
}

rows_shown <- 100L

# Frames on the first projected CRS among them, else on one that fits; those without a CRS as they are. `box` is that of
# all, `home` of the first with areas.
on_one_crs <- function(frames) {
  if (!length(frames)) return(list(frames = list(), crs = NULL, box = NULL, said = ""))
  known <- Filter(Negate(is.null), lapply(frames, crs_of))
  projected <- Filter(function(crs) crs$kind == "projected", known)
  fitting <- function() crs_of(quietly(on_fitting_projection(frames[[names(known)[1]]])))
  target <- if (length(projected)) projected[[1]] else if (length(known)) fitting()
  moved <- character()
  put <- Map(function(frame, name) {
    if (is.null(target) || is.null(crs_of(frame)) || same_crs(crs_of(frame), target)) return(frame)
    moved <<- c(moved, name)
    silently(reproject_to(frame, target))
  }, frames, names(frames))
  others <- if (length(moved)) paste0("; reprojected for the map: ", paste(moved, collapse = ", "))
  c(list(frames = put, crs = target, said = paste0(if (is.null(target)) "No CRS" else crs_label(target), others, ".")), boxes_of_frames(put))
}

boxes_of_frames <- function(put) {
  boxes <- vapply(put, function(frame) as.double(box_of(frame)), numeric(4))
  areas <- vapply(put, function(frame) any(grepl("polygon", geometry_type_of(frame))), NA)
  known <- boxes[, order(!areas), drop = FALSE]
  known <- known[, colSums(is.na(known)) == 0, drop = FALSE]
  box <- if (ncol(known)) c(min(known[1, ]), min(known[2, ]), max(known[3, ]), max(known[4, ]))
  list(box = box, home = if (ncol(known)) known[, 1])
}

# The shapes of a layer within a window, thinned to half a dot: counts of vertices and rings as 32-bit integers, the window, then for each ring its
# first vertex, row and dimension, and for each vertex its place in the window as two 16-bit integers.
drawn_bytes <- function(frame, view) {
  window <- as.double(unlist(view$window))
  width <- max(1, as.double(view$width))
  cell <- (window[3] - window[1]) / width / 2
  shapes <- as_shapes(frame)
  thin <- core(core_thinned(handles_of(shapes), store_of(shapes), window, cell, cell))
  starts <- which(c(TRUE, diff(thin$ring) != 0 | diff(thin$row) != 0)[seq_along(thin$x)])
  steps <- function(values, low, high) as.integer(pmin(65535, pmax(0, round((values - low) / (high - low) * 65535))))
  places <- rbind(steps(thin$x, window[1], window[3]), steps(thin$y, window[2], window[4]))
  whole <- function(values, size) writeBin(as.integer(values), raw(), size = size, endian = "little")
  c(whole(c(length(thin$x), length(starts)), 4L), writeBin(window, raw(), size = 8L, endian = "little"), whole(starts - 1L, 4L),
    whole(thin$row[starts] - 1L, 4L), whole(thin$dimension[starts], 4L), whole(places, 2L))
}

# A class for each row: from 0, 254 for what a condition leaves out, 255 for no data.
style_message <- function(k, frame, look) {
  fill <- look$fill %||% list(class = rep(0L, nrow(frame)), colours = plain_colour(frame, k), labels = character(), title = "")
  class <- ifelse(is.na(fill$class), 255L, fill$class)
  if (!is.null(look$keep)) class[!look$keep] <- 254L
  list(layer = k, coloured = !is.null(look$fill),
       classes = jsonlite::base64_enc(as.raw(class)), colours = as.list(fill$colours), labels = as.list(fill$labels), title = fill$title %||% "")
}

# Areas are paler than what lies on them.
plain_colour <- function(frame, k) {
  colours <- if (any(grepl("polygon", geometry_type_of(frame)))) c("#bcd3cd", "#dccfb6", "#cbc6e2") else c("#c9772f", "#6a60bd", "#9c534c", "#4d7f3d")
  colours[(k - 1) %% length(colours) + 1]
}

# Rows coloured by a column: class intervals (`breaks`, where these are given) of numbers, or categories, of those that are kept.
filled_rows <- function(frame, column, keep, method, classes, palette, breaks = NULL) {
  values <- frame[[column]]
  if (!is.null(keep)) values[!keep] <- NA
  if (is.numeric(values)) {
    breaks <- breaks %||% class_breaks(as.double(values), classes, method)
    colours <- map_colours(length(breaks) - 1, palette)
    return(list(class = core(core_class_of(as.double(values), breaks)) - 1L, colours = colours, labels = class_labels(breaks), title = column, breaks = breaks))
  }
  text <- as.character(values)
  counts <- sort(table(text), decreasing = TRUE)
  shown <- utils::head(names(counts), if (length(counts) > 10) 9 else 10)
  class <- match(text, shown)
  class[is.na(class) & !is.na(text)] <- length(shown) + 1L
  other <- length(counts) > length(shown)
  list(class = class - 1L, colours = c(map_colours(length(shown), "quay"), if (other) "#b9c0c0"), labels = c(shown, if (other) "other"), title = column)
}

sorted_rows <- function(table, rows, order) {
  if (is.null(order$column)) return(rows)
  column <- table[[order$column]][rows]
  rows[order(if (is.character(column)) without_case(column) else column, decreasing = order$down, method = "radix")]
}

rows_message <- function(found, from, marked, order) {
  here <- found$rows[seq(from, length.out = min(rows_shown, max(0, length(found$rows) - from + 1)))]
  table <- without_lists(found$table[here, ])
  text <- function(column) if (is.numeric(column) && !is.object(column)) numbers_in_cells(column) else as.character(column)
  cells <- lapply(unname(as.list(table)), function(column) ifelse(is.na(column), "", printable(text(column))))
  list(names = as.list(names(table)), numbers = as.list(unname(vapply(table, is.numeric, NA))), cells = lapply(cells, as.list),
       rows = as.list(here), from = from, total = length(found$rows), all = nrow(found$table), marked = as.list(marked),
       sorted = match(order$column %||% "", names(table)), down = order$down)
}

# Whole numbers as they are, so that codes and years read as such; others with as many decimals as tell them apart.
numbers_in_cells <- function(column) if (is.integer(column)) format(column, trim = TRUE) else numbers_in_column(column)

# Rows of a layer whose shapes lie within some reach of a place.
rows_at <- function(frame, click) {
  reach <- as.double(click$reach)
  place <- c(click$x, click$y)
  shapes <- as_shapes(frame)
  box <- box_shape(as.double(c(place - reach, place + reach)), crs_of(shapes))
  pairs <- silently(find_pairs(box, shapes, "intersects"))
  as.integer(utils::head(rev(pairs$y), 1))
}
