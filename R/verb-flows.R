#' Flows between regions
#'
#' Turns a table of from–to counts into lines between the regions it names, one for each pair, with the counts summed: what
#' [flow_map()] draws. With `.group`, flows are summed between groups of regions, such as the districts that wards belong to.
#'
#' @param .regions A spatial frame. All arguments have a point before their names, so that new columns may have any.
#' @param .flows A table with a row a flow: a data frame, or one in tiles (see [tile_up()]).
#' @param .from,.to Columns of `.flows` that name the regions.
#' @param .key Column of `.regions` that holds those names. Compared as in [join_table()].
#' @param ... Named summaries of the flows' columns for each pair, as in [summarise_into()]. Without any, `flows = n()`.
#' @param .group A column of `.regions`, by which flows are summed instead.
#' @return A spatial frame of lines from a point well inside one region to one in the other, on the CRS of `regions`, with the columns
#'   `from`, `to` and a column a summary, by `from`, then `to`. Flows within one region or group have a point in place of a line. Flows
#'   whose region is not there are left out, and said with the nearest spelling.
#' @section Errors: `civicatlas_error_column` for columns that are not there, `civicatlas_error_key` where several regions have one key.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' trips <- read_layer(demo_file("trips.csv"))
#' flows_between(wards, trips, from, to, ward_id, trips = sum(trips))
#' @export
flows_between <- function(.regions, .flows, .from, .to, .key, ..., .group = NULL) UseMethod("flows_between", deciding_layer(.flows))

#' @export
flows_between.default <- function(.regions, .flows, .from, .to, .key, ..., .group = NULL) {
  verb <- begin_verb("flows_between")
  call <- rlang::current_env()
  asked <- settled_flows(arguments_asked("flows_between", call), call)
  assigned <- flows_in_cells(asked, call)
  cells <- assigned$cells
  out <- frame_of_flows(asked, cells, summaries_by_cell(assigned, length(cells), asked$summaries, call), call)
  rows <- nrow(.flows)
  end_verb(verb, out, .regions, account_of_flows(asked, cells, rows - length(assigned$rows)), rows,
           paste0(counted(rows, "row"), ", ", counted(length(cells), "pair")))
}

account_of_flows <- function(asked, cells, left) {
  ends <- ends_of_cells(cells, asked$places)
  account(entry(sum(ends$from == ends$to), "within one region", of = "pair"), entry(left, "with a region that is not there", "left out"))
}

# What flows_between() was asked, checked and completed, with `columns` of the flows and the `places` that they run between.
settled_flows <- function(args, call) {
  regions <- args$.regions
  need_no_tiles(regions, call)
  if (!is_spatial_frame(regions)) fail("argument", "{.arg .regions} must be a spatial frame.", call = call)
  if (!is.data.frame(args$.flows)) fail("argument", "{.arg .flows} must be a table.", call = call)
  summaries <- summaries_of(dots_among(args, flows_between), c("group", "key"), call)
  columns <- attribute_table(dplyr::ungroup(args$.flows))
  key <- named_column(regions, args$.key, ".key", call)
  groups <- if (is_asked(args$.group)) regions[[named_column(regions, args$.group, ".group", call)]]
  if (identical(names(summaries), "count")) names(summaries) <- "flows"
  list(regions = regions, columns = columns, from = named_column(columns, args$.from, ".from", call), to = named_column(columns, args$.to, ".to", call),
       key = key, places = places_of_flows(regions[[key]], groups, call), summaries = summaries)
}

# Which rows fall on which pair of places, as summaries_by_cell() takes it; `cells` are the pairs, as numbers.
flows_in_cells <- function(asked, call) {
  of <- asked$places$of
  from <- of[region_of_key(asked$columns, asked$from, asked$regions, asked$key)]
  to <- of[region_of_key(asked$columns, asked$to, asked$regions, asked$key)]
  known <- which(!is.na(from) & !is.na(to))
  cell <- (from[known] - 1) * length(asked$places$names) + to[known]
  cells <- sort(unique(cell))
  list(columns = asked$columns, rows = known, cell = match(cell, cells), cells = cells)
}

ends_of_cells <- function(cells, places) {
  n <- length(places$names)
  list(from = as.integer((cells - 1) %/% n) + 1L, to = as.integer((cells - 1) %% n) + 1L)
}

frame_of_flows <- function(asked, cells, table, call) {
  places <- asked$places
  ends <- ends_of_cells(cells, places)
  lines <- lines_between(points_of_places(as_shapes(asked$regions), places, call), ends$from, ends$to)
  data <- c(list(from = places$names[ends$from], to = places$names[ends$to]), as.list(table), list(geometry = lines))
  new_spatial_frame(tibble::new_tibble(data, nrow = length(cells)), "geometry")
}

# The name of the one column that a quosure stands for.
named_column <- function(data, quosure, what, call) {
  if (rlang::quo_is_missing(quosure)) fail("argument", "{.arg {what}} is missing: which column is it?", call = call)
  names <- names(choose_columns(attribute_table(data), quosure, what, call))
  if (length(names) != 1) fail("argument", "{.arg {what}} must be one column, not {length(names)}.", call = call)
  names
}

# The places that flows run between: regions, or groups of them. `of` is the place of each region.
places_of_flows <- function(keys, groups, call) {
  repeated <- unique(keys[duplicated(keys) & !is.na(keys)])
  if (length(repeated)) fail("key", "{counted(length(repeated), 'key')} stand{?s/} for several regions: {.val {utils::head(repeated, 5)}}.", call = call)
  if (is.null(groups)) return(list(of = seq_along(keys), names = keys, grouped = FALSE))
  names <- vctrs::vec_sort(unique(groups))
  list(of = match(groups, names), names = names, grouped = TRUE)
}

# A point well inside each place.
points_of_places <- function(shapes, places, call) {
  if (!places$grouped) return(inner_point_of(shapes))
  found <- core(core_dissolve(handles_of(shapes), store_of(shapes), places$of), call = call)
  inner_point_of(shapes_of_rows(found, length(places$names), crs_of(shapes)))
}

# Row of the region that each flow names; keys that name none are told.
region_of_key <- function(flows, column, regions, key) {
  keys <- comparable_keys(flows, attribute_table(regions), stats::setNames(key, column), FALSE)
  lone <- setdiff(unique(keys$x[!is.na(keys$x)]), keys$table)
  if (length(lone)) caution("data", c("Keys without a region:", stats::setNames(escape(lone_lines(lone, unique(keys$table), column)), "*")))
  match(keys$x, keys$table, incomparables = NA)
}

# A line from point a to point b, or the point itself where they are one.
lines_between <- function(points, a, b) {
  at <- core(core_planar_centroids(handles_of(points), store_of(points)))
  n <- length(a)
  alone <- a == b
  vertex <- c(rbind(a, ifelse(alone, NA_integer_, b)))
  vertex <- vertex[!is.na(vertex)]
  edges <- function(values, choose) choose(values[a], values[b])
  store <- list(
    types = ifelse(alone, 1L, 2L), part_types = ifelse(alone, 1L, 2L), shape_parts = 0:n, part_rings = 0:n,
    ring_vertices = c(0L, cumsum(ifelse(alone, 1L, 2L))), x = at$x[vertex], y = at$y[vertex], z = NULL, m = NULL,
    boxes = c(rbind(edges(at$x, pmin), edges(at$y, pmin), edges(at$x, pmax), edges(at$y, pmax)))
  )
  new_shapes(seq_len(n), store, crs_of(points))
}
