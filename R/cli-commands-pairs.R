# Commands that bring two layers together.

apportion_option <- function() new_option("apportion", "columns", "columns of totals, which pieces share by their area or length")

register_command("overlay", function() {
  new_command("Two layers", "cut two layers where they meet, with the columns of both", c("LAYER", "OTHER", "OUTPUT"), list(
    new_option("keep", "choice", "which pieces", "intersection", names(overlay_parts)),
    new_option("tolerance", "number", "bring borders nearer than this together first"), unit_option("the tolerance"),
    new_option("touches", "flag", "keep lines and points where shapes only touch"), apportion_option()
  ), "civicatlas overlay wards.shp districts.shp pieces.gpkg --keep union --match-crs", function(o) {
    overlay_with(o$x, o$y, o$keep, o$tolerance, o$unit, if (o$touches) "keep" else "drop", apportion = !!columns_option(o$apportion))
  })
})

register_command("clip", function() {
  new_command("Two layers", "keep what lies within a mask", c("LAYER", "OTHER", "OUTPUT"), list(apportion_option()),
              "civicatlas clip tramways.kml wards.shp tramways-on-land.geojson --match-crs",
              function(o) clip_to(o$x, o$y, apportion = !!columns_option(o$apportion)))
})

register_command("erase", function() {
  new_command("Two layers", "keep what lies outside a mask", c("LAYER", "OTHER", "OUTPUT"), list(apportion_option()),
              "civicatlas erase wards.shp reach.geojson out-of-reach.shp --match-crs",
              function(o) erase_by(o$x, o$y, apportion = !!columns_option(o$apportion)))
})

register_command("split", function() {
  new_command("Two layers", "cut shapes along lines or borders of another layer", c("LAYER", "OTHER", "OUTPUT"),
              list(new_option("column", "column", "column of the other layer to take along"), apportion_option()),
              "civicatlas split wards.shp tramways.kml pieces.gpkg --match-crs", function(o) {
    split_by(o$x, o$y, !!symbol_option(o$column), apportion = !!columns_option(o$apportion))
  })
})

register_command("join", function() {
  new_command("Two layers", "add the columns of the rows that a row lies in or on", c("LAYER", "OTHER", "OUTPUT"), c(relation_options(), list(
    new_option("unmatched", "choice", "rows without a partner", "keep", keep_or_drop),
    new_option("multiple", "choice", "rows with several partners", "all", partners_taken), nearest_option(), ties_option()
  )), "civicatlas join rooms.geojson wards.shp rooms-with-wards.geojson --match-crs", function(o) {
    if (!is.null(o$nearest)) return(join_nearest(o$x, o$y, o$nearest, within = o$distance, unit = o$unit, most_ties = o$most_ties))
    join_where(o$x, o$y, relation = o$relation, unmatched = o$unmatched, multiple = o$multiple, distance = o$distance, unit = o$unit)
  })
})

nearest_option <- function() new_option("nearest", "whole", "join so many nearest rows instead, no farther than --distance")
ties_option <- function() new_option("most-ties", "whole", "of nearest rows: how many that are equally far are kept beyond these", 100L)

register_command("nearest", function() {
  new_command("Two layers", "add the columns of the nearest rows, and how far they are", c("LAYER", "OTHER", "OUTPUT"), list(
    new_option("count", "whole", "how many", 1L), new_option("distance", "number", "no farther than this"), unit_option("the distance"), ties_option()
  ), "civicatlas nearest wards.shp rooms.geojson nearest.shp --distance 2000 --match-crs", function(o) {
    join_nearest(o$x, o$y, o$count, within = o$distance, unit = o$unit, most_ties = o$most_ties)
  })
})

register_command("select", function() {
  new_command("Two layers", "keep the rows that lie in or on those of another layer, or the others", c("LAYER", "OTHER", "OUTPUT"), c(relation_options(), list(
    new_option("others", "flag", "keep the rows that are related to none")
  )), "civicatlas select rooms.geojson wards.shp offshore.geojson --others --match-crs", function(o) {
    verb <- if (o$others) drop_where else keep_where
    verb(o$x, o$y, relation = o$relation, distance = o$distance, unit = o$unit)
  })
})

register_command("pick", function() {
  new_command("Two layers", "add columns of the highest-ranking related row", c("LAYER", "OTHER", "OUTPUT"), c(relation_options(), list(
    new_option("take", "columns", "columns to take, separated by commas", required = TRUE),
    new_option("rank-by", "column", "column that ranks", required = TRUE),
    new_option("lowest", "flag", "take the lowest instead")
  )), "civicatlas pick wards.shp rooms.geojson largest.shp --take name,seats --rank-by seats --match-crs", function(o) {
    pick_where(o$x, o$y, take = dplyr::all_of(column_list(o$take)), rank_by = !!rlang::sym(o$rank_by), highest = !o$lowest, relation = o$relation,
               distance = o$distance, unit = o$unit)
  })
})

register_command("summarise", function() {
  new_command("Two layers", "count, sum or average features by region", c("LAYER", "OTHER", "OUTPUT"), c(relation_options(NULL), list(
    new_option("with", "expressions", "summaries of the features' columns: name = expression, separated by commas", "count = count()"),
    new_option("share", "choice", "apportion features by what of them lies in each region", "none", share_measures),
    new_option("intensive", "columns", "with a share: columns that are no totals, separated by commas"),
    new_option("by", "columns", "columns to group by within each region, separated by commas"),
    new_option("form", "choice", "of groups: a row each, or a column each", "long", summary_forms),
    new_option("once", "columns", "columns that stand once a region and are not to be summed, separated by commas"),
    new_option("compute", "expressions", "columns to compute from the result: name = expression, separated by commas")
  )), "civicatlas summarise wards.shp rooms.geojson out.shp --match-crs --with \"rooms = count(), seats = sum(seats)\"", function(o) {
    out <- summarise_into(o$x, o$y, !!!expressions_option(o$with, "with", o$y, "group"), .relation = o$relation, .distance = o$distance, .unit = o$unit,
                          .share = o$share, .form = o$form, .by = !!columns_option(o$by), .once = !!columns_option(o$once),
                          .intensive = !!columns_option(o$intensive))
    if (is.null(o$compute)) out else computed(out, o$compute, "compute")
  })
})

register_command("relate", function() {
  new_command("Two layers", "list the pairs of rows that are related", c("LAYER", "OTHER"), relation_options(),
              "civicatlas relate wards.shp districts.shp --relation overlaps --match-crs",
              function(o) related_pairs(o$x, o$y, o$relation, o$distance, o$unit))
})

register_command("distances", function() {
  new_command("Two layers", "the distance from each row to each row of another layer", c("LAYER", "OTHER"), list(
    unit_option("the distances"), new_option("names", "column", "column that names the rows"),
    new_option("other-names", "column", "column that names the other rows")
  ), "civicatlas distances wards.shp rooms.geojson --unit km --names ward_id --other-names room_id --match-crs", function(o) {
    matrix <- distance_matrix(o$x, o$y, o$unit, o$names, o$other_names)
    if (is.matrix(matrix)) tibble::as_tibble(matrix, rownames = "row", .name_repair = "minimal") else matrix
  })
})

register_command("cross-table", function() {
  new_command("Two layers", "how much area each value of one layer shares with each of another", c("LAYER", "OTHER"), list(
    new_option("column", "column", "column of the first layer", required = TRUE),
    new_option("other-column", "column", "column of the other layer", required = TRUE),
    new_option("unit", "choice", "unit of the areas, m2 by default", values = names(area_units))
  ), "civicatlas cross-table wards.shp districts.shp --column ward_id --other-column district --unit ha --match-crs", function(o) {
    found <- cross_table(o$x, o$y, !!rlang::sym(o$column), !!rlang::sym(o$other_column), o$unit)
    if (is.matrix(found)) tibble::as_tibble(unclass(found), rownames = o$column, .name_repair = "minimal") else found
  })
})

register_command("flows", function() {
  new_command("Two layers", "lines between regions from a table of who goes from where to where", c("LAYER", "TABLE", "OUTPUT"), list(
    new_option("key", "column", "column of the layer that from and to name", required = TRUE),
    new_option("from-column", "column", "column of the table", "from"),
    new_option("to-column", "column", "column of the table", "to"), new_option("with", "expressions", "summaries of the table's columns", "count = count()")
  ), "civicatlas flows wards.shp trips.csv flows.gpkg --key ward_id --with \"trips = sum(trips)\"", function(o) {
    flows_between(o$x, o$table, !!rlang::sym(o$from_column), !!rlang::sym(o$to_column), !!rlang::sym(o$key),
                  !!!expressions_option(o$with, "with", o$table, "group"))
  })
})

# --- statistics of neighbours ------------------------------------------------------------------------------------------------

neighbour_options <- function() {
  list(new_option("neighbours", "choice", "who is a neighbour", "edge", c("edge", "touch", "nearest", "distance")),
       new_option("count", "whole", "of nearest neighbours", 4L),
       new_option("distance", "number", "of neighbours by distance"), unit_option("the distance"))
}

neighbours_option <- function(o) neighbours_of(o$x, o$neighbours, o$count, o$distance, o$unit)

register_command("neighbours", function() {
  new_command("Statistics", "list who is whose neighbour", "LAYER", neighbour_options(), "civicatlas neighbours wards.shp --neighbours edge", neighbours_option)
})

register_command("autocorrelation", function() {
  new_command("Statistics", "whether neighbours are alike", "LAYER", c(list(
    new_option("fill", "expression", "column, or expression on columns", required = TRUE),
    new_option("statistic", "choice", "which", "moran", autocorrelation_statistics)
  ), neighbour_options()), "civicatlas autocorrelation wards.shp --fill \"over_65 / residents\"", function(o) {
    autocorrelation_of(as.double(map_values(o$x, expression_option(o$fill, "fill", o$x), NULL)), neighbours_option(o), o$statistic, seed = 1)
  })
})

register_command("clusters", function() {
  new_command("Statistics", "add which rows are clusters of high or low values", c("LAYER", "OUTPUT"), c(list(
    new_option("fill", "expression", "column, or expression on columns", required = TRUE)
  ), neighbour_options()), "civicatlas clusters wards.shp clusters.shp --fill \"over_65 / residents\"", function(o) {
    found <- local_clusters(as.double(map_values(o$x, expression_option(o$fill, "fill", o$x), NULL)), neighbours_option(o), seed = 1)
    o$x$cluster <- as.character(found$cluster)
    o$x
  })
})
