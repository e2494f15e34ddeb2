# Do coordinates fit the CRS a layer is labelled with? They are tried as they are; where their middle lies far from the
# CRS's area of use, or outside its domain, the usual mistakes are tried, and the one that puts them there is named.

# One warning where coordinates cannot be what the label says.
check_plausible <- function(shapes, extent = box_of(shapes)) {
  problem <- implausible(shapes, extent)
  if (is.null(problem)) return(invisible())
  label <- crs_label(crs_of(shapes))
  caution("crs", c("The coordinates do not fit the label {label}: {extent_in_words(shapes)}.", i = problem))
}

# The likely cause in a sentence, NULL where nothing is wrong.
implausible <- function(shapes, extent = box_of(shapes)) {
  crs <- crs_of(shapes)
  if (anyNA(extent) || is.null(crs)) return(NULL)
  switch(crs$kind,
    geographic = if (beyond_degrees(extent * crs$unit_size)) cause_beyond_degrees(extent) else cause_elsewhere(crs, extent),
    projected = if (crs$unit_size < 100 && !beyond_degrees(extent, 360)) cause_degrees else cause_elsewhere(crs, extent)
  )
}

beyond_degrees <- function(degrees, longitude = 540) {
  max(abs(degrees[c("ymin", "ymax")])) > 90.000001 || max(abs(degrees[c("xmin", "xmax")])) > longitude
}

# No place of a projected CRS but one beside its origin has coordinates so small.
cause_degrees <- "They look like degrees of longitude and latitude: {.code declare_crs(x, \"EPSG:4326\")} if they are, then {.fn reproject_to}."

cause_beyond_degrees <- function(extent) {
  if (max(abs(extent[c("xmin", "xmax")])) <= 90 && max(abs(extent[c("ymin", "ymax")])) <= 180) {
    return("Longitude and latitude look swapped: x must be the longitude.")
  }
  "They look like metres or feet of a projected CRS: label the layer with {.fn declare_crs}."
}

cause_elsewhere <- function(crs, extent) {
  middle <- c(mean(extent[c("xmin", "xmax")]), mean(extent[c("ymin", "ymax")]))
  if (is.null(crs$area) || near_area_of_use(crs, middle)) return(NULL)
  fits <- function(middle) near_area_of_use(crs, middle, margin = 0.05)
  if (fits(rev(middle))) return("The axes look swapped: x must be the easting or longitude, y the northing or latitude.")
  unit <- if (crs$kind == "projected") fitting_unit(crs, middle, fits)
  place <- longitude_latitude(crs, middle[1], middle[2])
  if (length(unit) && anyNA(place)) return(paste0("They look like ", unit, ", not ", unit_plural(crs$unit), ": label the layer with the CRS in that unit."))
  where_they_lie(crs, place, unit)
}

# That coordinates are of a place far from the CRS's area of use; `unit`: in which they would lie within.
where_they_lie <- function(crs, place, unit) {
  area <- if (is.na(crs$area$text)) "its area of use" else paste0("its area of use (", escape(shortened(sub("[.]$", "", crs$area$text), 80)), ")")
  if (anyNA(place)) return(paste0("They lie outside the domain of the CRS, and far from ", area, "."))
  else_there <- if (length(unit)) paste0(" Taken as ", unit, " they would lie within.")
  paste0("They lie near ", place_in_words(place), ", far from ", area, ": is that where they are?", else_there)
}

# The other unit in which the place would fit, if any.
fitting_unit <- function(crs, middle, fits) {
  other <- c(foot_sizes, if (crs$unit_size != 1) c(metres = 1))
  utils::head(names(other)[vapply(other, function(size) fits(middle * size / crs$unit_size), TRUE)], 1)
}

unit_plural <- function(unit) if (grepl("foot", unit)) sub("foot", "feet", unit) else paste0(unit, "s")

foot_sizes <- c("feet" = 0.3048, "US survey feet" = 1200 / 3937)

place_in_words <- function(place) {
  sprintf("%.1f\u00b0 %s, %.1f\u00b0 %s", abs(place[1]), if (place[1] < 0) "W" else "E", abs(place[2]), if (place[2] < 0) "S" else "N")
}

# Longitude from Greenwich and latitude in degrees of one place on a CRS, on its own datum; NA outside its domain.
longitude_latitude <- function(crs, x, y) {
  place <- core(core_transform_points(x, y, unclass(crs), unclass(geographic_base(crs))))
  if (is.nan(place$x)) c(NA_real_, NA_real_) else c(place$x + crs$meridian_degrees, place$y)
}

# Whether a place lies in the CRS's area of use or beside it by a share of its width, a degree at least where that is half;
# so too where no area is known.
near_area_of_use <- function(crs, middle, margin = 0.5) {
  area <- crs$area
  if (is.null(area)) return(TRUE)
  place <- tryCatch(longitude_latitude(crs, middle[1], middle[2]), error = function(e) NULL)
  if (is.null(place)) return(TRUE)  # a method that is not available: nothing to say here
  if (anyNA(place)) return(FALSE)
  width <- (area$east - area$west) %% 360
  if (width == 0) width <- 360
  height <- area$north - area$south
  off_x <- abs((place[1] - area$west - width / 2 + 180) %% 360 - 180) - width / 2
  off_y <- abs(place[2] - area$south - height / 2) - height / 2
  least <- if (margin < 0.5) 0 else 1
  off_x <= max(least, width * margin) && off_y <= max(least, height * margin)
}
