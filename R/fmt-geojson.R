# GeoJSON, as a collection, a feature a line, or a sequence of records.

register_format("geojson", function() {
  new_format("GeoJSON", "RFC 7946, RFC 8142", c("shapes", "columns", "coded CRS"),
             endings = c("geojson", "json", feature_lines, "geojsons"), packed = c("geojson", "json", feature_lines, "geojsons"),
             first_text = "^[{]", media_types = c("application/geo+json" = "geojson", "application/json" = "geojson"),
             read = read_geojson, write = write_geojson, stream = stream_geojson)
})

feature_lines <- c("geojsonl", "ndjson", "jsonl")

# One pass for the properties and for where geometries stand; then the geometries of the rows that are wanted, on all threads.
read_geojson <- function(source, query) {
  if (is_stream(source, query$call)) return(read_geojson_stream(source, query))
  query <- settle_window(query, crs_by_code(4326, query$call))
  table <- core(core_geojson_table(source$content, query$skip_damaged), source = source$name, call = query$call)
  names <- names(table$columns) %||% character()
  wanted <- chosen_columns(query, names)
  rows <- rows_where(query, table$columns[where_columns(query, names)], length(table$rows))
  shapes <- core(core_geojson_shapes(table$file, table$from[rows], table$size[rows], table$rows[rows], query$within, query$skip_damaged),
                 source = source$name, call = query$call)
  rows <- rows[shapes$kept]
  report_notices(rbind(table$notices, shapes$notices), source$name)
  columns <- lapply(named_as_chosen(table$columns, wanted), `[`, rows)
  layer_content(columns, shapes_of_core(shapes, geojson_crs(table$crs_name, source, query)), table$features, query)
}

# Features of a line each as they come; a collection is one feature to cut, and is read whole.
stream_geojson <- function(source, query, rows, give, again) {
  if (!ending_of(source$name) %in% feature_lines || is_stream(source, query$call)) return(give(read_geojson(source, query)))
  stream_records(source, quoted = FALSE, query$call, function(bytes) {
    source$content <- bytes
    give(read_geojson(source, query))
  })
}

geojson_crs <- function(name, source, query) {
  crs <- crs_by_code(4326, query$call)
  if (!nzchar(name)) return(crs)
  tryCatch(crs_in_data(name, query$call), civicatlas_error_crs = function(e) {
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
