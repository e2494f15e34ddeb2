#' Shapes from a table of points
#'
#' Builds lines or polygons from a table with a row for each vertex, as tracks and surveys come: the inverse of [coordinates_of()].
#'
#' @param table A data frame, or a spatial frame of points.
#' @param x,y Columns of coordinates: easting or longitude, northing or latitude. By default `x` and `y` or what else names coordinates; of a spatial frame its
#'   points.
#' @param by Columns that tell the shapes apart, as in [dplyr::select()]; by default `shape` where there is one, else all rows make one shape.
#' @param order A column, or an expression on columns, by which vertices come along each shape, such as a time; by default the order of the rows.
#' @param kind `"line"` or `"polygon"`, whose rings are closed; the first ring of a part is its shell, others are holes.
#' @param part,ring Columns that number the parts of a shape and the rings of a part; by default `part` and `ring` where there are such.
#' @param crs The CRS of the coordinates; anything that [crs()] takes.
#' @return A spatial frame of one row a shape, in the order of first rows: the columns of `by` and the shape. Shapes of fewer than two vertices (polygons:
#'   three) are missing, and vertices without coordinates left out; both are told.
#' @section Errors: `civicatlas_error_column` for columns that are not there or hold no numbers; `civicatlas_error_choice` for another kind.
#' @examples
#' walk <- data.frame(id = c(1, 1, 1, 2, 2), minute = c(3, 1, 2, 1, 2), lon = c(2, 0, 1, 5, 6), lat = c(0, 0, 1, 5, 5))
#' shapes_from_coordinates(walk, by = id, order = minute, crs = 4326)
#' wards <- read_layer(demo_file("wards.shp"))
#' shapes_from_coordinates(coordinates_of(wards), kind = "polygon", crs = wards)
#' @export
shapes_from_coordinates <- function(table, x = NULL, y = NULL, by = NULL, order = NULL, kind = "line", part = NULL, ring = NULL, crs = NULL) {
  verb <- begin_verb("shapes_from_coordinates")
  call <- rlang::current_env()
  one_of(kind, c("line", "polygon"), "kind", call = call)
  if (!is.data.frame(table)) fail("argument", "{.arg table} must be a data frame.", call = call)
  columns <- dplyr::ungroup(attribute_table(table))
  crs <- as_crs(crs, call = call) %||% if (is_spatial_frame(table)) crs_of(table)
  at <- vertices_in_table(table, columns, rlang::enquo(x), rlang::enquo(y), call)
  chosen <- function(quosure, usual) {
    if (!rlang::quo_is_null(quosure)) choose_columns(columns, quosure, usual, call) else columns[intersect(usual, names(columns))]
  }
  keys <- chosen(rlang::enquo(by), "shape")
  shape <- if (length(keys)) vctrs::vec_group_id(keys) else rep(1L, nrow(columns))
  first <- which(!duplicated(shape))
  levels <- list(chosen(rlang::enquo(part), "part"), chosen(rlang::enquo(ring), "ring"))
  numbers <- lapply(levels, function(level) if (length(level)) vctrs::vec_group_id(level) else rep(1L, nrow(columns)))
  rank <- if (rlang::quo_is_null(rlang::enquo(order))) seq_len(nrow(columns)) else column_values(columns, rlang::enquo(order), "order", call)
  known <- which(is.finite(at$x) & is.finite(at$y) & !is.na(rank))
  sorted <- known[order_of_vertices(shape[known], numbers[[1]][known], numbers[[2]][known], rank[known])]
  made <- shapes_of_vertices(at$x[sorted], at$y[sorted], shape[sorted], numbers[[1]][sorted], numbers[[2]][sorted], length(first), kind, crs)
  out <- new_spatial_frame(c(as.list(vctrs::vec_slice(keys, first)), list(geometry = admitted(made))), "geometry")
  counts <- account(entry(nrow(columns) - length(known), "without a place in the order", "left out"),
                    entry(sum(is.na(made)), "of too few vertices", "missing", of = "shape"))
  end_verb(verb, out, NULL, counts, nrow(columns), line = paste(counted(nrow(columns), "vertex", "vertices"), "in,", counted(length(first), kind), "out"))
}

vertices_in_table <- function(table, columns, x, y, call) {
  if (is_spatial_frame(table) && rlang::quo_is_null(x)) {
    boxes <- core(core_boxes(handles_of(as_shapes(table)), store_of(as_shapes(table))))
    if (!only_points(as_shapes(table))) fail("argument", "{.arg table} must hold points.", call = call)
    return(list(x = boxes[1, ], y = boxes[2, ]))
  }
  guessed <- likely_shape_columns(as.list(columns))$coords
  named <- function(quosure, what, k) if (rlang::quo_is_null(quosure)) guessed[k] else named_column(columns, quosure, what, call)
  names <- c(named(x, "x", 1), named(y, "y", 2))
  if (length(names) < 2) {
    fail("column", c("Which columns hold the coordinates?", i = "Name them with {.arg x} and {.arg y}. Columns: {.val {names(columns)}}."), call = call)
  }
  list(x = as_coordinate(columns[[names[1]]], names[1], call), y = as_coordinate(columns[[names[2]]], names[2], call))
}

order_of_vertices <- function(shape, part, ring, rank) base::order(shape, part, ring, rank, method = "radix")

# Vertices that are sorted by shape, part, ring and along each, as shapes.
shapes_of_vertices <- function(x, y, shape, part, ring, n, kind, crs) {
  least <- if (kind == "polygon") 3 else 2
  of_ring <- vctrs::vec_group_id(list(shape, part, ring) |> vctrs::new_data_frame(n = length(x)))
  enough <- tabulate(of_ring)[of_ring] >= least
  rows <- which(enough)
  of_ring <- match(of_ring[rows], unique(of_ring[rows]))
  if (kind == "polygon") rows <- closed_rings(rows, of_ring, vctrs::vec_group_id(vctrs::new_data_frame(list(shape[rows], part[rows]))), x, y)
  of_ring <- vctrs::vec_group_id(vctrs::new_data_frame(list(shape[rows], part[rows], ring[rows])))
  of_part <- vctrs::vec_group_id(vctrs::new_data_frame(list(shape[rows], part[rows])))
  first_of <- function(id) which(!duplicated(id))
  shapes <- unique(shape[rows])
  parts_of_shape <- tabulate(match(shape[rows][first_of(of_part)], shapes), length(shapes))
  rings_of_part <- tabulate(of_part[first_of(of_ring)], max(of_part, 0))
  single <- if (kind == "polygon") 3L else 2L
  starts <- first_of(match(shape[rows], shapes))
  boxes <- function(values, pick) vapply(split(values[rows], match(shape[rows], shapes)), pick, 0, USE.NAMES = FALSE)
  store <- list(types = ifelse(parts_of_shape > 1, single + 3L, single), part_types = rep(single, length(rings_of_part)),
                shape_parts = c(0L, cumsum(parts_of_shape)),
                part_rings = c(0L, cumsum(rings_of_part)), ring_vertices = c(0L, cumsum(tabulate(of_ring))), x = x[rows], y = y[rows], z = NULL, m = NULL,
                boxes = c(rbind(boxes(x, min), boxes(y, min), boxes(x, max), boxes(y, max))))
  handles <- rep(NA_integer_, n)
  handles[shapes] <- seq_along(shapes)
  new_shapes(handles, store, crs)
}

# The rows of rings, each ending where it began: the first of a part, its shell, counter-clockwise, the others clockwise.
closed_rings <- function(rows, of_ring, of_part, x, y) {
  first <- !duplicated(of_ring)
  is_shell <- !duplicated(of_part[first])
  rings <- Map(function(ring, shell) {
    last <- ring[length(ring)]
    if (x[last] != x[ring[1]] || y[last] != y[ring[1]]) ring <- c(ring, ring[1])
    from <- ring[-length(ring)]
    to <- ring[-1]
    area <- sum((x[from] - x[ring[1]]) * (y[to] - y[ring[1]]) - (x[to] - x[ring[1]]) * (y[from] - y[ring[1]]))
    if ((area > 0) == shell) ring else rev(ring)
  }, split(rows, of_ring), is_shell)
  unlist(rings, use.names = FALSE)
}
