#' Save a map to a file
#'
#' Writes PNG, JPEG, TIFF, PDF or SVG, chosen by the ending of `file`, beside the target first and then renamed.
#'
#' @param map A ggplot, or a sheet from [side_by_side()].
#' @param file Path of the file, ending in `.png`, `.jpg`, `.tif` (compressed without loss), `.pdf` or `.svg`.
#' @param width,height Size in `unit`.
#' @param unit `"cm"`, `"in"` or `"px"`.
#' @param dpi Dots per inch of an image; by default 300, for print, and 96, for a screen, where the size is given in pixels.
#' @param replace `FALSE` to stop where the file is there already.
#' @return The path, invisibly.
#' @section Errors: `civicatlas_error_file` where the file cannot be written, `civicatlas_error_argument` for another ending or a size that is
#'   no number above 0.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' save_map(choropleth_map(wards, residents), tempfile(fileext = ".png"))
#' save_map(choropleth_map(wards, residents), tempfile(fileext = ".png"), 1280, 800, "px", dpi = 96)
#' @export
save_map <- function(map, file, width = 24, height = 16, unit = "cm", dpi = if (unit == "px") 96 else 300, replace = TRUE) {
  call <- rlang::current_env()
  if (!ggplot2::is_ggplot(map)) fail("argument", "{.arg map} is no map: a ggplot or a sheet of them is needed.", call = call)
  one_of(unit, sheet_units, "unit", call = call)
  inches <- inches_of(width, height, unit, dpi, call)
  file <- path.expand(file)
  format <- one_of(ascii_lower(tools::file_ext(file)), names(map_devices), "ending of file", call = call)
  need_place(file, call)
  need_free(file, replace, call)
  beside <- name_beside(file, paste0(".", format))
  on.exit(unlink(beside, expand = FALSE))
  draw <- function() draw_to(map, beside, format, inches[1], inches[2], dpi)
  # A JPEG's library ends the process where it cannot write.
  draw_safely <- function() if (format %in% c("jpg", "jpeg")) in_a_child(draw, died = function() NULL) else draw()
  tryCatch(draw_safely(), error = function(e) {
    if (inherits(e, "civicatlas_error")) rlang::cnd_signal(e)
    fail("file", c("Cannot draw {.file {file}}.", x = "{said_by(e)}"), call = call)
  })
  if (!is_whole_image(beside, format)) cut_off(file, call)
  publish(beside, file, call)
  pixels <- if (!format %in% c("pdf", "svg")) paste0(", ", round(inches[1] * dpi), " \u00d7 ", round(inches[2] * dpi), " pixels")
  say("Wrote {.file {file}}: {format(signif(inches[1] * 2.54, 3))} \u00d7 {format(signif(inches[2] * 2.54, 3))} cm{pixels}.")
  invisible(file)
}

inches_of <- function(width, height, unit, dpi, call) {
  if (!is_positive(width) || !is_positive(height) || !is_positive(dpi)) {
    fail("argument", "{.arg width}, {.arg height} and {.arg dpi} must be numbers above 0.", call = call)
  }
  inches <- c(width, height) / c(cm = 2.54, `in` = 1, px = dpi)[[unit]]
  if (max(inches) * dpi > 50000) fail("argument", "{round(max(inches) * dpi)} pixels are too many: 50,000 a side are the most.", call = call)
  inches
}

# Opens a device for each ending, on the map's own ground; the better devices of ragg and svglite where they are installed.
map_devices <- list(
  png = function(...) image_device("png", ...), jpg = function(...) image_device("jpeg", ...), jpeg = function(...) image_device("jpeg", ...),
  tif = function(...) image_device("tiff", ...), tiff = function(...) image_device("tiff", ...),
  pdf = function(file, width, height, dpi, ground) grDevices::cairo_pdf(file, width, height, bg = ground),
  svg = function(file, width, height, dpi, ground) {
    if (rlang::is_installed("svglite")) svglite::svglite(file, width, height, bg = ground) else grDevices::svg(file, width, height, bg = ground)
  }
)

image_device <- function(kind, file, width, height, dpi, ground) {
  if (rlang::is_installed("ragg")) {
    device <- list(png = ragg::agg_png, jpeg = ragg::agg_jpeg, tiff = function(...) ragg::agg_tiff(..., compression = "lzw+p"))[[kind]]
    return(device(file, width, height, units = "in", res = dpi, background = ground))
  }
  device <- list(png = grDevices::png, jpeg = grDevices::jpeg, tiff = function(...) grDevices::tiff(..., compression = "lzw+p"))[[kind]]
  device(file, width, height, units = "in", res = dpi, bg = ground, type = "cairo")
}

# Whether a file ends as its format has it; devices do not say that they could not write.
is_whole_image <- function(file, format) {
  switch(format,
    png = ends_with(file, "IEND"), svg = ends_with(file, "</svg>"), pdf = ends_with(file, "%%EOF"),
    jpg = , jpeg = ends_with(file, as.raw(c(0xff, 0xd9))),
    tif = , tiff = is_whole_tiff(file)
  )
}

# The directory that the header points to, of 12 bytes an entry, is all there (TIFF 6.0, section 2).
is_whole_tiff <- function(file) {
  size <- if (file.exists(file)) file.size(file) else 0
  if (size < 8) return(FALSE)
  con <- file(file, "rb")
  on.exit(close(con))
  endian <- if (readBin(con, "raw", 1) == charToRaw("I")) "little" else "big"
  number <- function(at, bytes) {
    seek(con, at)
    readBin(con, "integer", size = bytes, signed = bytes > 2, endian = endian)
  }
  directory <- number(4, 4)
  directory > 0 && directory + 2 <= size && directory + 2 + 12 * number(directory, 2) <= size
}

draw_to <- function(map, file, format, width, height, dpi) {
  ground <- if (ggplot2::is_ggplot(map)) map$theme$plot.background$fill
  map_devices[[format]](file, width, height, dpi, ground %||% "#ffffff")
  on.exit(grDevices::dev.off())
  print(map)
}

sheet_units <- c("cm", "in", "px")
