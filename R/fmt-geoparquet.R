# GeoParquet 1.1: the core reads what is common of it, a group of rows at a time; nanoparquet reads the rest, and writes.

register_format("geoparquet", function() {
  new_format("GeoParquet", "GeoParquet 1.1", c("shapes", "tables", "columns", "coded CRS"), endings = c("parquet", "geoparquet"),
             first_bytes = charToRaw("PAR1"), media_types = c("application/vnd.apache.parquet" = "parquet"), reads = "path", held = TRUE,
             read = read_geoparquet, stream = stream_geoparquet, layers = layers_of_geoparquet, header = header_of_geoparquet, write = write_geoparquet)
})

parquet_package <- function(call) need_package("nanoparquet", "GeoParquet", call)

parquet_step <- function(name, call, expr) {
  tryCatch(expr, error = function(e) {
    if (inherits(e, "civicatlas_error")) rlang::cnd_signal(e)
    fail("format", c("Cannot read {.file {name}}.", x = "It is no Parquet file, or one that cannot be read: {said_by(e)}"), call = call)
  })
}

# What the footer says: fields, rows, and the geometry column with its CRS and extent.
parquet_footer <- function(source, call) {
  parquet_package(call)
  path <- source$content
  found <- parquet_step(source$name, call, read_guarded(path, source$name, call, function() nanoparquet::read_parquet_metadata(path)))
  schema <- found$schema[-1, ]
  pairs <- found$file_meta_data$key_value_metadata[[1]]
  geo <- pairs$value[match("geo", pairs$key)]
  geo <- if (length(geo) && !is.na(geo)) geo_of_parquet(geo, source$name, call)
  list(schema = schema, rows = as.double(found$file_meta_data$num_rows), geo = geo)
}

read_geoparquet <- function(source, query) {
  parquet <- open_parquet(source$content, source$name, query$call)
  on.exit(close_parquet(parquet))
  found <- if (!is.null(parquet)) read_parquet_rows(parquet, source, query, seq_along(parquet$rows))
  found %||% read_by_nanoparquet(source, query)
}

# In groups of rows, where the core reads all that is asked for.
stream_geoparquet <- function(source, query, rows, give, again) {
  parquet <- open_parquet(source$content, source$name, query$call)
  on.exit(close_parquet(parquet))
  if (is.null(parquet) || !reads_all(parquet)) return(give(read_by_nanoparquet(source, query)))
  for (groups in batches_of(parquet$rows, rows)) give(read_parquet_rows(parquet, source, query, groups))
}

# Neighbours together until they have so many rows.
batches_of <- function(sizes, rows) unname(split(seq_along(sizes), ceiling(cumsum(as.double(sizes)) / rows)))

# What the core says of a file: a `pointer` to it, `names` and `types` of its columns and which of them are `readable`, the `rows` of each group, and
# what the metadata says of its shapes. NULL where its metadata cannot be read here, which another reader tells better.
open_parquet <- function(path, name, call) {
  parquet <- tryCatch({
    pointer <- core(core_open_parquet(path))
    c(list(pointer = pointer), core(core_about_parquet(pointer)))
  }, civicatlas_error = function(e) NULL)
  if (is.null(parquet)) return(NULL)
  parquet$geo <- if (!is.null(parquet$geo)) geo_of_parquet(parquet$geo, name, call)
  parquet$shape <- parquet$geo$primary_column
  parquet
}

close_parquet <- function(parquet) if (!is.null(parquet)) core(core_close_parquet(parquet$pointer))

geo_of_parquet <- function(text, name, call) {
  wrong <- function(why) fail("format", c("Cannot read {.file {name}}.", x = "Its metadata {.val geo} {why}."), call = call)
  geo <- tryCatch(parse_json(text, simplifyVector = TRUE, simplifyDataFrame = FALSE), error = function(e) wrong(paste("is no JSON:", said_by(e))))
  columns <- if (is.list(geo)) geo$columns
  if (!is.list(columns) || !all(vapply(columns, is.list, NA)) || !rlang::is_string(geo$primary_column)) wrong("does not say which columns hold shapes")
  geo$columns <- lapply(columns, geo_of_column)
  geo
}

# What the metadata says of a column of shapes, without what is of another type than it must be.
geo_of_column <- function(about) {
  is_path <- function(path) is.character(unlist(path)) && length(path) >= 1
  box <- if (is.list(about$covering)) about$covering$bbox
  fits <- list(encoding = rlang::is_string(about$encoding), geometry_types = is.character(unlist(about$geometry_types)), bbox = is.numeric(about$bbox),
               covering = is.list(box) && all(box_members %in% names(box)) && all(vapply(box, is_path, NA)))
  about[names(fits)[!unlist(fits)]] <- NULL
  if (!is.null(about$crs) && !is.list(about$crs)) about$crs <- list(name = as.character(about$crs)[1])
  if (!is.null(about$crs$id) && !is.list(about$crs$id)) about$crs$id <- NULL
  about
}

# Columns that the core does not read are shapes' boxes, which nobody needs, or the reason to leave the file to another reader.
reads_all <- function(parquet) {
  about <- parquet$geo$columns[[parquet$shape %||% ""]]
  left <- setdiff(parquet$names[!parquet$readable | (parquet$types == "bytes" & !parquet$names %in% parquet$shape)], parquet_box_column(about))
  !length(left) && (is.null(parquet$shape) || (parquet$shape %in% parquet$names && identical(about$encoding, "WKB"))) && !anyDuplicated(parquet$names)
}

# The content of some groups of rows; NULL where the core cannot read them.
read_parquet_rows <- function(parquet, source, query, groups) {
  if (!reads_all(parquet)) return(NULL)
  shape <- parquet$shape
  about <- parquet$geo$columns[[shape %||% ""]]
  crs <- if (!is.null(shape)) parquet_crs(about, source, query$call)
  query <- settle_window(query, crs)
  names <- parquet$names[parquet$readable & parquet$types != "bytes"]
  wanted <- chosen_columns(query, prototype_of_types(parquet$types[match(names, parquet$names)], names))
  tested <- where_columns(query, names)
  asked <- union(wanted, tested)
  groups <- groups_within(parquet, source, about, groups, query)
  data <- core(core_read_parquet(parquet$pointer, match(asked, parquet$names), groups), source = source$name, call = query$call)
  tell_whole_numbers(data, parquet)
  size <- sum(parquet$rows[groups])
  rows <- rows_where(query, data[tested], size)
  pick <- function(rows) lapply(named_as_chosen(data, wanted), vctrs::vec_slice, i = rows)
  if (is.null(shape)) return(layer_content(pick(rows), NULL, sum(parquet$rows), query))
  found <- core(core_parquet_shapes(parquet$pointer, match(shape, parquet$names), groups, query$within, query$skip_damaged), source = source$name,
                call = query$call)
  report_notices(found$notices, source$name)
  kept <- which(found$kept)
  shapes <- shapes_of_core(found, crs)[match(intersect(rows, kept), kept)]
  layer_content(pick(intersect(rows, kept)), shapes, sum(parquet$rows), query)
}

# Those whose boxes meet the window, as far as the file tells them.
groups_within <- function(parquet, source, about, groups, query) {
  if (is.null(query$within)) return(groups)
  boxes <- boxes_of_parquet(source$content, about, query$call)[groups, , drop = FALSE]
  window <- query$within
  groups[!(boxes[, 1] > window[3] | boxes[, 3] < window[1] | boxes[, 2] > window[4] | boxes[, 4] < window[2]) %in% TRUE]
}

# Of each group of rows, as a matrix of a row each.
boxes_of_parquet <- function(path, about, call) {
  covering <- about$covering$bbox
  members <- if (length(covering)) vapply(covering[box_members], function(path) c(as.character(path), NA)[2], "")
  core(core_parquet_boxes(get_parquet_footer(path)$metadata, parquet_box_column(about) %||% "", as.character(unname(members))), source = path, call = call)
}

tell_whole_numbers <- function(data, parquet) {
  for (name in names(data)) {
    if (!is.character(data[[name]]) || parquet$types[match(name, parquet$names)] != "double") next
    caution("data", "Column {.val {name}} holds whole numbers beyond 2^53, which were kept as text.")
  }
}

prototype_of_types <- function(types, names) {
  empty <- list(logical = logical(), integer = integer(), double = double(), character = character(), Date = as.Date(character()),
                POSIXct = as_datetime(character()))
  stats::setNames(lapply(types, function(type) empty[[type]] %||% list()), names)
}

read_by_nanoparquet <- function(source, query) {
  footer <- parquet_footer(source, query$call)
  shape <- footer$geo$primary_column
  about <- footer$geo$columns[[shape %||% ""]]
  crs <- if (!is.null(shape)) parquet_crs(about, source, query$call)
  query <- settle_window(query, crs)
  names <- setdiff(parquet_columns(footer), shape)
  wanted <- chosen_columns(query, parquet_prototype(footer, names))
  flat <- flat_parquet(source, query, about)
  on.exit(unlink(flat$temporary, expand = FALSE))
  read <- function(columns) {
    if (!length(columns)) return(list())
    found <- as.list(parquet_step(source$name, query$call, read_guarded(flat$file, source$name, query$call, function() {
      nanoparquet::read_parquet(flat$file, col_select = columns)
    })))
    lost <- setdiff(columns, names(found))
    if (length(lost)) fail("format", "{.file {source$name}} is damaged: its column {.val {lost[1]}} cannot be read.", call = query$call)
    found
  }
  nested <- setdiff(flat$dropped, parquet_box_column(about))
  if (length(nested)) caution("data", "Columns of {.file {basename(source$name)}} that are groups of columns are not read: {.val {nested}}.")
  tested <- where_columns(query, names)
  data <- lapply(read(union(wanted, tested)), parquet_column)
  rows <- rows_where(query, data[tested], flat$rows)
  pick <- function(rows) lapply(named_as_chosen(data, wanted), vctrs::vec_slice, i = rows)
  if (is.null(shape)) return(layer_content(pick(rows), NULL, footer$rows, query))
  if (!identical(about$encoding, "WKB")) {
    fail("format", c("The shapes of {.file {source$name}} are in the encoding {.val {about$encoding %||% 'unknown'}}.", i = "WKB is read."), call = query$call)
  }
  decoder <- core(core_open_blobs("wkb", query$within, query$skip_damaged))
  kept <- core(core_add_blobs(decoder, unclass(read(shape)[[shape]])[rows]), source = source$name, call = query$call)
  found <- core(core_take_blobs(decoder))
  report_notices(found$notices, source$name)
  layer_content(pick(rows[kept]), shapes_of_core(found, crs), footer$rows, query)
}

# The file, or a copy whose footer leaves out what nanoparquet cannot read (groups of columns, such as the bbox) and the
# row groups outside the window.
flat_parquet <- function(source, query, about) {
  footer <- get_parquet_footer(source$content)
  covering <- about$covering$bbox
  members <- if (length(covering)) vapply(covering[box_members], function(path) c(as.character(path), NA)[2], "")
  flat <- core(core_flatten_parquet(footer$metadata, query$within, parquet_box_column(about) %||% "", as.character(unname(members))),
               source = source$name, call = query$call)
  if (!length(flat$dropped) && !flat$row_groups) return(list(file = source$content, rows = parquet_rows(source$content, source, query)))
  copy <- tempfile(fileext = ".parquet")
  if (!file.copy(source$content, copy)) cut_off(copy, query$call)
  put_parquet_footer(copy, footer$at, flat$metadata)
  if (is_ours(source$content)) note_written(copy)
  list(file = copy, temporary = copy, dropped = flat$dropped, rows = parquet_rows(copy, source, query))
}

parquet_rows <- function(file, source, query) {
  parquet_step(source$name, query$call, read_guarded(file, source$name, query$call, function() as.double(nanoparquet::read_parquet_info(file)$num_rows)))
}

# The metadata at the end of a file, and where it starts.
get_parquet_footer <- function(file) {
  size <- file.size(file)
  con <- file(file, "rb")
  on.exit(close(con))
  seek(con, size - 8)
  length <- readBin(con, "integer", 1, endian = "little")
  at <- size - 8 - length
  seek(con, at)
  list(metadata = readBin(con, "raw", length), at = at)
}

put_parquet_footer <- function(file, at, footer) {
  con <- file(file, "r+b")
  on.exit(close(con))
  seek(con, at, rw = "write")
  truncate(con)
  writeBin(footer, con)
  writeBin(length(footer), con, endian = "little")
  writeBin(charToRaw("PAR1"), con)
}

# Top-level columns that can be read: single values and lists of them, not groups.
parquet_columns <- function(footer) {
  schema <- footer$schema
  children <- ifelse(is.na(schema$num_children), 0, schema$num_children)
  top <- integer()
  at <- 1
  while (at <= nrow(schema)) {
    top <- c(top, at)
    below <- children[at]
    while (below > 0) {
      at <- at + 1
      below <- below - 1 + children[at]
    }
    at <- at + 1
  }
  readable <- children[top] == 0 | schema$converted_type[top] %in% "LIST"
  schema$name[top[readable]]
}

parquet_box_column <- function(about) unlist(lapply(about$covering$bbox, `[`, 1), use.names = FALSE)[1]

parquet_prototype <- function(footer, names) prototype_of_types(footer$schema$r_type[match(names, footer$schema$name)], names)

parquet_column <- function(column) {
  if (inherits(column, "POSIXct")) attr(column, "tzone") <- "UTC"
  column
}

# The CRS is JSON with an id; a column without one is on longitude and latitude (GeoParquet 1.1, "crs"). It is found by its id, or by
# its name where it has none of ours.
parquet_crs <- function(about, source, call) {
  if (!"crs" %in% names(about)) return(crs_by_code(4326, call))
  if (is.null(about$crs)) return(NULL)
  id <- paste(c(about$crs$id$authority, about$crs$id$code), collapse = ":")
  if (grepl("^OGC:CRS84", id)) return(crs_by_code(4326, call))
  code <- if (grepl("^EPSG:[0-9]+$", id)) as.integer(sub("EPSG:", "", id)) else 0L
  if (!is.null(core(core_crs_find(code)))) return(crs_by_code(code, call))
  named <- if (rlang::is_string(about$crs$name)) crs_by_name(about$crs$name)
  if (is.null(named)) {
    caution("crs", "The CRS of {.file {basename(source$name)}}, {.val {about$crs$name %||% 'unnamed'}}, is not in the registry; the layer has none.")
  }
  named
}

header_of_geoparquet <- function(source) {
  footer <- parquet_footer(source, NULL)
  shape <- footer$geo$primary_column
  about <- footer$geo$columns[[shape %||% ""]]
  kinds <- unname(parquet_kinds[sub(" (Z|M|ZM)$", "", unlist(about$geometry_types))])
  list(rows = footer$rows, kinds = kinds, extent = parquet_extent(about), crs = if (!is.null(shape)) parquet_crs(about, source, NULL),
       fields = parquet_fields(footer, setdiff(parquet_columns(footer), shape)))
}

parquet_fields <- function(footer, names) {
  words <- c(logical = "logical", integer = "integer", double = "number", character = "text", Date = "date", POSIXct = "date and time")
  type <- unname(words[footer$schema$r_type[match(names, footer$schema$name)]])
  tibble::tibble(name = names, type = ifelse(is.na(type), "other", type))
}

# Two or three numbers a corner.
parquet_extent <- function(about) {
  box <- as.double(unlist(about$bbox))
  half <- length(box) / 2
  if (half >= 2) box[c(1, 2, half + 1, half + 2)] else if (!is.null(about)) rep(NA_real_, 4)
}

parquet_kinds <- c(
  Point = "point", LineString = "line", Polygon = "polygon", MultiPoint = "multipoint", MultiLineString = "multiline",
  MultiPolygon = "multipolygon", GeometryCollection = "collection"
)

layers_of_geoparquet <- function(source) {
  header <- header_of_geoparquet(source)
  kind <- if (is.null(header$extent)) "none" else if (length(header$kinds) == 1) header$kinds else NA_character_
  list(layer = stem_of(source$name), format = "geoparquet", geometry_type = kind)
}

# --- writing -----------------------------------------------------------------------------------------------------------

box_members <- c("xmin", "ymin", "xmax", "ymax")

write_geoparquet <- function(x, target, options, call) {
  parquet_package(call)
  columns <- writable_columns(x, call, keep = c("Date", "POSIXct"))
  beside <- name_beside(target)
  on.exit(unlink(beside, expand = FALSE))
  metadata <- NULL
  if (is_spatial_frame(x)) {
    shapes <- as_shapes(x)
    name <- make.unique(c(names(columns), "geometry"), sep = "_")[length(columns) + 1]
    boxes <- core(core_boxes(handles_of(shapes), store_of(shapes)))
    columns[[name]] <- I(wkb_of(shapes))
    columns[paste0("bbox.", box_members)] <- lapply(1:4, function(edge) boxes[edge, ])
    metadata <- c(geo = write_json(parquet_geo(shapes, name)))
  }
  data <- vctrs::new_data_frame(columns, n = nrow(x))
  names(data) <- sub("^bbox[.](xmin|ymin|xmax|ymax)$", "\\1", names(columns))
  nanoparquet::write_parquet(data, beside, metadata = metadata, options = nanoparquet::parquet_options(write_arrow_metadata = FALSE))
  need_whole <- function() if (!ends_with(beside, "PAR1")) cut_off(target, call)
  need_whole()
  if (is_spatial_frame(x)) group_parquet_box(beside, call)
  need_whole()
  publish(beside, target, call)
  note_written(target)
  file.size(target)
}

# The four columns of the box become the group "bbox" that GeoParquet 1.1 describes: the footer alone is written anew.
group_parquet_box <- function(file, call) {
  footer <- get_parquet_footer(file)
  put_parquet_footer(file, footer$at, core(core_group_parquet_columns(footer$metadata, "bbox", box_members), call = call))
}

parquet_geo <- function(shapes, name) {
  types <- core(core_types(handles_of(shapes), store_of(shapes)))
  kinds <- paste0(names(parquet_kinds)[types %% 1000], c("", " Z", " M", " ZM")[types %/% 1000 + 1])
  crs <- crs_of(shapes)
  column <- list(encoding = "WKB", geometry_types = I(sort(unique(kinds[!is.na(types)]))), orientation = "counterclockwise")
  column["crs"] <- list(parquet_crs_json(crs))
  extent <- unname(box_of(shapes))
  if (!anyNA(extent)) column$bbox <- extent
  column$covering <- list(bbox = lapply(stats::setNames(box_members, box_members), function(member) c("bbox", member)))
  list(version = "1.1.0", primary_column = name, columns = stats::setNames(list(column), name))
}

# The little of a JSON CRS that names it: its type, name and code.
parquet_crs_json <- function(crs) {
  if (is.null(crs)) return(NULL)
  if (is.na(crs$code)) {
    caution("crs", "The CRS {crs_label(crs)} has no code to name it by in GeoParquet; the layer is written without.")
    return(NULL)
  }
  code <- as.integer(sub("EPSG:", "", crs$code))
  type <- if (crs$kind == "geographic") "GeographicCRS" else "ProjectedCRS"
  list(type = type, name = crs$name, id = list(authority = "EPSG", code = code))
}
