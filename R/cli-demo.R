#' Files of the demo data
#'
#' The made-up island city of Saltmere in a hot summer: `wards.shp` (24 wards with residents, UTM zone 57S), `cells.zip`
#' (census cells, population by age as text, a zipped shapefile), `rooms.geojson` (cool rooms with seats, longitude and
#' latitude), `tramways.kml` (lines with gaps), `canopy.gpkg` (tree crowns, and a table of species), `districts.shp` (on an old
#' grid in US survey feet, with slivers and gaps along the border of Ombrey), `heat.csv` (peak temperatures by ward id, two of them
#' misspelt) and `trips.csv` (trips between wards).
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

#' Run the demo
#'
#' Tells the story of Saltmere's cool rooms step by step, with the numbers an analyst checks, and writes its map and
#' layers to a folder.
#' @param folder Where to write; made where it is not there.
#' @return A list of `files`, the paths in the folder, and `seconds`, invisibly.
#' @examples
#' run_demo(tempfile())
#' @export
run_demo <- function(folder = "demo-output") {
  started <- clock()
  dir.create(folder, FALSE, TRUE)
  target <- function(name) file.path(folder, name)
  tell("Saltmere, a made-up harbour city in a hot summer: where are cool rooms short?")

  step("1  Load two layers and look at them")
  wards <- read_layer(demo_file("wards.shp"))
  rooms <- read_layer(demo_file("rooms.geojson"))
  show(describe_layer(demo_file("wards.shp")))
  show(describe_layer(demo_file("rooms.geojson")))

  step("2  Put them on one CRS")
  refusal <- tryCatch(join_where(rooms, wards), civicatlas_error_crs_mismatch = function(e) conditionMessage(e))
  tell("Joined as they are, the layers are refused:")
  show(cat(refusal, sep = "\n"))
  rooms <- reproject_to(rooms, wards)

  step("3  Which rooms lie in no ward?")
  located <- join_where(rooms, dplyr::select(wards, "ward_id"))
  outside <- located[is.na(located$ward_id), ]
  places <- coordinates_of(outside)
  show(print_table(tibble::tibble(room = outside$room_id, name = outside$name, seats = outside$seats, easting = round(places$x),
                                  northing = round(places$y))))

  step("4  Count and sum by ward")
  wards <- wards |>
    summarise_into(rooms, rooms = dplyr::n(), seats = sum(.data$seats)) |>
    dplyr::mutate(seats_per_1000 = round(1000 * .data$seats / .data$residents, 1)) |>
    pick_where(rooms, take = c(largest_room = "name"), rank_by = "seats")
  tell(sprintf("%s of %s seats are counted; the rest stand in the rooms of step 3.", format_count(sum(wards$seats)), format_count(sum(rooms$seats))))

  step("5  Add the heat readings, by ward id")
  heat <- utils::read.csv(demo_file("heat.csv"), colClasses = c(ward_id = "character"))
  wards <- dplyr::left_join(wards, heat, by = "ward_id")
  tell(sprintf("%d readings, %d match a ward; these ids match none: %s", nrow(heat), sum(heat$ward_id %in% wards$ward_id),
               paste0("\"", setdiff(heat$ward_id, wards$ward_id), "\"", collapse = ", ")))

  step("6  Where it is short: seats per 1,000 residents")
  worst <- utils::head(wards[order(wards$seats_per_1000), ], 6)
  show(print_table(attribute_table(worst)[c("ward_id", "name", "residents", "rooms", "seats", "seats_per_1000", "peak_c", "largest_room")]))

  step("7  Map it, and write the result")
  show(print(class_breaks(wards$seats_per_1000)))
  map <- choropleth_map(wards, "seats_per_1000", title = "Seats in cool rooms", subtitle = "per 1,000 residents, wards of Saltmere",
                        key_title = "Seats per\n1,000 residents", counts = TRUE) +
    map_outlines(wards) + map_points(rooms) + map_scale_bar() + map_north_arrow()
  save_map(map, target("seats-by-ward.png"), width = 28, height = 17.5, dpi = 116)
  write_layer(wards, target("wards-with-rooms.geojson"), replace = TRUE, decimals = 6)
  write_layer(located, target("rooms-with-wards.zip"), replace = TRUE)

  step("What was done, from the wards' history")
  history <- history_of(wards)
  show(print_table(history[c("step", "verb", "rows_in", "rows_out", "note", "seconds")]))
  tell(sprintf("Done in %.1f seconds. The map: %s", clock() - started, normalizePath(target("seats-by-ward.png"))))
  invisible(list(files = file.path(folder, list.files(folder)), seconds = clock() - started))
}

# The story goes to standard output, in order with what the verbs say of themselves on standard error.
tell <- function(text) if (!isTRUE(getOption("civicatlas.quiet"))) cat(text, "\n", sep = "")
step <- function(title) tell(paste0("\n", cli::style_bold(title)))
show <- function(expr) if (!isTRUE(getOption("civicatlas.quiet"))) print_if_value(expr)
print_if_value <- function(x) if (inherits(x, "layer_description")) print(x) else invisible(x)

register_operation("demo", function() {
  new_operation("Other", "tell the story of Saltmere's cool rooms, with its numbers, map and files", "[FOLDER]", list(), "civicatlas demo demo-output",
              function(o) {
    structure(run_demo(o$folder %||% "demo-output"), class = "shown_already")
  })
})
