# The areas of use of CRSs that were found.

#' @param most How many of the first rows `plot()` shows.
#' @rdname find_crs
#' @export
plot.found_crs <- function(x, most = 8, ...) {
  table <- registry_table()
  rows <- utils::head(match(x$code, table$code), most)
  rows <- rows[order(box_size(table$box[rows, , drop = FALSE]), decreasing = TRUE)]  # small ones above large ones
  if (!length(rows)) fail("argument", "There is nothing to plot: no row was found.", call = rlang::current_env())
  box <- table$box[rows, , drop = FALSE]
  east <- box[, 3] + ifelse(box[, 3] < box[, 1], 360, 0)
  corners <- cbind(box[, 1], box[, 2], east, box[, 2], east, box[, 4], box[, 1], box[, 4], box[, 1], box[, 2])
  text <- sprintf("POLYGON ((%s))", apply(corners, 1, function(at) paste(at[c(TRUE, FALSE)], at[c(FALSE, TRUE)], collapse = ", ")))
  areas <- frame_of_columns(system = table$name[rows], geometry = shapes_from_wkt(text, 4326))
  map <- category_map(areas, system, key_title = "Area of use") + map_graticule()
  print(map)
  invisible(map)
}
