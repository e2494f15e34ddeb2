# Every cell of the table in vignette("formats") is checked here by writing a layer and reading it back.

kept <- utils::read.csv(system.file("formats", "keeps.csv", package = "civicatlas"), check.names = FALSE, row.names = 1)

test_that("files keep what the documentation's table says", {
  endings <- c(Shapefile = "shp", GeoJSON = "geojson", GeoPackage = "gpkg", GeoParquet = "parquet", KML = "kml", CSV = "csv")
  probes <- format_probes()
  expect_setequal(rownames(kept), names(probes))
  expect_setequal(colnames(kept), c(names(endings), "PostgreSQL"))
  expect_false(any(kept == "changed"))
  withr::local_options(civicatlas.quiet = FALSE)
  for (format in names(endings)) {
    for (thing in names(probes)) {
      file <- withr::local_tempfile(fileext = paste0(".", endings[[format]]))
      outcome <- format_outcome(probes[[thing]], function(x) write_layer(x, file, shapes = if (format == "CSV") "wkt"), function(x) read_layer(file, crs = if (format == "CSV") crs_of(x)))
      expect_identical(outcome, kept[thing, format], info = paste(format, thing))
    }
  }
})

test_that("PostgreSQL keeps what the documentation's table says", {
  store <- local_postgres()$address
  probes <- format_probes()
  withr::local_options(civicatlas.quiet = FALSE)
  for (thing in names(probes)) {
    outcome <- format_outcome(probes[[thing]], function(x) write_layer(x, store, layer = "probe", replace = TRUE), function(x) read_layer(store, "probe"))
    expect_identical(outcome, kept[thing, "PostgreSQL"], info = thing)
  }
})
