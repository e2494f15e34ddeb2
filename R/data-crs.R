#' Coordinate reference systems
#'
#' A CRS is a value: its kind, name, code, ellipsoid, datum shift, method and parameters, unit and area of use. Two are
#' equal (`==`) when coordinates mean the same on both, however each is spelled.
#'
#' @param x A code (`32757`, `"EPSG:32757"`, also as `urn:ogc:def:crs:` or `http://www.opengis.net/def/crs/`), a full name
#'   (`"WGS 84"`, `"NAD83 / Conus Albers"`), well-known text (version 1, OGC 01-009, also in the spelling of `.prj` files,
#'   or version 2, OGC 18-010r11), the path of a `.prj` file, a spatial frame or shape vector, a CRS, or `NULL` for none.
#' @param spelling `"wkt2"`, `"wkt1"` or `"prj"`.
#' @return `crs()` gives a CRS or `NULL`; `crs_of()` the CRS of a frame or shape vector, `NULL` where it has none;
#'   `crs_text()` well-known text. Printed, a CRS says what it is in words: kind and what its method keeps (angles, areas),
#'   unit, method and parameters, datum and how well it is tied to WGS 84, and where it is meant to be used.
#' @section Errors: `civicatlas_error_crs` where a code is unknown (the nearest are named) or text cannot be read (with
#'   the character where reading stopped).
#' @source EPSG Geodetic Parameter Dataset, IOGP.
#' @examples
#' crs(32757)
#' crs(32757) == crs("EPSG:4326")
#' cat(crs_text(32757, "prj"))
#' @export
crs <- function(x) as_crs(x, call = rlang::current_env())

#' @rdname crs
#' @export
crs_of <- function(x) {
  if (inherits(x, "crs")) return(x)
  if (is_tiled(x)) x <- x$prototype
  attr(as_shapes(x), "crs", exact = TRUE)
}

#' @rdname crs
#' @export
crs_text <- function(x, spelling = "wkt2") {
  call <- rlang::current_env()
  one_of(spelling, crs_spellings, "spelling", call = call)
  value <- as_crs(x, call)
  if (is.null(value)) fail("crs", "There is no CRS to write.", call = call)
  core(core_crs_text(unclass(value), spelling), call = call)
}

as_crs <- function(x, call = rlang::caller_env(2)) {
  if (inherits(x, c("NULL", "crs"))) return(x)
  if (inherits(x, c("shapes", "spatial_frame", "tiled_layer"))) return(crs_of(x))
  if (rlang::is_scalar_double(x) || rlang::is_scalar_integer(x)) return(crs_by_code(x, call))
  if (rlang::is_string(x)) return(crs_by_text(trimws(x), call))
  fail("crs", c("{.arg crs} is {.obj_type_friendly {x}}.",
                i = "Give a code such as 32757, well-known text, the path of a .prj file, or a frame; {.fn find_crs} looks codes up."), call = call)
}

# What a file or stream says of its own CRS, which is no path.
crs_in_data <- function(x, call) {
  if (is.null(x)) return(NULL)
  if (rlang::is_string(x) || rlang::is_scalar_double(x) || rlang::is_scalar_integer(x)) return(crs_by_text(trimws(as.character(x)), call, files = FALSE))
  fail("crs", "A CRS is a code or a text, and not {.obj_type_friendly {x}}.", call = call)
}

# A code in one of its spellings, well-known text, or the path of a file that holds some.
crs_by_text <- function(text, call, files = TRUE) {
  code <- sub("^(EPSG:+|urn:ogc:def:crs:EPSG:[^:]*:|https?://(www[.])?opengis[.]net/def/crs/EPSG/[^/]*/)", "", text, ignore.case = TRUE)
  if (grepl("^[0-9]+$", code)) return(crs_by_code(as.numeric(code), call))
  if (grepl("(^|[:/])CRS84$", text, ignore.case = TRUE)) return(crs_by_code(4326, call))
  if (grepl("^[A-Za-z_0-9]+\\s*[[(]", text)) return(crs_from_text(text, call = call))
  if (files && file.exists(text)) return(crs_from_text(read_text(text, text, call), source = text, call = call))
  crs_by_name(text) %||%
    fail("crs", c("{.val {text}} is no known CRS.",
                  i = "Give a code such as {.val EPSG:32757}, a full name, well-known text, or the path of a .prj file; {.fn find_crs} looks names up."),
         call = call)
}

# The system of exactly this name, but for case and accents, or a method that makes a map of the world, on WGS 84; NULL for others.
crs_by_name <- function(text) {
  table <- registry_table()
  same <- which(words_of(table$name) == words_of(text) | table$code == text)
  row <- same[order(table$has_heights[same], table$epsg[same])][1]
  if (!is.na(row) && !is.na(table$epsg[row])) return(crs_by_code(table$epsg[row], NULL))
  method <- world_methods[match(words_of(sub("^WGS 84 /", "", text)), words_of(world_methods))]
  if (!is.na(method)) return(world_crs(method))
  crs_by_short_name(table, text)
}

# "WGS84" and "utm 18n" are short for one system, on WGS 84 where they name no datum, which is said.
crs_by_short_name <- function(table, text) {
  asked <- squeezed(words_of(text))
  names <- squeezed(words_of(table$name))
  zone <- regmatches(asked, regexec("^(wgs84)?utm(zone)?([0-9]{1,2})([ns])$", asked))[[1]]
  if (length(zone)) asked <- paste0("wgs84utmzone", zone[4], zone[5])
  same <- which(names == asked & !is.na(table$epsg))
  row <- same[order(table$kind[same] != "geographic", table$has_heights[same], table$epsg[same])][1]
  if (is.na(row)) return(NULL)
  say("{.val {text}} is taken for {table$name[row]} ({table$code[row]}).")
  crs_by_code(table$epsg[row], NULL)
}

squeezed <- function(words) gsub(" ", "", words, fixed = TRUE)

# A method that makes a map of the world, on WGS 84 around Greenwich; no registry has it.
world_crs <- function(method) {
  fields <- projected_on(crs_by_code(4326, NULL), method)
  fields$name <- paste("WGS 84 /", method)
  fields$parameters <- c(latitude_of_origin = 0, central_meridian = 0, if (method == "Winkel Tripel") c(standard_parallel_1 = acos(2 / pi) * 180 / pi),
                         false_easting = 0, false_northing = 0)
  fields$area$text <- "World."
  new_crs(fields)
}

# The fields of a projected system in metres on a geographic one.
projected_on <- function(base, method) {
  fields <- unclass(base)
  fields$geographic_name <- fields$name
  fields$geographic_code <- fields$code
  fields$code <- NA_character_
  fields[c("kind", "unit", "unit_size", "method")] <- list("projected", "metre", 1, method)
  fields
}

new_crs <- function(fields) structure(fields, class = "crs")

crs_by_code <- function(code, call) {
  whole <- is.finite(code) && code == round(code) && abs(code) < 2^31
  found <- if (whole) core(core_crs_find(as.integer(code)))
  if (!is.null(found)) return(new_crs(found))
  near <- if (whole) lapply(core(core_codes_near(as.integer(code), 3L)), function(code) new_crs(core(core_crs_find(code))))
  labels <- vapply(near, crs_label, "")
  fail("crs", c("EPSG:{format(code, scientific = FALSE)} is not in the registry.", if (length(labels)) c(i = "Nearest codes: {labels}.")),
       call = call)
}

crs_from_text <- function(text, source = NULL, call = rlang::caller_env(2)) {
  new_crs(core(core_crs_parse(enc2utf8(text)), source = source, call = call))
}

read_text <- function(source, name, call) {
  bytes <- core(core_read_bytes(source, -1), source = name, call = call)
  text <- rawToChar(bytes[bytes != 0])
  sub("^\xef\xbb\xbf", "", text, useBytes = TRUE)
}

# "WGS 84 / UTM zone 57S (EPSG:32757)"; "none" where there is no CRS.
crs_label <- function(x) {
  if (is.null(x)) return(typed("none: label it with declare_crs()", "none: label it with convert --declare-crs"))
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
  row <- function(name, value) if (length(value) && !is.na(value)) cat("  ", formatC(name, width = -13), value, "\n", sep = "")
  cat("<CRS> ", crs_label(x), "\n", sep = "")
  row("chosen", attr(x, "reason"))
  row("kind", paste0(x$kind, if (isTRUE(x$has_heights)) ", three-dimensional: heights stay as they are", kept_by(x$method)))
  row("unit", unit_in_words(x))
  row("method", x$method)
  row("parameters", parameters_in_words(x))
  row("datum", paste0(x$datum, ", ellipsoid ", x$ellipsoid$name))
  row("to WGS 84", shift_in_words(x))
  if (x$meridian_degrees != 0) row("meridian", paste0(x$meridian, " (", format(x$meridian_degrees, digits = 10), "\u00b0)"))
  if (!is.null(x$area)) {
    row("area of use", shortened(x$area$text, 160))
    box <- sprintf("longitude %g to %g, latitude %g to %g", x$area$west, x$area$east, x$area$south, x$area$north)
    row(if (is.na(x$area$text)) "area of use" else "", box)
  }
  invisible(x)
}

unit_in_words <- function(x) {
  base <- if (x$kind == "geographic") "\u00b0" else " m"
  if (x$unit_size == 1) x$unit else paste0(x$unit, " (", format(x$unit_size, digits = 12), base, ")")
}

shortened <- function(text, most) if (is.na(text) || nchar(text) <= most) text else paste0(sub("[,;:]?\\s+\\S*$", "", substr(text, 1, most - 1)), "\u2026")

parameters_in_words <- function(x) {
  if (!length(x$parameters)) return(NULL)
  angles <- grepl("latitude|longitude|meridian|parallel|azimuth|angle|zone_width", names(x$parameters)) & !grepl("scale", names(x$parameters))
  lengths <- grepl("easting|northing|height", names(x$parameters))
  unit <- ifelse(angles, "\u00b0", ifelse(lengths & x$parameters != 0, paste0(" ", unit_plural(x$unit)), ""))
  paste0(gsub("_", " ", names(x$parameters)), " ", vapply(x$parameters, format, "", digits = 12, scientific = FALSE), unit, collapse = ", ")
}

shift_in_words <- function(x) {
  accuracy <- if (x$shift_accuracy > 0) paste0("good to about ", format(x$shift_accuracy), " m")
  grid <- if (isTRUE(x$wants_grid)) "a grid file is better, see reproject_to()"
  if (is.null(x$shift)) return(paste(c("no published shift known", grid), collapse = "; "))
  numbers <- if (any(x$shift != 0)) paste(format(x$shift, trim = TRUE, drop0trailing = TRUE), collapse = ", ")
  shift <- numbers %||% if (length(accuracy)) "same within its realisation"
  if (!length(c(shift, accuracy, grid))) return(NULL)
  paste(c(shift, accuracy, grid), collapse = "; ")
}

# What a method keeps, as a clause behind the kind; other methods keep neither.
method_keeps <- function(method) {
  conformal <- "^(Transverse Mercator|Lambert Conic|Mercator|Polar Ster|Oblique Ster|Stereographic|Hotine|Krovak|Laborde|New Zealand)"
  equal_area <- "Equal|^Bonne|^Sinusoidal|^Mollweide"
  if (is.na(method)) return("")
  kept <- c(angles = conformal, areas = equal_area, "some distances" = "Equidistant|Cassini|Guam")
  found <- names(kept)[vapply(kept, grepl, TRUE, x = method)]
  if (length(found)) found[1] else ""
}
kept_by <- function(method) if (nzchar(method_keeps(method))) paste0(", keeps ", method_keeps(method)) else ""

#' @export
Ops.crs <- function(e1, e2) {
  if (!.Generic %in% c("==", "!=")) fail("crs", "CRSs can only be compared with == and !=.")
  equal <- same_crs(as_crs(e1), as_crs(e2))
  if (.Generic == "==") equal else !equal
}

same_crs <- function(a, b) {
  if (is.null(a) || is.null(b)) return(is.null(a) && is.null(b))
  if (identical(a, b) || (!is.na(a$code) && identical(a$code, b$code))) return(TRUE)
  core(core_crs_same(unclass(a), unclass(b)))
}

# Where two layers meet their CRSs must be equal; the error names both and what mends it. `argument` is that of a verb that
# can reproject the second layer on the fly.
check_same_crs <- function(x, y, x_name = "x", y_name = "y", argument = NULL, call = rlang::caller_env(2)) {
  if (missing(y)) layer_is_missing(y_name, call)
  a <- crs_of(x)
  b <- crs_of(y)
  if (same_crs(a, b)) return(invisible())
  if (is.null(a) || is.null(b)) {
    unlabelled <- if (is.null(a)) x_name else y_name
    other <- if (is.null(a)) b else a
    fail("crs_mismatch", c(
      "The two layers are not on one CRS: {unlabelled} has none, the other is on {crs_label(other)}.",
      i = "If its coordinates are on a CRS you know, label it: {.code {crs_remedy('declare_crs', unlabelled, other, if (is.null(a)) y_name else x_name)}}."
    ), call = call)
  }
  on_the_fly <- if (!is.null(argument)) paste0(", or give {.code ", typed(paste0(argument, " = \"match\""), "--match-crs"), "} to do so on the fly")
  fail("crs_mismatch", c(
    "The two layers are on different CRSs.", "*" = "{x_name}: {crs_label(a)}", "*" = "{y_name}: {crs_label(b)}",
    i = paste0("Reproject one of them: {.code {crs_remedy('reproject_to', y_name, a, x_name)}}", on_the_fly, ".")
  ), call = call)
}

# The line that puts a layer on the CRS of another, or labels it so.
crs_remedy <- function(verb, name, crs, other) {
  option <- if (verb == "declare_crs") "civicatlas convert INPUT OUTPUT --declare-crs " else "civicatlas reproject INPUT OUTPUT --crs "
  code <- if (name == make.names(name)) paste0(name, " <- ", verb, "(", name, ", ") else paste0(verb, "(\u2026, ")
  to <- crs_argument(crs, if (other == make.names(other)) paste0("crs_of(", other, ")") else "\u2026")
  typed(paste0(code, to, ")"), paste0(option, crs_argument(crs, "CRS")))
}

# The shapes of y where they meet those of x: as they are, or with crs = "match" reprojected to the CRS of x.
meet <- function(x, y, crs, x_name = "x", y_name = "y", argument = "crs", call = rlang::caller_env()) {
  if (missing(y)) layer_is_missing(y_name, call)
  one_of(crs, c("equal", "match"), argument, call = call)
  if (crs == "match" && !is.null(crs_of(x)) && !is.null(crs_of(y)) && !same_crs(crs_of(x), crs_of(y))) return(reproject_to(y, crs_of(x)))
  check_same_crs(x, y, x_name, y_name, argument, call = call)
  tell_turns(x, y, x_name, y_name)
  y
}

# The geographic CRS that a CRS stands on, in degrees.
geographic_base <- function(x) {
  base <- unclass(x)
  if (x$kind == "projected") {
    base$name <- x$geographic_name
    base$code <- x$geographic_code
  }
  base[c("kind", "unit", "unit_size", "angular_unit", "method", "parameters")] <- list("geographic", "degree", 1, 1, NA_character_, numeric())
  new_crs(base)
}

need_crs <- function(x, why, call = rlang::caller_env(2)) {
  if (!is.null(crs_of(x))) return(invisible())
  fail("crs", c("The layer has no CRS, so {why}.", i = "Label it first: {.code declare_crs(x, \"EPSG:\u2026\")}."), call = call)
}

crs_spellings <- c("wkt2", "wkt1", "prj")
