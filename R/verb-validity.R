#' Check shapes and make them valid
#'
#' `check_shapes()` says for each shape which rule of OGC 06-103r4 (section 6.1.11.1) it breaks and where, decided exactly.
#' `repair_shapes()` cuts rings where they cross and puts them together again by a rule, shape by shape; it says what changed in
#' area.
#'
#' @param x A spatial frame or shape vector.
#' @param rule `"even-odd"`: what an odd number of rings encloses is inside, so that a bow tie has two halves and a ring
#'   within a ring is a hole, whatever their directions. `"winding"`: what rings run around is inside, so that overlapping
#'   parts become one.
#' @return `check_shapes()`: a tibble of one row a shape: `row`, `valid`, `problem` (`NA` or the first found of `"bad coordinate"`, `"open
#'   ring"`, `"too few points"`, `"crossing"`, where edges cross or overlap, `"self-touch"`, where a ring meets itself, `"repeated
#'   ring"`, `"hole outside"`, `"hole in hole"`, `"part in part"`, `"split interior"`, where holes that touch cut it) and its place `x`,
#'   `y`. Missing shapes are valid. `repair_shapes()`: `x` with valid shapes; missing where nothing has any area or length. Shapes
#'   that are valid and points stay as they are.
#' @section Errors: `repair_shapes()`: `civicatlas_error_format` for coordinates that are not finite.
#' @examples
#' shapes <- shapes_from_wkt(c("POLYGON ((0 0, 4 4, 4 0, 0 4, 0 0))", "POLYGON ((0 0, 4 0, 4 4, 0 0))"))
#' check_shapes(shapes)
#' repair_shapes(shapes)
#' @export
check_shapes <- function(x) {
  shapes <- as_shapes(x)
  found <- core(core_check_shapes(handles_of(shapes), store_of(shapes)))
  problem <- ifelse(is.na(found$problem) | !nzchar(found$problem), NA_character_, found$problem)
  kinds <- table(problem)
  details <- if (length(kinds)) paste0(": ", paste(format_count(as.vector(kinds)), names(kinds), collapse = ", "))
  say("{.fn check_shapes}: {counted(length(shapes), 'shape')}, {format_count(sum(is.na(problem)))} valid{details}.")
  tibble::new_tibble(list(row = seq_along(problem), valid = is.na(problem), problem = problem, x = found$x, y = found$y), nrow = length(problem))
}

#' @rdname check_shapes
#' @export
repair_shapes <- function(x, rule = "even-odd") UseMethod("repair_shapes", deciding_layer(x))

#' @export
repair_shapes.default <- function(x, rule = "even-odd") {
  verb <- begin_verb("repair_shapes")
  call <- rlang::current_env()
  one_of(rule, inside_rules, "rule", call = call)
  shapes <- as_shapes(x, call = call)
  problems <- core(core_check_shapes(handles_of(shapes), store_of(shapes)), call = call)$problem
  broken <- which(nzchar(problems) & !is.na(shapes) & !geometry_type_of(shapes) %in% c("point", "multipoint"))
  found <- core(core_repair(handles_of(shapes)[broken], store_of(shapes), rule == "winding"), call = call)
  repaired <- deepened(shapes_of_rows(found, length(broken), crs_of(shapes)), seq_along(broken), shapes[broken])
  before <- planar_areas(shapes[broken])
  after <- planar_areas(repaired)
  gone <- sum(is.na(repaired))
  changed <- sum(abs(after - before) > 1e-9 * pmax(before, after), na.rm = TRUE)
  areas <- paste("from", area_in_words(shapes[broken]), "to", area_in_words(repaired), "in all")
  found <- account(entry(changed, "changed in area", areas), entry(gone, "without area or length", "now missing"))
  if (!length(found)) found <- account(remark("no area changed"))
  out <- shapes
  if (length(broken)) out[broken] <- repaired
  end_verb(verb, with_shapes(x, out), x, found, line = counted(length(shapes), "shape"), stale = if (changed) measure_columns(x))
}

# Shapes whose areas can be relied on: invalid ones are taken by the even-odd rule, which is told.
valid_shapes <- function(shapes, name, call) {
  invalid <- which(nzchar(core(core_check_shapes(handles_of(shapes), store_of(shapes)), call = call)$problem) & !is.na(shapes))
  if (!length(invalid)) return(shapes)
  tell_self_crossing(invalid, name)
  found <- core(core_repair(handles_of(shapes)[invalid], store_of(shapes), FALSE), call = call)
  shapes[invalid] <- shapes_of_rows(found, length(invalid), crs_of(shapes))
  shapes
}

# Where the even-odd rule alone decides, shapes are taken as they are; of a layer that is checked in a moment the invalid ones are told.
tell_invalid <- function(shapes, name, call) {
  most_vertices <- 20000
  if (length(store_of(shapes)$x) > most_vertices || only_points(shapes)) return(invisible())
  tell_self_crossing(which(nzchar(core(core_check_shapes(handles_of(shapes), store_of(shapes)), call = call)$problem) & !is.na(shapes)), name)
}

# Rows of some types that break a rule.
invalid_rows <- function(shapes, types, call) {
  some <- which(geometry_type_of(shapes) %in% types)
  some[nzchar(core(core_check_shapes(handles_of(shapes)[some], store_of(shapes)), call = call)$problem)]
}

# Polygons whose measures are not those of what they cover.
tell_doubtful <- function(shapes, call) {
  most_vertices <- 200000
  if (length(store_of(shapes)$x) > most_vertices || only_points(shapes)) return(invisible())
  rows <- invalid_rows(shapes, c("polygon", "multipolygon"), call)
  if (!length(rows)) return(invisible())
  some <- paste(counted(length(rows), "shape"), if (length(rows) == 1) "is" else "are")
  caution("data", c("{some} not valid, so that measures are not those of what such a shape covers.",
                    i = "First rows: {utils::head(rows, 5)}; {.fn check_shapes} says why, {.fn repair_shapes} mends them."))
}

# An area as the core takes it, in words: in square coordinate units, on longitude and latitude in square metres.
format_area <- function(area, crs) {
  if (is.null(crs) || (crs$kind == "geographic" && crs$unit_size != 1)) return(paste(format_count(signif(area, 5)), "square units"))
  format_square_metres(if (crs$kind == "geographic") area else area * crs$unit_size^2)
}

# Of all shapes together, on longitude and latitude along the ellipsoid.
area_in_words <- function(shapes) {
  area <- sum(true_measure(shapes, "area"), na.rm = TRUE)
  if (is_geographic(shapes)) format_square_metres(area) else format_area(area, crs_of(shapes))
}

format_square_metres <- function(area) {
  unit <- if (area >= 1e7) "km2" else if (area >= 1e5) "ha" else "m2"
  paste(format_count(signif(area / area_units[[unit]], 5)), unit)
}

inside_rules <- c("even-odd", "winding")
