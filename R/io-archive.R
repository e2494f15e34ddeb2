# Layers in zip archives, which are read in place. KMZ is a zip archive whose layer is a KML document.

open_archive <- function(path, layer, call, listing, name, format) {
  entries <- core(core_zip_entries(path), source = name, call = call)$name
  entries <- entries[!grepl("^__MACOSX/|/[.]_", entries)]
  layers <- archive_layers(entries)
  if (!length(layers)) {
    fail("format", c("{.file {name}} holds no layer.", i = "It holds: {.file {utils::head(entries, 8)}}."), call = call)
  }
  if (listing) return(new_source("archive", path, entries = layers, name = name))
  # The folders of the only document are layers too.
  document <- length(layers) == 1 && format_of_name(layers) == "kml"
  chosen <- if (document) names(layers) else choose_layer(layer, names(layers), name, call)
  open_entry(path, layers[[chosen]], entries, if (document && !identical(layer, chosen)) layer, call, name)
}

format_of_name <- function(name) unname(file_formats[ascii_lower(tools::file_ext(sub("[.]gz$", "", name, ignore.case = TRUE)))])

# Entries that are layers, named for their stems; where stems repeat, for their paths.
archive_layers <- function(entries) {
  format <- format_of_name(entries)
  holds <- !is.na(format) & !format %in% c("zip", "kmz", "dbase") & !grepl("[.](shx|txt)$", entries, ignore.case = TRUE)
  stems <- tools::file_path_sans_ext(entries)
  alone <- format %in% "dbase" & !tolower(stems) %in% tolower(stems[format %in% "shapefile"])
  layers <- entries[holds | alone]
  short <- stem_of(layers)
  stats::setNames(layers, ifelse(short %in% short[duplicated(short)], tools::file_path_sans_ext(layers), short))
}

open_entry <- function(path, entry, entries, layer, call, name) {
  format <- format_of_name(entry)
  place <- function(entry) list(archive = path, entry = entry)
  if (format %in% c("shapefile", "dbase")) {
    stem <- tools::file_path_sans_ext(entry)
    return(new_source(format, path, members = lapply(members_among(entries, stem), place), layer = stem_of(entry), name = name))
  }
  if (format == "kml") return(open_kml(place(entry), layer, call, name = name))
  if (!format %in% c("geopackage", "spreadsheet", "geoparquet")) {
    return(new_source(format, path, content = place(entry), layer = stem_of(entry), name = name))
  }
  # Libraries that want a file of their own get one, for as long as the layer is read.
  file <- file.path(tempfile("entry"), basename(entry))
  dir.create(dirname(file))
  writeBin(core(core_read_bytes(place(entry), -1), source = name, call = call), file)
  opened <- open_file(file, layer, call, name = paste0(name, "/", basename(entry)))
  opened$temporary <- c(opened$temporary, dirname(file))
  opened
}

source_layers.source_archive <- function(source) {
  format <- format_of_name(source$entries)
  list(layer = names(source$entries), format = format, geometry_type = ifelse(format == "dbase", "none", NA_character_))
}
