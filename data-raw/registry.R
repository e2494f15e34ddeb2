# Writes inst/crs/registry.tsv.gz, the compact form of the EPSG facts, from the normalised table of the EPSG Dataset.
# usage: Rscript data-raw/registry.R path/to/epsg_crs.csv
#
# Records, tab separated, the first field tells the kind:
#   D id name ellipsoid semi_major inverse_flattening shift accuracy needs_grid   datum; shift: 7 numbers or empty
#   M id name parameter;parameter;…                                              projection method
#   A id text                                                                    area of use
#   G code name datum meridian meridian_deg unit unit_degrees box area [heights] geographic; three-dimensional with the last
#   X code name datum box area                                                   geocentric
#   P code name geographic method value;value;… unit unit_metres box area        projected
#   C code name horizontal box area                                              compound

# Names of parameters as OGC 01-009 (well-known text 1) spells them, one name for the origin of every method.
canonical_parameters <- c(
  "Latitude of natural origin" = "latitude_of_origin",
  "Longitude of natural origin" = "central_meridian",
  "Scale factor at natural origin" = "scale_factor",
  "False easting" = "false_easting",
  "False northing" = "false_northing",
  "Latitude of standard parallel" = "standard_parallel_1",
  "Longitude of origin" = "central_meridian",
  "Easting at false origin" = "false_easting",
  "Northing at false origin" = "false_northing",
  "Initial longitude" = "initial_longitude",
  "Zone width" = "zone_width",
  "Latitude of projection centre" = "latitude_of_origin",
  "latitude_of_center" = "latitude_of_origin",
  "longitude_of_center" = "central_meridian",
  "Co-latitude of cone axis" = "azimuth",
  "Latitude of pseudo standard parallel" = "pseudo_standard_parallel_1",
  "Scale factor on pseudo standard parallel" = "scale_factor"
)

# Published shifts of datums whose preferred shift is a grid: EPSG transformations 1314, 1173, 1777 and 1564.
grid_fallbacks <- list(
  "Ordnance Survey of Great Britain 1936" = list(shift = c(446.448, -125.157, 542.06, 0.15, 0.247, 0.842, -20.489), accuracy = 2),
  "North American Datum 1927" = list(shift = c(-8, 160, 176, 0, 0, 0, 0), accuracy = 10),
  "Deutsches Hauptdreiecksnetz" = list(shift = c(598.1, 73.7, 418.2, 0.202, 0.045, -2.455, 6.7), accuracy = 3),
  "New Zealand Geodetic Datum 1949" = list(shift = c(59.47, -5.04, 187.44, 0.47, -0.1, 1.024, -4.5993), accuracy = 4)
)

# Datums on these ellipsoids for which no row lists a shift differ from WGS 84 by their realisation alone.
modern_ellipsoids <- c("GRS 1980", "WGS 84", "CGCS2000")
modern_datums <- c("Parametry Zemli 1990 02", "Parametry Zemli 1990 11")
realisation_accuracy <- 2

rows <- read.csv(commandArgs(TRUE)[1], colClasses = "character", encoding = "UTF-8", check.names = FALSE)
number <- function(text) format(as.numeric(text), digits = 15, trim = TRUE, scientific = FALSE)
short <- function(text) ifelse(text == "", "", vapply(as.numeric(text), format, "", digits = 15, scientific = FALSE))
angle_unit <- function(degrees) ifelse(abs(as.numeric(degrees) - round(as.numeric(degrees), 6)) < 1e-12,
                                       short(round(as.numeric(degrees), 6)), short(degrees))

# A row's ellipsoid may be named by another row on its datum alone.
names_of_ellipsoids <- with(rows[rows$ellipsoid != "unnamed" & rows$datum != "", ], ellipsoid[match(rows$datum, datum)])
rows$ellipsoid <- ifelse(rows$ellipsoid == "unnamed" & !is.na(names_of_ellipsoids), names_of_ellipsoids, rows$ellipsoid)

shift_columns <- c("dx", "dy", "dz", "rx", "ry", "rz", "ds")
own <- rows[rows$datum != "", ]
datums <- own[!duplicated(own$datum), c("datum", "ellipsoid", "semi_major", "inverse_flattening")]
listed <- own[own$dx != "", ]
listed <- listed[match(datums$datum, listed$datum), ]
datums$shift <- ifelse(is.na(listed$dx), "",
                       apply(sapply(listed[shift_columns], short), 1, paste, collapse = ","))
datums$accuracy <- ifelse(is.na(listed$accuracy_m), "", listed$accuracy_m)
datums$grid <- ifelse(datums$datum %in% own$datum[own$needs_grid == "yes"], "yes", "")
for (name in names(grid_fallbacks)) {
  at <- datums$datum == name & datums$shift == ""
  datums$shift[at] <- paste(grid_fallbacks[[name]]$shift, collapse = ",")
  datums$accuracy[at] <- grid_fallbacks[[name]]$accuracy
}
modern <- datums$shift == "" & (datums$ellipsoid %in% modern_ellipsoids | datums$datum %in% modern_datums)
datums$shift[modern] <- "0,0,0,0,0,0,0"
datums$accuracy[modern] <- ifelse(datums$datum[modern] == "WGS 1984", "0", realisation_accuracy)

# Variants that the table leaves to be told by parameters or axes.
northward <- rows$method == "Krovak" & grepl("Easting:east", rows$axes, ignore.case = TRUE)
rows$method[northward] <- "Krovak (North Orientated)"
polar <- rows$method == "Polar Stereographic"
on_pole <- polar & grepl("latitude_of_origin=-?90([.]0*)?(;|$)", rows$parameters) & grepl("scale_factor", rows$parameters)
rows$method[polar] <- paste0("Polar Stereographic (variant ", ifelse(on_pole[polar], "A", "B"), ")")
rows$parameters[polar & !on_pole] <- sub("latitude_of_origin", "Latitude of standard parallel", rows$parameters[polar & !on_pole])

# The table leaves out what makes these three a variant: lengths on an ellipsoid raised to a mean height (Guidance Note 373-7-2, section
# 3.1.1.4, method 1051).
michigan <- grepl("^NAD27 / Michigan (North|Central|South)$", rows$name)
rows$method[michigan] <- "Lambert Conic Conformal (2SP Michigan)"
rows$parameters[michigan] <- paste0(rows$parameters[michigan], "; ellipsoid_scaling_factor=1.0000382")

split_parameters <- strsplit(rows$parameters, "; ", fixed = TRUE)
parameter_names <- lapply(split_parameters, function(p) {
  name <- sub("=.*", "", p)
  unname(ifelse(name %in% names(canonical_parameters), canonical_parameters[name], name))
})
parameter_values <- vapply(split_parameters, function(p) paste(short(sub(".*=", "", p)), collapse = ";"), "")
signature <- paste(rows$method, vapply(parameter_names, paste, "", collapse = ";"), sep = "\t")
methods <- unique(signature[rows$kind == "projected"])

areas <- unique(rows$area)
datum_id <- match(rows$datum, datums$datum)
area_id <- match(rows$area, areas)
box <- apply(rows[c("south", "west", "north", "east")], 1, paste, collapse = ",")
rows$name <- enc2utf8(rows$name)

record <- with(rows, ifelse(
  kind == "projected",
  paste("P", code, name, geographic, match(signature, methods), parameter_values, unit, short(unit_metres), box, area_id, sep = "\t"),
  ifelse(kind == "geographic",
         paste("G", code, name, datum_id, prime_meridian, prime_meridian_deg, unit, angle_unit(unit_degrees),
               paste0(box, "\t", area_id, ifelse(note == "three-dimensional", "\theights", "")), sep = "\t"),
         ifelse(kind == "geocentric",
                paste("X", code, name, datum_id, box, area_id, sep = "\t"),
                paste("C", code, name, horizontal, box, area_id, sep = "\t")))))

out <- gzfile("inst/crs/registry.tsv.gz", "wb", compression = 9)
writeLines(enc2utf8(c(
  with(datums, paste("D", seq_along(datum), datum, ellipsoid, short(semi_major), short(inverse_flattening), shift, accuracy, grid, sep = "\t")),
  paste("M", seq_along(methods), methods, sep = "\t"),
  paste("A", seq_along(areas), areas, sep = "\t"),
  record
)), out, useBytes = TRUE)
close(out)
