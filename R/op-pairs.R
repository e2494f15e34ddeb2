# Operations that bring two layers together, and statistics of neighbours.

apportion_option <- function() new_option("apportion", "columns", "columns of totals, which pieces share by their area or length")

register_operation("overlay", function() {
  new_operation("Two layers", "cut two layers where they meet, with the columns of both", c("LAYER", "OTHER", "OUTPUT"), list(
    new_option("pieces", "choice", "which", "intersection", names(overlay_parts), argument = "keep", former = "keep"),
    new_option("tolerance", "number", "bring borders nearer than this together first"), unit_option("the tolerance"),
    new_option("touches", "flag", "keep lines and points where shapes only touch", sets = "keep"), apportion_option()
  ), "civicatlas overlay wards.shp districts.shp pieces.gpkg --pieces union --match-crs", verb = "overlay_with")
})

register_operation("clip", function() {
  new_operation("Two layers", "keep what lies within a mask", c("LAYER", "OTHER", "OUTPUT"), list(apportion_option()),
                "civicatlas clip tramways.kml wards.shp tramways-on-land.geojson --match-crs", verb = "clip_to")
})

register_operation("erase", function() {
  new_operation("Two layers", "keep what lies outside a mask", c("LAYER", "OTHER", "OUTPUT"), list(apportion_option()),
                "civicatlas erase wards.shp reach.geojson out-of-reach.shp --match-crs", verb = "erase_by")
})

register_operation("split", function() {
  new_operation("Two layers", "cut shapes along lines or borders of another layer", c("LAYER", "OTHER", "OUTPUT"),
                list(new_option("column", "column", "column of the other layer to take along", of = "y"), apportion_option()),
                "civicatlas split wards.shp tramways.kml pieces.gpkg --match-crs", verb = "split_by")
})

ties_option <- function() new_option("most-ties", "whole", "of nearest rows: how many that are equally far are kept beyond these", 100L)

register_operation("join", function() {
  options <- c(options_by_name(relation_options()), list(
    new_option("unmatched", "choice", "rows without a partner", "keep", keep_or_drop),
    new_option("multiple", "choice", "rows with several partners", "all", partners_taken),
    new_option("nearest", "whole", "join so many nearest rows instead, no farther than --distance", argument = c(join_nearest = "count")), ties_option()
  ))
  options$distance$argument <- c(join_where = "distance", join_nearest = "within")
  new_operation("Two layers", "add the columns of the rows that a row lies in or on", c("LAYER", "OTHER", "OUTPUT"), options,
                "civicatlas join rooms.geojson wards.shp rooms-with-wards.geojson --match-crs", verb = c("join_where", nearest = "join_nearest"))
})

register_operation("nearest", function() {
  new_operation("Two layers", "add the columns of the nearest rows, and how far they are", c("LAYER", "OTHER", "OUTPUT"), list(
    new_option("count", "whole", "how many", 1L), new_option("distance", "number", "no farther than this", argument = "within"), unit_option("the distance"),
    ties_option()
  ), "civicatlas nearest wards.shp rooms.geojson nearest.shp --distance 2000 --match-crs", verb = "join_nearest")
})

register_operation("select", function() {
  new_operation("Two layers", "keep the rows that lie in or on those of another layer, or the others", c("LAYER", "OTHER", "OUTPUT"), c(
    relation_options(), list(new_option("others", "flag", "keep the rows that are related to none"))
  ), "civicatlas select rooms.geojson wards.shp offshore.geojson --others --match-crs", verb = c("keep_where", others = "drop_where"))
})

register_operation("pick", function() {
  new_operation("Two layers", "add columns of the highest-ranking related row", c("LAYER", "OTHER", "OUTPUT"), c(relation_options(), list(
    new_option("take", "columns", "columns to take, separated by commas", required = TRUE, of = "y"),
    new_option("rank-by", "column", "column that ranks", required = TRUE, of = "y"),
    new_option("lowest", "flag", "take the lowest instead", argument = "highest", sets = FALSE)
  )), "civicatlas pick wards.shp rooms.geojson largest.shp --take name,seats --rank-by seats --match-crs", verb = "pick_where")
})

register_operation("summarise", function() {
  new_operation("Two layers", "count, sum or average features by region", c("LAYER", "OTHER", "OUTPUT"), c(relation_options(NULL), list(
    new_option("with", "expressions", "summaries of the features' columns: name = expression, separated by commas", "count = count()", argument = "...",
               of = "y", use = "group"),
    new_option("share", "choice", "apportion features by what of them lies in each region", "none", share_measures),
    new_option("intensive", "columns", "with a share: columns that are no totals, separated by commas", of = "y"),
    new_option("by", "columns", "columns to group by within each region, separated by commas", of = "y"),
    new_option("form", "choice", "of groups: a row each, or a column each", "long", summary_forms),
    new_option("once", "columns", "columns that stand once a region and are not to be summed, separated by commas", of = "y"),
    new_option("set", "expressions", "columns to compute from the result: name = expression, separated by commas", argument = "result", former = "compute")
  )), "civicatlas summarise wards.shp rooms.geojson out.shp --match-crs --with \"rooms = count(), seats = sum(seats)\"", verb = "summarise_into")
})

# Columns by which rows are named in what is shown of pairs.
names_options <- function() {
  list(new_option("names", "column", "column that names the rows", argument = c(distance_matrix = "names_x")),
       new_option("other-names", "column", "column that names the other rows", argument = c(distance_matrix = "names_y"), of = "y"))
}

# The first two columns of a table of pairs, numbers of rows, as the names of these rows where there are any.
named_rows <- function(found, names, titles) {
  for (k in 1:2) if (!is.null(names[[k]])) found[[k]] <- names[[k]][found[[k]]]
  stats::setNames(found, make.unique(c(titles, names(found)[-(1:2)]), sep = "_"))
}

register_operation("relate", function() {
  new_operation("Two layers", "list the pairs of rows that are related", c("LAYER", "OTHER"), c(relation_options(), names_options()),
                "civicatlas relate wards.shp districts.shp --relation overlaps --names ward_id --other-names district --match-crs", verb = "related_pairs",
                finish = function(found, o) {
    named_rows(found, list(o$x[[o$names %||% ""]], o$y[[o$other_names %||% ""]]), c(o$names %||% "row", o$other_names %||% "other_row"))
  })
})

register_operation("distances", function() {
  new_operation("Two layers", "the distance from each row to each row of another layer", c("LAYER", "OTHER"), list(
    unit_option("the distances"), names_options()[[1]], names_options()[[2]]
  ), "civicatlas distances wards.shp rooms.geojson --unit km --names ward_id --other-names room_id --match-crs", verb = "distance_matrix",
  finish = function(found, o) table_of_matrix(found, "row"))
})

# A matrix with its rows' names in a column; a table as it is.
table_of_matrix <- function(found, names) {
  if (is.matrix(found)) tibble::as_tibble(unclass(found), rownames = names, .name_repair = "minimal") else found
}

register_operation("cross-table", function() {
  new_operation("Two layers", "how much area each value of one layer shares with each of another", c("LAYER", "OTHER"), list(
    new_option("column", "column", "column of the first layer", required = TRUE, argument = "x_column"),
    new_option("other-column", "column", "column of the other layer", required = TRUE, argument = "y_column", of = "y"),
    new_option("area-unit", "choice", "unit of the areas, m2 by default", values = names(area_units), argument = "unit", former = "unit")
  ), "civicatlas cross-table wards.shp districts.shp --column ward_id --other-column district --area-unit ha --match-crs", verb = "cross_table",
  finish = function(found, o) table_of_matrix(found, o$column))
})

register_operation("flows", function() {
  new_operation("Two layers", "lines between regions from a table of who goes from where to where", c("LAYER", "TABLE", "OUTPUT"), list(
    new_option("key", "column", "column of the layer that from and to name", required = TRUE),
    new_option("from-column", "column", "column of the table", "from", argument = ".from", of = "table"),
    new_option("to-column", "column", "column of the table", "to", argument = ".to", of = "table"),
    new_option("with", "expressions", "summaries of the table's columns", "count = count()", argument = "...", of = "table", use = "group")
  ), "civicatlas flows wards.shp trips.csv flows.gpkg --key ward_id --with \"trips = sum(trips)\"", verb = "flows_between")
})

# --- statistics of neighbours ------------------------------------------------------------------------------------------------

neighbour_options <- function() {
  list(new_option("neighbours", "choice", "who is a neighbour", "edge", neighbour_kinds, argument = c(neighbours_of = "by")),
       new_option("count", "whole", "of nearest neighbours", 4L),
       new_option("distance", "number", "of neighbours by distance"), unit_option("the distance"))
}

neighbours_option <- function(o) neighbours_of(o$x, o$neighbours, o$count, o$distance, o$unit)

fill_column_option <- function() new_option("fill", "expression", "column, or expression on columns", required = TRUE)
numbers_of_fill <- function(o) as.double(map_values(o$x, expression_option(o$fill, "fill", o$x), NULL))

register_operation("neighbours", function() {
  new_operation("Statistics", "list who is whose neighbour", "LAYER", c(neighbour_options(), names_options()[1]),
                "civicatlas neighbours wards.shp --neighbours edge --names name", verb = "neighbours_of", finish = function(found, o) {
    names <- o$x[[o$names %||% ""]]
    named_rows(tibble::as_tibble(found), list(names, names), c(o$names %||% "row", "neighbour"))
  })
})

register_operation("autocorrelation", function() {
  new_operation("Statistics", "whether neighbours are alike", "LAYER", c(list(
    fill_column_option(), new_option("statistic", "choice", "which", "moran", autocorrelation_statistics)
  ), neighbour_options()), "civicatlas autocorrelation wards.shp --fill \"over_65 / residents\"", says = c(autocorrelation_of = ""),
  run = function(o) autocorrelation_of(numbers_of_fill(o), neighbours_option(o), o$statistic, seed = 1))
})

register_operation("clusters", function() {
  new_operation("Statistics", "add which rows are clusters of high or low values, with their chances", c("LAYER", "OUTPUT"),
                c(list(fill_column_option()), neighbour_options()), "civicatlas clusters wards.shp clusters.shp --fill \"over_65 / residents\"",
                says = c(local_clusters = ""), run = function(o) {
    found <- local_clusters(numbers_of_fill(o), neighbours_option(o), seed = 1)
    o$x[c("cluster", "p_value", "p_adjusted")] <- as.list(found[c("cluster", "p_value", "p_adjusted")])
    o$x
  })
})
