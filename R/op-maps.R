# Operations that draw.

register_operation("map", function() {
  new_operation("Maps", "draw a map to PNG, JPEG, TIFF, PDF, SVG or a page of HTML", c("LAYER", "IMAGE"), c(class_options(), list(
    new_option("as", "choice", "kind of map", "choropleth", names(map_kinds)), new_option("up", "expression", "bivariate: the second column"),
    new_option("after", "layer", "change: layer of the later state"), new_option("reverse", "flag", "palette in the opposite order"),
    new_option("key-prefix", "text", "put before the numbers of the key", former = "prefix"),
    new_option("numbers", "choice", "of the key", "plain", names(number_factors)),
    new_option("midpoint", "number", "value between the sides of a palette with two"),
    new_option("counts", "flag", "show in the key how many shapes each class holds"),
    new_option("panels", "column", "a panel for each of its values"), new_option("flows", "layer", "table of flows, with columns from and to"),
    new_option("key", "column", "with --flows: column of the layer that from and to name"), new_option("subtitle", "text", "subtitle"),
    new_option("source", "text", "where the data come from"), new_option("key-unit", "text", "put after the numbers of the key", former = "unit"),
    new_option("key-title", "text", "text above the key, with the unit"), new_option("outlines", "layer", "layer whose outlines to draw on top"),
    new_option("points", "layer", "layer of points to draw on top"), new_option("labels", "column", "column of texts to write at the shapes"),
    new_option("graticule", "flag", "draw meridians and parallels"), new_option("scale-bar", "flag", "draw a scale bar"),
    new_option("north-arrow", "flag", "draw a north arrow"), new_option("dark", "flag", "dark ground"), new_option("width", "number", "width", 24),
    new_option("height", "number", "height", 16),
    new_option("size-unit", "choice", "of width and height", "cm", sheet_units),
    new_option("dpi", "number", "dots per inch of an image, by default 300, of pixels 96")
  )), "civicatlas map wards.shp wards.png --fill \"1000 * over_65 / residents\" --key-title \"Over 65\\nper 1,000\"", map_command, says = c(
    choropleth_map = "", category_map = "--as category", symbol_map = "--as symbols", flow_map = "--as flows", bivariate_map = "--as bivariate",
    plain_map = "--as plain", save_map = "", interactive_map = "", map_points = "--points", map_outlines = "--outlines", map_labels = "--labels"
  ))
})

map_command <- function(o) {
  x <- o$x
  map <- map_kinds[[o$as]](x, o)
  if (o$dark) map <- map + map_theme("dark")
  if (!is.null(o$outlines)) map <- map + map_outlines(o$outlines)
  if (!is.null(o$points)) map <- map + map_points(o$points)
  if (!is.null(o$labels)) map <- map + map_labels(x, !!rlang::sym(o$labels))
  if (o$graticule) map <- map + map_graticule()
  if (o$scale_bar) map <- map + map_scale_bar()
  if (o$north_arrow) map <- map + map_north_arrow()
  if (ascii_lower(tools::file_ext(o$image)) == "html") {
    interactive_map(map, o$image)
  } else {
    save_map(map, o$image, width = o$width, height = o$height, unit = o$size_unit,
             dpi = o$dpi %||% if (identical(o$size_unit, "px")) 96 else 300)
  }
  structure(list(output = o$image), class = "shown_already")
}

# The starters, as the options ask for them.
map_kinds <- list(
  choropleth = function(x, o) {
    rlang::inject(choropleth_map(x, !!fill_option(x, o), !!!choropleth_options(o), panels = !!symbol_option(o$panels)))
  },
  category = function(x, o) {
    category_map(x, !!fill_option(x, o), counts = o$counts, panels = !!symbol_option(o$panels), title = o$title,
                 subtitle = o$subtitle, source = o$source, key_title = key_title_option(o))
  },
  clusters = function(x, o) {
    values <- map_values(x, fill_option(x, o), NULL)
    x$.cluster <- local_clusters(values, neighbours_of(x), seed = 1)$cluster
    category_map(x, .data$.cluster, counts = o$counts, title = o$title, subtitle = o$subtitle, source = o$source,
                 key_title = key_title_option(o))
  },
  symbols = function(x, o) {
    symbol_map(x, !!fill_option(x, o), title = o$title, subtitle = o$subtitle, source = o$source, unit = o$key_unit,
               key_title = key_title_option(o))
  },
  bivariate = function(x, o) {
    if (is.null(o$up)) wrong_usage("a map of two variables needs --up, the second column")
    up <- expression_option(o$up, "up", x)
    bivariate_map(x, !!fill_option(x, o), !!up, title = o$title, subtitle = o$subtitle, source = o$source,
                  across_title = o$key_title, up_title = o$up)
  },
  change = function(x, o) {
    if (is.null(o$after)) wrong_usage("a map of a change needs --after LAYER, the later state")
    after <- chosen_rows(o$after, o$where, NULL)
    rlang::inject(before_and_after(x, after, !!fill_option(x, o), !!!choropleth_options(o)))
  },
  flows = function(x, o) {
    if (is.null(o$flows) || is.null(o$key)) wrong_usage("flows need --flows TABLE and --key COLUMN")
    table <- o$flows
    flows <- flows_between(x, table, "from", "to", !!o$key, size = sum(!!fill_option(table, o), na.rm = TRUE))
    flow_map(flows, .data$size, base = x, title = o$title, subtitle = o$subtitle, source = o$source, unit = o$key_unit,
             key_title = key_title_option(o))
  },
  plain = function(x, o) plain_map(x, title = o$title, subtitle = o$subtitle, source = o$source)
)

# What choropleths have in common, as arguments.
choropleth_options <- function(o) {
  list(classes = o$classes, method = o$method, at = o$at, palette = palette_option(o), reverse = o$reverse,
       midpoint = o$midpoint, counts = o$counts, title = o$title, subtitle = o$subtitle, source = o$source,
       unit = o$key_unit, prefix = o$key_prefix, numbers = o$numbers, rounded = o$rounded, key_title = key_title_option(o))
}

# The name of a palette, or colours separated by commas.
palette_option <- function(o) column_list(o$palette)

fill_option <- function(x, o) {
  if (is.null(o$fill)) wrong_usage("a map as \"{o$as}\" needs --fill, a column or an expression on columns")
  expression_option(o$fill, "fill", x)
}
key_title_option <- function(o) gsub("\\n", "\n", o$key_title %||% o$fill, fixed = TRUE)

register_operation("classes", function() {
  new_operation("Maps", "show class intervals of a column, and draw them over its distribution", c("LAYER", "[IMAGE]"), class_options(required = TRUE),
              "civicatlas classes wards.shp --fill residents --method quantile", classes_command, says = c(class_breaks = ""))
})

classes_command <- function(o) {
  values <- as.double(map_values(o$x, fill_option(o$x, o), NULL))
  breaks <- class_breaks(values, o$classes, o$method, o$at, o$rounded)
  if (!o$json) print(breaks)
  if (!is.null(o$image)) save_map(draw_classes(breaks, palette_option(o), title = o$title, label = o$fill), o$image, 1280, 800, "px", 110)
  structure(list(breaks = as.double(breaks), counts = attr(breaks, "counts"), fit = attr(breaks, "fit"), method = attr(breaks, "method")),
            class = "shown_already")
}

class_options <- function(required = FALSE) {
  list(
    new_option("fill", "expression", "column, or expression on columns, to map", required = required), new_option("classes", "whole", "number of classes", 5L),
    new_option("method", "choice", "of making classes", "natural", c(class_methods, if (!required) "continuous")),
    new_option("at", "numbers", "your own breaks instead, separated by commas"), new_option("rounded", "flag", "round the breaks to readable numbers"),
    new_option("palette", "text", paste0(paste(names(palettes), collapse = ", "), ", or colours separated by commas"), "harbour"),
    new_option("title", "text", "title")
  )
}

symbol_option <- function(text) if (!is.null(text)) rlang::sym(text)
