# GeoJSON, as a collection, a feature a line, or a sequence of records.

register_format("geojson", function() {
  new_format("GeoJSON", "RFC 7946, RFC 8142", c("shapes", "columns", "coded CRS"),
             endings = c("geojson", "json", feature_lines, "geojsons"), packed = c("geojson", "json", feature_lines, "geojsons"),
             first_text = "^[{]", media_types = c("application/geo+json" = "geojson", "application/json" = "geojson"),
             read = read_geojson, write = write_geojson, stream = stream_geojson)
})

feature_lines <- c("geojsonl", "ndjson", "jsonl")

read_geojson <- function(source, query) {
  query <- settle_window(query, crs_by_code(4326, query$call))
  layer <- if (has_where(query)) geojson_where(source, query) else geojson_columns(source, query)
  report_notices(layer$notices, source$name)
  layer_content(layer$columns, shapes_of_core(layer, geojson_crs(layer$crs_name, source, query)), layer$features, query)
}

# All features, after a pass for the names of columns where some are asked for.
geojson_columns <- function(source, query) {
  if (rlang::quo_is_null(query$columns)) return(decode_geojson(source, query, NULL))
  wanted <- chosen_columns(query, core(core_geojson_columns(source$content, query$skip_damaged), source = source$name, call = query$call))
  layer <- decode_geojson(source, query, wanted)
  layer$columns <- stats::setNames(layer$columns[wanted], names(wanted))
  layer
}

# A pass for the properties, and one for the shapes of the features for which `where` holds.
geojson_where <- function(source, query) {
  table <- decode_geojson(source, query, NULL, shapes = FALSE)
  names <- names(table$columns) %||% character()
  wanted <- chosen_columns(query, names)
  features <- logical(table$features)
  features[table$rows[rows_where(query, table$columns[where_columns(query, names)], length(table$rows))]] <- TRUE
  layer <- decode_geojson(source, query, character(), features)
  rows <- match(layer$rows, table$rows)
  layer$columns <- lapply(stats::setNames(table$columns[wanted], names(wanted)), `[`, rows)
  layer$notices <- rbind(table$notices, layer$notices)
  layer
}

# Features of a line each as they come; a collection is one feature to cut, and is read whole.
stream_geojson <- function(source, query, rows, give, again) {
  if (!ending_of(source$name) %in% feature_lines) return(give(read_geojson(source, query)))
  stream_records(source, quoted = FALSE, query$call, function(bytes) {
    source$content <- bytes
    give(read_geojson(source, query))
  })
}

decode_geojson <- function(source, query, columns, features = NULL, shapes = TRUE) {
  core(core_read_geojson(source$content, columns, features, if (shapes) query$within, shapes, query$skip_damaged),
       source = source$name, call = query$call)
}

geojson_crs <- function(name, source, query) {
  crs <- crs_by_code(4326, query$call)
  if (!nzchar(name)) return(crs)
  tryCatch(as_crs(name), civicatlas_error_crs = function(e) {
    caution("crs", "The {.val crs} member of {.file {basename(source$name)}} is not known: {.val {name}}; WGS 84 is taken.")
    crs
  })
}

# --- writing -----------------------------------------------------------------------------------------------------------

write_geojson <- function(x, target, options, call) {
  shapes <- as_shapes(x)
  wgs84 <- crs_by_code(4326, call)
  wanted <- if (is.null(options$crs)) wgs84 else as_crs(options$crs, call = call)
  name <- ""
  if (same_crs(wanted, wgs84)) {
    shapes <- on_wgs84(shapes, call)
  } else {
    if (is.na(wanted$code)) fail("crs", "GeoJSON can name a CRS by its code alone; {crs_label(wanted)} has none.", call = call)
    caution("crs", "RFC 7946 knows WGS 84 alone; many readers will misplace a layer written on {crs_label(wanted)}.")
    name <- paste0("urn:ogc:def:crs:EPSG::", sub("EPSG:", "", wanted$code))
    if (!is.null(crs_of(shapes)) && !same_crs(crs_of(shapes), wanted)) shapes <- reproject_to(shapes, wanted)
  }
  ending <- ending_of(target)
  form <- if (ending %in% feature_lines) "lines" else if (ending == "geojsons") "sequence" else "collection"
  if (nzchar(name) && form != "collection") fail("argument", "GeoJSON of one feature a line cannot name a CRS; write a {.file .geojson} file.", call = call)
  encoded <- core(core_encode_geojson(handles_of(shapes), store_of(shapes), within_numbers(writable_columns(x, call, keep = character())),
                                      options$decimals, name, form), call = call)
  report_notices(encoded$notices, target)
  write_files(stats::setNames(list(packed(encoded$bytes, target)), target), call)
}
