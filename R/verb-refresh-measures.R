#' Bring measures up to date
#'
#' Verbs that change shapes leave the columns as they are. Where a column holds the area, length or perimeter of the shapes as they were,
#' whatever it is called, they say so, as its values agree with what is measured, in some unit. `refresh_measures()` measures such columns
#' anew, each in its unit.
#'
#' A column is one of measures where most of its values lie within 10 % of the area, length or perimeter of their shape, planar or along
#' the ellipsoid, and their median ratio within 2 % of 1 in one of the units of [area_of()] and [length_of()], or in square yards or yards.
#'
#' @param x A spatial frame.
#' @return `x` with the columns measured anew that earlier verbs named; types become doubles.
#' @section Errors: `civicatlas_error_argument` for what is no spatial frame.
#' @examples
#' wards <- read_layer(demo_file("wards.shp")) |> add_measures(area = "ha")
#' zone <- buffer_by(wards[1, ], 500)
#' clip_to(wards, zone) |> refresh_measures()
#' @export
refresh_measures <- function(x) {
  verb <- begin_verb("refresh_measures")
  call <- rlang::current_env()
  need_frame(x, "refresh_measures", call)
  stale <- stale_columns(x)
  if (!length(stale)) {
    say("{.fn refresh_measures}: no column held a measure of the shapes before they changed.")
    return(x)
  }
  for (name in names(stale)) x[[name]] <- measured_as(x, stale[[name]], call)
  measured <- Map(function(name, held) remark(paste(name, held$measure, "in", held$unit)), names(stale), stale)
  end_verb(verb, x, x, unname(measured), line = counted(nrow(x), "row"))
}

# Units by name, in square metres and metres.
units_of_columns <- list(
  area = c(area_units, "square yards" = 0.9144^2), length = c(length_units, yards = 0.9144), perimeter = c(length_units, yards = 0.9144)
)

# Columns that hold a measure of the shapes: a list by name of what they hold, in which unit, and whether along the ellipsoid.
measure_columns <- function(x, most = 64) {
  if (!is_spatial_frame(x) || !nrow(x)) return(NULL)
  columns <- attribute_table(dplyr::ungroup(x))
  numbers <- columns[vapply(columns, function(column) is.numeric(column) && !is.object(column), NA)]
  if (!length(numbers)) return(NULL)
  rows <- quick_rows(as_shapes(x), sampled_rows(as_shapes(x), most))
  values <- lapply(numbers, function(column) as.double(column[rows]))
  measures <- measures_in_every_way(as_shapes(x)[rows], values)
  Filter(Negate(is.null), lapply(values, held_measure, measures))
}

# Of sampled rows as many as measuring along the ellipsoid is quick for, at least one.
quick_rows <- function(shapes, rows, vertices = 50000) {
  rows[pmax(cumsum(core(core_vertex_counts(handles_of(shapes)[rows], store_of(shapes)))), 1) <= vertices | seq_along(rows) == 1]
}

# Areas, lengths and perimeters, planar and along the ellipsoid, in square metres and metres; in coordinate units without a CRS. Only
# those that some column could hold.
measures_in_every_way <- function(shapes, columns) {
  lines <- !grepl("polygon", geometry_type_of(shapes))  # what a polygon's length is its perimeter is too
  ways <- lapply(c("area", if (any(lines)) "length", "perimeter"), function(measure) {
    plane <- core(core_planar_measure(handles_of(shapes), store_of(shapes), measure))
    if (all(plane == 0, na.rm = TRUE) || !any(vapply(columns, could_hold, NA, measure, plane, crs_of(shapes)))) return(NULL)
    lapply(ways_to_measure(shapes, measure, plane), function(way) c(list(measure = measure), way))
  })
  unlist(ways, recursive = FALSE)
}

ways_to_measure <- function(shapes, measure, plane) {
  crs <- crs_of(shapes)
  if (is.null(crs)) return(list(list(values = plane)))
  if (!crs$kind %in% c("projected", "geographic")) return(NULL)
  scale <- crs$unit_size^(if (measure == "area") 2 else 1)
  ground <- tryCatch(true_measure(in_degrees(shapes), measure), error = function(e) NULL)
  c(if (crs$kind == "projected") list(list(values = plane * scale, ellipsoidal = FALSE)), if (!is.null(ground)) list(list(values = ground, ellipsoidal = TRUE)))
}

# Whether values are anywhere near a measure in one of its units, whatever the CRS distorts short of the poles.
could_hold <- function(values, measure, plane, crs) {
  if (!isTRUE(crs$kind %in% c("projected", "geographic"))) return(TRUE)
  degree <- 111320  # metres of latitude
  size <- plane * (if (crs$kind == "geographic") degree else crs$unit_size)^(if (measure == "area") 2 else 1)
  ratio <- stats::median(values / size, na.rm = TRUE)
  far <- if (measure == "area") 100 else 10
  isTRUE(ratio > 0) && any(abs(log(ratio * units_of_columns[[measure]])) < log(far))
}

held_measure <- function(values, ways) {
  for (way in ways) {
    unit <- agreeing_unit(values, way)
    if (length(unit)) return(list(measure = way$measure, unit = unit, ellipsoidal = way$ellipsoidal))
  }
}

# The name of the unit in which values agree with a measure, none where they do not.
agreeing_unit <- function(values, way) {
  some <- which(way$values > 0 & is.finite(values))
  if (!length(some) || length(some) < 0.75 * sum(way$values > 0, na.rm = TRUE)) return(character())
  units <- if (is.null(way$ellipsoidal)) c("coordinate units" = 1) else units_of_columns[[way$measure]]
  slack <- if (length(some) < 3) 1e-3 else 0.02
  agrees <- vapply(units, function(size) {
    off <- abs(values[some] * size / way$values[some] - 1)
    stats::median(off) <= slack && mean(off <= 0.1) >= 0.75
  }, NA)
  utils::head(names(units)[agrees], 1)
}

measured_as <- function(x, held, call) {
  if (is.null(held$ellipsoidal)) return(measured(x, held$measure, NULL, NULL, 1, NULL, call = call))
  dimension <- if (held$measure == "area") 2 else 1
  ellipsoidal <- if (is_geographic(as_shapes(x))) NULL else held$ellipsoidal
  warn_of_measures(x, held$measure, ellipsoidal, call)
  measured(x, held$measure, NULL, NULL, dimension, ellipsoidal, call = call) / units_of_columns[[held$measure]][[held$unit]]
}

# Those that the frame's history names, the latest of each.
stale_columns <- function(x) {
  held <- list()
  for (step in attr(x, "history", exact = TRUE)) held[names(step$stale)] <- step$stale
  held[names(held) %in% names(attribute_table(x))]
}
