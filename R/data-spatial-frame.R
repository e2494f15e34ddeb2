#' Spatial frames
#'
#' A spatial frame is a tibble with one active shape column, by default named `geometry`. `spatial_frame()` makes one from
#' columns, `as_spatial_frame()` from a table that has a shape column or whose columns hold coordinates or well-known text.
#' `attribute_table()` gives the plain tibble without shapes.
#'
#' A table is a spatial frame as long as it has a shape column, and a plain tibble without one. `x["name"]` gives the columns
#' asked for and no other; `dplyr::select()`, `transmute()` and `mutate(.keep = )` keep the active shape column unless it is
#' taken away: `select(x, -geometry)`, `mutate(x, geometry = NULL)`. Functions that give R's own table back, as `merge()` and
#' `cbind()` do, leave the shape column in it; `as_spatial_frame()` makes a frame of that.
#'
#' Other shape columns may stand beside the active one. Binding frames of different CRSs stops with the mismatch error.
#'
#' @param ... Columns, as for [tibble::tibble()]; the first shape vector among them becomes the active column.
#' @param x A data frame, or a spatial frame.
#' @param coords Names of the columns of easting or longitude and of northing or latitude.
#' @param wkt Name of a column of well-known text, instead of `coords`.
#' @param crs The CRS of the coordinates: anything that [crs()] takes, or `NULL` for none. With shapes that have a CRS already, it must be
#'   left out.
#' @return A spatial frame, or a tibble. Rows where a coordinate is missing have a missing shape and are counted.
#' @section Errors: `civicatlas_error_argument` where there is no shape column, `civicatlas_error_column` where a named
#'   column is missing, `civicatlas_error_format` where text is no well-known text.
#' @examples
#' halls <- data.frame(name = c("Net Loft", "Tern House"), lon = c(160.21, 160.24), lat = c(-47.41, -47.39))
#' as_spatial_frame(halls, coords = c("lon", "lat"), crs = 4326)
#' @export
spatial_frame <- function(..., crs = NULL) {
  data <- tibble::tibble(...)
  call <- rlang::current_env()
  shapes <- names(data)[vapply(data, is_shapes, NA)]
  if (!length(shapes)) {
    fail("argument", c("A spatial frame needs a shape column.", i = "Make one with {.fn point_shapes} or {.fn shapes_from_wkt}."), call = call)
  }
  data[[shapes[1]]] <- admitted(labelled(data[[shapes[1]]], crs, call))
  new_spatial_frame(data, shapes[1])
}

# Shapes that have no CRS, with one.
labelled <- function(shapes, crs, call) {
  if (is.null(crs)) return(shapes)
  if (!is.null(crs_of(shapes))) {
    fail("argument", c("The shapes have a CRS already, {crs_label(crs_of(shapes))}.",
                       i = "Leave {.arg crs} out, and set another with {.fn declare_crs} or {.fn reproject_to}."), call = call)
  }
  attr(shapes, "crs") <- as_crs(crs, call = call)
  shapes
}

# The same of shapes that verbs of ours made.
frame_of_columns <- function(...) {
  data <- tibble::tibble(...)
  new_spatial_frame(data, names(data)[vapply(data, is_shapes, NA)][1])
}

#' @rdname spatial_frame
#' @export
as_spatial_frame <- function(x, coords = NULL, wkt = NULL, crs = NULL) {
  verb <- begin_verb("as_spatial_frame")
  if (is_spatial_frame(x)) return(x)
  call <- rlang::current_env()
  if (is.null(coords) && is.null(wkt) && any(vapply(x, is_shapes, NA))) return(frame_of_table(x, crs, call))
  if (is.null(coords) && is.null(wkt)) {
    found <- likely_shape_columns(as.list(x))
    coords <- found$coords
    wkt <- found$wkt
  }
  if (is.null(coords) == is.null(wkt)) {
    fail("argument", "Give either {.arg coords}, the names of two columns, or {.arg wkt}, the name of one.", call = call)
  }
  data <- tibble::as_tibble(x)
  shapes <- shapes_of_columns(data, coords, wkt, crs, call)
  data <- data[setdiff(names(data), wkt)]
  data$geometry <- admitted(shapes)
  lost <- sum(is.na(shapes))
  if (lost) caution("data", "{counted(lost, 'row')} of {nrow(data)} without coordinates got a missing shape.")
  out <- new_spatial_frame(data, "geometry")
  end_verb(verb, out, NULL, account(entry(lost, "without coordinates")), nrow(data), line = NULL)
}

shapes_of_columns <- function(data, coords, wkt, crs, call) {
  for (column in c(coords, wkt)) need_column(data, column, if (is.null(wkt)) "coords" else "wkt", call = call)
  if (!is.null(wkt)) return(shapes_from_wkt(data[[wkt]], crs))
  point_shapes(as_coordinate(data[[coords[1]]], coords[1], call), as_coordinate(data[[coords[2]]], coords[2], call), crs)
}

# A table that has a shape column already.
frame_of_table <- function(x, crs, call) {
  data <- tibble::as_tibble(x)
  active <- which(vapply(data, is_shapes, NA))[1]
  data[[active]] <- labelled(data[[active]], crs, call)
  frame_like(data, list())
}

# Coordinates must be numbers; text that holds numbers is taken, anything else is an error that shows it.
as_coordinate <- function(values, name, call = rlang::caller_env(2)) {
  if (is.numeric(values)) return(as.double(values))
  text <- as.character(values)
  numbers <- suppressWarnings(as.double(text))
  bad <- which(is.na(numbers) & !is.na(text) & nzchar(trimws(text)))
  if (length(bad)) {
    fail("column", c("Column {.val {name}} holds {length(bad)} value{?s} that {?is/are} no coordinate{?s}.",
                     x = "Row {bad[1]}: {.val {text[bad[1]]}}."), call = call)
  }
  numbers
}

new_spatial_frame <- function(data, shape_column, history = list()) {
  tibble::new_tibble(as.list(data), nrow = nrow(data), shape_column = shape_column, history = history, class = "spatial_frame")
}

is_spatial_frame <- function(x) inherits(x, "spatial_frame")
shape_column_name <- function(x) attr(x, "shape_column", exact = TRUE)

#' @rdname spatial_frame
#' @export
attribute_table <- function(x) {
  data <- if (is_spatial_frame(x)) plain(x) else tibble::as_tibble(x, .name_repair = "minimal")
  data[!vapply(data, is_shapes, NA)]
}

# The tibble (grouped where the frame is) under a spatial frame.
plain <- function(x) {
  attr(x, "shape_column") <- NULL
  attr(x, "history") <- NULL
  class(x) <- setdiff(class(x), "spatial_frame")
  x
}

# Gives `data`, derived from `template`, its class back while it still has a shape column.
frame_like <- function(data, template) {
  shapes <- names(data)[vapply(data, is_shapes, NA)]
  name <- shape_column_name(template)
  name <- c(intersect(c(name, paste0(name, ".x")), shapes), shapes)[1]
  if (is_spatial_frame(data)) data <- plain(data)
  if (!tibble::is_tibble(data)) data <- tibble::new_tibble(as.list(data), nrow = nrow(data))
  if (is.na(name)) return(data)
  attr(data, "shape_column") <- name
  attr(data, "history") <- attr(template, "history", exact = TRUE)
  class(data) <- c("spatial_frame", class(data))
  data
}

#' @export
`[.spatial_frame` <- function(x, i, j, drop = FALSE) {
  out <- NextMethod()
  if (is.data.frame(out)) frame_like(out, x) else out
}

#' @export
`$<-.spatial_frame` <- function(x, name, value) frame_like(NextMethod(), x)

#' @export
`[[<-.spatial_frame` <- function(x, i, j, value) {
  if (nargs() < 4) return(frame_like(NextMethod(), x))
  x[i, j] <- value
  x
}

#' @export
`[<-.spatial_frame` <- function(x, i, j, value) {
  by_column <- nargs() < 4
  columns <- if (by_column && !missing(i)) i else if (!by_column && !missing(j)) j else names(x)
  shared <- share_stores(plain(x), value, if (is.character(columns)) columns else names(x)[columns])
  data <- shared$data
  if (by_column) data[i] <- shared$value else data[i, j] <- shared$value
  frame_like(data, x)
}

# A table and what is to be put into its columns, shapes of either on one store: values are assigned by handle.
share_stores <- function(data, value, columns) {
  alone <- is_shapes(value)
  values <- if (alone) list(value) else if (is.list(value)) value else list()
  for (k in which(vapply(values, is_shapes, NA))) {
    name <- columns[k]
    if (!name %in% names(data) || !is_shapes(data[[name]])) next
    both <- on_one_store(data[[name]], values[[k]])
    data[[name]] <- both[[1]]
    if (alone) value <- both[[2]] else value[[k]] <- both[[2]]
  }
  list(data = data, value = value)
}

#' @export
`names<-.spatial_frame` <- function(x, value) {
  at <- match(shape_column_name(x), names(x))
  out <- NextMethod()
  if (!is.na(at)) attr(out, "shape_column") <- value[at]
  out
}

# Spatial frames have no row names, which unsplit() among others sets.
#' @export
`row.names<-.spatial_frame` <- function(x, value) x

#' @rawNamespace S3method(tibble::as_tibble, spatial_frame)
as_tibble.spatial_frame <- function(x, ...) tibble::as_tibble(plain(x), ...)

#' @export
as.data.frame.spatial_frame <- function(x, ...) as.data.frame(plain(x), ...)

#' @rawNamespace S3method(tibble::tbl_sum, spatial_frame)
tbl_sum.spatial_frame <- function(x, ...) {
  shapes <- as_shapes(x)
  size <- paste(format_count(nrow(x)), "\u00d7", ncol(x))
  base <- NextMethod()
  c("Spatial frame" = size, Geometry = kinds_in_words(shapes), CRS = crs_label(crs_of(shapes)),
    Extent = extent_in_words(shapes), base[-1])
}

# "20 polygons, 4 multipolygons, 1 missing"
kinds_in_words <- function(shapes) {
  kinds <- table(factor(geometry_type_of(shapes)))
  words <- vapply(names(kinds), function(kind) counted(kinds[[kind]], kind), "")
  missing <- sum(is.na(shapes))
  if (missing) words <- c(words, paste(format_count(missing), "missing"))
  if (length(words)) paste(words, collapse = ", ") else "none"
}

extent_in_words <- function(x) {
  extent <- extent_of(x)
  if (anyNA(extent)) return("empty")
  digits <- coordinate_decimals(crs_of(x))
  edges <- formatC(round(extent, digits), format = "f", digits = digits, drop0trailing = TRUE)
  sprintf("x %s to %s, y %s to %s", edges[1], edges[3], edges[2], edges[4])
}
