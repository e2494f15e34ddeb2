# The registry of CRSs as a table, and its rows by words.

registry_cache <- new.env(parent = emptyenv())

# All rows, with their names and what else is said of them in words to search.
registry_table <- function() {
  if (is.null(registry_cache$table)) {
    raw <- core(core_crs_table())
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

# Lower case without accents, each run of other characters than letters and digits as one blank; units as they are shortened.
words_of <- function(text) {
  text <- without_accents(text)
  text <- trimws(gsub("[^\\p{L}\\p{N}.]+", " ", text, perl = TRUE))
  gsub("\\b(us)?(foot|feet)\\b", "ft", gsub("\\bus survey (foot|feet)\\b|\\bus (foot|feet|ft)\\b", "ftus", text))
}

world_methods <- c("Mollweide", "Robinson", "Sinusoidal", "Winkel Tripel", "Miller Cylindrical")

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
