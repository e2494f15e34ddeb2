# Commands that work on the shapes of one layer.

register_command("crs", function() {
  new_command("CRS", "describe a CRS, find one by words or place, or have one suggested", "[CRS]", list(
    new_option("find", "text", "words of a name, area or datum"), new_option("covering", "layer", "layer that the area of use must cover"),
    new_option("suggest", "layer", "layer to suggest a CRS for"),
    new_option("measuring", "choice", "what the suggestion is for", "area", crs_purposes),
    new_option("text", "choice", "write well-known text instead", values = crs_spellings)
  ), "civicatlas crs --find \"utm 57s\"", crs_command,
  about = "describe a CRS by its code, a file or well-known text, find one by words or place, or have one suggested")
})

crs_command <- function(o) {
  if (!is.null(o$suggest)) return(shown_crs(crs_for(o$suggest, o$measuring), o))
  if (!is.null(o$find) || !is.null(o$covering)) {
    found <- find_crs(o$find, o$covering)
    if (!o$json) print_table(found[c("code", "name", "kind", "unit", "area")], indent = "")
    return(structure(found, class = c("shown_already", class(found))))
  }
  if (is.null(o$crs)) wrong_usage("nothing to describe: give a code, a file or well-known text, or --find or --suggest")
  shown_crs(crs_of_argument(o$crs), o)
}

# A code, text or .prj file, else the CRS of a layer.
crs_of_argument <- function(text) {
  is_layer <- file.exists(text) && !grepl("[.](prj|wkt|txt)$", text, ignore.case = TRUE)
  found <- if (is_layer) crs_of(read_layer(text)) else crs(text)
  if (is.null(found)) fail("crs", "{.file {text}} has no CRS.", call = NULL)
  found
}

shown_crs <- function(found, o) {
  if (!is.null(o$text)) {
    text <- crs_text(found, o$text)
    if (!o$json) cat(text, "\n", sep = "")
    return(structure(list(text = text), class = "shown_already"))
  }
  if (!o$json) print(found)
  text <- tryCatch(crs_text(found), error = function(e) NULL)
  found$parameters <- as.list(found$parameters)
  structure(c(unclass(found), list(reason = attr(found, "reason"), text = text)), class = "shown_already")
}

register_command("reproject", function() {
  new_command("CRS", "put a layer on another CRS", c("LAYER", "OUTPUT"), list(
    new_option("crs", "crs", "code, .prj file or well-known text to reproject to", required = TRUE),
    new_option("tolerance", "number", "add vertices so that edges keep this close to their curve, in units of the target"),
    new_option("grids", "file", "NTv2 grid files or folders of them, separated by commas"),
    new_option("steps", "flag", "show the steps and their stated accuracy")
  ), "civicatlas reproject rooms.geojson rooms.shp --crs EPSG:32757", function(o) {
    reproject_to(o$x, o$crs, tolerance = o$tolerance, steps = o$steps, grids = if (!is.null(o$grids)) column_list(o$grids))
  })
})

register_command("measure", function() {
  new_command("Shapes", "add areas, lengths or perimeters, in units of your choice", c("LAYER", "[OUTPUT]"), list(
    new_option("area", "choice", "unit of an area column", values = names(area_units)),
    new_option("length", "choice", "unit of a length column", values = names(length_units)),
    new_option("perimeter", "choice", "unit of a perimeter column", values = names(length_units)),
    new_option("ellipsoidal", "flag", "measure along the ellipsoid on a projected CRS too")
  ), "civicatlas measure wards.shp wards-measured.shp --area ha --perimeter km", function(o) {
    units <- Filter(Negate(is.null), o[c("area", "length", "perimeter")])
    if (!length(units)) units <- default_units(o$x)
    rlang::inject(add_measures(o$x, !!!units, ellipsoidal = if (o$ellipsoidal) TRUE))
  })
})

# What to measure where nothing is named: areas and perimeters of polygons, lengths of lines.
default_units <- function(x) {
  if (is_tiled(x)) x <- utils::head(x, 1000)
  kinds <- geometry_type_of(x)
  if (!any(grepl("polygon|line", kinds))) fail("argument", "The layer has neither polygons nor lines to measure.", call = NULL)
  c(if (any(grepl("polygon", kinds), na.rm = TRUE)) list(area = "m2", perimeter = "m"), if (any(grepl("line", kinds), na.rm = TRUE)) list(length = "m"))
}

register_command("buffer", function() {
  new_command("Shapes", "all that lies within a distance of each shape", c("LAYER", "OUTPUT"), list(
    new_option("distance", "text", "how far: a number, or a column", required = TRUE), unit_option("the distance"),
    new_option("merged", "flag", "one shape for all"),
    new_option("ends", "choice", "of lines", "round", line_ends),
    new_option("corners", "choice", "of the outline", "round", outline_corners),
    new_option("side", "choice", "of lines", "both", line_sides), new_option("segments", "whole", "segments of a quarter circle", 16L)
  ), "civicatlas buffer rooms.geojson reach.geojson --distance 400 --merged", function(o) {
    buffer_by(o$x, !!distance_option(o$distance, o$x), o$unit, o$merged, o$ends, o$corners, o$segments, o$side)
  })
})

# A number, or the values of a column.
distance_option <- function(text, x) {
  distance <- suppressWarnings(as.numeric(text))
  if (!is.na(distance)) return(distance)
  need_column(x, text, "distance", call = NULL)
  if (is_tiled(x)) rlang::quo(!!rlang::sym(text)) else x[[text]]
}

register_command("bands", function() {
  new_command("Shapes", "rings around shapes, from each distance to the next", c("LAYER", "OUTPUT"), list(
    new_option("distances", "numbers", "outer edges, separated by commas", required = TRUE), unit_option("the distances"),
    new_option("segments", "whole", "segments of a quarter circle", 16L)
  ), "civicatlas bands rooms.geojson rings.gpkg --distances 200,400,800", function(o) bands_around(o$x, o$distances, o$unit, segments = o$segments))
})

register_command("simplify", function() {
  new_command("Shapes", "leave out vertices, with borders that neighbours share kept together", c("LAYER", "OUTPUT"), list(
    new_option("tolerance", "number", "how far a border may move", required = TRUE), unit_option("the tolerance"),
    new_option("each-alone", "flag", "borders that are shared too")
  ), "civicatlas simplify wards.shp coarse.shp --tolerance 50", function(o) simplify_by(o$x, o$tolerance, o$unit, !o$each_alone))
})

# Commands without options of their own.
simple_commands <- list(
  centroid = list("the centre of mass of each shape", function(o) centroid_of(o$x)),
  "inner-point" = list("a point that lies well within each shape", function(o) inner_point_of(o$x)),
  parts = list("a row for each part of each shape", function(o) parts_of(o$x)),
  boundary = list("the borders of shapes as lines", function(o) boundary_of(o$x)),
  flatten = list("cut shapes that overlap into pieces that do not", function(o) flatten_layer(o$x))
)
for (name in names(simple_commands)) local({
  name <- name
  register_command(name, function() {
    new_command("Shapes", simple_commands[[name]][[1]], c("LAYER", "OUTPUT"), list(), sprintf("civicatlas %s wards.shp %s.shp", name, name),
                simple_commands[[name]][[2]])
  })
})
rm(name)

register_command("hull", function() {
  new_command("Shapes", "the smallest convex shape around each shape, or around all", c("LAYER", "OUTPUT"), list(new_option("merged", "flag", "one for all")),
              "civicatlas hull rooms.geojson around.geojson --merged", function(o) hull_of(o$x, o$merged))
})

register_command("dissolve", function() {
  new_command("Shapes", "join the shapes of each group, with summaries", c("LAYER", "OUTPUT"), list(
    new_option("by", "columns", "columns to group by, separated by commas; all become one without"),
    new_option("with", "expressions", "summaries of the other columns: name = expression, separated by commas")
  ), "civicatlas dissolve cells.zip wards.gpkg --by ward_id --with \"cells = count()\"", function(o) {
    by <- if (!is.null(o$by)) column_list(o$by)
    for (column in by) need_column(o$x, column, "by", call = NULL)
    with <- if (!is.null(o$with)) expressions_option(o$with, "with", o$x, "group")
    dissolve_by(o$x, !!!rlang::syms(by), !!!with)
  })
})

# --- what is wrong with shapes ---------------------------------------------------------------------------------------------

register_command("check", function() {
  new_command("Mend", "list shapes that break the rules, and where", "LAYER", list(), "civicatlas check wards.shp", function(o) {
    found <- check_shapes(o$x)
    problems <- found[!found$valid, c("row", "problem", "x", "y")]
    if (!o$json && nrow(problems)) print_table(problems, indent = "")
    structure(list(rows = nrow(found), valid = sum(found$valid), problems = problems), class = "shown_already")
  })
})

register_command("repair", function() {
  new_command("Mend", "make shapes valid", c("LAYER", "OUTPUT"), list(
    new_option("rule", "choice", "what of shapes that cross themselves is inside", "even-odd", inside_rules)
  ), "civicatlas repair wards.shp wards-valid.shp", function(o) repair_shapes(o$x, o$rule))
})

narrow_options <- function() {
  list(new_option("narrower-than", "number", "at most so wide"), new_option("area", "number", "at most so large"),
       unit_option("--narrower-than, and its square of --area"))
}

register_command("gaps", function() {
  new_command("Mend", "find gaps between polygons", c("LAYER", "[OUTPUT]"), narrow_options(), "civicatlas gaps districts.shp gaps.gpkg --narrower-than 30",
              function(o) find_gaps(o$x, o$narrower_than, o$area, o$unit))
})

register_command("slivers", function() {
  new_command("Mend", "find slivers: narrow pieces, as overlay leaves", c("LAYER", "[OUTPUT]"), c(narrow_options(), list(
    new_option("thinness", "number", "area over that of a circle of the same perimeter, at most", 0.1)
  )), "civicatlas slivers pieces.gpkg --narrower-than 30", function(o) find_slivers(o$x, o$narrower_than, o$area, o$thinness, o$unit))
})

register_command("close-gaps", function() {
  new_command("Mend", "seal narrow gaps and overlaps between polygons", c("LAYER", "OUTPUT"), list(
    new_option("tolerance", "number", "how wide a gap may be", required = TRUE), unit_option("the tolerance"),
    new_option("force", "flag", "also where more moves than is closed")
  ), "civicatlas close-gaps districts.shp sealed.shp --tolerance 30", function(o) close_gaps(o$x, o$tolerance, o$unit, force = o$force))
})

register_command("absorb", function() {
  new_command("Mend", "give slivers to a neighbour", c("LAYER", "OUTPUT"), c(narrow_options(), list(
    new_option("thinness", "number", "area over that of a circle of the same perimeter, at most"),
    new_option("into", "choice", "which neighbour", "longest border", absorbing_neighbours),
    new_option("same", "column", "column in which the neighbour must be equal"),
    new_option("add", "columns", "columns of numbers that are added to the neighbour's, separated by commas")
  )), "civicatlas absorb pieces.gpkg whole.gpkg --narrower-than 30", function(o) {
    absorb_slivers(o$x, o$area, o$thinness, o$narrower_than, o$unit, o$into, o$same, if (!is.null(o$add)) column_list(o$add))
  })
})
