#' Save a map to a file
#'
#' Writes PNG, PDF or SVG, chosen by the ending of `file`, beside the target first and then renamed.
#'
#' @param map A ggplot.
#' @param file Path of the file.
#' @param width,height Size in centimetres.
#' @param dpi Dots per inch of a PNG: 300 for print, 96 for a screen.
#' @param replace `FALSE` to stop where the file is there already.
#' @return The path, invisibly.
#' @section Errors: `civicatlas_error_file` where the file cannot be written, `civicatlas_error_argument` for another ending.
#' @examples
#' wards <- read_layer(demo_file("wards.shp"))
#' save_map(choropleth_map(wards, residents), tempfile(fileext = ".png"))
#' @export
save_map <- function(map, file, width = 24, height = 16, dpi = 300, replace = TRUE) {
  call <- rlang::current_env()
  if (!ggplot2::is_ggplot(map)) fail("argument", "{.arg map} is no ggplot.", call = call)
  file <- path.expand(file)
  format <- one_of(tolower(tools::file_ext(file)), c("png", "pdf", "svg"), "ending of file", call = call)
  if (!dir.exists(dirname(file))) fail("file", "There is no folder {.file {dirname(file)}}.", call = call)
  if (file.exists(file) && !replace) fail("file", c("{.file {file}} is there already.", i = "Replace it with {.code replace = TRUE}."), call = call)
  beside <- paste0(file, ".part")
  on.exit(unlink(beside))
  tryCatch(draw_to(map, beside, format, width / 2.54, height / 2.54, dpi), error = function(e) {
    if (inherits(e, "civicatlas_error")) rlang::cnd_signal(e)
    fail("file", c("Cannot draw {.file {file}}.", x = "{conditionMessage(e)}"), call = call)
  })
  if (!file.rename(beside, file)) fail("file", "Cannot write {.file {file}}.", call = call)
  pixels <- if (format == "png") paste0(", ", round(width / 2.54 * dpi), " \u00d7 ", round(height / 2.54 * dpi), " pixels")
  say("Wrote {.file {file}}: {format(width)} \u00d7 {format(height)} cm{pixels}.")
  invisible(file)
}

draw_to <- function(map, file, format, width, height, dpi) {
  switch(format,
    png = if (rlang::is_installed("ragg")) {
      ragg::agg_png(file, width, height, units = "in", res = dpi)
    } else {
      grDevices::png(file, width, height, units = "in", res = dpi, type = "cairo")
    },
    pdf = grDevices::cairo_pdf(file, width, height),
    svg = if (rlang::is_installed("svglite")) svglite::svglite(file, width, height) else grDevices::svg(file, width, height)
  )
  on.exit(grDevices::dev.off())
  print(map)
}
