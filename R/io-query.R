# What read_layer() wants of a source. Every format is handed one and leaves out what is not wanted before it decodes it.

# `where` is a tree (see data-tree.R), or NULL.
new_query <- function(where = NULL, within = NULL, columns = rlang::quo(NULL), crs = NULL, encoding = NULL, coords = NULL, wkt = NULL, damaged = "refuse",
                      call = NULL) {
  list(where = where, within = within, columns = columns, crs = crs, encoding = encoding, coords = coords, wkt = wkt,
       skip_damaged = damaged == "skip", call = call)
}

has_where <- function(query) !is.null(query$where)

# The chosen columns of those that there are: a character vector of names in the source, named as they shall be called.
# `prototype` is a list of empty vectors by name, or the names alone where the types are not known beforehand.
chosen_columns <- function(query, prototype) {
  if (is.character(prototype)) prototype <- stats::setNames(rep(list(logical()), length(prototype)), prototype)
  names <- names(prototype) %||% character()
  if (rlang::quo_is_null(query$columns)) return(stats::setNames(names, names))
  table <- tibble::new_tibble(c(prototype, if (!"geometry" %in% names) list(geometry = logical())), nrow = 0L)
  at <- tryCatch(tidyselect::eval_select(query$columns, table), vctrs_error_subscript_oob = function(e) {
    need_column(table[names], as.character(e$i)[1], "columns", call = query$call)
    rlang::cnd_signal(e)
  })
  chosen <- stats::setNames(names(table)[at], names(at))
  chosen[chosen %in% names]
}

# These columns of a source, called as they shall be; one may have no name.
named_as_chosen <- function(columns, wanted) stats::setNames(columns[match(wanted, names(columns))], names(wanted))

# The columns that `where` speaks of.
where_columns <- function(query, names) {
  if (any(query$variables %in% names)) rlang::cnd_signal(rlang::cnd("civicatlas_where_is_column"))
  if (!has_where(query)) return(character())
  need_columns_of_tree(query$where, names, call = query$call)
  columns_in(query$where, names)
}

# Rows of a table for which `where` is TRUE.
rows_where <- function(query, data, size) {
  if (!has_where(query)) return(seq_len(size))
  check_kinds(query$where, data, query$call)
  rows_holding(query, data, size)
}

# `code`: the quosure of `where`, where it was made before.
rows_holding <- function(query, data, size, code = quosure_of_tree(query$where, call = query$call)) {
  keep <- value_on(code, tibble::new_tibble(as.list(data), nrow = size), "where", query$call)
  if (!is.logical(keep)) fail("argument", "{.arg where} must give {.code TRUE} or {.code FALSE} for each row.", call = query$call)
  which(rep_len(keep, size))
}

# Rows of decoded shapes whose box meets the window.
rows_within <- function(query, shapes) {
  window <- query$within
  if (is.null(window)) return(seq_along(shapes))
  boxes <- core(core_boxes(handles_of(shapes), store_of(shapes)))
  which(boxes[1, ] <= window[3] & boxes[3, ] >= window[1] & boxes[2, ] <= window[4] & boxes[4, ] >= window[2])
}

# Rows whose shapes meet a window. Sources were asked for those whose boxes do, over the antimeridian for all longitudes.
meeting_window <- function(x, within) {
  if (is.null(within) || !is_spatial_frame(x) || !nrow(x)) return(x)
  window <- as.double(if (is.numeric(within)) within else extent_of(within))
  if (anyNA(window)) return(x[0, ])
  shapes <- as_shapes(x)
  around <- in_plain_degrees(shapes) && crosses_180(window)
  if (around) shapes <- in_one_piece(shapes)
  if (window[1] > window[3]) window[3] <- window[3] + 360
  attr(shapes, "crs") <- NULL  # edges are straight in the coordinates
  turns <- if (around) c(-360, 0, 360) else 0
  x[which(Reduce(`|`, lapply(turns, function(turn) meet_box(shapes, window + c(turn, 0, turn, 0))))), ]
}

# Shapes within the box meet it; of the others whose boxes do, it is looked at.
meet_box <- function(shapes, box) {
  boxes <- core(core_boxes(handles_of(shapes), store_of(shapes)))
  meets <- boxes[1, ] <= box[3] & boxes[3, ] >= box[1] & boxes[2, ] <= box[4] & boxes[4, ] >= box[2]
  inside <- boxes[1, ] >= box[1] & boxes[3, ] <= box[3] & boxes[2, ] >= box[2] & boxes[4, ] <= box[4]
  unsure <- which(meets & !inside)
  window <- box_shape(box, NULL)
  pairs <- core(core_related_pairs(handles_of(shapes)[unsure], store_of(shapes), handles_of(window), store_of(window), "intersects", 0))
  meets[unsure] <- seq_along(unsure) %in% pairs$x
  meets
}

# `within` as xmin, ymin, xmax, ymax. A frame's CRS must be the layer's, which the source's header tells.
settle_window <- function(query, layer_crs) {
  within <- query$within
  if (is.null(within) || isTRUE(query$settled)) return(query)
  query$settled <- TRUE
  if (is.numeric(within)) {
    if (length(within) != 4 || anyNA(within)) {
      fail("argument", "{.arg within} as numbers must be xmin, ymin, xmax, ymax.", call = query$call)
    }
    query$within <- window_to_ask_for(as.double(within), query$crs %||% layer_crs, query$call)
    return(query)
  }
  crs <- query$crs %||% layer_crs
  check_same_crs(new_shapes(crs = crs), within, "the layer", "within", call = query$call)
  query$within <- window_to_ask_for(unname(extent_of(within)), crs_of(within), query$call)
  query
}

# A window upside down is refused; one whose west lies east of its east runs over the antimeridian on longitude and latitude alone, and
# asks for all longitudes.
window_to_ask_for <- function(window, crs, call) {
  if (anyNA(window)) return(window)
  if (window[2] > window[4]) {
    fail("argument", c("{.arg within} has ymin {window[2]} above ymax {window[4]}.", i = "In order: xmin, ymin, xmax, ymax."), call = call)
  }
  on_globe <- in_plain_degrees(new_shapes(crs = crs))
  if (window[1] > window[3] && !on_globe) {
    fail("argument", c("{.arg within} has xmin {window[1]} above xmax {window[3]}, which means a window over the antimeridian on longitude and latitude alone.",
                       i = "In order: xmin, ymin, xmax, ymax."), call = call)
  }
  if (on_globe && crosses_180(window)) window[c(1, 3)] <- c(-540, 540)
  window
}
