#' Shape vectors
#'
#' A shape vector holds a point, line, polygon or collection in each element, or `NA`. It is an integer vector of
#' handles into a shared store of coordinates, with a coordinate reference system, so that slicing, sorting and joining
#' move handles only. It is a vctrs class: it goes into tibbles, combines with `c()` and compares by content.
#'
#' `shapes_from_wkt()` reads well-known text and `shapes_from_wkb()` well-known binary (OGC 06-103r4, sections 7 and 8;
#' ISO 13249-3), both keeping every vertex in the order written; `point_shapes()` makes points from coordinates.
#' `wkt_of()` and `wkb_of()` write them, numbers in the shortest form that reads back to the same double.
#'
#' @param text A character vector of well-known text; `NA` gives a missing shape.
#' @param blobs A list of raw vectors, or `NULL` for a missing shape.
#' @param x,y Easting or longitude, and northing or latitude, in the units of `crs`. For the writers and
#'   `geometry_type_of()`, `x` is a shape vector or a spatial frame.
#' @param crs The CRS the coordinates are on: anything that [crs()] takes, or `NULL` for none.
#' @param decimals Digits after the decimal point, or `NULL` for all that count.
#' @return A shape vector; for the writers a character vector or a list of raw vectors of the same length, and for
#'   `geometry_type_of()` a character vector of `"point"`, `"line"`, `"polygon"`, `"multipoint"`, `"multiline"`,
#'   `"multipolygon"` or `"collection"`.
#' @section Errors: `civicatlas_error_format` where an element cannot be read, with its number and the character or
#'   byte where reading stopped.
#' @examples
#' halls <- shapes_from_wkt(c("POINT (160.2 -47.4)", "POLYGON ((160 -47, 161 -47, 161 -48, 160 -47))"), crs = 4326)
#' halls
#' geometry_type_of(halls)
#' wkt_of(point_shapes(c(590000, NA), c(4750000, 4750100), crs = "EPSG:32757"))
#' @name shapes
NULL

new_shapes <- function(handles = integer(), store = empty_store(), crs = NULL) {
  vctrs::new_vctr(handles, store = store, crs = crs, class = "shapes")
}

# From what a call of the core returns: list(store, handles).
shapes_of_core <- function(result, crs) new_shapes(result$handles, result$store, crs)

empty_store <- function() {
  list(types = integer(), part_types = integer(), shape_parts = 0L, part_rings = 0L, ring_vertices = 0L,
       x = double(), y = double(), z = NULL, m = NULL, boxes = double())
}

# Shapes of the core with the row of each, as a vector of all rows.
shapes_of_rows <- function(found, rows, crs) {
  handles <- rep(NA_integer_, rows)
  handles[found$x] <- seq_along(found$x)
  shapes_of_core(list(store = found$store, handles = handles), crs)
}

is_shapes <- function(x) inherits(x, "shapes")
handles_of <- function(x) {
  attributes(x) <- NULL
  x
}
store_of <- function(x) settled_store(attr(x, "store", exact = TRUE))

# The shape vector of a frame, or a shape vector itself.
as_shapes <- function(x, call = rlang::caller_env(2)) {
  if (is_shapes(x)) return(x)
  if (is_spatial_frame(x)) return(x[[shape_column_name(x)]])
  need_no_tiles(x, call)
  fail("argument", typed(
    c("A spatial frame or a shape vector is needed, not {.cls {class(x)[1]}}.", i = "Make one with {.fn as_spatial_frame} or {.fn read_layer}."),
    c("The layer is a table without shapes.",
      i = "Name its columns of coordinates: {.code civicatlas convert INPUT OUTPUT --coords x,y --declare-crs EPSG:\u2026}.")
  ), call = call)
}

# A copy of x, a frame or a shape vector, with other shapes in the same rows.
with_shapes <- function(x, shapes) {
  if (is_shapes(x)) return(shapes)
  x[[shape_column_name(x)]] <- shapes
  x
}

#' @rdname shapes
#' @export
shapes_from_wkt <- function(text, crs = NULL) {
  shapes_of_core(core(core_shapes_from_wkt(enc2utf8(as.character(text)))), as_crs(crs))
}

#' @rdname shapes
#' @export
shapes_from_wkb <- function(blobs, crs = NULL) {
  if (is.raw(blobs)) blobs <- list(blobs)
  shapes_of_core(core(core_shapes_from_wkb(as.list(blobs))), as_crs(crs))
}

#' @rdname shapes
#' @export
point_shapes <- function(x, y, crs = NULL) {
  size <- vctrs::vec_size_common(x, y)
  coordinates <- lapply(vctrs::vec_recycle_common(x, y, .size = size), as.double)
  shapes_of_core(core(core_point_shapes(coordinates[[1]], coordinates[[2]])), as_crs(crs))
}

#' @rdname shapes
#' @export
wkt_of <- function(x, decimals = NULL) {
  x <- as_shapes(x)
  core(core_wkt(handles_of(x), store_of(x), decimals %||% -1L))
}

#' @rdname shapes
#' @export
wkb_of <- function(x) {
  x <- as_shapes(x)
  core(core_wkb(handles_of(x), store_of(x)))
}

#' @rdname shapes
#' @export
geometry_type_of <- function(x) {
  x <- as_shapes(x)
  kinds <- c("point", "line", "polygon", "multipoint", "multiline", "multipolygon", "collection")
  kinds[core(core_types(handles_of(x), store_of(x))) %% 1000L]
}

#' Coordinates of every vertex
#'
#' @param x A spatial frame or shape vector.
#' @return A tibble of one row a vertex: `shape`, `part` and `ring`, counted from 1, `x` and `y` in the units of the CRS,
#'   and `z` and `m` where there are any.
#' @examples
#' coordinates_of(shapes_from_wkt("LINESTRING (0 0, 1 2)"))
#' @export
coordinates_of <- function(x) {
  x <- as_shapes(x)
  tibble::new_tibble(core(core_coordinates(handles_of(x), store_of(x))))
}

# --- stores -----------------------------------------------------------------------------------------------------

# Stores that will be joined once the combined vector is complete; joined only once, as combining asks repeatedly.
pending_store <- function(stores) {
  structure(list(stores = stores, joined = new.env(parent = emptyenv())), class = "civicatlas_pending_store")
}

is_pending <- function(store) inherits(store, "civicatlas_pending_store")

settled_store <- function(store) {
  if (!is_pending(store)) return(store)
  if (is.null(store$joined$store)) store$joined$store <- core(core_concatenate(unname(store$stores)))
  store$joined$store
}

# Stores by address, which tells shared ones apart from others while they are alive.
stores_by_address <- function(store) {
  if (is_pending(store)) return(store$stores)
  if (!length(store$types)) return(list())
  stats::setNames(list(store), rlang::obj_address(store))
}

shapes_in_store <- function(store) length(store$types)

# Two vectors with their shapes in one store.
on_one_store <- function(x, y) {
  both <- vctrs::vec_c(x, y)
  of_both <- function(handles) new_shapes(handles, store_of(both), attr(both, "crs", exact = TRUE))
  handles <- handles_of(both)
  list(of_both(handles[seq_along(x)]), of_both(handles[length(x) + seq_along(y)]))
}

# A vector whose store holds the shapes it refers to and no others.
compacted <- function(x) {
  result <- core(core_gather(handles_of(x), store_of(x)))
  shapes_of_core(result, attr(x, "crs", exact = TRUE))
}

# --- vctrs ------------------------------------------------------------------------------------------------------

#' @export
vec_ptype_abbr.shapes <- function(x, ...) "shapes"

#' @export
vec_ptype_full.shapes <- function(x, ...) "shapes"

# A slice that keeps less than an eighth of its store takes a store of its own, so that it never drags a large
# layer along to a file or another process.
#' @export
vec_restore.shapes <- function(x, to, ...) {
  handles <- handles_of(x)
  store <- attr(to, "store", exact = TRUE)
  crs <- attr(to, "crs", exact = TRUE)
  if (!length(handles)) return(new_shapes(handles, store, crs))
  store <- settled_store(store)
  out <- new_shapes(handles, store, crs)
  if (length(handles) * 8 < shapes_in_store(store)) compacted(out) else out
}

# Equal shapes have equal keys, in whatever stores they are, so that what is not compared costs nothing.
#' @export
vec_proxy_equal.shapes <- function(x, ...) {
  store <- attr(x, "store", exact = TRUE)
  stores <- if (is_pending(store)) store$stores else list(store)
  handles <- handles_of(x)
  if (length(stores) == 1) return(vctrs::new_data_frame(core(core_content_keys(handles, stores[[1]]))))
  keys <- vctrs::new_data_frame(list(high = rep(NA_real_, length(handles)), low = rep(NA_real_, length(handles))))
  before <- 0L
  for (store in stores) {
    size <- shapes_in_store(store)
    here <- which(handles > before & handles <= before + size)
    keys[here, ] <- core(core_content_keys(handles[here] - before, store))
    before <- before + size
  }
  keys
}

# Two vectors that are compared, or joined by, are ranked apart, so each by its whole store.
#' @export
vec_proxy_compare.shapes <- function(x, ...) {
  store <- store_of(x)
  core(core_content_ranks(seq_len(shapes_in_store(store)), store))[handles_of(x)]
}

#' @export
vec_ptype2.shapes.shapes <- function(x, y, ...) {
  check_same_crs(x, y, call = NULL)
  stores <- c(stores_by_address(attr(x, "store", exact = TRUE)), stores_by_address(attr(y, "store", exact = TRUE)))
  stores <- stores[!duplicated(names(stores))]
  if (length(stores) > 1 && in_plain_degrees(x)) tell_turns_of_stores(stores)
  store <- if (length(stores) > 1) pending_store(stores) else if (length(stores)) stores[[1]] else empty_store()
  new_shapes(integer(), store, attr(x, "crs", exact = TRUE))
}

#' @export
vec_cast.shapes.shapes <- function(x, to, ...) {
  check_same_crs(x, to, call = NULL)
  target <- attr(to, "store", exact = TRUE)
  handles <- handles_of(x)
  if (length(handles) && !all(is.na(handles))) handles <- handles_among(handles, attr(x, "store", exact = TRUE), target)
  new_shapes(handles, target, attr(to, "crs", exact = TRUE))
}

# Handles into the stores of `from` as handles into those of `to`, which has these among its own, or shapes equal to theirs.
handles_among <- function(handles, from, to) {
  if (is_pending(to) && rlang::is_reference(from, to$joined$store)) return(handles)
  own <- stores_by_address(from)
  all <- stores_by_address(to)
  at <- match(names(own), names(all))
  if (anyNA(at)) {
    there <- new_shapes(seq_len(sum(vapply(all, shapes_in_store, 0L))), to, NULL)
    equal <- vctrs::vec_match(vctrs::vec_proxy_equal(new_shapes(handles, from, NULL)), vctrs::vec_proxy_equal(there))
    if (!anyNA(equal[!is.na(handles)])) return(equal)
    fail("argument", c("These shapes are not among those of the vector they are put into.",
                       i = "Combine the two with {.fn c} or {.fn vctrs::vec_c} instead."), call = NULL)
  }
  begins <- function(stores) as.integer(cumsum(c(0L, vapply(stores, shapes_in_store, 0L)))[seq_along(stores)])
  piece <- findInterval(handles, begins(own), left.open = TRUE)
  handles - begins(own)[piece] + begins(all)[at][piece]
}

#' @export
`[<-.shapes` <- function(x, i, value) {
  places <- seq_along(x)
  chosen <- vctrs::vec_as_location(if (missing(i)) places else i, length(x))
  both <- vctrs::vec_c(x, value)
  places[chosen] <- length(x) + vctrs::vec_recycle(seq_along(value), length(chosen))
  both[places]
}

#' @export
`[[<-.shapes` <- function(x, i, value) {
  x[i] <- value
  x
}

#' @export
is.na.shapes <- function(x) is.na(handles_of(x))

# Handles are no quantities.
#' @export
is.numeric.shapes <- function(x) FALSE

#' @export
as.character.shapes <- function(x, ...) wkt_of(x)

# What base's union(), setdiff() and intersect() work on.
#' @export
as.vector.shapes <- function(x, mode = "any") switch(mode, any = x, list = as.list(x), character = wkt_of(x), as.vector(handles_of(x), mode))

# Before R 4.3 base's match() compares what lies under a class, which handles into two stores are not fit for.
#' Matching shapes
#'
#' On versions of R before 4.3 these stand in for base's functions of the same names, which would not compare shapes by content there.
#' Of anything else than shapes they are base's.
#' @param x,table,nomatch,incomparables See [base::match()].
#' @return As of [base::match()].
#' @examples
#' halls <- point_shapes(1:3, 0)
#' halls[2] %in% halls
#' @rawNamespace if (getRversion() < "4.3.0") export(match, "%in%")
match <- function(x, table, nomatch = NA_integer_, incomparables = NULL) {
  if (is_shapes(x) && is_shapes(table)) {
    found <- vctrs::vec_match(x, table)
    found[is.na(found)] <- as.integer(nomatch)
    return(found)
  }
  base::match(x, table, nomatch, incomparables)
}

#' @rdname match
`%in%` <- function(x, table) match(x, table, nomatch = 0L) > 0L

#' @export
summary.shapes <- function(object, ...) {
  kinds <- table(geometry_type_of(object))
  counts <- c(stats::setNames(as.vector(kinds), names(kinds)), if (anyNA(object)) c(missing = sum(is.na(object))))
  structure(counts, class = c("summaryDefault", "table"))
}

#' @export
format.shapes <- function(x, ...) {
  handles <- handles_of(x)
  store <- store_of(x)
  kinds <- ascii_upper(geometry_type_of(x))
  vertices <- core(core_vertex_counts(handles, store))
  text <- paste0(kinds, " ", ifelse(vertices == 0, "EMPTY", paste(format_count(vertices), "vertices")))
  points <- which(kinds == "POINT" & vertices == 1)
  text[points] <- core(core_wkt(handles[points], store, coordinate_decimals(attr(x, "crs", exact = TRUE))))
  text[is.na(handles)] <- NA_character_
  text
}

# Digits worth showing: about a decimetre.
coordinate_decimals <- function(crs) if (is.null(crs) || identical(crs$kind, "geographic")) 5L else 1L

#' @export
obj_print_header.shapes <- function(x, ...) {
  cat("<shapes[", length(x), "]> ", crs_label(crs_of(x)), "\n", sep = "")
  invisible(x)
}

#' @export
obj_str_data.shapes <- function(x, ...) {
  shown <- utils::head(format(x), 3)
  cat(" ", paste(shown, collapse = ", "), if (length(x) > 3) ", \u2026", "\n", sep = "")
  invisible(x)
}

#' @export
obj_str_footer.shapes <- function(x, ...) invisible(x)
