kml_by_hand <- function(body, env = parent.frame()) {
  withr::local_tempfile(fileext = ".kml", .local_envir = env, lines = c(
    "<?xml version=\"1.0\" encoding=\"UTF-8\"?>", "<kml xmlns=\"http://www.opengis.net/kml/2.2\">", body, "</kml>"
  ))
}

test_that("a KML document made by hand is read with its data, folders and schema", {
  file <- kml_by_hand(c(
    "<Document><Schema id=\"s\" name=\"s\"><SimpleField type=\"int\" name=\"stops\"/><SimpleField type=\"double\" name=\"km\"/><SimpleField type=\"bool\" name=\"open\"/></Schema>",
    "<Folder><name>lines</name>",
    "<Placemark><name>Line 1 &amp; 2</name><description><![CDATA[<b>old</b>]]></description><ExtendedData><SchemaData schemaUrl=\"#s\"><SimpleData name=\"stops\">12</SimpleData>",
    "<SimpleData name=\"km\">4.5</SimpleData><SimpleData name=\"open\">1</SimpleData></SchemaData></ExtendedData><LineString><coordinates>160,-47 160.1,-47.1</coordinates></LineString></Placemark>",
    "</Folder><Folder><name>stops</name>",
    "<Placemark id=\"x\"><ExtendedData><Data name=\"code\"><value>007</value></Data><Data name=\"stops\"><value>3</value></Data></ExtendedData>",
    "<TimeStamp><when>2026-11-24</when></TimeStamp><Point><coordinates>160.05,-47.05,12</coordinates></Point></Placemark>",
    "<Placemark><name>nowhere</name></Placemark></Folder></Document>"
  ))
  x <- read_layer(file)
  expect_identical(wkt_of(x), c("LINESTRING (160 -47, 160.1 -47.1)", "POINT Z (160.05 -47.05 12)", NA))
  expect_identical(x$name, c("Line 1 & 2", NA, "nowhere"))
  expect_identical(x$description, c("<b>old</b>", NA, NA))
  expect_identical(x$stops, c(12L, 3L, NA))
  expect_identical(x$km, c(4.5, NA, NA))
  expect_identical(x$open, c(TRUE, NA, NA))
  expect_identical(x$code, c(NA, "007", NA))
  expect_identical(x$when, c(NA, "2026-11-24", NA))
  expect_identical(x$folder, c("lines", "stops", "stops"))
  expect_identical(list_layers(file)$layer, c("lines", "stops"))
  expect_identical(nrow(read_layer(file, "stops")), 2L)
  expect_error(read_layer(file, "stop"), "Nearest.*stops", class = "civicatlas_error_argument")
})

test_that("placemarks that cannot be read are counted; what is no KML is refused", {
  file <- kml_by_hand("<Placemark><Point><coordinates>1,x</coordinates></Point></Placemark><Placemark><Model/></Placemark>")
  expect_warning(x <- read_layer(file), "2: shapes cannot be read.*placemark 1", class = "civicatlas_warning_data")
  expect_true(all(is.na(x$geometry)))
  expect_error(read_layer(withr::local_tempfile(fileext = ".kml", lines = "<kml><Placemark>")), "well-formed", class = "civicatlas_error_format")
  expect_error(read_layer(withr::local_tempfile(fileext = ".kml", lines = "<html/>")), "no KML", class = "civicatlas_error_format")
})

test_that("values without the name of a field are told, and what is neither true nor false stays text", {
  fields <- "<SimpleField name=\"open\" type=\"bool\"/><SimpleField name=\"old\" type=\"bool\"/><SimpleField type=\"int\"/>"
  place <- function(open, old) {
    sprintf("<Placemark><ExtendedData><SchemaData><SimpleData name=\"open\">%s</SimpleData><SimpleData name=\"old\">%s</SimpleData><SimpleData>4</SimpleData></SchemaData></ExtendedData><Point><coordinates>1,2</coordinates></Point></Placemark>", open, old)
  }
  file <- withr::local_tempfile(fileext = ".kml", lines = c("<kml><Document><Schema>", fields, "</Schema>", place("1", "yes"), place("false", "0"), "</Document></kml>"))
  expect_warning(x <- read_layer(file), "2 values without the name of a field are left out", class = "civicatlas_warning_data")
  expect_identical(x$open, c(TRUE, FALSE))
  expect_identical(x$old, c("yes", "0"))
})

test_that("KMZ is a zipped document", {
  rooms <- read_layer(demo_file("rooms.geojson"))
  file <- withr::local_tempfile(fileext = ".kmz")
  write_layer(rooms, file)
  expect_identical(attribute_table(read_layer(file)), attribute_table(rooms))
  expect_identical(read_layer(file, where = seats > 100)$name, rooms$name[rooms$seats > 100])
})
