# Operations on the shapes of one layer.

register_operation("reproject", function() {
  new_operation("CRS", "put a layer on another CRS", c("LAYER", "OUTPUT"), list(
    new_option("crs", "crs", "code, .prj file or well-known text to reproject to", required = TRUE),
    new_option("tolerance", "number", "add vertices so that edges keep this close to their curve, in units of the target"),
    new_option("grids", "file", "NTv2 grid files or folders of them, separated by commas"),
    new_option("steps", "flag", "show the steps and their stated accuracy")
  ), "civicatlas reproject rooms.geojson rooms.shp --crs EPSG:32757", verb = "reproject_to")
})

register_operation("measure", function() {
  new_operation("Shapes", "add areas, lengths or perimeters, in units of your choice", c("LAYER", "[OUTPUT]"), list(
    new_option("area", "choice", "unit of an area column", values = names(area_units)),
    new_option("length", "choice", "unit of a length column", values = names(length_units)),
    new_option("perimeter", "choice", "unit of a perimeter column", values = names(length_units)),
    new_option("ellipsoidal", "flag", "measure along the ellipsoid on a projected CRS too")
  ), "civicatlas measure wards.shp wards-measured.shp --area ha --perimeter km", verb = "add_measures", settle = with_default_units,
  says = c(area_of = "--area", length_of = "--length", perimeter_of = "--perimeter"))
})

# What to measure where nothing is named: areas and perimeters of polygons, lengths of lines.
with_default_units <- function(o, x) {
  if (!is.null(o$area) || !is.null(o$length) || !is.null(o$perimeter)) return(o)
  if (is.null(x)) more_is_left()
  if (is_tiled(x)) x <- utils::head(x, 1000)
  kinds <- geometry_type_of(x)
  if (!any(grepl("polygon|line", kinds))) fail("argument", "The layer has neither polygons nor lines to measure.", call = NULL)
  are <- function(kind) any(grepl(kind, kinds), na.rm = TRUE)
  utils::modifyList(o, c(if (are("polygon")) list(area = "m2", perimeter = "m"), if (are("line")) list(length = "m")))
}

register_operation("buffer", function() {
  new_operation("Shapes", "all that lies within a distance of each shape", c("LAYER", "OUTPUT"), list(
    new_option("distance", "distance", "how far: a number, or a column", required = TRUE), unit_option("the distance"),
    new_option("merged", "flag", "one shape for all"),
    new_option("ends", "choice", "of lines", "round", line_ends),
    new_option("corners", "choice", "of the outline", "round", outline_corners),
    new_option("side", "choice", "of lines", "both", line_sides), new_option("segments", "whole", "segments of a quarter circle", 16L)
  ), "civicatlas buffer rooms.geojson reach.geojson --distance 400 --merged", verb = "buffer_by")
})

register_operation("bands", function() {
  new_operation("Shapes", "rings around shapes, from each distance to the next", c("LAYER", "OUTPUT"), list(
    new_option("distances", "numbers", "outer edges, separated by commas", required = TRUE), unit_option("the distances"),
    new_option("segments", "whole", "segments of a quarter circle", 16L)
  ), "civicatlas bands rooms.geojson rings.gpkg --distances 200,400,800", verb = "bands_around")
})

register_operation("simplify", function() {
  new_operation("Shapes", "leave out vertices, with borders that neighbours share kept together", c("LAYER", "OUTPUT"), list(
    new_option("tolerance", "number", "how far a border may move", required = TRUE), unit_option("the tolerance"),
    new_option("each-alone", "flag", "borders that are shared too", argument = "keep_borders", sets = FALSE)
  ), "civicatlas simplify wards.shp coarse.shp --tolerance 50", verb = "simplify_by", tiles = function(values) values$each_alone)
})

register_operation("hull", function() {
  new_operation("Shapes", "the smallest convex shape around each shape, or around all", c("LAYER", "OUTPUT"), list(new_option("merged", "flag", "one for all")),
                "civicatlas hull rooms.geojson around.geojson --merged", verb = "hull_of", tiles = function(values) !values$merged)
})

register_operation("dissolve", function() {
  new_operation("Shapes", "join the shapes of each group, with summaries", c("LAYER", "OUTPUT"), list(
    new_option("by", "columns", "columns to group by, separated by commas; all become one without", argument = "..."),
    new_option("with", "expressions", "summaries of the other columns: name = expression, separated by commas", argument = "...", use = "group"),
    new_option("once", "columns", "columns that stand once a group and are not to be summed, separated by commas")
  ), "civicatlas dissolve cells.zip wards.gpkg --by ward_id --with \"cells = count()\"", verb = "dissolve_by")
})

# Operations without options of their own.
register_plain_operation <- function(name, group, summary, verb) {
  register_operation(name, function() {
    new_operation(group, summary, c("LAYER", "OUTPUT"), example = sprintf("civicatlas %s wards.shp %s.shp", name, name), verb = verb)
  })
}
register_plain_operation("centroid", "Shapes", "the centre of mass of each shape", "centroid_of")
register_plain_operation("inner-point", "Shapes", "a point that lies well within each shape", "inner_point_of")
register_plain_operation("parts", "Shapes", "a row for each part of each shape", "parts_of")
register_plain_operation("boundary", "Shapes", "the borders of shapes as lines", "boundary_of")
register_plain_operation("outer-ring", "Shapes", "polygons without their holes", "outer_ring_of")
register_plain_operation("cut-at-antimeridian", "Shapes", "bring longitudes to -180 to 180, with shapes cut where they cross", "cut_at_antimeridian")
register_plain_operation("refresh-measures", "Shapes", "measure anew what was measured before shapes changed, in a pipe or batch", "refresh_measures")
register_plain_operation("flatten", "Shapes", "cut shapes that overlap into pieces that do not", "flatten_layer")

# --- what is wrong with shapes ---------------------------------------------------------------------------------------------

register_operation("repair", function() {
  new_operation("Mend", "make shapes valid", c("LAYER", "OUTPUT"), list(
    new_option("rule", "choice", "what of shapes that cross themselves is inside", "even-odd", inside_rules)
  ), "civicatlas repair wards.shp wards-valid.shp", verb = "repair_shapes")
})

narrow_options <- function() {
  list(new_option("narrower-than", "number", "at most so wide"), new_option("smaller-than", "number", "at most so large", argument = "area", former = "area"),
       unit_option("--narrower-than, and its square of --smaller-than"))
}

register_operation("gaps", function() {
  new_operation("Mend", "find gaps between polygons", c("LAYER", "[OUTPUT]"), narrow_options(), "civicatlas gaps districts.shp gaps.gpkg --narrower-than 30",
                verb = "find_gaps")
})

register_operation("slivers", function() {
  new_operation("Mend", "find slivers: narrow pieces, as overlay leaves", c("LAYER", "[OUTPUT]"), c(narrow_options(), list(
    new_option("thinness", "number", "area over that of a circle of the same perimeter, at most", 0.1, unitless = TRUE)
  )), "civicatlas slivers pieces.gpkg --narrower-than 30", verb = "find_slivers")
})

register_operation("close-gaps", function() {
  new_operation("Mend", "seal narrow gaps and overlaps between polygons", c("LAYER", "OUTPUT"), list(
    new_option("tolerance", "number", "how wide a gap may be", required = TRUE), unit_option("the tolerance"),
    new_option("force", "flag", "also where more moves than is closed")
  ), "civicatlas close-gaps districts.shp sealed.shp --tolerance 30", verb = "close_gaps")
})

register_operation("absorb", function() {
  new_operation("Mend", "give slivers to a neighbour", c("LAYER", "OUTPUT"), c(narrow_options(), list(
    new_option("thinness", "number", "area over that of a circle of the same perimeter, at most", unitless = TRUE),
    new_option("into", "choice", "which neighbour", "longest border", absorbing_neighbours),
    new_option("same", "column", "column in which the neighbour must be equal"),
    new_option("add", "columns", "columns of numbers that are added to the neighbour's, separated by commas")
  )), "civicatlas absorb pieces.gpkg whole.gpkg --narrower-than 30", verb = "absorb_slivers")
})
