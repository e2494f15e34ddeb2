#' Write a layer
#'
#' The ending of `target` chooses the format: `.shp` (with `.shx`, `.dbf`, `.prj` and `.cpg`), `.zip` (a zipped shapefile),
#' `.geojson` or `.json`. All files are written beside their targets first and then renamed, so that a failed write
#' leaves the old ones as they were. What a format cannot hold is counted in a warning.
#'
#' A shapefile holds one kind of shape, names of at most 10 bytes (a table of what was renamed is shown), and text of at
#' most 254 bytes; numbers are written so that they read back the same. GeoJSON holds longitude and latitude on WGS 84:
#' other layers are reprojected, unless `crs` names another CRS to write, against RFC 7946, section 4.
#'
#' @param x A spatial frame.
#' @param target Path of the file to write.
#' @param replace `TRUE` to replace a file that is there.
#' @param decimals GeoJSON: digits after the point of coordinates, or `NULL` for all that count.
#' @param crs GeoJSON: the CRS to write on instead of WGS 84.
#' @return `x`, invisibly.
#' @section Errors: `civicatlas_error_file` where the file is there already or cannot be written,
#'   `civicatlas_error_argument` where the format cannot hold the layer.
#' @examples
#' rooms <- read_layer(demo_file("rooms.geojson"))
#' write_layer(rooms, tempfile(fileext = ".shp"))
#' @export
write_layer <- function(x, target, replace = FALSE, decimals = NULL, crs = NULL) {
  call <- rlang::current_env()
  if (!is_spatial_frame(x)) fail("argument", "{.arg x} must be a spatial frame.", call = call)
  target <- path.expand(target)
  format <- tolower(tools::file_ext(target))
  if (!format %in% c("shp", "zip", "geojson", "json")) {
    fail("argument", c("{.file {target}} names no format that can be written.", i = "End it in .shp, .zip, .geojson or .json."), call = call)
  }
  if (!dir.exists(dirname(target))) fail("file", "There is no folder {.file {dirname(target)}}.", call = call)
  if (file.exists(target) && !isTRUE(replace)) {
    fail("file", c("{.file {target}} is there already.", i = "Replace it with {.code replace = TRUE}."), call = call)
  }
  files <- switch(format, shp = shapefile_files(x, target, call), zip = zip_files(x, target, call), geojson_files(x, target, decimals, crs, call))
  core(core_write_files(names(files), unname(files)), call = call)
  if (format == "shp") drop_stale_label(target, names(files))
  size <- sum(lengths(files))
  say("Wrote {.file {target}}: {counted(nrow(x), 'row')}, {format(structure(size, class = 'object_size'), units = 'auto', standard = 'SI')}.")
  invisible(x)
}

# A .prj of the layer that was there before would label the new one.
drop_stale_label <- function(target, written) {
  prj <- paste0(tools::file_path_sans_ext(target), ".prj")
  if (!prj %in% written) unlink(prj)
}

# Attribute columns as plain vectors that a format can hold.
writable_columns <- function(x, call) {
  columns <- as.list(dplyr::ungroup(attribute_table(x)))
  others <- setdiff(names(x)[vapply(x, is_shapes, NA)], shape_column_name(x))
  if (length(others)) caution("data", "Only the active shape column is written; left out: {.val {others}}.")
  out <- lapply(names(columns), function(name) {
    column <- columns[[name]]
    if (inherits(column, "Date")) return(structure(as.double(column), class = "Date"))
    if (inherits(column, "POSIXt")) return(format(column, "%Y-%m-%dT%H:%M:%OS3Z", tz = "UTC"))
    if (is.object(column)) return(as.character(column))
    if (is.atomic(column)) return(column)
    fail("column", c("Column {.val {name}} is a {.cls {class(column)[1]}}, which cannot be written.", i = "Drop it or turn it into text."), call = call)
  })
  stats::setNames(out, names(columns))
}

shapefile_contents <- function(x, call) {
  shapes <- as_shapes(x)
  columns <- writable_columns(x, call)
  names(columns) <- short_names(names(columns))
  if (!length(columns)) columns <- list(row = seq_len(nrow(x)))  # a table must have a field
  encoded <- core(core_encode_shapefile(handles_of(shapes), store_of(shapes)), call = call)
  table <- core(core_encode_dbase(columns, nrow(x)), call = call)
  report_notices(table$notices, "the dBASE table")
  if (encoded$empty) caution("data", "{counted(encoded$empty, 'empty shape')} written as null, as a shapefile has no empty shapes.")
  crs <- crs_of(shapes)
  if (is.null(crs)) caution("crs", "The layer has no CRS, so no .prj file is written.")
  c(list(shp = encoded$shp, shx = encoded$shx, dbf = table$dbf, cpg = charToRaw("UTF-8")),
    if (!is.null(crs)) list(prj = charToRaw(core(core_prj_text(unclass(crs)), call = call))))
}

shapefile_files <- function(x, target, call) {
  contents <- shapefile_contents(x, call)
  stats::setNames(contents, paste0(tools::file_path_sans_ext(target), ".", names(contents)))
}

zip_files <- function(x, target, call) {
  contents <- shapefile_contents(x, call)
  names <- paste0(tools::file_path_sans_ext(basename(target)), ".", names(contents))
  stats::setNames(list(core(core_encode_zip(names, unname(contents)), call = call)), target)
}

geojson_files <- function(x, target, decimals, crs, call) {
  shapes <- as_shapes(x)
  wgs84 <- crs_by_code(4326, call)
  wanted <- if (is.null(crs)) wgs84 else as_crs(crs, call = call)
  if (is.null(crs_of(shapes))) {
    caution("crs", "The layer has no CRS; its coordinates are written as they are, and readers will take them for longitude and latitude.")
  } else if (!same_crs(crs_of(shapes), wanted)) {
    shapes <- reproject_to(shapes, wanted)
  }
  name <- ""
  if (!same_crs(wanted, wgs84)) {
    caution("crs", "RFC 7946 knows WGS 84 alone; many readers will misplace a layer written on {crs_label(wanted)}.")
    name <- paste0("urn:ogc:def:crs:EPSG::", sub("EPSG:", "", wanted$code))
  }
  columns <- lapply(writable_columns(x, call), function(column) if (inherits(column, "Date")) format(column) else column)
  encoded <- core(core_encode_geojson(handles_of(shapes), store_of(shapes), columns, decimals %||% -1L, name), call = call)
  report_notices(encoded$notices, target)
  stats::setNames(list(encoded$text), target)
}

# Unique names of at most 10 bytes, with a table of what was renamed.
short_names <- function(names) {
  cut_to <- function(name, bytes) {
    while (nchar(name, "bytes") > bytes) name <- substr(name, 1, nchar(name) - 1)
    name
  }
  short <- vapply(names, cut_to, "", bytes = 10L, USE.NAMES = FALSE)
  for (i in seq_along(short)) {
    number <- 1
    while (tolower(short[i]) %in% tolower(short[seq_len(i - 1)])) {
      short[i] <- paste0(cut_to(names[i], 10L - nchar(number) - 1L), "_", number)
      number <- number + 1
    }
  }
  changed <- short != names
  if (any(changed)) {
    caution("data", c("{counted(sum(changed), 'column name')} shortened to 10 bytes, as a shapefile demands:",
                      stats::setNames(escape(paste(names[changed], "\u2192", short[changed])), rep("*", sum(changed)))))
  }
  short
}
