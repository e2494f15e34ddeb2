# Operations on the rows and columns of a layer.

register_operation("head", function() {
  new_operation("Look", "show or write the first rows", c("LAYER", "[OUTPUT]"), list(new_option("rows", "whole", "how many", 6L, least = 0)),
                "civicatlas head rooms.geojson --rows 10", code = function(a) rlang::call2("head", a$x, a$rows, .ns = "utils"), tiles = TRUE)
})

register_operation("sample", function() {
  new_operation("Look", "show or write rows drawn at random, in their order", c("LAYER", "[OUTPUT]"), list(
    new_option("rows", "whole", "how many", 6L, least = 0),
    new_option("seed", "whole", "number that the drawing starts from, so that it can be repeated", 1L)
  ), "civicatlas sample rooms.geojson --rows 10 --seed 4", run = function(o) {
    chosen <- with_seed(o$seed, sample.int(nrow(o$x), min(o$rows, nrow(o$x))))
    o$x[sort(chosen), ]
  })
})

register_operation("sort", function() {
  new_operation("Rows and columns", "put rows in order", c("LAYER", "[OUTPUT]"), list(
    new_option("order", "columns", "columns to sort by, separated by commas", required = TRUE, former = "by"),
    new_option("descending", "flag", "from the greatest to the least")
  ), "civicatlas sort rooms.geojson by-seats.geojson --order seats --descending", run = function(o) {
    by <- column_list(o$order)
    for (column in by) need_column(o$x, column, "order", call = NULL)
    keys <- lapply(by, function(column) if (is.character(o$x[[column]])) match(o$x[[column]], sort(unique(o$x[[column]]), method = "radix")) else o$x[[column]])
    o$x[do.call(order, c(keys, list(decreasing = o$descending))), ]
  })
})

register_operation("stack", function() {
  new_operation("In and out", "put the rows of several layers into one", c("LAYERS...", "OUTPUT"), list(
    new_option("source-column", "text", "name of a column that tells which layer a row came from", former = "source"),
    new_option("match-crs", "flag", "reproject all to the CRS of the first")
  ), "civicatlas stack north.shp south.geojson all.gpkg --source-column file --match-crs", says = c(stack_layers = ""), run = function(o) {
    layers <- lapply(o$layers, function(layer) brought_to(o$layers[[1]], layer, o$match_crs))
    names(layers) <- basename(names(layers))
    do.call(stack_layers, c(layers, list(source = o$source_column)))
  })
})

register_choosing_operation <- function(name, verb, example) {
  register_operation(name, function() {
    new_operation("Rows and columns", paste(name, "the rows for which a condition holds"), c("LAYER", "CONDITION", "OUTPUT"), list(
      new_option("layers", "layers", "layers that the condition compares shapes with: name=path, separated by commas", argument = "...")
    ), example, verb = verb)
  })
}
register_choosing_operation("keep", "keep_rows", "civicatlas keep rooms.geojson \"seats > 100 AND kind <> 'school'\" large.geojson")
register_choosing_operation("drop", "drop_rows", "civicatlas drop rooms.geojson \"seats > 100 AND kind <> 'school'\" small.geojson")

register_operation("compute", function() {
  new_operation("Rows and columns", "add or change columns by expressions on others", c("LAYER", "OUTPUT"), list(
    new_option("set", "expressions", "name = expression, separated by commas", required = TRUE, argument = "result")
  ), "civicatlas compute wards.shp shares.shp --set \"over_65_share = round(100 * over_65 / residents, 1), km2 = area('km2')\"",
  code = function(a) a$set(a$x), tiles = TRUE)
})

register_operation("rename", function() {
  new_operation("Rows and columns", "give columns other names", c("LAYER", "OUTPUT"),
                list(new_option("columns", "renames", "new=old, separated by commas", required = TRUE)),
                "civicatlas rename wards.shp wards.gpkg --columns \"people=residents,elderly=over_65\"",
                code = function(a) rlang::call2("rename", a$x, !!!a$columns, .ns = "dplyr"), tiles = TRUE)
})

register_operation("columns", function() {
  new_operation("Rows and columns", "keep some columns, or drop them, in the order given", c("LAYER", "OUTPUT"), list(
    new_option("keep", "columns", "columns to keep, separated by commas", argument = "..."),
    new_option("drop", "columns", "columns to drop, separated by commas", argument = "...")
  ), "civicatlas columns wards.shp names.shp --keep ward_id,name", code = function(a) {
    if (is.null(a$keep) == is.null(a$drop)) wrong_usage("give --keep or --drop")
    columns <- if (is.null(a$keep)) lapply(a$drop, function(column) rlang::call2("-", column)) else a$keep
    rlang::call2("select", a$x, !!!columns, .ns = "dplyr")
  }, tiles = TRUE)
})

register_operation("build", function() {
  new_operation("Rows and columns", "build lines or polygons from a table of points in order", c("LAYER", "OUTPUT"), list(
    new_option("as", "choice", "what to build", "line", c("line", "polygon"), argument = "kind"),
    new_option("by", "columns", "columns that tell the shapes apart"),
    new_option("order", "column", "column by which points come along each shape"),
    new_option("declare-crs", "crs", "the CRS of the coordinates", argument = "crs", former = "crs")
  ), "civicatlas build rooms.geojson walk.geojson --by kind --order seats", verb = "shapes_from_coordinates")
})

register_operation("join-table", function() {
  new_operation("Rows and columns", "add the columns of a table whose key is the same", c("LAYER", "TABLE", "OUTPUT"), list(
    new_option("key", "keys", "column of both, or left=right, several separated by commas", required = TRUE, argument = "by", former = "by"),
    new_option("ignore-case", "flag", "keys that differ in case alone are the same"),
    new_option("multiple", "choice", "rows of the table of one key: error, first or all", "error", keyed_rows_taken)
  ), "civicatlas join-table wards.shp heat.csv hot-wards.shp --key ward_id", verb = "join_table")
})

register_operation("unmatched-keys", function() {
  new_operation("Rows and columns", "list the keys of a layer and a table that have no partner, with the nearest", c("LAYER", "TABLE", "[OUTPUT]"), list(
    new_option("key", "keys", "column of both, or left=right, several separated by commas", required = TRUE, argument = "by", former = "by"),
    new_option("ignore-case", "flag", "keys that differ in case alone are the same")
  ), "civicatlas unmatched-keys wards.shp heat.csv --key ward_id", verb = "unmatched_keys")
})

register_operation("rates", function() {
  new_operation("Rows and columns", "add a rate of two columns, with those of small bases told", c("LAYER", "OUTPUT"), list(
    new_option("counted", "column", "column of what is counted", required = TRUE, former = "count"),
    new_option("base", "column", "column of what it is a rate of", required = TRUE),
    new_option("per", "number", "per so many", 1000),
    new_option("smooth", "choice", "draw rates of small bases towards that of all", "none", c("none", "global")),
    new_option("name", "text", "name of the new column, by default count_per_1000")
  ), "civicatlas rates wards.shp elderly.shp --counted over_65 --base residents --per 100", says = c(rate_of = ""), run = function(o) {
    for (column in c(o$counted, o$base)) need_column(o$x, column, "counted", call = NULL)
    name <- o$name %||% paste0(o$counted, "_per_", core(core_number_text(o$per, -1L)))
    o$x[[name]] <- as.double(rate_of(o$x[[o$counted]], o$x[[o$base]], o$per, smooth = o$smooth))
    o$x
  })
})
