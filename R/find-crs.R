#' Find a CRS, or have one suggested
#'
#' `find_crs()` searches the registry by words and by place. `crs_for()` names a CRS on which a layer is measured or
#' shown well, and says why.
#'
#' For areas an equal-area projection is suggested: Lambert azimuthal around the middle of the layer, Albers for one that is
#' much wider than high, Equal Earth for the world. For distances and shapes a UTM zone where the layer fits in one, on its
#' own datum where the registry has it; beyond that azimuthal equidistant around the middle (distances) and Lambert
#' conformal conic, Mercator or polar stereographic (shapes), after Snyder (1987), section 6.
#'
#' @param text Words that must all occur in the name, area of use, method, unit or datum, or a code. Case, accents, blanks and hyphens
#'   do not matter, `feet` is `ft`, and usual nicknames are known (`"web mercator"`, `"lambert93"`, `"utm33n"`). `NULL` for any.
#' @param covering A spatial frame or shape vector with a CRS: only what is meant to be used where it lies.
#' @param kind `"projected"`, `"geographic"`, `"compound"`, `"geocentric"`, or `NULL` for any.
#' @param x A spatial frame or shape vector with a CRS.
#' @param ... Not used.
#' @param measuring `"area"`, `"distance"` or `"shape"` (angles).
#' @return `find_crs()`: a tibble `code, name, kind, unit, method, datum, area`. What is named so exactly comes first, then names that
#'   begin with the words or hold all of them, then what holds them elsewhere; among equals the smallest area of use where `covering`
#'   is given, else systems on WGS 84, then shorter names. `code` is what [crs()] takes; for methods of which the registry has no row their
#'   name, which stands for the method on WGS 84 around Greenwich. `crs_for()`: a CRS to hand to [reproject_to()], which says when printed why it was
#'   chosen; it has no code where it was made to measure.
#'   `plot()` draws the areas of use of what was found.
#' @section Errors: `civicatlas_error_crs` where a layer has no CRS.
#' @examples
#' find_crs("utm 57s")
#' wards <- read_layer(demo_file("wards.shp"))
#' find_crs("zone", covering = wards)
#' crs_for(wards, measuring = "area")
#' @export
find_crs <- function(text = NULL, covering = NULL, kind = NULL) {
  call <- rlang::current_env()
  if (!is.null(kind)) one_of(kind, c("projected", "geographic", "compound", "geocentric"), "kind", call = call)
  table <- registry_table()
  rank <- if (is.null(text)) rep(1, nrow(table)) else rank_of_words(table, text, call)
  keep <- !is.na(rank)
  if (!is.null(kind)) keep <- keep & table$kind == kind
  if (!is.null(covering)) keep <- keep & covers_extent(table$box, degrees_extent(covering, call))
  size <- if (is.null(covering)) rep(0, nrow(table)) else box_size(table$box)
  plain <- if (is.null(text)) 0 else 1000 * (1 - grepl("^(WGS|World Geodetic System) ?(19)?84", table$datum)) + nchar(table$name)
  order <- order(rank, size, table$has_heights, plain, table$epsg)
  found <- table[order[keep[order]], ]
  if (!nrow(found)) say("{.fn find_crs}: nothing found{nearest_name_hint(table, text)}.")
  found <- found[c("code", "name", "kind", "unit", "method", "datum", "area")]
  structure(found, class = c("found_crs", class(found)))
}

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

registry_cache <- new.env(parent = emptyenv())

# All rows, with their names and what else is said of them in words to search.
registry_table <- function() {
  if (is.null(registry_cache$table)) {
    raw <- core_crs_table()
    table <- tibble::as_tibble(raw[c("code", "name", "kind", "unit", "method", "datum", "area", "box", "has_heights")])
    table <- table[!is.na(table$code), ]
    table$method[!nzchar(table$method)] <- NA
    table$epsg <- table$code
    table$code <- paste0("EPSG:", table$epsg)
    table <- vctrs::vec_rbind(table, methods_without_row(table))
    names <- words_of(table$name)
    nicknames <- unname(crs_nicknames[as.character(table$epsg)])
    nicknames[is.na(nicknames)] <- ""
    feet <- ifelse(grepl("foot|feet", table$unit), "ft", "")
    registry_cache$names <- names
    registry_cache$nicknames <- nicknames
    registry_cache$words <- paste(names, nicknames, table$epsg, words_of(paste(table$area, table$method, table$datum)), feet)
    registry_cache$table <- table
  }
  registry_cache$table
}

# What people call some systems beside their names, in words as words_of() gives them; several parted by commas.
crs_nicknames <- c(
  "4326" = "wgs84,wgs 1984,gps,lat lon,lon lat,latlong,longlat,longitude latitude", "3857" = "web mercator,spherical mercator,pseudo mercator",
  "3395" = "world mercator", "2154" = "lambert 93,rgf93 lambert 93", "27700" = "british national grid,bng,national grid",
  "29903" = "irish grid", "2157" = "itm,irish transverse mercator", "3035" = "laea europe,etrs laea", "3034" = "lcc europe",
  "5070" = "conus albers,us albers,usa albers", "5071" = "conus albers hard", "6350" = "conus albers 2011", "3338" = "alaska albers", "3005" = "bc albers",
  "3347" = "statistics canada lambert", "28992" = "rd new,rijksdriehoek,dutch grid", "31370" = "belgian lambert 72", "3812" = "belgian lambert 2008",
  "2056" = "lv95,swiss grid", "21781" = "lv03,old swiss grid", "3006" = "sweref99 tm", "3067" = "tm35fin,etrs tm35fin", "2193" = "nztm,nztm2000",
  "27200" = "nzmg", "7844" = "gda2020", "4283" = "gda94", "3577" = "australian albers", "3112" = "geoscience australia lambert", "4258" = "etrs89",
  "4269" = "nad83", "4267" = "nad27", "8857" = "equal earth", "6933" = "ease grid 2",
  "3031" = "antarctic polar stereographic", "3995" = "arctic polar stereographic",
  "3413" = "nsidc north", "3976" = "nsidc south", "5514" = "krovak east north,s jtsk", "23700" = "eov", "2180" = "poland cs92,puwg 1992",
  "31467" = "gk3,gauss kruger 3", "31468" = "gk4,gauss kruger 4", "4674" = "sirgas 2000", "5880" = "brazil polyconic", "3346" = "lks94",
  "3301" = "l est97", "3059" = "lks92", "31287" = "austria lambert", "3765" = "htrs96", "3794" = "d96 tm", "5243" = "germany lcc"
)

# A row for each method that makes a map of the world and of which the registry has no system.
methods_without_row <- function(table) {
  names <- world_methods
  n <- length(names)
  tibble::tibble(code = names, name = paste("WGS 84 /", names), kind = "projected", unit = "metre", method = names, datum = "WGS 1984", area = "World.",
                 box = matrix(rep(c(-180, -90, 180, 90), each = n), n), has_heights = FALSE, epsg = NA_integer_)
}

world_methods <- c("Mollweide", "Robinson", "Sinusoidal", "Winkel Tripel", "Miller Cylindrical")

# Lower case without accents, each run of other characters than letters and digits as one blank; units as they are shortened.
words_of <- function(text) {
  text <- without_accents(text)
  text <- trimws(gsub("[^\\p{L}\\p{N}.]+", " ", text, perl = TRUE))
  gsub("\\b(us)?(foot|feet)\\b", "ft", gsub("\\bus survey (foot|feet)\\b|\\bus (foot|feet|ft)\\b", "ftus", text))
}

squeezed <- function(words) gsub(" ", "", words, fixed = TRUE)

# How well each row answers the words, 1 the best; NA where it lacks one.
rank_of_words <- function(table, text, call) {
  if (!rlang::is_string(as.character(text))) fail("argument", "{.arg text} must be one string of words.", call = call)
  asked <- words_of(sub("^EPSG:+", "", as.character(text), ignore.case = TRUE))
  asked <- gsub("\\butm ?(zone )?([0-9]{1,2}) ?([ns])\\b", "utm zone \\2\\3", asked)
  words <- strsplit(asked, " ", fixed = TRUE)[[1]]
  if (!length(words)) return(rep(1, nrow(table)))
  names <- registry_cache$names
  short <- sub("^.* / ", "", table$name)  # without the datum before it
  all_of <- function(where, pattern) Reduce(`&`, lapply(words, function(word) grepl(pattern(word), where, perl = TRUE)))
  literal <- function(word) gsub(".", "\\.", word, fixed = TRUE)
  whole <- function(word) paste0("\\b", literal(word), "\\b")
  start <- function(word) paste0("\\b", literal(word))
  one <- squeezed(asked)
  ranks <- list(
    table$epsg %in% suppressWarnings(as.integer(one)) & !is.na(table$epsg), squeezed(names) == one,
    vapply(strsplit(squeezed(registry_cache$nicknames), ","), function(own) one %in% own, NA),
    squeezed(words_of(short)) == one, startsWith(names, asked), grepl(whole(asked), names, perl = TRUE),
    all_of(names, whole), all_of(names, start),
    grepl(one, squeezed(names), fixed = TRUE),
    all_of(registry_cache$words, whole), all_of(registry_cache$words, start), all_of(registry_cache$words, literal),
    grepl(one, squeezed(registry_cache$words), fixed = TRUE)
  )
  rank <- rep(NA_real_, nrow(table))
  for (i in rev(seq_along(ranks))) rank[ranks[[i]]] <- i
  # Among equals those come first that have more of the words in the order asked for: "zone 3" before "3-degree".
  pairs <- paste(utils::head(words, -1), words[-1])
  if (length(words) > 1) rank <- rank + 0.9 - 0.9 * Reduce(`+`, lapply(pairs, function(pair) grepl(whole(pair), names, perl = TRUE))) / length(pairs)
  # What is named so leaves out what holds the words in its area of use; whole words leave out parts of words.
  best <- suppressWarnings(min(rank, na.rm = TRUE))
  rank[rank >= if (best < 5) 10 else if (best < 12) 12 else Inf] <- NA
  rank
}

nearest_name_hint <- function(table, text) {
  if (is.null(text)) return("")
  words <- unique(unlist(strsplit(words_of(table$name), "[^[:alpha:]]+")))
  asked <- strsplit(words_of(as.character(text)), "[^[:alpha:]]+")[[1]]
  unknown <- asked[nchar(asked) > 2 & !vapply(asked, function(word) any(grepl(word, words, fixed = TRUE)), TRUE)]
  if (!length(unknown)) return("")
  words <- words[nchar(words) > 2]
  nearest <- vapply(unknown, function(word) words[which.min(utils::adist(word, words))], "")
  paste0("; is ", paste0("\"", unknown, "\" perhaps \"", nearest, "\"", collapse = ", "), "?")
}
