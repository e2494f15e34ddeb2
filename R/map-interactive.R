#' Interactive maps
#'
#' Writes a map to one self-contained HTML file that opens in any browser: hover a shape to read its values, hover an entry of the key to see
#' all shapes of its class, turn the wheel to zoom and drag to move. Needs the package ggiraph.
#'
#' @param map A map of this package, or a sheet of them from [side_by_side()], on which rows that several maps share are hovered together.
#' @param file Path of the HTML file.
#' @param tooltip Columns whose values are shown, as in [dplyr::select()]; by default all of the layer, at most eight.
#' @param layer Which layer of the map is to be hovered, counted from the bottom.
#' @param width,height Size of the map in inches, which it keeps in proportion.
#' @param replace `FALSE` to stop where the file is there already.
#' @return The path, invisibly.
#' @section Errors: `civicatlas_error_argument` where `map` is no map of this package, `civicatlas_error_file` where the file cannot be written.
#' @examplesIf rlang::is_installed("ggiraph")
#' wards <- read_layer(demo_file("wards.shp"))
#' interactive_map(choropleth_map(wards, residents), tempfile(fileext = ".html"), tooltip = c(name, residents))
#' @export
interactive_map <- function(map, file, tooltip = NULL, layer = 1, width = 11, height = 7, replace = TRUE) {
  call <- rlang::current_env()
  rlang::check_installed("ggiraph", "for interactive maps.")
  if (!ggplot2::is_ggplot(map)) fail("argument", "{.arg map} is no map: a ggplot is needed.", call = call)
  if (ascii_lower(tools::file_ext(file)) != "html") fail("argument", "{.arg file} must end in {.val .html}.", call = call)
  file <- path.expand(file)
  need_place(file, call)
  need_free(file, replace, call)
  tooltip <- rlang::enquo(tooltip)
  sheet <- inherits(map, "map_sheet")
  if (sheet) attr(map, "maps") <- lapply(attr(map, "maps"), hoverable, layer, tooltip, call) else map <- hoverable(map, layer, tooltip, call)
  widget <- ggiraph::girafe(
    code = print(map), width_svg = width, height_svg = height,
    options = list(
      ggiraph::opts_hover(css = "stroke:#26323c;stroke-width:1.6px;"), ggiraph::opts_hover_inv(css = ""),
      ggiraph::opts_tooltip(css = tooltip_style, opacity = 1, offx = 14, offy = 14), ggiraph::opts_zoom(min = 1, max = 12),
      ggiraph::opts_toolbar(saveaspng = FALSE), ggiraph::opts_selection(type = "none")
    )
  )
  page <- page_of_widget(widget, map$labels$title %||% "Map", if (sheet) character() else shown_entries(map))
  write_files(stats::setNames(list(charToRaw(enc2utf8(page))), file), call)
  say("Wrote {.file {file}}: a page that needs nothing else.")
  invisible(file)
}

# A map whose shapes of one layer can be hovered.
hoverable <- function(map, layer, tooltip, call) {
  hovered <- which(vapply(map$layers, function(l) inherits(l$geom, "GeomShapes"), NA))
  if (!layer %in% seq_along(hovered)) fail("argument", "{.arg layer} is {.val {layer}}, and the map has {length(hovered)} layer{?s} of shapes.", call = call)
  with_tooltips(map, hovered[layer], tooltip, call)
}

tooltip_style <- "background:#26323c;color:#ffffff;padding:6px 9px;border-radius:4px;font:13px/1.45 sans-serif;"

# The layer with the text to show for each row, and the class it belongs to as the start of its id.
with_tooltips <- function(map, at, tooltip, call) {
  layer <- map$layers[[at]]
  shown <- layer$data[!startsWith(names(layer$data), ".")]
  chosen <- if (rlang::quo_is_null(tooltip)) utils::head(shown, c(Inf, 8)) else choose_columns(shown, tooltip, "tooltip", call)
  if (!length(chosen)) chosen <- tibble::tibble(row = layer$data$.row)
  class <- intersect(c(".class", ".category", ".both", ".layer"), names(layer$data))
  entry <- if (length(class)) match(as.character(layer$data[[class[1]]]), key_entries(map)) else rep(NA_integer_, nrow(layer$data))
  copy <- ggplot2::ggproto(NULL, layer)
  copy$data$.tooltip <- tooltip_text(chosen)
  copy$data$.id <- paste0("entry", ifelse(is.na(entry), 0, entry), "-row", layer$data$.row)
  copy$mapping <- utils::modifyList(layer$mapping, ggplot2::aes(tooltip = .data$.tooltip, data_id = .data$.id))
  map$layers[[at]] <- copy
  map
}

# The classes in the order in which the key shows them, NA for what has no data.
key_entries <- function(map) {
  scale <- map$scales$get_scales("fill")
  if (is.null(scale) || !is.character(scale$breaks)) return(character())
  if (is.null(attr(map, "class_labels"))) return(scale$breaks)
  c(rev(stats::na.omit(scale$breaks)), if (anyNA(scale$breaks)) NA)
}

# Their texts.
shown_entries <- function(map) {
  entries <- key_entries(map)
  shown <- attr(map, "class_labels")
  if (!is.null(shown)) return(unname(shown[ifelse(is.na(entries), no_data, entries)]))
  labels <- map$scales$get_scales("fill")$labels
  if (is.character(labels) && length(labels) == length(entries)) unname(labels) else entries
}

tooltip_text <- function(columns) {
  value <- function(column) {
    text <- if (is.numeric(column)) short_column(column) else as.character(column)
    escape_html(ifelse(is.na(column), "\u2013", text))
  }
  lines <- Map(function(name, column) paste0("<b>", escape_html(name), "</b> ", value(column)), names(columns), columns)
  do.call(paste, c(unname(lines), sep = "<br>"))
}

short_column <- function(values) {
  digits <- if (all(values == round(values), na.rm = TRUE)) 0 else 2
  map_numbers(values, digits)
}

escape_html <- function(text) {
  text <- gsub("&", "&amp;", text, fixed = TRUE)
  text <- gsub("<", "&lt;", text, fixed = TRUE)
  text <- gsub(">", "&gt;", text, fixed = TRUE)
  gsub("\"", "&quot;", text, fixed = TRUE)
}

# One page with all scripts and styles in it.
page_of_widget <- function(widget, title, entries) {
  folder <- tempfile()
  dir.create(folder)
  on.exit(unlink(folder, recursive = TRUE, expand = FALSE))
  htmlwidgets::saveWidget(widget, file.path(folder, "map.html"), selfcontained = FALSE, title = title)
  lines <- readLines(file.path(folder, "map.html"), warn = FALSE, encoding = "UTF-8")
  inline <- function(line) {
    script <- regmatches(line, regexec("<script src=\"([^\"]+)\"></script>", line))[[1]]
    style <- regmatches(line, regexec("<link href=\"([^\"]+)\" rel=\"stylesheet\" ?/>", line))[[1]]
    content <- function(name) paste(readLines(file.path(folder, utils::URLdecode(name)), warn = FALSE, encoding = "UTF-8"), collapse = "\n")
    if (length(script)) return(paste0("<script>", gsub("</script", "<\\/script", content(script[2]), fixed = TRUE), "</script>"))
    if (length(style)) return(paste0("<style>", content(style[2]), "</style>"))
    line
  }
  page <- vapply(lines, inline, "", USE.NAMES = FALSE)
  script <- paste0("<script>var LABELS = ", gsub("</", "<\\/", jsonlite::toJSON(entries), fixed = TRUE), ";", key_script, "</script>\n</body>")
  sub("</body>", script, paste(page, collapse = "\n"), fixed = TRUE)
}

# Hovering an entry of the key dims the shapes of other classes: LABELS are the texts of the key in order, and the ids of shapes begin
# with the number of their entry.
key_script <- "
window.addEventListener('load', function () {
  var timer = setInterval(function () {
    var svg = document.querySelector('svg.ggiraph-svg, .girafe svg');
    if (!svg || !svg.querySelector('[data-id]')) return;
    clearInterval(timer);
    var shapes = Array.from(svg.querySelectorAll('[data-id]'));
    var right = Math.max.apply(null, shapes.map(function (s) { return s.getBoundingClientRect().right; }));
    var texts = Array.from(svg.querySelectorAll('text')).filter(function (t) {
      return LABELS.indexOf(t.textContent) >= 0 && t.getBoundingClientRect().left > right - 1;
    });
    var boxes = Array.from(svg.querySelectorAll('rect, circle, polyline, line')).filter(function (b) {
      return !b.hasAttribute('data-id') && b.getBoundingClientRect().width < 40;
    });
    texts.forEach(function (text) {
      var entry = 'entry' + (LABELS.indexOf(text.textContent) + 1) + '-', at = text.getBoundingClientRect();
      var parts = boxes.filter(function (b) {
        var r = b.getBoundingClientRect();
        return r.right <= at.left && r.left > at.left - 60 && Math.abs((r.top + r.bottom - at.top - at.bottom) / 2) < at.height / 2;
      });
      parts.concat([text]).forEach(function (part) {
        part.style.cursor = 'pointer';
        part.style.pointerEvents = 'all';
        part.addEventListener('mouseenter', function () {
          shapes.forEach(function (s) { s.style.opacity = s.getAttribute('data-id').indexOf(entry) === 0 ? 1 : 0.15; });
        });
        part.addEventListener('mouseleave', function () { shapes.forEach(function (s) { s.style.opacity = ''; }); });
      });
    });
  }, 50);
});"
