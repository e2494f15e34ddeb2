# West, south, east and north of a layer in degrees of WGS 84's kind; east may exceed 180.
degrees_extent <- function(x, call) {
  shapes <- as_shapes(x)
  need_crs(shapes, "its place is not known", call = call)
  crs <- crs_of(shapes)
  extent <- extent_on_globe(shapes)
  if (anyNA(extent)) fail("data", "The layer holds no coordinates.", call = call)
  if (in_plain_degrees(shapes) && extent[["xmax"]] - extent[["xmin"]] >= 360) extent[c("xmin", "xmax")] <- c(-180, 180)
  if (crs$kind == "geographic") {
    return(unname(extent * crs$unit_size + c(crs$meridian_degrees, 0, crs$meridian_degrees, 0)))
  }
  # The border of the extent, as its corners need not be its extremes.
  t <- seq(0, 1, length.out = 9)
  x <- c(extent[1] + t * (extent[3] - extent[1]), rep(extent[3], 9), extent[1] + t * (extent[3] - extent[1]), rep(extent[1], 9))
  y <- c(rep(extent[2], 9), extent[2] + t * (extent[4] - extent[2]), rep(extent[4], 9), extent[2] + t * (extent[4] - extent[2]))
  moved <- core(core_transform_points(unname(x), unname(y), unclass(crs), unclass(geographic_base(crs))), call = call)
  lon <- moved$x + crs$meridian_degrees
  lat <- moved$y
  if (all(is.nan(lon))) fail("crs", c("The layer lies outside the domain of {crs_label(crs)}.", i = "Is the label right?"), call = call)
  lon <- lon[!is.nan(lon)]
  if (diff(range(lon)) > 180) lon <- lon %% 360  # around the antimeridian
  c(min(lon), min(lat, na.rm = TRUE), max(lon), max(lat, na.rm = TRUE))
}

# Which boxes (rows of west, south, east, north; east may be west of west) hold an extent.
covers_extent <- function(boxes, extent) {
  width <- (boxes[, 3] - boxes[, 1]) %% 360
  width[width == 0 & boxes[, 1] != boxes[, 3]] <- 360
  from <- (extent[1] - boxes[, 1]) %% 360
  inside <- from + (extent[3] - extent[1]) <= width + 1e-9 | width >= 360
  inside & boxes[, 2] <= extent[2] + 1e-9 & boxes[, 4] >= extent[4] - 1e-9
}

box_size <- function(boxes) {
  width <- (boxes[, 3] - boxes[, 1]) %% 360
  width[width == 0] <- 360
  width * (sin(boxes[, 4] * pi / 180) - sin(boxes[, 2] * pi / 180))
}

#' @rdname find_crs
#' @export
crs_for <- function(x, measuring = "area") {
  call <- rlang::current_env()
  one_of(measuring, crs_purposes, "measuring", call = call)
  extent <- degrees_extent(x, call)
  base <- geographic_base(crs_of(as_shapes(x)))
  place <- list(extent = extent, lon = mean(extent[c(1, 3)]), lat = mean(extent[c(2, 4)]), width = extent[3] - extent[1],
                height = extent[4] - extent[2], base = base, at = places_of_layer(as_shapes(x), base, extent))
  place$lon <- (place$lon + 180) %% 360 - 180
  found <- switch(measuring, area = crs_for_area(place), distance = crs_for_distance(place), shape = crs_for_shape(place))
  attr(found, "reason") <- paste0(attr(found, "reason"), distortion_in_words(found, place))
  say("{.fn crs_for}: {crs_label(found)}: {attr(found, 'reason')}.")
  found
}

# Both hemispheres, and more than half way around.
is_world <- function(place) place$width > 180 && place$extent[2] * place$extent[4] < 0 && place$height > 60 || place$height > 120

crs_for_area <- function(place) {
  middle <- c(latitude_of_origin = round(place$lat, 2), central_meridian = round(place$lon, 2))
  if (is_world(place)) return(made_to_measure("Equal Earth", "equal-area over the whole world", place, c(central_meridian = round(place$lon))))
  least_distorted(place, list(
    made_to_measure("Lambert Azimuthal Equal Area", "equal-area, around the middle of the layer", place, middle),
    polar(place, "Lambert Azimuthal Equal Area", "equal-area, around the pole"),
    if (is_conic(place)) made_to_measure("Albers Equal Area", "equal-area, along the parallels of the layer", place, c(middle, standard_parallels(place))),
    made_to_measure("Lambert Cylindrical Equal Area", "equal-area, along the equator", place,
                    c(standard_parallel_1 = parallel_of_equator(place), middle["central_meridian"]))
  ))
}

crs_for_distance <- function(place) {
  zone <- utm_for(place)
  if (!is.null(zone)) return(zone)
  middle <- c(latitude_of_origin = round(place$lat, 2), central_meridian = round(place$lon, 2))
  around <- made_to_measure("Azimuthal Equidistant", "true distances from the middle of the layer", place, middle)
  if (is_world(place)) return(around)
  least_distorted(place, list(
    around,
    polar(place, "Azimuthal Equidistant", "true distances from the pole"),
    if (is_conic(place)) made_to_measure("Equidistant Conic", "true distances along meridians and two parallels", place, c(middle, standard_parallels(place)))
  ))
}

crs_for_shape <- function(place) {
  zone <- utm_for(place)
  if (!is.null(zone)) return(zone)
  middle <- c(latitude_of_origin = round(place$lat, 2), central_meridian = round(place$lon, 2))
  mercator <- made_to_measure("Mercator (variant B)", "conformal, along the equator", place,
                              c(standard_parallel_1 = round(min(max(abs(place$extent[c(2, 4)])) / 2, 60), 1), central_meridian = round(place$lon, 2)))
  if (is_world(place)) return(mercator)
  north <- place$lat > 0
  near_pole <- if (north) place$extent[2] > 60 else place$extent[4] < -60
  if (near_pole && place$width > 90) {
    return(reasoned(crs_by_code(if (north) 3995 else 3031, NULL), paste("conformal around the", if (north) "north" else "south", "pole")))
  }
  least_distorted(place, shape = TRUE, list(
    mercator,
    if (is_conic(place)) made_to_measure("Lambert Conic Conformal (2SP)", "conformal, for middle latitudes", place, c(middle, standard_parallels(place))),
    made_to_measure("Oblique Stereographic", "conformal, around the middle of the layer", place, c(middle, scale_factor = 1)),
    polar(place, "Polar Stereographic (variant A)", "conformal, around the pole", c(scale_factor = 1))
  ))
}

# Around the pole of the layer's hemisphere, with the middle of the layer below it.
polar <- function(place, method, reason, more = NULL) {
  pole <- if (place$lat > 0) 90 else -90
  made_to_measure(method, paste0(reason, if (pole > 0) ", north" else ", south"), place,
                  c(latitude_of_origin = pole, central_meridian = round(place$lon, 2), more))
}

# A cone needs parallels that are not the same on both sides of the equator.
is_conic <- function(place) abs(sum(standard_parallels(place))) > 2

# The parallel on which a cylinder is true: between the equator and where the layer ends.
parallel_of_equator <- function(place) {
  ends <- abs(place$extent[c(2, 4)])
  round(min(if (place$extent[2] * place$extent[4] < 0) max(ends) / 2 else mean(ends), 80), 2)
}

# Of several CRSs the one that distorts the layer least where it distorts it most: lengths, or for shapes the scale, which no direction changes there.
# One that is not much better than an earlier one gives way to it.
least_distorted <- function(place, candidates, shape = FALSE) {
  candidates <- Filter(Negate(is.null), candidates)
  worst <- vapply(candidates, distortion_over, 0, place$at, shape)
  candidates[[which(worst <= 1.02 * min(worst))[1]]]
}

# How many times as long the longest drawn metre is as the shortest, or, where that is more, as it should be; of places where a map has none infinitely.
distortion_over <- function(crs, at, shape) {
  d <- tryCatch(core(core_distortion((at$x - crs$meridian_degrees + 180) %% 360 - 180, at$y, unclass(crs))), error = function(e) NULL)
  if (is.null(d) || !length(d$least_scale) || anyNA(d$least_scale) || anyNA(d$greatest_scale)) return(Inf)
  if (shape) max(d$greatest_scale) / min(d$least_scale) else max(d$greatest_scale, 1 / d$least_scale)
}

# Longitudes from Greenwich and latitudes of vertices all over the layer, short of the poles, where lengths may be off without bound.
places_of_layer <- function(shapes, base, extent, most = 600) {
  at <- coordinates_of(in_degrees(shapes))
  at <- at[is.finite(at$x) & is.finite(at$y) & abs(at$y) <= 89.9, c("x", "y")]
  at <- at[unique(round(seq(1, nrow(at), length.out = min(most, nrow(at))))), ]
  if (nrow(at) < 30) at <- rbind(at, places_of_extent(extent))
  at$x <- at$x + base$meridian_degrees
  at
}

# Of a layer of few vertices nothing is known but its extent.
places_of_extent <- function(extent) {
  at <- expand.grid(x = seq(extent[1], extent[3], length.out = 5), y = pmin(pmax(seq(extent[2], extent[4], length.out = 5), -89.9), 89.9))
  tibble::as_tibble(at)
}

# A sixth of the height from either end (Snyder 1987, section 14).
standard_parallels <- function(place) {
  c(standard_parallel_1 = round(place$extent[2] + place$height / 6, 2), standard_parallel_2 = round(place$extent[4] - place$height / 6, 2))
}

# The UTM zone that holds a layer, on its own datum where the registry has that, else on WGS 84; NULL where none does.
utm_for <- function(place) {
  zone <- utm_zone(place$lon)
  reach <- max(abs(c(place$extent[1], place$extent[3]) - (mean(place$extent[c(1, 3)]) - place$lon) - (6 * zone - 183)))
  if (reach > 4.5 || place$extent[2] < -80 || place$extent[4] > 84) return(NULL)
  south <- place$lat < 0
  table <- registry_table()
  name <- paste0(place$base$name, " / UTM zone ", zone, if (south) "S" else "N")
  code <- table$epsg[table$kind == "projected" & ascii_lower(table$name) == ascii_lower(name)]
  if (!length(code)) code <- utm_on_wgs84(place$lon, place$lat)
  reasoned(crs_by_code(code[1], NULL), "the UTM zone the layer lies in, conformal")
}

reasoned <- function(crs, reason) {
  attr(crs, "reason") <- reason
  crs
}

# A projected CRS in metres that no registry has.
made_to_measure <- function(method, reason, place, parameters) {
  fields <- projected_on(place$base, method)
  fields$name <- paste0(fields$geographic_name, " / ", method, " (made to measure)")
  meridian <- if ("central_meridian" %in% names(parameters)) place$base$meridian_degrees else 0
  parameters["central_meridian"] <- parameters[["central_meridian"]] - meridian
  fields$parameters <- c(parameters, false_easting = 0, false_northing = 0)
  fields$area <- list(south = place$extent[2], west = place$extent[1], north = place$extent[4], east = place$extent[3], text = NA_character_)
  reasoned(new_crs(fields), reason)
}

# How far lengths and areas are off across the extent, at its corners and middle.
distortion_in_words <- function(crs, place) {
  at <- expand.grid(lon = c(place$extent[1], place$lon, place$extent[3]), lat = c(place$extent[2], place$lat, place$extent[4]))
  at$lat <- pmin(pmax(at$lat, -85), 85)  # at poles lengths may be off without bound
  d <- core(core_distortion((at$lon - crs$meridian_degrees + 180) %% 360 - 180, at$lat, unclass(crs)))
  lengths <- max(abs(c(d$least_scale, d$greatest_scale) - 1), na.rm = TRUE)
  areas <- max(abs(d$area_scale - 1), na.rm = TRUE)
  paste0("; lengths off by at most ", share_in_words(lengths), ", areas by ", share_in_words(areas), " at its middle and corners",
         if (any(abs(place$extent[c(2, 4)]) > 85)) ", up to 85\u00b0 north and south")
}

share_in_words <- function(share) {
  if (share < 1e-7) return("nothing")
  plain <- function(x) format(signif(x, 2), scientific = FALSE)
  if (share < 0.001) paste(plain(share * 1e6), "in a million") else paste(plain(share * 100), "%")
}

crs_purposes <- c("area", "distance", "shape")
