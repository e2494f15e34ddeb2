# KML (OGC 07-147r2): xml2 reads the document, the core its geometry. A folder with placemarks of its own is a layer.

register_format("kml", function() {
  new_format("KML", "OGC 07-147r2", c("shapes", "columns", "layers"), endings = "kml",
             first_text = "^(<[?]xml[^>]*>\\s*)?(<!--.*-->\\s*)?<kml", media_types = c("application/vnd.google-earth.kml+xml" = "kml"),
             open = open_kml, read = read_kml, layers = layers_of_kml, write = write_kml)
})

# A zip archive around a document.
register_format("kmz", function() {
  new_format("KMZ", "OGC 07-147r2", c("shapes", "columns", "layers"), endings = "kmz", open = open_archive, layers = layers_of_archive, write = write_kml)
})

open_kml <- function(path, layer, call, listing = FALSE, name = path, format = "kml") {
  bytes <- core(core_read_bytes(path, -1), source = name, call = call)
  if (declares_entities(bytes)) {
    fail("format", c("Cannot read {.file {name}}.",
                     x = "It declares entities, a document type or an unusual encoding, behind which text can stand that unpacks to any size.",
                     i = "KML needs neither: save it in UTF-8, without a line that begins with <!DOCTYPE."), call = call)
  }
  document <- tryCatch(xml2::read_xml(without_namespace(bytes)), error = function(e) {
    fail("format", c("Cannot read {.file {name}}.", x = "It is no well-formed XML: {said_by(e)}"), call = call)
  })
  if (xml2::xml_name(document) != "kml") {
    fail("format", "{.file {name}} is XML but no KML: it starts with the element {.val {xml2::xml_name(document)}}.", call = call)
  }
  if (length(xml2::xml_ns(document))) xml2::xml_ns_strip(document)
  opened <- new_source("kml", path, document = document, folders = kml_folders(document), name = name)
  if (!is.null(layer)) opened$layer <- one_of(layer, c(names(opened$folders), stem_of(name)), "layer", call = call)
  opened
}

# A document type, which stands behind declarations and comments, in whatever width of characters; or letters of which that cannot be told.
declares_entities <- function(bytes) {
  letters <- if (any(utils::head(bytes, 4) == 0)) bytes[bytes != 0] else bytes
  at <- grepRaw("<", utils::head(letters, 64), fixed = TRUE)  # behind a byte order mark
  if (!length(at)) return(TRUE)
  has_odd_encoding(letters[seq(at, min(at + 200, length(letters)))]) || has_document_type(letters, at)
}

# One that does not write what is ASCII as ASCII does.
has_odd_encoding <- function(letters) {
  text <- rawToChar(letters[letters != 0])
  encoding <- regmatches(text, regexec("^<[?]xml[^>]*encoding\\s*=\\s*[\"']([^\"']*)", text, useBytes = TRUE))[[1]][2]
  !is.na(encoding) && !grepl("^(utf-?(8|16.*|32.*)|us-ascii|ascii|iso-8859-[0-9]+|latin-?1|windows-125[0-8])$", encoding, ignore.case = TRUE)
}

# Before the first element, which begins at or behind a byte.
has_document_type <- function(letters, at) {
  repeat {
    begins <- function(text) identical(letters[at + seq_len(nchar(text)) - 1L], charToRaw(text))
    end <- if (begins("<?")) "?>" else if (begins("<!--")) "-->"
    if (is.null(end)) return(begins("<!"))
    at <- grepRaw(end, letters, offset = at + 2, fixed = TRUE)
    if (!length(at)) return(FALSE)
    at <- grepRaw("<", letters, offset = at, fixed = TRUE)
    if (!length(at)) return(FALSE)
  }
}

# The text without the default namespaces of its first element, which cost xml2 far more to take away once it is parsed.
without_namespace <- function(bytes) {
  front <- seq_len(min(length(bytes), 4096))
  if (any(bytes[front] == 0)) return(bytes)  # UTF-16, say
  text <- rawToChar(bytes[front])
  c(charToRaw(sub("(<kml[^>]*?) xmlns=(\"[^\"]*\"|'[^']*')", "\\1", text, perl = TRUE, useBytes = TRUE)), bytes[-front])
}

# Folders that hold placemarks themselves, by name.
kml_folders <- function(document) {
  folders <- xml2::xml_find_all(document, "//Folder[Placemark]")
  names <- xml2::xml_text(xml2::xml_find_first(folders, "./name"))
  names[is.na(names)] <- "folder"
  stats::setNames(as.list(folders), make.unique(names, sep = "_"))
}

layers_of_kml <- function(source) {
  layers <- names(source$folders) %||% stem_of(source$name)
  if (length(layers) < 2) layers <- stem_of(source$name)
  list(layer = layers, format = rep("kml", length(layers)), geometry_type = rep(NA_character_, length(layers)))
}

read_kml <- function(source, query) {
  folder <- source$folders[[source$layer %||% ""]]
  root <- folder %||% source$document
  path <- if (is.null(folder)) "//Placemark" else "./Placemark"
  placemarks <- xml2::xml_find_all(root, path)
  columns <- kml_columns(source$document, placemarks, kml_extended_data(root, path, placemarks))
  if (is.null(folder) && length(source$folders) > 1) columns$folder <- xml2::xml_text(xml2::xml_find_first(placemarks, "ancestor::Folder[1]/name"))
  query <- settle_window(query, crs_by_code(4326, query$call))
  wanted <- chosen_columns(query, lapply(columns, vctrs::vec_ptype))
  rows <- rows_where(query, columns[where_columns(query, names(columns))], length(placemarks))
  geometry <- xml2::xml_find_first(placemarks[rows], paste0("./*[", paste0("self::", kml_elements, collapse = " or "), "]"))
  found <- core(core_read_kml(as.character(geometry)), source = source$name, call = query$call)
  report_notices(found$notices, source$name)
  shapes <- shapes_of_core(found, crs_by_code(4326, query$call))
  inside <- rows_within(query, shapes)
  columns <- lapply(named_as_chosen(columns, wanted), function(column) column[rows[inside]])
  layer_content(columns, shapes[inside], length(placemarks), query)
}

kml_elements <- c("Point", "LineString", "LinearRing", "Polygon", "MultiGeometry", "Model")

# name, description and time where any placemark has them, and the fields of ExtendedData.
kml_columns <- function(document, placemarks, data) {
  simple <- lapply(c(name = "./name", description = "./description", when = "./TimeStamp/when", begin = "./TimeSpan/begin", end = "./TimeSpan/end"),
                   function(path) xml2::xml_text(xml2::xml_find_first(placemarks, path)))
  simple <- simple[!vapply(simple, function(column) all(is.na(column)), NA)]
  # A name that only repeats a field of the same name is one column.
  repeated <- vapply(intersect(names(simple), names(data)), function(name) identical(simple[[name]], data[[name]]), NA)
  simple <- simple[setdiff(names(simple), names(repeated)[repeated])]
  types <- kml_schema(document)
  blank <- setdiff(names(types), names(data))
  data[blank] <- rep(list(rep(NA_character_, length(placemarks))), length(blank))
  data <- data[match(union(names(types), names(data)), names(data))]  # a name may be blank
  typed <- Map(kml_typed, data, types[match(names(data), names(types))])
  columns <- c(simple, typed)
  stats::setNames(columns, make.unique(names(columns) %||% character(), sep = "_"))
}

# Fields as text, one column a name. All are found by searches from the root: a search from each placemark costs far more.
kml_extended_data <- function(root, path, placemarks) {
  fields <- c("/ExtendedData/SchemaData/SimpleData[@name]", "/ExtendedData/Data[@name][value]")
  texts <- function(field, below) xml2::xml_text(xml2::xml_find_all(root, paste0(path, field, below)))
  names <- unlist(lapply(fields, texts, "/@name"))
  nameless <- paste0(path, "/ExtendedData", c("/SchemaData/SimpleData", "/Data"), "[not(@name)]", collapse = " | ")
  nameless <- xml2::xml_find_num(root, sprintf("count(%s)", nameless))
  if (nameless) caution("data", "{counted(nameless, 'value')} without the name of a field {cli::qty(nameless)}{?is/are} left out.")
  if (!length(names)) return(list())
  values <- unlist(Map(texts, fields, c("", "/value[1]")), use.names = FALSE)
  row <- unlist(lapply(fields, function(field) {
    rep(seq_along(placemarks), xml2::xml_find_num(placemarks, paste0("count(.", field, ")")))
  }))
  lapply(split(seq_along(names), factor(names, unique(names))), function(at) {
    column <- rep(NA_character_, length(placemarks))
    column[row[at]] <- values[at]
    column
  })
}

kml_schema <- function(document) {
  fields <- xml2::xml_find_all(document, "//Schema/SimpleField[@name]")
  stats::setNames(xml2::xml_attr(fields, "type"), xml2::xml_attr(fields, "name"))
}

# As the schema says; without one numbers are recognised as in other text files.
kml_typed <- function(column, type) {
  if (is.na(type)) return(typed_column(core(core_settle_numbers(column))))
  if (type == "bool") return(kml_bool(column))
  if (!type %in% c("int", "uint", "short", "ushort", "double", "float")) return(column)
  numbers <- suppressWarnings(as.double(column))
  if (any(is.na(numbers) & !is.na(column))) return(column)
  if (type %in% c("double", "float")) numbers else narrow_numbers(numbers)
}

# Text where a value is neither true nor false.
kml_bool <- function(column) {
  at <- match(ascii_lower(trimws(column)), c("1", "true", "0", "false"))
  if (any(is.na(at) & !is.na(column))) column else at <= 2
}

# --- writing -----------------------------------------------------------------------------------------------------------

write_kml <- function(x, target, options, call) {
  shapes <- on_wgs84(as_shapes(x), call)
  encoded <- core(core_encode_kml(handles_of(shapes), store_of(shapes), within_numbers(writable_columns(x, call, keep = character())),
                                  stem_of(target), options$decimals), call = call)
  report_notices(encoded$notices, target)
  bytes <- encoded$bytes
  if (ending_of(target) == "kmz") bytes <- core(core_encode_zip("doc.kml", list(bytes)))
  write_files(stats::setNames(list(bytes), target), call)
}
