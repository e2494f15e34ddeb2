#' Read a layer
#'
#' Reads a shapefile (`.shp` with its side files, also zipped) or GeoJSON (RFC 7946) into a spatial frame, and says in a
#' line what came in. What had to be mended or left out is counted in a warning.
#'
#' @param source Path of a file.
#' @param layer Name of the layer where the file holds several.
#' @param where An expression on the columns; rows for which it is not `TRUE` are left out.
#' @param within A spatial frame, shape vector or extent (`c(xmin, ymin, xmax, ymax)` in the layer's CRS); rows whose box
#'   does not meet its extent are left out.
#' @param columns Columns to keep, as in [dplyr::select()].
#' @param crs The CRS of the coordinates, over what the file says; anything that [crs()] takes.
#' @param encoding Encoding of text in a dBASE table, over what the file says.
#' @return A spatial frame. Rings are closed, shells counter-clockwise. Null geometries are missing shapes, deleted dBASE
#'   records are left out. Whole numbers beyond 2^53 stay text. A layer without a CRS has none, and a warning says so.
#' @section Errors: `civicatlas_error_file` where a file is missing, `civicatlas_error_format` where it is damaged, with
#'   the record or feature and byte, `civicatlas_error_column` for a column that is not there.
#' @source Shapefile Technical Description (July 1998); RFC 7946.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' read_layer(demo_file("rooms.geojson"), where = seats > 100, columns = c(name, seats))
#' @export
read_layer <- function(source, layer = NULL, where = NULL, within = NULL, columns = NULL, crs = NULL, encoding = NULL) {
  started <- clock()
  call <- rlang::current_env()
  found <- find_source(source, layer, call = call)
  out <- switch(found$format,
    shapefile = read_shapefile(found, encoding, call),
    geojson = read_geojson(found, call)
  )
  if (!is.null(crs)) {
    shapes <- as_shapes(out)
    attr(shapes, "crs") <- as_crs(crs, call = call)
    out <- with_shapes(out, shapes)
  }
  read <- nrow(out)
  out <- keep_where(out, rlang::enquo(where), call)
  out <- keep_within(out, within, call)
  out <- keep_columns(out, rlang::enquo(columns), call)
  announce_layer(out, source, read)
  record(out, NULL, "read_layer", rlang::current_call(), read, if (nrow(out) < read) "kept where and within hold", started)
}

announce_layer <- function(out, source, read) {
  shapes <- as_shapes(out)
  kept <- if (nrow(out) < read) paste0(" of ", format_count(read)) else ""
  rows <- paste0(format_count(nrow(out)), kept, if (nrow(out) == 1) " row" else " rows")
  columns <- counted(ncol(out) - 1, "column")
  say("Read {.file {basename(source)}}: {rows}, {columns}, {kinds_in_words(shapes)}; CRS {crs_label(crs_of(shapes))}.")
  if (!nrow(out)) caution("data", "{.file {basename(source)}} gave no rows.")
  if (is.null(crs_of(shapes))) {
    caution("crs", c("{.file {basename(source)}} has no CRS.", i = "Label it: {.code declare_crs(x, \"EPSG:\u2026\")}, or read it with {.arg crs}."))
  }
  check_plausible(shapes)
}

keep_where <- function(out, where, call) {
  if (rlang::quo_is_null(where)) return(out)
  need_variables(where, out, "where", call)
  keep <- rlang::eval_tidy(where, attribute_table(out))
  if (!is.logical(keep)) fail("argument", "{.arg where} must give {.code TRUE} or {.code FALSE} for each row.", call = call)
  out[which(rep_len(keep, nrow(out))), ]
}

keep_within <- function(out, within, call) {
  if (is.null(within)) return(out)
  shapes <- as_shapes(out)
  if (is.numeric(within)) {
    if (length(within) != 4) fail("argument", "{.arg within} as numbers must be xmin, ymin, xmax, ymax.", call = call)
  } else {
    check_same_crs(shapes, within, "the layer", "within", call = call)
    within <- extent_of(within)
  }
  boxes <- core_boxes(handles_of(shapes), store_of(shapes))
  out[which(boxes[1, ] <= within[3] & boxes[3, ] >= within[1] & boxes[2, ] <= within[4] & boxes[4, ] >= within[2]), ]
}

keep_columns <- function(out, columns, call) {
  if (rlang::quo_is_null(columns)) return(out)
  choose_columns(out, columns, "columns", call)
}

read_shapefile <- function(found, encoding, call) {
  if (is.null(found$shp)) {
    fail("file", c("{.file {found$path}} is a table without shapes: its .shp file is missing.",
                   i = "Look for {.file {paste0(tools::file_path_sans_ext(basename(found$path)), '.shp')}} where the file came from."),
         call = call)
  }
  table <- if (!is.null(found$dbf)) core(core_read_dbase(found$dbf), source = name_of(found, "dbf"), call = call)
  shapes <- core(core_read_shp(found$shp, table$deleted %||% logical()), source = name_of(found, "shp"), call = call)
  rows <- length(shapes$handles)
  report_notices(shapes$notices, name_of(found, "shp"))
  if (is.null(table)) {
    caution("data", c("{.file {basename(found$path)}} has no .dbf file: the shapes have no attributes."))
    columns <- list()
  } else {
    columns <- dbase_columns(table, found, encoding, call)
    records <- table$records - sum(table$deleted)
    if (records != rows) {
      fail("format", c("Cannot read {.file {found$path}}.",
                       x = "It has {format_count(rows)} shapes and its table {format_count(records)} records, so rows cannot be told apart.",
                       i = "One of the two files is cut off or from another layer."), call = call)
    }
    report_notices(table$notices, name_of(found, "dbf"))
  }
  crs <- if (!is.null(found$prj)) crs_of_prj(found$prj, name_of(found, "prj"))
  frame_of_columns(columns, shapes_of_core(shapes, crs))
}

name_of <- function(found, member) if (is.character(found[[member]])) found[[member]] else paste0(found$path, " (.", member, ")")

# A .prj that cannot be read leaves the layer without a CRS rather than unread.
crs_of_prj <- function(prj, name) {
  tryCatch(crs_from_text(read_text(prj), source = name), civicatlas_error_crs = function(e) {
    caution("crs", c("The CRS in {.file {basename(name)}} cannot be read, so the layer has none.", x = "{conditionMessage(e)}"))
    NULL
  })
}

dbase_columns <- function(table, found, encoding, call) {
  stated <- if (!is.null(found$cpg)) core_encoding_of_cpg(read_text(found$cpg)) else table$encoding
  from <- encoding %||% stated
  names(table$columns) <- decoded(names(table$columns), from, call)
  lapply(table$columns, function(column) if (is.character(column)) decoded(column, from, call) else column)
}

# Text from a table's encoding to UTF-8. Where none is stated, text that is valid UTF-8 is taken as it is, and other
# text as Windows-1252.
decoded <- function(text, from, call) {
  odd <- which(!is.na(text) & !grepl("^[ -~]*$", text, useBytes = TRUE))
  if (!length(odd)) return(text)
  if (!nzchar(from)) from <- if (all(validUTF8(text[odd]))) "UTF-8" else "CP1252"
  bytes <- text[odd]
  Encoding(bytes) <- "unknown"
  utf8 <- tryCatch(iconv(bytes, from = from, to = "UTF-8"), error = function(e) {
    fail("argument", c("The encoding {.val {from}} is not known.", i = "Name another with {.arg encoding}, for example {.val CP1252}."), call = call)
  })
  lost <- is.na(utf8)
  if (any(lost)) {
    utf8[lost] <- iconv(bytes[lost], from = from, to = "UTF-8", sub = "byte")
    caution("data", c("{counted(sum(lost), 'text')} held bytes that are not {from}; they are shown as {.code <hh>}.",
                      i = "Name the right encoding with {.arg encoding}."))
  }
  text[odd] <- utf8
  text
}

# Columns with repaired names, and the shapes last.
frame_of_columns <- function(columns, shapes) {
  names <- names(columns) %||% character()
  blank <- !nzchar(names)
  names[blank] <- paste0("column_", which(blank))
  unique <- make.unique(c("geometry", names), sep = "_")[-1]
  if (any(unique != names)) say("Columns renamed, as names were taken: {.val {names[unique != names]}} to {.val {unique[unique != names]}}.")
  names(columns) <- unique
  new_spatial_frame(tibble::new_tibble(c(columns, list(geometry = shapes)), nrow = length(shapes)), "geometry")
}

read_geojson <- function(found, call) {
  layer <- core(core_read_geojson(found$text %||% found$path), source = found$path, call = call)
  crs <- crs_by_code(4326, call)
  if (nzchar(layer$crs_name)) {
    crs <- tryCatch(as_crs(layer$crs_name), civicatlas_error_crs = function(e) {
      caution("crs", "The {.val crs} member of {.file {basename(found$path)}} is not known: {.val {layer$crs_name}}; WGS 84 is taken.")
      crs
    })
  }
  report_notices(layer$notices, found$path)
  frame_of_columns(layer$columns, shapes_of_core(layer, crs))
}

#' Layers of a source
#'
#' @param source Path of a file.
#' @return A tibble of one row a layer: `layer` and `format`.
#' @examples
#' list_layers(demo_file("cells.zip"))
#' @export
list_layers <- function(source) {
  call <- rlang::current_env()
  source <- path.expand(source)
  if (!file.exists(source)) no_such_file(source, call)
  if (format_of(source) == "zip") {
    layers <- zip_layers(source, call)$layers
    return(tibble::tibble(layer = names(layers), format = ifelse(grepl("shp$", layers, ignore.case = TRUE), "shapefile", "geojson")))
  }
  found <- find_source(source, call = call)
  tibble::tibble(layer = tools::file_path_sans_ext(basename(source)), format = found$format)
}
