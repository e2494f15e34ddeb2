# Files made to crash their reader or to fill the machine.

test_that("what is packed may unpack to so much, and no more", {
  rows <- sprintf("{\"type\":\"Feature\",\"geometry\":{\"type\":\"Point\",\"coordinates\":[1,2]},\"properties\":{\"a\":%d}}", 1:20000)
  packed <- withr::local_tempfile(fileext = ".geojsonl.gz")
  writeLines(rows, con <- gzfile(packed))
  close(con)
  zipped <- withr::local_tempfile(fileext = ".zip")
  writeBin(civicatlas:::core_encode_zip("a.geojsonl", list(charToRaw(paste(rows, collapse = "\n")))), zipped)
  for (file in c(packed, zipped)) {
    expect_identical(nrow(read_layer(file)), 20000L)
    withr::with_options(list(civicatlas.unpack_limit = 1e6), {
      expect_error(read_layer(file), "unpack to more than the 1000000.*civicatlas.unpack_limit = 1e10", class = "civicatlas_error_format")
    })
    for (limit in c(1e10, Inf)) withr::with_options(list(civicatlas.unpack_limit = limit), expect_identical(nrow(read_layer(file)), 20000L))
  }
})

test_that("gzip in zip in gzip is held to the same limit", {
  inner <- civicatlas:::core_gzip(raw(3e6))
  file <- withr::local_tempfile(fileext = ".zip")
  writeBin(civicatlas:::core_encode_zip("a.geojson", list(inner)), file)
  withr::local_options(civicatlas.unpack_limit = 1e6)
  expect_error(read_layer(file), "unpack to more", class = "civicatlas_error_format")
})

test_that("KML that declares entities is refused, and text that looks so is not", {
  place <- "<Placemark><name>%s</name><Point><coordinates>1,2</coordinates></Point></Placemark>"
  laughing <- paste0("<?xml version=\"1.0\"?><!DOCTYPE kml [<!ENTITY a \"ha\"><!ENTITY b \"&a;&a;\">]><kml>", sprintf(place, "&b;"), "</kml>")
  expect_error(read_layer(withr::local_tempfile(fileext = ".kml", lines = laughing)), "declares entities", class = "civicatlas_error_format")
  wide <- withr::local_tempfile(fileext = ".kml")
  writeBin(as.raw(c(0xff, 0xfe, rbind(as.integer(charToRaw(sub("<[?].*?[?]>", "", laughing))), 0L))), wide)
  expect_error(read_layer(wide), "declares entities", class = "civicatlas_error_format")
  harmless <- paste0("<kml>", sprintf(place, "<![CDATA[<!ENTITY a>]]>"), "</kml>")
  expect_identical(read_layer(withr::local_tempfile(fileext = ".kml", lines = harmless))$name, "<!ENTITY a>")
})

test_that("readers of others that crash or fill the memory do not end R", {
  skip_on_os("windows")
  crash <- function() tools::pskill(Sys.getpid(), 11L)
  leave <- function() tools::pskill(Sys.getpid(), 6L)
  child <- function(work, ...) civicatlas:::in_a_child(work, died = function() "died", ...)
  expect_identical(child(crash), "died")
  expect_identical(child(leave), "died")
  expect_identical(child(function() raw(3e8), memory = 1e8), "died")
  expect_true(dir.exists(tempdir()))
  expect_identical(child(function() 5), 5)
  expect_error(child(function() stop("mine")), "mine")
  expect_warning(child(function() warning("careful")), "careful")
  before <- nrow(showConnections())
  for (k in 1:5) child(leave)
  expect_identical(nrow(showConnections()), before)
})

test_that("damaged files of all formats give an error of ours or a whole table, whatever reads them", {
  inputs <- as.integer(Sys.getenv("CIVIC_FUZZ_RUNS", "40"))
  wards <- suppressWarnings(two_wards(4326))
  written <- function(ending) {
    suppressWarnings(write_layer(wards, file <- tempfile(fileext = paste0(".", ending))), classes = "civicatlas_warning_data")
    file
  }
  endings <- c("geojson", "kml", "kmz", "gpkg", "zip", "csv", "wkt", "wkb", if (requireNamespace("nanoparquet", quietly = TRUE)) "parquet")
  files <- c(vapply(endings, written, ""), if (requireNamespace("readxl", quietly = TRUE)) c(xlsx = workbook(list(list("place", "heat"), list("quay", 3.5)))))
  withr::local_seed(20261128)
  for (ending in names(files)) {
    bytes <- readBin(files[[ending]], "raw", file.size(files[[ending]]))
    refused <- 0
    for (case in seq_len(inputs)) {
      file <- withr::local_tempfile(fileext = paste0(".", ending))
      at <- sample(length(bytes), 2)
      damaged <- replace(bytes, at, as.raw(sample(0:255, 2, TRUE)))
      if (case %% 4 == 0) damaged <- utils::head(damaged, at[1])
      writeBin(damaged, file)
      found <- tryCatch(suppressWarnings(read_layer(file)), error = identity)
      if (is.data.frame(found)) {
        expect_true(all(vapply(found, vctrs::vec_size, 0L) == nrow(found)), info = ending)
      } else {
        expect_s3_class(found, "civicatlas_error")
        refused <- refused + 1
      }
    }
    expect_gt(refused, 0)
  }
})

test_that("cells far from the others of a spreadsheet are refused where the table would not fit", {
  skip_if_not_installed("readxl")
  skip_on_os(c("windows", "mac"))
  far <- workbook(sheet = "<row r=\"1\"><c r=\"A1\"><v>1</v></c></row><row r=\"1048576\"><c r=\"XFD1048576\"><v>1</v></c></row>")
  expect_error(read_layer(far), "unpacks to more than is allowed", class = "civicatlas_error_format")
})

test_that("a full disk leaves what was there, and says so", {
  skip_on_os("windows")
  folder <- withr::local_tempdir()
  script <- "suppressMessages(library(civicatlas)); options(civicatlas.quiet = TRUE); folder <- commandArgs(TRUE)[1]
             wards <- suppressWarnings(read_layer(demo_file('wards.shp')))
             tell <- function(expr) tryCatch({ suppressWarnings(expr); 'wrote' }, civicatlas_error_file = function(e) 'file', error = conditionMessage)
             maps <- vapply(c('png', 'jpg', 'tif', 'pdf', 'svg'), function(ending) tell(save_map(choropleth_map(wards, residents), file.path(folder, paste0('m.', ending)), 1280, 800, 'px')), '')
             layers <- vapply(c('shp', 'geojson', 'gpkg', 'kml', 'zip', 'csv', 'parquet', 'wkt'), function(ending) tell(write_layer(wards[rep(1:24, 40), ], file.path(folder, paste0('l.', ending)))), '')
             cat(unique(c(maps, layers)), length(list.files(folder, all.files = TRUE, no.. = TRUE)))"
  file <- withr::local_tempfile(fileext = ".R", lines = script)
  # No file may grow beyond 16 blocks of a kilobyte; the signal that says so is ignored, so that writing fails as on a full disk.
  told <- system2("bash", c("-c", shQuote(sprintf("trap '' XFSZ; ulimit -f 16; %s %s %s 2>/dev/null", file.path(R.home("bin"), "Rscript"), file, folder))), stdout = TRUE)
  expect_identical(utils::tail(told, 1), "file 0")
})

test_that("wide and broken texts are read right or told with their place", {
  csv <- function(...) {
    file <- withr::local_tempfile(fileext = ".csv", .local_envir = parent.frame())
    writeBin(as.raw(c(...)), file)
    file
  }
  letters <- utf8ToInt("a,b\n1,2\n")
  expect_identical(read_layer(csv(0xff, 0xfe, 0, 0, rbind(letters, 0, 0, 0)))$b, 2L)
  expect_identical(read_layer(csv(0xfe, 0xff, rbind(0, letters)))$b, 2L)
  expect_error(read_layer(csv(0xff, 0xfe, rbind(letters, 0), 0x41)), "middle of a character of UTF-16LE, at byte 18", class = "civicatlas_error_format")
  expect_error(read_layer(csv(0xff, 0xfe, rbind(letters, 0xd8))), "holds what is none", class = "civicatlas_error_format")
  wkt <- withr::local_tempfile(fileext = ".wkt")
  writeBin(c(charToRaw("POINT (1 2"), as.raw(0), charToRaw(")\n")), wkt)
  expect_error(read_layer(wkt), "zero bytes", class = "civicatlas_error_format")
  kml <- withr::local_tempfile(fileext = ".kml", lines = "<kml><Document><Schema id=\"s\"><SimpleField type=\"int\"/></Schema><Placemark><ExtendedData><SchemaData schemaUrl=\"#s\"><SimpleData>5</SimpleData></SchemaData></ExtendedData><Point><coordinates>1,2</coordinates></Point></Placemark></Document></kml>")
  expect_warning(expect_identical(wkt_of(read_layer(kml)), "POINT (1 2)"), "1 value without the name of a field is left out", class = "civicatlas_warning_data")
})

test_that("names of entries in an archive are read in the code page that old writers used", {
  file <- withr::local_tempfile(fileext = ".zip")
  point <- charToRaw("{\"type\":\"Feature\",\"geometry\":{\"type\":\"Point\",\"coordinates\":[1,2]},\"properties\":{\"a\":1}}")
  archive <- civicatlas:::core_encode_zip(c("stra#e.geojson", "b.geojson"), list(point, point))
  archive[archive == charToRaw("#")] <- as.raw(0xe1)
  writeBin(archive, file)
  expect_identical(list_layers(file)$layer, c("stra\u00dfe", "b"))
  expect_identical(read_layer(file, layer = "stra\u00dfe")$a, 1L)
  withr::with_locale(c(LC_CTYPE = "C"), expect_identical(nrow(read_layer(file, layer = "stra\u00dfe")), 1L))
})

test_that("dates that a format cannot hold are missing there, and told", {
  far <- tibble::tibble(day = structure(c(3663000, 18262), class = "Date"), n = 1:2)
  for (ending in c(".dbf", ".gpkg")) {
    file <- withr::local_tempfile(fileext = ending)
    expect_warning(write_layer(far, file), "1 date outside the years 0 to 9999", class = "civicatlas_warning_data")
    expect_identical(read_layer(file)$day, as.Date(c(NA, "2020-01-01")))
  }
  expect_error(write_layer(far, file.path(tempdir(), paste0(strrep("x", 300), ".csv"))), "220 is the most", class = "civicatlas_error_file")
})

test_that("what names and values would have a terminal do is shown, not done", {
  trap <- "a\u001b[31mb\u001b]0;c\u0007\u009bd\u202e"
  raw_control <- "[\u0001-\u0008\u000b-\u001f\u007f-\u009f\u202a-\u202e]"
  x <- spatial_frame(a = 1:2, name = trap, geometry = point_shapes(1:2, 1:2), crs = 4326)
  names(x)[1] <- trap
  file <- withr::local_tempfile(fileext = ".csv")
  told <- function(expr) conditionMessage(rlang::catch_cnd(expr, classes = c("error", "warning", "civicatlas_message")))
  withr::local_options(civicatlas.quiet = FALSE, cli.num_colors = 1L)
  said <- c(told(read_layer(file.path(tempdir(), paste0(trap, ".shp")))), told(join_table(x, data.frame(a = 1), by = trap)),
            told(suppressMessages(write_layer(x, file.path(tempdir(), "trap.shp"), replace = TRUE))),
            capture.output(print(describe_layer(x))))
  expect_no_match(said, raw_control)
  expect_no_match(capture.output(print(x)), "\u001b|\u0007|\u009b")
  expect_match(said, "u009bd", all = FALSE)
  expect_match(capture.output(print(describe_layer(data.frame(a = "b\xff")))), "b<ff>", fixed = TRUE, all = FALSE)
  beyond <- c("a\xf4\x95\x80\x8b", "b\xff", "c")
  Encoding(beyond) <- "UTF-8"
  expect_true(all(validUTF8(civicatlas:::valid_text(beyond))))
  withr::local_options(cli.num_colors = 256L, cli.hyperlink = TRUE)
  expect_no_match(gsub("\033(\\[[0-9;]*m|\\]8;;[^\007]*\007)", "", told(read_layer(file.path(tempdir(), paste0(trap, ".shp"))))), raw_control)
})

test_that("texts that a spreadsheet would calculate are told where columns are described", {
  x <- data.frame(sum = c("=1+1", "b"), at = c("a", "@here"), number = c("-1", "+ 2"), minus = c("-1", "-a"))
  expect_identical(describe_layer(x)$fields$type, c("text (formulas)", "text (formulas)", "text", "text (formulas)"))
  file <- withr::local_tempfile(fileext = ".csv")
  write_layer(x, file)
  expect_identical(read_layer(file)$sum, x$sum)
})

test_that("damaged JSON that looks like a format does not end R, and no text is taken for a path", {
  for (text in c("{\"a\": %n%n%n}", "{\"a\": %s%s%s%s}", demo_file("rooms.geojson"), "https://example.invalid/x.json", "[%n")) {
    expect_error(civicatlas:::parse_json(text), "no JSON")
    expect_error(keep_rows(data.frame(a = 1), paste0("{", text)), class = "civicatlas_error_argument")
  }
  expect_identical(civicatlas:::parse_json("{\"a\": \"%n\"}")$a, "%n")
  file <- withr::local_tempfile(fileext = ".parquet")
  write_layer(read_layer(demo_file("rooms.geojson")), file)
  bytes <- readBin(file, "raw", 1e7)
  at <- grepRaw("\"version\":", bytes, fixed = TRUE)
  bytes[at + 10:13] <- charToRaw("%n%n")
  writeBin(bytes, file)
  expect_error(read_layer(file), "no JSON", class = "civicatlas_error_format")
})

test_that("a document type is found behind comments and declarations, and unusual encodings are refused", {
  kml <- "<kml><Placemark><name>%s</name><Point><coordinates>1,2</coordinates></Point></Placemark></kml>"
  entity <- "<!DOCTYPE x [<!ENTITY a \"ha\">]>"
  refused <- c(paste0("<!-- <kml -->", entity, sprintf(kml, "&a;")), paste0("<?xml version=\"1.0\"?><?x <kml?>\n<!--a--><!-- <kml -->\n", entity, sprintf(kml, "&a;")),
               paste0("<?xml version=\"1.0\" encoding=\"UTF-7\"?>", sprintf(kml, "a")), paste0("<?xml version='1.0' encoding = 'IBM037'?>", sprintf(kml, "a")))
  for (text in refused) expect_error(read_layer(withr::local_tempfile(fileext = ".kml", lines = text)), "document type or an unusual encoding", class = "civicatlas_error_format")
  ebcdic <- withr::local_tempfile(fileext = ".kml")
  writeBin(iconv(refused[1], "UTF-8", "IBM037", toRaw = TRUE)[[1]], ebcdic)
  expect_error(read_layer(ebcdic), class = "civicatlas_error_format")
  fine <- paste0("<?xml version=\"1.0\" encoding=\"UTF-8\"?><!-- <!DOCTYPE --><?a <!ENTITY ?>", sprintf(kml, "b"))
  expect_identical(read_layer(withr::local_tempfile(fileext = ".kml", lines = fine))$name, "b")
})

test_that("bytes that are no text, names that are none and lines of another encoding are told", {
  folder <- withr::local_tempdir()
  wards <- read_layer(demo_file("wards.shp"))
  write_layer(wards, file.path(folder, "w.shp"))
  table <- file.path(folder, "w.dbf")
  bytes <- readBin(table, "raw", 1e6)
  withr::local_seed(3)
  for (i in 1:300) {
    writeBin(replace(bytes, sample(length(bytes), 3), as.raw(sample(128:255, 3))), table)
    found <- tryCatch(suppressWarnings(read_layer(file.path(folder, "w.shp"))), civicatlas_error = function(e) NULL)
  }
  for (name in c(".hidden.shp", "a\\b.shp")) {
    suppressMessages(write_layer(wards, file.path(folder, name)))
    expect_identical(nrow(read_layer(file.path(folder, name))), nrow(wards))
  }
  for (ending in c(".shp", ".gpkg", ".geojson", ".parquet", ".csv")) {
    for (size in c(215, 219)) {
      file <- file.path(folder, paste0(strrep("n", size - nchar(ending)), ending))
      suppressMessages(suppressWarnings(write_layer(wards, file)))
      expect_identical(nrow(read_layer(file)), nrow(wards))
    }
    expect_error(write_layer(wards, file.path(folder, paste0(strrep("n", 240), ending))), "220 is the most", class = "civicatlas_error_file")
  }
  mixed <- file.path(folder, "mixed.csv")
  writeBin(c(charToRaw("name,n\ncaf\u00e9,1\n"), as.raw(0xe9), charToRaw(",2\nz,3\n")), mixed)
  expect_warning(read <- read_layer(mixed), "1 line not, first line 3", class = "civicatlas_warning_data")
  expect_identical(read$name, c("caf\u00e9", "\u00e9", "z"))
  expect_identical(read$n, 1:3)
  odd <- tibble::tibble(a = 1:2, b = 3:4, c = 5:6)
  names(odd) <- c("", ".data", ".env")
  for (ending in c(".csv", ".parquet", ".gpkg")) {
    file <- file.path(folder, paste0("odd", ending))
    write_layer(odd, file)
    expect_identical(names(read_layer(file)), c("column_1", ".data_1", ".env_1"))
  }
  for (name in c("", ".data", ".env")) expect_error(keep_rows(odd, sprintf("\"%s\" = 1", name)), class = "civicatlas_error_column")
})

test_that("metadata of shapes that is of another type than it must be is told, or left out", {
  file <- withr::local_tempfile(fileext = ".parquet")
  rows <- data.frame(id = 1:2)
  rows$geometry <- I(unclass(wkb_of(point_shapes(1:2, 1:2))))
  column <- function(text) sprintf("{\"columns\":{\"geometry\":%s},\"primary_column\":\"geometry\"}", text)
  refused <- c("[1,2]", "\"x\"", "7", "null", "{\"columns\":[1],\"primary_column\":\"geometry\"}", column("\"x\""), "{\"primary_column\":5}", column("{\"encoding\":5}"))
  taken <- column(c("{\"encoding\":\"WKB\",\"crs\":\"EPSG:4326\"}", "{\"encoding\":\"WKB\",\"crs\":{\"id\":\"x\"},\"bbox\":\"a\",\"covering\":{\"bbox\":[1]},\"geometry_types\":7}"))
  for (geo in c(refused, taken)) {
    nanoparquet::write_parquet(rows, file, metadata = c(geo = geo))
    if (geo %in% taken) expect_identical(nrow(suppressWarnings(read_layer(file))), 2L) else expect_error(read_layer(file), class = "civicatlas_error_format", info = geo)
    for (look in list(describe_layer, list_layers)) tryCatch(suppressWarnings(look(file)), civicatlas_error = function(e) NULL)
  }
})

test_that("a column without a name is read under another, whatever the format", {
  file <- withr::local_tempfile(fileext = ".geojson", lines = "{\"type\":\"Feature\",\"properties\":{\"a\":1,\"\":\"x\"},\"geometry\":null}")
  expect_named(read_layer(file), c("a", "column_2", "geometry"))
  x <- toy_frame(a = 1:2, b = c("x", NA), geometry = point_shapes(1:2, 1:2, crs = 4326))
  write_layer(x, kml <- withr::local_tempfile(fileext = ".kml"))
  writeLines(gsub("name=\"b\"", "name=\"\"", readLines(kml)), kml)
  expect_identical(as.list(attribute_table(read_layer(kml))), list(a = 1:2, column_2 = c("x", NA)))
  write_layer(x, store <- withr::local_tempfile(fileext = ".gpkg"), layer = "x")
  con <- DBI::dbConnect(RSQLite::SQLite(), store)
  for (name in DBI::dbGetQuery(con, "SELECT name FROM sqlite_master WHERE type = 'trigger'")$name) DBI::dbExecute(con, sprintf("DROP TRIGGER \"%s\"", name))
  DBI::dbExecute(con, "ALTER TABLE x ADD COLUMN \"\" TEXT DEFAULT 'q'")
  DBI::dbDisconnect(con)
  expect_identical(unlist(attribute_table(read_layer(store))[3], use.names = FALSE), c("q", "q"))
  rows <- data.frame(1:2, b = 3:4)
  names(rows)[1] <- ""
  for (codec in c("snappy", "zstd")) {
    nanoparquet::write_parquet(rows, file <- withr::local_tempfile(fileext = ".parquet"), compression = codec)
    expect_identical(as.list(read_layer(file)), list(column_1 = 1:2, b = 3:4))
  }
})
