#' Label a layer with a CRS, or reproject it
#'
#' `declare_crs()` says which CRS the coordinates are on: the label changes, the coordinates stay. `reproject_to()`
#' changes the coordinates to those of another CRS, through datum shifts where the datums differ.
#'
#' Projection methods follow IOGP Guidance Note 373-7-2, Snyder (1987) and, for transverse Mercator, Karney (2011),
#' "Transverse Mercator with an accuracy of a few nanometers"; the article on formats of CRS lists them. Datum shifts go
#' through geocentric coordinates with seven parameters (position vector, EPSG method 9606) and WGS 84, or by NTv2 grid
#' files where you have them. The accuracy stated for a shift is shown.
#'
#' Shapes are cut where the target's map ends, so that none runs across the whole of it: at the antimeridian for longitude
#' and latitude, and half a turn from the central meridian of most projections; around a pole they follow the antimeridian
#' to it. Where a map shows the pole as a point those edges are taken out again.
#'
#' @param x A spatial frame or shape vector.
#' @param crs Anything that [crs()] takes; for `reproject_to()` also a frame whose CRS to take. `declare_crs(x, NULL)`
#'   removes the label.
#' @param tolerance Largest distance, in units of the target, of an edge from the curve that the straight line becomes;
#'   vertices are added where it would be more. `NULL` moves the vertices that are there.
#' @param grids Paths of NTv2 grid files (`.gsb`), or of folders of them. A grid serves a datum whose name and ellipsoid
#'   its header states; places it does not hold, and datums without one, take the published parameters, which is said.
#' @param steps `TRUE` to show the steps taken and their stated accuracy.
#' @return `x` with the other label, or with other coordinates and label. Shapes with a vertex outside the domain of a
#'   projection become missing; a warning counts them.
#' @section Errors: `civicatlas_error_crs` where `x` has no CRS to start from, where the method is not available, or
#'   where no shift is known for a datum; `civicatlas_error_format` for a damaged grid file.
#' @examples
#' rooms <- read_layer(demo_file("rooms.geojson"))
#' reproject_to(rooms, "EPSG:32757")
#' invisible(reproject_to(rooms, 27200, steps = TRUE))
#' declare_crs(point_shapes(590000, 4750000), 32757)
#' @export
declare_crs <- function(x, crs) UseMethod("declare_crs", deciding_layer(x))

#' @export
declare_crs.default <- function(x, crs) {
  verb <- begin_verb("declare_crs")
  shapes <- as_shapes(x)
  before <- crs_of(shapes)
  label <- as_crs(crs, call = rlang::current_env())
  if (!is.null(before) && !is.null(label) && !same_crs(before, label)) {
    caution("crs", c("{.fn declare_crs} changed the label from {crs_label(before)} to {crs_label(label)}; the coordinates stayed.",
                     i = "If the layer should move to that CRS, use {.fn reproject_to} instead."))
  }
  attr(shapes, "crs") <- label
  shapes <- admitted(shapes)
  end_verb(verb, with_shapes(x, shapes), x, account(remark(paste("labelled", crs_label(label)))), line = NULL)
}

#' @rdname declare_crs
#' @export
reproject_to <- function(x, crs, tolerance = NULL, grids = getOption("civicatlas.grids"), steps = FALSE) UseMethod("reproject_to", deciding_layer(x))

#' @export
reproject_to.default <- function(x, crs, tolerance = NULL, grids = getOption("civicatlas.grids"), steps = FALSE) {
  verb <- begin_verb("reproject_to")
  call <- rlang::current_env()
  shapes <- as_shapes(x)
  need_crs(shapes, "it cannot be reprojected", call = call)
  from <- crs_of(shapes)
  to <- as_crs(crs, call = call)
  if (is.null(to)) fail("crs", c("The CRS to reproject to is missing.", i = "{.code declare_crs(x, NULL)} removes a label."), call = call)
  check_target_tolerance(tolerance, call)
  if (same_crs(from, to)) {
    say("{.fn reproject_to}: already on {crs_label(to)}; nothing changed.")
    return(x)
  }
  grids <- open_grids(grids, call)
  result <- naming_other_datums(
    core(core_reproject(handles_of(shapes), store_of(shapes), unclass(from), unclass(to), grids, tolerance %||% 0), call = call), from, to, call
  )
  counts <- account_of_reprojection(result, from, to)
  say_account("reproject_to", counted(length(shapes), "shape"), counts)
  if (steps) tell_steps(result)
  misplaced <- implausible(shapes)
  warn_of_lost(result, to, length(shapes), misplaced)
  warn_of_grids(result, from, to)
  moved <- shapes_of_core(result, to)
  if (is.null(misplaced)) check_plausible(moved)  # where the source did not fit its label either, that has been said
  end_verb(verb, with_shapes(x, moved), x, counts, line = NULL)
}

# Where no shift is known for a datum, the error names codes of the same area whose datums have one.
naming_other_datums <- function(expr, from, to, call) {
  tryCatch(expr, civicatlas_error_crs = function(e) {
    if (!grepl("no published shift", conditionMessage(e))) rlang::cnd_signal(e)
    unknown <- Filter(function(crs) is.null(crs$shift), list(from, to))
    codes <- unlist(lapply(unknown, codes_with_shift))
    remedy <- "If the layer is on one of these after all, label it with {.fn declare_crs}: {codes}."
    fail("crs", c(conditionMessage(e), if (length(codes)) c(i = remedy)), call = call)
  })
}

# Up to five systems of longitude and latitude whose area of use holds the middle of a CRS's, the smallest areas first.
codes_with_shift <- function(crs, most = 5) {
  area <- crs$area
  if (is.null(area)) return(NULL)
  table <- registry_table()
  middle <- c(area$west + ((area$east - area$west) %% 360) / 2, (area$south + area$north) / 2)
  inside <- (middle[1] - table$box[, 1]) %% 360 <= (table$box[, 3] - table$box[, 1]) %% 360 & table$box[, 2] <= middle[2] & table$box[, 4] >= middle[2]
  is_plain <- table$kind == "geographic" & !table$has_heights & !grepl("height", table$name) & !is.na(table$epsg)
  rows <- which(inside & is_plain & table$code != (crs$code %||% ""))
  found <- character()
  for (row in rows[order((table$box[rows, 3] - table$box[rows, 1]) %% 360)]) {
    other <- tryCatch(crs_by_code(table$epsg[row], NULL), civicatlas_error = function(e) NULL)
    if (!is.null(other$shift)) found <- c(found, crs_label(other))
    if (length(found) == most) break
  }
  found
}

check_target_tolerance <- function(tolerance, call) {
  if (is.null(tolerance) || (rlang::is_scalar_double(tolerance) && is.finite(tolerance) && tolerance > 0)) return(invisible())
  fail("argument", "{.arg tolerance} must be one number above 0, in units of the target CRS.", call = call)
}

# What a reprojection did beside moving vertices.
account_of_reprojection <- function(result, from, to) {
  account(
    remark(paste(crs_label(from), "\u2192", crs_label(to))),
    if (result$accuracy > 0) remark(paste("datum shift good to about", format(result$accuracy, digits = 2), "m")),
    entry(result$cut, "cut where the map ends", of = "shape"), entry(result$added, "added", of = "vertex"),
    entry(length(result$lost), "outside the domain", "missing now", of = "shape")
  )
}

tell_steps <- function(result) {
  accuracy <- ifelse(result$accuracies > 0, paste0(" (good to about ", format(result$accuracies, digits = 2, trim = TRUE, drop0trailing = TRUE), " m)"), "")
  lines <- escape(paste0(result$steps, accuracy))
  say(stats::setNames(lines, rep("*", length(lines))))
}

warn_of_lost <- function(result, to, size, misplaced) {
  lost <- length(result$lost)
  if (!lost) return(invisible())
  which <- paste(counted(lost, "shape"), "of", format_count(size))
  remedy <- misplaced %||% "{.fn crs_for} names a CRS that holds the whole layer."
  caution("crs", c("{which} {cli::qty(lost)}{?reaches/reach} outside the domain of {crs_label(to)} and became missing.",
                   i = "First rows: {utils::head(result$lost, 5)}.", i = remedy))
}

warn_of_grids <- function(result, from, to) {
  if (result$beyond_grids) {
    caution("crs", "The grid files do not hold {counted(result$beyond_grids, 'vertex', 'vertices')}, which took the published parameters instead.")
  }
  if (!result$lacks_grid) return(invisible())
  wanting <- Filter(function(crs) isTRUE(crs$wants_grid), list(from, to))[[1]]
  accuracy <- if (result$accuracy > 0) paste0(", good to about ", format(result$accuracy, digits = 2), " m") else ""
  say_once(paste("grid", wanting$datum), c(
    "!" = "For {wanting$datum} a grid file is published; without it the published parameters were used{accuracy}.",
    i = "Name its folder: {.code reproject_to(x, crs, grids = \"folder\")} or {.code options(civicatlas.grids = \"folder\")}."
  ))
}

grid_cache <- new.env(parent = emptyenv())

# Grid files, read once as long as they do not change.
open_grids <- function(paths, call) {
  if (is.null(paths)) return(list())
  missing <- paths[!file.exists(paths)]
  if (length(missing)) fail("file", "There is no grid file or folder {.file {missing[1]}}.", call = call)
  files <- unlist(lapply(paths, function(path) {
    if (!dir.exists(path)) return(path)
    list.files(path, "[.]gsb$", ignore.case = TRUE, full.names = TRUE)
  }))
  if (!length(files)) fail("file", c("No grid file stands in {.file {paths}}.", i = "NTv2 grid files end in .gsb."), call = call)
  lapply(unique(normalizePath(files)), function(file) {
    key <- paste(file, file.size(file), file.mtime(file))
    if (is.null(grid_cache[[key]])) grid_cache[[key]] <- core(core_read_grid(file, basename(file)), source = file, call = call)
    grid_cache[[key]]
  })
}
