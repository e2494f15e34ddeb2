# GeoParquet 1.1: nanoparquet reads and writes the columns, the core the well-known binary in them.

register_format("geoparquet", function() {
  new_format("GeoParquet", "GeoParquet 1.1", c("shapes", "tables", "columns", "coded CRS"), endings = c("parquet", "geoparquet"),
             first_bytes = charToRaw("PAR1"), media_types = c("application/vnd.apache.parquet" = "parquet"), reads = "path", held = TRUE,
             read = read_geoparquet, layers = layers_of_geoparquet, header = header_of_geoparquet, write = write_geoparquet)
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
  found <- parquet_step(source$name, call, read_tried(path, source$name, call, function() nanoparquet::read_parquet_metadata(path)))
  schema <- found$schema[-1, ]
  pairs <- found$file_meta_data$key_value_metadata[[1]]
  geo <- pairs$value[match("geo", pairs$key)]
  geo <- if (length(geo) && !is.na(geo)) {
    tryCatch(parse_json(geo, simplifyVector = TRUE, simplifyDataFrame = FALSE), error = function(e) {
      fail("format", c("Cannot read {.file {source$name}}.", x = "Its metadata {.val geo} is no JSON: {said_by(e)}"), call = call)
    })
  }
  list(schema = schema, rows = as.double(found$file_meta_data$num_rows), geo = geo)
}

read_geoparquet <- function(source, query) {
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
    as.list(parquet_step(source$name, query$call, read_tried(flat$file, source$name, query$call, function() {
      nanoparquet::read_parquet(flat$file, col_select = columns)
    })))
  }
  nested <- setdiff(flat$dropped, parquet_box_column(about))
  if (length(nested)) caution("data", "Columns of {.file {basename(source$name)}} that are groups of columns are not read: {.val {nested}}.")
  tested <- where_columns(query, names)
  data <- lapply(read(union(wanted, tested)), parquet_column)
  rows <- rows_where(query, data[tested], flat$rows)
  pick <- function(rows) lapply(stats::setNames(data[wanted], names(wanted)), vctrs::vec_slice, i = rows)
  if (is.null(shape)) return(layer_content(pick(rows), NULL, footer$rows, query))
  if (!identical(about$encoding, "WKB")) {
    fail("format", c("The shapes of {.file {source$name}} are in the encoding {.val {about$encoding}}.", i = "WKB is read."), call = query$call)
  }
  decoder <- core_open_blobs("wkb", query$within, query$skip_damaged)
  kept <- core(core_add_blobs(decoder, unclass(read(shape)[[shape]])[rows]), source = source$name, call = query$call)
  found <- core_take_blobs(decoder)
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
  if (!length(flat$dropped) && !flat$row_groups) return(list(file = source$content, rows = parquet_rows(source$content)))
  copy <- tempfile(fileext = ".parquet")
  if (!file.copy(source$content, copy)) cut_off(copy, query$call)
  put_parquet_footer(copy, footer$at, flat$metadata)
  if (is_ours(source$content)) note_written(copy)
  list(file = copy, temporary = copy, dropped = flat$dropped, rows = parquet_rows(copy))
}

parquet_rows <- function(file) as.double(nanoparquet::read_parquet_info(file)$num_rows)

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

parquet_prototype <- function(footer, names) {
  empty <- list(logical = logical(), integer = integer(), double = double(), character = character(), Date = as.Date(character()),
                POSIXct = as_datetime(character()))
  type <- footer$schema$r_type[match(names, footer$schema$name)]
  stats::setNames(lapply(type, function(type) empty[[type]] %||% list()), names)
}

parquet_column <- function(column) {
  if (inherits(column, "POSIXct")) attr(column, "tzone") <- "UTC"
  column
}

# The CRS is JSON with an id; a column without one is on longitude and latitude (GeoParquet 1.1, "crs"). Codes are taken from its id.
parquet_crs <- function(about, source, call) {
  if (!"crs" %in% names(about)) return(crs_by_code(4326, call))
  if (is.null(about$crs)) return(NULL)
  id <- paste(c(about$crs$id$authority, about$crs$id$code), collapse = ":")
  if (grepl("^OGC:CRS84", id)) return(crs_by_code(4326, call))
  code <- if (grepl("^EPSG:[0-9]+$", id)) as.integer(sub("EPSG:", "", id)) else 0L
  if (!is.null(core_crs_find(code))) return(crs_by_code(code, call))
  caution("crs", c("The CRS of {.file {basename(source$name)}}, {.val {about$crs$name %||% 'unnamed'}}, has no code in the registry; the layer has none.",
                   i = "Label it: {.code declare_crs(x, \"EPSG:\u2026\")}."))
  NULL
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
    boxes <- core_boxes(handles_of(shapes), store_of(shapes))
    columns[[name]] <- I(wkb_of(shapes))
    columns[paste0("bbox.", box_members)] <- lapply(1:4, function(edge) boxes[edge, ])
    metadata <- c(geo = as.character(jsonlite::toJSON(parquet_geo(shapes, name), auto_unbox = TRUE, digits = NA, null = "null")))
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
  types <- core_types(handles_of(shapes), store_of(shapes))
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
