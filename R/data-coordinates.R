# Which columns of a table hold shapes.

coordinate_names <- list(
  c("lon", "lat"), c("longitude", "latitude"), c("long", "lat"), c("lng", "lat"), c("x", "y"), c("easting", "northing"), c("east", "north")
)
wkt_names <- c("wkt", "geometry", "geom", "shape")

# The columns that are named as shapes or coordinates mostly are, and hold such: list(coords =) or list(wkt =), or NULL.
likely_shape_columns <- function(data) {
  lower <- ascii_lower(names(data))
  for (at in stats::na.omit(match(wkt_names, lower))) {
    if (is_wkt(data[[at]])) return(list(wkt = names(data)[at]))
  }
  for (pair in coordinate_names) {
    at <- match(pair, lower)
    if (!anyNA(at) && all(vapply(data[at], function(column) is.numeric(column) || !length(column), NA))) return(list(coords = names(data)[at]))
  }
}

is_wkt <- function(column) {
  is.character(column) && all(grepl("^\\s*(SRID=[0-9]+;)?[A-Za-z]+\\s*(ZM?|M)?\\s*(\\(|EMPTY)", column[!is.na(column)]))
}
