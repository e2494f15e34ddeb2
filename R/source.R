# Where a layer's bytes are: files side by side, or entries of a zip archive, which is read without unpacking it.

# A list of `format`, `path` and, for shapefiles, the members shp, dbf, prj and cpg: paths or raw vectors, NULL where
# missing.
find_source <- function(source, layer = NULL, call = rlang::caller_env(2)) {
  if (!rlang::is_string(source)) fail("argument", "{.arg source} must be the path of a file.", call = call)
  source <- path.expand(source)
  if (dir.exists(source)) {
    fail("file", c("{.file {source}} is a folder.", i = "It holds: {.file {utils::head(list.files(source), 8)}}."), call = call)
  }
  if (!file.exists(source)) no_such_file(source, call)
  format <- format_of(source)
  if (format == "zip") return(find_in_zip(source, layer, call))
  if (format == "shapefile") return(c(list(format = format, path = source), members_beside(source)))
  if (!is.null(layer)) fail("argument", "{.file {source}} holds a single layer; leave out {.arg layer}.", call = call)
  if (format == "unknown") {
    fail("format", c("{.file {source}} is of no known format.",
                     i = "Shapefiles (.shp, .zip) and GeoJSON (.geojson, .json) can be read."), call = call)
  }
  list(format = format, path = source)
}

no_such_file <- function(source, call) {
  folder <- dirname(source)
  near <- if (dir.exists(folder)) list.files(folder)
  near <- utils::head(near[order(utils::adist(basename(source), near, ignore.case = TRUE))], 3)
  fail("file", c("There is no file {.file {source}}.",
                 if (!dir.exists(folder)) c(i = "There is no folder {.file {folder}} either."),
                 if (length(near)) c(i = "Nearest names there: {.file {near}}.")), call = call)
}

# By ending, else by the first bytes.
format_of <- function(path) {
  ending <- tolower(tools::file_ext(path))
  known <- c(shp = "shapefile", dbf = "shapefile", shx = "shapefile", zip = "zip", geojson = "geojson", json = "geojson")
  if (ending %in% names(known)) return(known[[ending]])
  head <- readBin(path, "raw", 512)
  if (length(head) >= 4 && identical(head[1:4], as.raw(c(0, 0, 0x27, 0x0a)))) return("shapefile")
  if (length(head) >= 4 && identical(head[1:4], charToRaw("PK\003\004"))) return("zip")
  if (length(head) && rawToChar(head[!head %in% as.raw(c(9, 10, 13, 32))][1]) %in% c("{", "\xef")) return("geojson")
  "unknown"
}

shapefile_members <- c("shp", "dbf", "prj", "cpg")

# Side files in any case: roads.SHP beside Roads.dbf.
members_beside <- function(path) {
  folder <- dirname(path)
  stem <- tools::file_path_sans_ext(basename(path))
  there <- list.files(folder)
  found <- lapply(shapefile_members, function(ending) {
    hit <- there[tolower(there) == tolower(paste0(stem, ".", ending))]
    exact <- hit[tools::file_path_sans_ext(hit) == stem]
    if (length(hit)) file.path(folder, c(exact, hit)[1])
  })
  stats::setNames(found, shapefile_members)
}

# Layers of a zip archive: name and stem of every .shp and GeoJSON entry.
zip_layers <- function(path, call) {
  entries <- core(core_zip_entries(path), source = path, call = call)$name
  entries <- entries[!grepl("^__MACOSX/", entries)]
  holds <- grepl("\\.(shp|geojson|json)$", entries, ignore.case = TRUE)
  list(entries = entries, layers = stats::setNames(entries[holds], tools::file_path_sans_ext(basename(entries[holds]))))
}

find_in_zip <- function(path, layer, call) {
  found <- zip_layers(path, call)
  layers <- found$layers
  if (!length(layers)) {
    fail("format", c("{.file {path}} holds no layer.", i = "It holds: {.file {utils::head(found$entries, 8)}}."), call = call)
  }
  if (is.null(layer)) {
    if (length(layers) > 1) {
      fail("argument", c("{.file {path}} holds {length(layers)} layers.",
                         i = "Choose one with {.arg layer}: {.val {names(layers)}}."), call = call)
    }
    layer <- names(layers)
  }
  entry <- layers[one_of(layer, names(layers), "layer", call = call)]
  extract <- function(name) core(core_zip_extract(path, name), source = path, call = call)
  if (!grepl("\\.shp$", entry, ignore.case = TRUE)) return(list(format = "geojson", path = path, text = extract(entry)))
  stem <- tools::file_path_sans_ext(entry)
  members <- lapply(shapefile_members, function(ending) {
    name <- found$entries[tolower(found$entries) == tolower(paste0(stem, ".", ending))]
    if (length(name)) extract(name[1])
  })
  c(list(format = "shapefile", path = path), stats::setNames(members, shapefile_members))
}
