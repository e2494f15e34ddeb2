#' How a projection distorts a layer
#'
#' How far lengths, areas and angles of projected shapes are from those on the ground, at the centroid of each shape
#' (Tissot's indicatrix; Snyder 1987, section 4).
#'
#' @param x A spatial frame or shape vector on a projected CRS.
#' @return A tibble of one row a shape: `least_scale` and `greatest_scale`, the smallest and largest ratio of a projected
#'   length to that on the ground in any direction; `area_scale`, that of areas; `angle`, the largest change of an angle
#'   in degrees; `convergence`, how far the meridian leans from grid north, degrees clockwise. `NA` where a shape is missing.
#' @section Errors: `civicatlas_error_crs` where the CRS is missing or not projected.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' distortion_of(wards) |> summary()
#' @export
distortion_of <- function(x) {
  call <- rlang::current_env()
  shapes <- as_shapes(x, call = call)
  need_crs(shapes, "nothing is distorted", call = call)
  crs <- crs_of(shapes)
  if (crs$kind != "projected") {
    fail("crs", c("{crs_label(crs)} is not projected, so that nothing is distorted.",
                  i = "Reproject the layer first; {.fn crs_for} names a CRS."), call = call)
  }
  centres <- centres_of(shapes)
  at <- degrees_of_points(point_shapes(centres$x, centres$y, crs), "x", call)
  tibble::new_tibble(core(core_distortion(at$x, at$y, unclass(crs)), call = call))
}

# A warning where planar measures on a projected CRS are more than 1 % off over the data: how far, and what to do.
warn_of_distortion <- function(shapes, kind, measures, remedy) {
  crs <- crs_of(shapes)
  rows <- sampled_rows(shapes)
  off <- if (length(rows)) distortion_at(shapes[rows], kind)
  worst <- order(abs(off - 1), decreasing = TRUE, na.last = NA)
  if (!length(worst) || abs(off[worst[1]] - 1) < 0.01) return(invisible())
  ratio <- ratio_to_ground(shapes[rows[utils::head(worst, 16)]], measures[1]) %||% off[worst[1]]
  if (abs(ratio - 1) < 0.01) return(invisible())
  what <- c(area = "Areas", length = "Lengths", perimeter = "Perimeters", distance = "Distances")[[measures[1]]]
  better <- if (kind == "area") "area" else "distance"
  fitting <- tryCatch(quietly(crs_for(shapes, measuring = better)), error = function(e) NULL)
  if (!is.null(fitting)) fitting <- if (is.na(fitting$code)) fitting$name else crs_label(fitting)
  caution("crs", c("{what} on {crs_label(crs)} are up to {percent_off(ratio)} here.",
                   i = paste0(remedy, "; so does {.code reproject_to(x, crs_for(x, measuring = \"{better}\"))}{if (length(fitting)) ', '}{fitting}.")))
}

# Areas in the plane of a projected CRS, of verbs that have no other way to measure.
warn_of_areas <- function(shapes) {
  crs <- crs_of(shapes)
  if (is.null(crs) || crs$kind != "projected") return(invisible())
  warn_of_distortion(shapes, "area", "area", paste0("{.code reproject_to(x, \"", code_in_degrees(crs), "\")} has true areas, along the ellipsoid"))
}

# The code of the longitude and latitude that a projected CRS stands on.
code_in_degrees <- function(crs) {
  base <- geographic_base(crs)
  if (is.na(base$code)) "EPSG:4326" else base$code
}

# Distances in the plane of a projected CRS, which buffers, nearest rows and pairs within a distance go by.
warn_of_distances <- function(shapes) {
  crs <- crs_of(shapes)
  if (is.null(crs) || crs$kind != "projected") return(invisible())
  warn_of_distortion(shapes, "length", "distance", paste0("{.code reproject_to(x, \"", code_in_degrees(crs), "\")} has true metres, along the ellipsoid"))
}

percent_off <- function(ratio) {
  share <- abs(ratio - 1) * 100
  paste(format_count(signif(share, if (share < 10) 2 else 3)), if (ratio > 1) "% too large" else "% too small")
}

# Rows to look at, evenly spread.
sampled_rows <- function(shapes, most = 64) {
  rows <- which(!is.na(handles_of(shapes)))
  if (length(rows) <= most) rows else rows[unique(round(seq(1, length(rows), length.out = most)))]
}

# How much larger than on the ground each shape is at the middle and corners of its box, where that is most wrong; NULL where the
# method is not available.
distortion_at <- function(shapes, kind) {
  crs <- crs_of(shapes)
  boxes <- core(core_boxes(handles_of(shapes), store_of(shapes)))
  x <- c((boxes[1, ] + boxes[3, ]) / 2, boxes[1, ], boxes[1, ], boxes[3, ], boxes[3, ])
  y <- c((boxes[2, ] + boxes[4, ]) / 2, boxes[2, ], boxes[4, ], boxes[2, ], boxes[4, ])
  at <- tryCatch({
    place <- core(core_transform_points(x, y, unclass(crs), unclass(geographic_base(crs))))
    core(core_distortion(place$x, place$y, unclass(crs)))
  }, error = function(e) NULL)
  if (is.null(at)) return(NULL)
  scale <- if (kind == "area") at$area_scale else ifelse(at$greatest_scale - 1 > 1 - at$least_scale, at$greatest_scale, at$least_scale)
  apply(matrix(scale, ncol = 5), 1, function(at) if (all(is.na(at))) NA_real_ else at[which.max(abs(at - 1))])
}

# What the shapes measure in the plane against on the ground, where that differs most; NULL where they have nothing to measure.
ratio_to_ground <- function(shapes, measure) {
  if (measure == "distance") return(NULL)
  crs <- crs_of(shapes)
  plane <- core(core_planar_measure(handles_of(shapes), store_of(shapes), measure)) * crs$unit_size^(if (measure == "area") 2 else 1)
  ground <- true_measure(in_degrees(shapes), measure)
  ratio <- (plane / ground)[which(ground > 0)]
  if (length(ratio)) ratio[which.max(abs(ratio - 1))]
}
