#' Coordinate reference systems
#'
#' A CRS is a value: its kind, name, code, ellipsoid, datum shift, method and parameters, unit and area of use. Two are
#' equal (`==`) when coordinates mean the same on both, however each is spelled.
#'
#' @param x A code (`32757`, `"EPSG:32757"`), well-known text (version 1, OGC 01-009, also in the shapefile's spelling),
#'   the path of a `.prj` file, a spatial frame or shape vector, a CRS, or `NULL` for none.
#' @return `crs()` gives a CRS or `NULL`; `crs_of()` the CRS of a frame or shape vector, `NULL` where it has none.
#' @section Errors: `civicatlas_error_crs` where a code is unknown (the nearest are named) or text cannot be read (with
#'   the character where reading stopped).
#' @source EPSG Geodetic Parameter Dataset, IOGP.
#' @examples
#' crs(32757)
#' crs(32757) == crs("EPSG:4326")
#' @export
crs <- function(x) as_crs(x, call = rlang::current_env())

#' @rdname crs
#' @export
crs_of <- function(x) {
  if (inherits(x, "crs")) return(x)
  attr(as_shapes(x), "crs", exact = TRUE)
}

as_crs <- function(x, call = rlang::caller_env(2)) {
  if (inherits(x, c("NULL", "crs"))) return(x)
  if (inherits(x, c("shapes", "spatial_frame"))) return(crs_of(x))
  if (rlang::is_scalar_double(x) || rlang::is_scalar_integer(x)) return(crs_by_code(x, call))
  if (rlang::is_string(x)) return(crs_by_text(trimws(x), call))
  fail("crs", c("{.arg crs} is {.obj_type_friendly {x}}.",
                i = "Give a code such as 32757, well-known text, the path of a .prj file, or a frame."), call = call)
}

# A code in one of its spellings, well-known text, or the path of a file that holds some.
crs_by_text <- function(text, call) {
  code <- sub("^(EPSG:+|urn:ogc:def:crs:EPSG:[^:]*:)", "", text, ignore.case = TRUE)
  if (grepl("^[0-9]+$", code)) return(crs_by_code(as.numeric(code), call))
  if (grepl("(^|:)CRS84$", text, ignore.case = TRUE)) return(crs_by_code(4326, call))
  if (grepl("^[A-Za-z_]+\\s*[[(]", text)) return(crs_from_text(text, call = call))
  if (file.exists(text)) return(crs_from_text(read_text(text), source = text, call = call))
  fail("crs", c("{.val {text}} is no known CRS.",
                i = "Give a code such as {.val EPSG:32757}, well-known text, or the path of a .prj file."), call = call)
}

new_crs <- function(fields) structure(fields, class = "crs")

crs_by_code <- function(code, call) {
  whole <- is.finite(code) && code == round(code) && abs(code) < 2^31
  found <- if (whole) core_crs_find(as.integer(code))
  if (!is.null(found)) return(new_crs(found))
  near <- if (whole) lapply(core_codes_near(as.integer(code), 3L), function(code) new_crs(core_crs_find(code)))
  labels <- vapply(near, crs_label, "")
  fail("crs", c("EPSG:{format(code, scientific = FALSE)} is not in the registry.", if (length(labels)) c(i = "Nearest codes: {labels}.")),
       call = call)
}

crs_from_text <- function(text, source = NULL, call = rlang::caller_env(2)) {
  new_crs(core(core_crs_parse(enc2utf8(text)), source = source, call = call))
}

read_text <- function(source) {
  bytes <- core_read_bytes(source, -1)
  text <- rawToChar(bytes[bytes != 0])
  sub("^\xef\xbb\xbf", "", text, useBytes = TRUE)
}

# "WGS 84 / UTM zone 57S (EPSG:32757)"; "none" where there is no CRS.
crs_label <- function(x) {
  if (is.null(x)) return("none: label it with declare_crs()")
  name <- if (is.na(x$name)) "unnamed" else x$name
  if (is.na(x$code)) return(paste0(name, " (no code)"))
  paste0(name, " (", x$code, if (isTRUE(x$matched)) ", matched by meaning", ")")
}

# What to type to name a CRS: its code, or a call that says where to find it.
crs_argument <- function(x, frame = "the other frame") if (is.na(x$code)) frame else paste0("\"", x$code, "\"")

#' @export
format.crs <- function(x, ...) crs_label(x)

#' @export
print.crs <- function(x, ...) {
  row <- function(name, value) if (length(value) && !is.na(value)) cat("  ", formatC(name, width = -12), value, "\n", sep = "")
  cat("<CRS> ", crs_label(x), "\n", sep = "")
  row("kind", x$kind)
  base <- if (x$kind == "geographic") " degrees)" else " m)"
  size <- if (x$unit_size == 1) "" else paste0(" (", format(x$unit_size, digits = 12), base)
  row("unit", paste0(x$unit, size))
  row("method", x$method)
  row("datum", paste0(x$datum, ", ellipsoid ", x$ellipsoid$name))
  if (!is.null(x$shift) && any(x$shift != 0)) row("to WGS 84", paste(format(x$shift, trim = TRUE), collapse = ", "))
  if (x$meridian_degrees != 0) row("meridian", paste0(x$meridian, " (", format(x$meridian_degrees, digits = 10), "\u00b0)"))
  if (!is.null(x$area)) {
    row("area of use", x$area$text)
    row("", sprintf("longitude %g to %g, latitude %g to %g", x$area$west, x$area$east, x$area$south, x$area$north))
  }
  invisible(x)
}

#' @export
Ops.crs <- function(e1, e2) {
  if (!.Generic %in% c("==", "!=")) fail("crs", "CRSs can only be compared with == and !=.")
  equal <- same_crs(as_crs(e1), as_crs(e2))
  if (.Generic == "==") equal else !equal
}

same_crs <- function(a, b) {
  if (is.null(a) || is.null(b)) return(is.null(a) && is.null(b))
  if (identical(a, b) || (!is.na(a$code) && identical(a$code, b$code))) return(TRUE)
  core_crs_same(unclass(a), unclass(b))
}

# Where two layers meet their CRSs must be equal; the error names both and the line that mends it.
check_same_crs <- function(x, y, x_name = "x", y_name = "y", call = rlang::caller_env(2)) {
  a <- crs_of(x)
  b <- crs_of(y)
  if (same_crs(a, b)) return(invisible())
  if (is.null(a) || is.null(b)) {
    unlabelled <- if (is.null(a)) x_name else y_name
    other <- if (is.null(a)) b else a
    fail("crs_mismatch", c(
      "The two layers are not on one CRS: {.arg {unlabelled}} has none, the other is on {crs_label(other)}.",
      i = "If its coordinates are on a CRS you know, label it: {.code {unlabelled} <- declare_crs({unlabelled}, {crs_argument(other)})}."
    ), call = call)
  }
  fail("crs_mismatch", c(
    "The two layers are on different CRSs.",
    "*" = "{.arg {x_name}}: {crs_label(a)}", "*" = "{.arg {y_name}}: {crs_label(b)}",
    i = "Reproject one of them: {.code {y_name} <- reproject_to({y_name}, {crs_argument(a, x_name)})}."
  ), call = call)
}

need_crs <- function(x, why, call = rlang::caller_env(2)) {
  if (!is.null(crs_of(x))) return(invisible())
  fail("crs", c("The layer has no CRS, so {why}.", i = "Label it first: {.code declare_crs(x, \"EPSG:\u2026\")}."), call = call)
}

#' Label a layer with a CRS, or reproject it
#'
#' `declare_crs()` says which CRS the coordinates are on: the label changes, the coordinates stay. `reproject_to()`
#' changes the coordinates to those of another CRS, through datum shifts where the datums differ.
#'
#' Projection methods follow IOGP Guidance Note 373-7-2 and, for transverse Mercator, Karney (2011), "Transverse Mercator
#' with an accuracy of a few nanometers"; datum shifts go through geocentric coordinates with seven parameters (position
#' vector, EPSG method 9606) and WGS 84. The accuracy stated for a shift is shown.
#'
#' @param x A spatial frame or shape vector.
#' @param crs Anything that [crs()] takes; for `reproject_to()` also a frame whose CRS to take. `declare_crs(x, NULL)`
#'   removes the label.
#' @return `x` with the other label, or with other coordinates and label. Shapes with a vertex outside the domain of a
#'   projection become missing; a warning counts them.
#' @section Errors: `civicatlas_error_crs` where `x` has no CRS to start from, where the method is not available, or
#'   where no shift is known for a datum.
#' @examples
#' rooms <- read_layer(demo_file("rooms.geojson"))
#' reproject_to(rooms, "EPSG:32757")
#' declare_crs(point_shapes(590000, 4750000), 32757)
#' @export
declare_crs <- function(x, crs) {
  started <- clock()
  shapes <- as_shapes(x)
  before <- crs_of(shapes)
  label <- as_crs(crs, call = rlang::current_env())
  if (!is.null(before) && !is.null(label) && !same_crs(before, label)) {
    caution("crs", c("{.fn declare_crs} changed the label from {crs_label(before)} to {crs_label(label)}; the coordinates stayed.",
                     i = "If the layer should move to that CRS, use {.fn reproject_to} instead."))
  }
  attr(shapes, "crs") <- label
  check_plausible(shapes)
  record(with_shapes(x, shapes), x, "declare_crs", rlang::current_call(), vctrs::vec_size(x), paste("labelled", crs_label(label)), started)
}

#' @rdname declare_crs
#' @export
reproject_to <- function(x, crs) {
  started <- clock()
  shapes <- as_shapes(x)
  need_crs(shapes, "it cannot be reprojected")
  from <- crs_of(shapes)
  to <- as_crs(crs, call = rlang::current_env())
  if (is.null(to)) fail("crs", "The CRS to reproject to is missing.", call = rlang::current_env())
  if (same_crs(from, to)) {
    say("{.fn reproject_to}: already on {crs_label(to)}; nothing changed.")
    return(x)
  }
  result <- core(core_reproject(handles_of(shapes), store_of(shapes), unclass(from), unclass(to)), call = rlang::current_env())
  lost <- length(result$lost)
  accuracy <- if (result$accuracy > 0) paste0("; datum shift good to about ", format(result$accuracy, digits = 2), " m") else ""
  say("{.fn reproject_to}: {counted(length(shapes), 'shape')}, {crs_label(from)} \u2192 {crs_label(to)}{accuracy}.")
  if (lost) {
    caution("crs", c("{counted(lost, 'shape')} {cli::qty(lost)}{?reaches/reach} outside the domain of {crs_label(to)} and became missing.",
                     i = "First rows: {utils::head(result$lost, 5)}."))
  }
  note <- c(paste(crs_label(from), "to", crs_label(to)), if (lost) paste(counted(lost, "shape"), "outside its domain"))
  out <- with_shapes(x, shapes_of_core(result, to))
  record(out, x, "reproject_to", rlang::current_call(), vctrs::vec_size(x), note, started)
}

# One warning where coordinates cannot be what the label says.
check_plausible <- function(shapes) {
  crs <- crs_of(shapes)
  if (is.null(crs) || crs$kind != "geographic") return(invisible())
  extent <- extent_of(shapes) * crs$unit_size
  if (anyNA(extent)) return(invisible())
  if (max(abs(extent[c("ymin", "ymax")])) <= 90.000001 && max(abs(extent[c("xmin", "xmax")])) <= 540) return(invisible())
  swapped <- max(abs(extent[c("xmin", "xmax")])) <= 90 && max(abs(extent[c("ymin", "ymax")])) <= 180
  caution("crs", c(
    "The coordinates cannot be degrees of {crs_label(crs)}: {extent_in_words(shapes)}.",
    i = if (swapped) "Longitude and latitude look swapped." else "They look like metres or feet of a projected CRS: label the layer with {.fn declare_crs}."
  ))
}
