# Makes the districts of Saltmere and the parish of Ombrey beside them, from the wards of the demo data.
# usage: Rscript data-raw/districts.R   (from the repository, after saltmere.R, with the package installed)
#
# The parish drew its border from a survey of its own: where it runs along the city's, the two leave slivers and gaps. The
# layer is on the city's old grid in US survey feet, which has no code.

suppressPackageStartupMessages(library(civicatlas))
set.seed(20262)

old_grid <- paste0(
  "PROJCS[\"Saltmere_Old_Town_Grid_ftUS\",GEOGCS[\"GCS_WGS_1984\",DATUM[\"D_WGS_1984\",SPHEROID[\"WGS_1984\",6378137.0,298.257223563]],",
  "PRIMEM[\"Greenwich\",0.0],UNIT[\"Degree\",0.0174532925199433]],PROJECTION[\"Transverse_Mercator\"],",
  "PARAMETER[\"False_Easting\",65000.0],PARAMETER[\"False_Northing\",40000.0],PARAMETER[\"Central_Meridian\",160.2],",
  "PARAMETER[\"Scale_Factor\",1.0],PARAMETER[\"Latitude_Of_Origin\",-47.4],UNIT[\"Foot_US\",0.3048006096012192]]"
)

wards <- read_layer(demo_file("wards.shp"))
places <- coordinates_of(centroid_of(wards))
town <- c(591400, 4748400)
district_of <- function(x, y) {
  ifelse(x < 587600, "Ombrey", ifelse(sqrt((x - town[1])^2 + (y - town[2])^2) < 1700, "Old Town",
    ifelse(y > 4752200, "Northshore", ifelse(x > town[1], "Eastmarsh", "Southgate"))))
}
wards$district <- district_of(places$x, places$y)
districts <- dissolve_by(wards, district, residents = sum(residents))

# The parish's own survey: places on the common border are some metres off, and some are left out.
is_parish <- districts$district == "Ombrey"
vertices <- coordinates_of(districts)
city <- vertices[vertices$shape != which(is_parish), ]
parish <- vertices[vertices$shape == which(is_parish), ]
common <- paste(parish$x, parish$y) %in% paste(city$x, city$y)
rings <- split(seq_len(nrow(parish)), list(parish$part, parish$ring), drop = TRUE)
drift <- function(n) as.numeric(stats::filter(stats::rnorm(n + 20, 0, 6), rep(1, 5) / 5, circular = TRUE))[seq_len(n)]
ring_texts <- vapply(rings, function(at) {
  at <- at[-length(at)]
  ring <- cbind(parish$x[at], parish$y[at])
  moved <- common[at]
  ring[moved, ] <- ring[moved, ] + cbind(drift(sum(moved)), drift(sum(moved))) * 2
  ring <- ring[!(moved & seq_along(at) %% 3 == 0), ]
  ring <- rbind(ring, ring[1, ])
  paste0("(", paste(formatC(ring[, 1], format = "f", digits = 2), formatC(ring[, 2], format = "f", digits = 2), collapse = ", "), ")")
}, "")
parts <- parish$part[vapply(rings, `[`, 0L, 1)]
text <- paste0("MULTIPOLYGON (", paste0("(", vapply(split(ring_texts, parts), paste, "", collapse = ", "), ")", collapse = ", "), ")")
districts$geometry[is_parish] <- repair_shapes(shapes_from_wkt(text, crs = 32757))

districts$kind <- ifelse(is_parish, "parish", "city district")
districts <- districts[c("district", "kind", "residents", "geometry")]
districts$residents <- as.integer(districts$residents)
write_layer(reproject_to(districts, old_grid), "inst/extdata/districts.shp", replace = TRUE)
