# Layers in zip archives, which are read in place.

register_format("zip", function() {
  new_format("Zip archive", "PKWARE application note 6.3", c("shapes", "columns", "layers", "any CRS"), endings = "zip", first_bytes = charToRaw("PK\003\004"),
             media_types = c("application/zip" = "zip"), open = open_archive, layers = layers_of_archive, write = write_shapefile_zip)
})

open_archive <- function(path, layer, call, listing, name, format) {
  entries <- core(core_zip_entries(path), source = name, call = call)$name
  entries <- entries[!grepl("^__MACOSX/|/[.]_", entries)]
  layers <- archive_layers(entries)
  if (!length(layers)) {
    fail("format", c("{.file {name}} holds no layer.", i = "It holds: {.file {utils::head(entries, 8)}}."), call = call)
  }
  if (listing) return(new_source("zip", path, entries = layers, name = name))
  # The folders of the only document are layers too.
  document <- length(layers) == 1 && format_with(ending_of(layers)) == "kml"
  chosen <- if (document) names(layers) else choose_layer(layer, names(layers), name, call)
  open_entry(path, layers[[chosen]], entries, if (document && !identical(layer, chosen)) layer, call, name)
}

# Entries that are layers, named for their stems; where stems repeat, for their paths.
archive_layers <- function(entries) {
  format <- format_with(ending_of(entries))
  holds <- !is.na(format) & !format %in% c("zip", "kmz", "dbase") & !grepl("[.](shx|txt)$", entries, ignore.case = TRUE)
  stems <- tools::file_path_sans_ext(entries)
  alone <- format %in% "dbase" & !tolower(stems) %in% tolower(stems[format %in% "shapefile"])
  layers <- entries[holds | alone]
  short <- stem_of(layers)
  stats::setNames(layers, ifelse(short %in% short[duplicated(short)], tools::file_path_sans_ext(layers), short))
}

open_entry <- function(path, entry, entries, layer, call, name) {
  format <- format_with(ending_of(entry))
  record <- format_record(format)
  place <- function(entry) list(archive = path, entry = entry)
  if (record$reads == "members") {
    stem <- tools::file_path_sans_ext(entry)
    return(new_source(format, path, members = lapply(members_among(entries, stem), place), layer = stem_of(entry), name = name))
  }
  if (record$reads == "content") {
    if (!is.null(record$open)) return(record$open(place(entry), layer, call, name = name))
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

layers_of_archive <- function(source) {
  format <- format_with(ending_of(source$entries))
  list(layer = names(source$entries), format = format, geometry_type = ifelse(format == "dbase", "none", NA_character_))
}
