# GeoJSON: a first pass for the names of columns and what `where` asks, where anything is asked; then the rest.

read_source.source_geojson <- function(source, query) {
  selects <- has_where(query) || !rlang::quo_is_null(query$columns)
  names <- if (selects) core(core_geojson_columns(source$content, query$skip_damaged), source = source$name, call = query$call)
  wanted <- if (selects) chosen_columns(query, names)
  query <- settle_window(query, crs_by_code(4326, query$call))
  features <- if (has_where(query)) features_where(source, query, names)
  layer <- decode_geojson(source, query, wanted, features)
  columns <- if (selects) stats::setNames(layer$columns[wanted], names(wanted)) else layer$columns
  report_notices(layer$notices, source$name)
  layer_content(columns, shapes_of_core(layer, geojson_crs(layer$crs_name, source, query)), layer$features, query)
}

decode_geojson <- function(source, query, columns, features = NULL, shapes = TRUE) {
  core(core_read_geojson(source$content, columns, features, if (shapes) query$within, shapes, query$skip_damaged),
       source = source$name, call = query$call)
}

# For each feature whether `where` holds; not for those that are damaged.
features_where <- function(source, query, names) {
  found <- decode_geojson(source, query, where_columns(query, names), shapes = FALSE)
  features <- logical(found$features)
  features[found$rows[rows_where(query, found$columns, length(found$rows))]] <- TRUE
  features
}

geojson_crs <- function(name, source, query) {
  crs <- crs_by_code(4326, query$call)
  if (!nzchar(name)) return(crs)
  tryCatch(as_crs(name), civicatlas_error_crs = function(e) {
    caution("crs", "The {.val crs} member of {.file {basename(source$name)}} is not known: {.val {name}}; WGS 84 is taken.")
    crs
  })
}
