options(civicatlas.quiet = TRUE, cli.width = 200)

# A file of test data, which lies beside this folder.
test_data <- function(name) testthat::test_path("..", "data", name)

# Layers of every kind of shape a file can hold, as well-known text.
every_kind <- list(
  points = c("POINT (160.1 -47.25)", "POINT (0.1 1e-300)", NA),
  multipoints = c("MULTIPOINT ((1 2), (3.3 4.4))", "MULTIPOINT ((0.1 0.2), (5 6), (7 8))"),
  lines = c("LINESTRING (0 0, 1.1 2.2)", "LINESTRING (0.1 0.2, 0.3 0.7, -5 6)"),
  multilines = c("MULTILINESTRING ((0 0, 1 1), (2 2, 3 3, 4 4.4))", NA),
  polygons = c("POLYGON ((0 0, 10 0, 10 10, 0 10, 0 0), (2 2, 2 4, 4 4, 4 2, 2 2))", "POLYGON ((0.1 0.1, 0.7 0.3, 0.2 0.9, 0.1 0.1))"),
  multipolygons = c("MULTIPOLYGON (((0 0, 1 0, 1 1, 0 0)), ((5 5, 9 5, 9 9, 5 5), (7 6, 8 7, 8 6, 7 6)))", NA),
  z = c("POINT Z (1 2 3.3)", "POINT Z (4 5 6.6)"),
  polygons_z = "POLYGON Z ((0 0 1, 4 0 2, 4 4 3.5, 0 0 1))"
)

# A frame of coordinates made up for a test, which lie nowhere near where their label says.
toy_frame <- function(...) suppressWarnings(spatial_frame(...), classes = "civicatlas_warning_crs")

# Two wards side by side, a hole in the first, and a point in each place that matters.
two_wards <- function(crs = 32757) {
  toy_frame(
    ward = c("west", "east", "far"), area = c(96, 100, 1),
    geometry = shapes_from_wkt(c(
      "POLYGON ((0 0, 10 0, 10 10, 0 10, 0 0), (4 4, 6 4, 6 6, 4 6, 4 4))", "POLYGON ((10 0, 20 0, 20 10, 10 10, 10 0))",
      "POLYGON ((90 90, 91 90, 91 91, 90 91, 90 90))"
    ), crs = crs)
  )
}

some_points <- function(crs = 32757) {
  toy_frame(
    place = c("in west", "in hole", "on the border", "in east", "in east too", "nowhere", "unknown"), people = c(5L, 50L, 7L, 9L, 9L, 99L, 3L),
    geometry = shapes_from_wkt(c("POINT (1 1)", "POINT (5 5)", "POINT (10 5)", "POINT (12 2)", "POINT (13 3)", "POINT (50 50)", NA), crs = crs)
  )
}

# Coordinates made up for a test do not fit the area of use of a CRS: that is said, and expected here.
off_its_label <- function(expr) {
  testthat::expect_warning(value <- expr, "do not fit the label", class = "civicatlas_warning_crs")
  value
}

# Draws on a device that keeps nothing.
print_nowhere <- function(map) {
  grDevices::pdf(NULL)
  on.exit(grDevices::dev.off())
  print(map)
}

# The parts of a workbook of one sheet, as ECMA-376 describes them.
workbook <- function(rows, env = parent.frame(), sheet = NULL) {
  cell <- function(value) if (is.numeric(value)) sprintf("<c><v>%s</v></c>", format(value, digits = 15)) else sprintf("<c t=\"inlineStr\"><is><t>%s</t></is></c>", value)
  sheet <- sheet %||% paste0("<row>", vapply(rows, function(row) paste(vapply(row, cell, ""), collapse = ""), ""), "</row>", collapse = "")
  main <- "http://schemas.openxmlformats.org/spreadsheetml/2006/main"
  links <- "http://schemas.openxmlformats.org/package/2006/relationships"
  office <- "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
  parts <- c(
    "[Content_Types].xml" = "<Types xmlns=\"http://schemas.openxmlformats.org/package/2006/content-types\"><Default Extension=\"xml\" ContentType=\"application/xml\"/><Default Extension=\"rels\" ContentType=\"application/vnd.openxmlformats-package.relationships+xml\"/><Override PartName=\"/xl/workbook.xml\" ContentType=\"application/vnd.openxmlformats-officedocument.spreadsheetml.sheet.main+xml\"/><Override PartName=\"/xl/worksheets/sheet1.xml\" ContentType=\"application/vnd.openxmlformats-officedocument.spreadsheetml.worksheet+xml\"/></Types>",
    "_rels/.rels" = sprintf("<Relationships xmlns=\"%s\"><Relationship Id=\"r1\" Type=\"%s/officeDocument\" Target=\"xl/workbook.xml\"/></Relationships>", links, office),
    "xl/_rels/workbook.xml.rels" = sprintf("<Relationships xmlns=\"%s\"><Relationship Id=\"r1\" Type=\"%s/worksheet\" Target=\"worksheets/sheet1.xml\"/></Relationships>", links, office),
    "xl/workbook.xml" = sprintf("<workbook xmlns=\"%s\" xmlns:r=\"%s\"><sheets><sheet name=\"Heat\" sheetId=\"1\" r:id=\"r1\"/></sheets></workbook>", main, office),
    "xl/worksheets/sheet1.xml" = sprintf("<worksheet xmlns=\"%s\"><sheetData>%s</sheetData></worksheet>", main, sheet)
  )
  file <- withr::local_tempfile(fileext = ".xlsx", .local_envir = env)
  writeBin(civicatlas:::core_encode_zip(names(parts), lapply(unname(parts), charToRaw)), file)
  file
}

# Daemons on this machine, until the test ends.
local_daemons <- function(n, env = parent.frame()) {
  testthat::skip_if_not_installed("mirai")
  mirai::daemons(n)
  withr::defer(mirai::daemons(0), env)
}

# Runs R code in a process of its own, in which this package is loaded.
in_r <- function(code, env = parent.frame()) {
  file <- withr::local_tempfile(fileext = ".R", lines = c("suppressMessages(library(civicatlas))", "options(civicatlas.quiet = TRUE)", code), .local_envir = env)
  processx::process$new(file.path(R.home("bin"), "Rscript"), file, stdout = "|", stderr = "2>&1", env = c("current", R_LIBS = paste(.libPaths(), collapse = ":")))
}

# Warnings but those of CRSs, and messages, are left out.
quietly_all_but_crs <- function(expr) {
  suppressMessages(withCallingHandlers(expr, warning = function(w) if (!inherits(w, "civicatlas_warning_crs")) invokeRestart("muffleWarning")))
}
