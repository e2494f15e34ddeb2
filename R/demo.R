#' Files of the demo data
#'
#' The made-up island city of Saltmere in a hot summer: `wards.shp` (24 wards with residents, UTM zone 57S), `cells.zip`
#' (census cells, population by age as text, a zipped shapefile), `rooms.geojson` (cool rooms with seats, longitude and
#' latitude), `heat.csv` (peak temperatures by ward id) and `trips.csv` (trips between wards).
#'
#' @param name A file name, or `NULL` to list them.
#' @return The path of the file, or the names of all.
#' @section Errors: `civicatlas_error_file` for a name that is not there.
#' @examples
#' demo_file()
#' demo_file("wards.shp")
#' @export
demo_file <- function(name = NULL) {
  folder <- system.file("extdata", package = "civicatlas")
  if (is.null(name)) return(list.files(folder))
  path <- file.path(folder, name)
  if (!file.exists(path)) no_such_file(path, rlang::current_env())
  path
}
