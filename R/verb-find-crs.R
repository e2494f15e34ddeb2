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

# How well each row answers the words, 1 the best; NA where it lacks one.
rank_of_words <- function(table, text, call) {
  if (!rlang::is_string(as.character(text))) fail("argument", "{.arg text} must be one string of words.", call = call)
  asked <- words_of(sub("^EPSG[: ]+", "", as.character(text), ignore.case = TRUE))
  if (!grepl("^(state ?plane|spcs)$", asked)) asked <- trimws(gsub("\\b(state ?plane|spcs)\\b", "", asked))
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
  nearest <- vapply(unknown, nearest_word, "", words, most = 1)
  paste0("; is ", paste0("\"", unknown, "\" perhaps \"", nearest, "\"", collapse = ", "), "?")
}
