# Pages: what they hand to the browser, and one driven in it.

skip_if_not_installed("shiny")
skip_if_not_installed("bslib")
skip_if_not_installed("processx")

ready <- function(name) system.file("workflows", paste0(name, ".yaml"), package = "civicatlas")

test_that("shapes go to the browser as they lie in the window", {
  x <- spatial_frame(id = 1:3, geometry = shapes_from_wkt(c(
    "POLYGON ((0 0, 100 0, 100 100, 0 100, 0 0), (20 20, 20 40, 40 40, 40 20, 20 20))", "POINT (50 50)", "LINESTRING (0 0, 100 100)"
  )))
  bytes <- civicatlas:::drawn_bytes(x, list(window = list(0, 0, 100, 100), width = 1000))
  at <- function(from, count, what, size, ...) readBin(bytes[from - 1 + seq_len(count * size)], what, count, size, endian = "little", ...)
  counts <- at(1, 2, "integer", 4)
  expect_identical(at(9, 4, "double", 8), c(0, 0, 100, 100))
  rings <- counts[2]
  expect_identical(at(41 + 4 * rings, rings, "integer", 4), c(0L, 0L, 1L, 2L))
  expect_identical(at(41 + 8 * rings, rings, "integer", 4), c(2L, 2L, 0L, 1L))
  places <- matrix(at(41 + 12 * rings, 2 * counts[1], "integer", 2, signed = FALSE), 2)
  starts <- at(41, rings, "integer", 4)
  expect_equal(places[, starts[3] + 1] / 65535 * 100, c(50, 50), tolerance = 1e-3)  # half a dot of 1,000
  expect_length(bytes, 40 + 12 * rings + 4 * counts[1])
  expect_identical(civicatlas:::rows_at(x, list(x = 50, y = 50, reach = 1)), 3L)
  expect_identical(civicatlas:::rows_at(x, list(x = 30, y = 25, reach = 0.1)), integer())
})

test_that("layers on several CRSs meet on one, which is said", {
  wards <- read_layer(demo_file("wards.shp"))
  rooms <- read_layer(demo_file("rooms.geojson"))
  found <- civicatlas:::on_one_crs(list(rooms = rooms, wards = wards))
  expect_true(crs_of(found$frames$rooms) == crs_of(wards))
  expect_match(found$said, "reprojected for the map: rooms")
  expect_equal(unname(found$home), unname(extent_of(wards)), ignore_attr = TRUE)
  alone <- civicatlas:::on_one_crs(list(rooms = rooms))
  expect_false(crs_of(alone$frames$rooms)$kind == "geographic")
  none <- civicatlas:::on_one_crs(list(a = spatial_frame(id = 1L, geometry = shapes_from_wkt("POINT EMPTY"))))
  expect_null(none$box)
})

test_that("what is chosen is written down as R code that does it", {
  wards <- read_layer(demo_file("wards.shp"))
  fill <- civicatlas:::filled_rows(wards, "residents", wards$residents > 10000, "quantile", 4, "moss")
  code <- civicatlas:::code_of_choices("wards", "wards", "residents > 10000", "residents", fill, list(classes = 4, method = "quantile", palette = "moss"))
  env <- new.env(parent = globalenv())
  env$wards <- wards
  map <- eval(parse(text = code), env)
  expect_identical(nrow(env$wards), 15L)
  shown <- ggplot2::ggplot_build(map)$data[[1]]$fill
  expect_identical(as.character(shown), fill$colours[fill$class[wards$residents > 10000] + 1])
  expect_match(civicatlas:::code_of_choices("a", "a", "", NULL, NULL, list())[2], "plain_map(a)", fixed = TRUE)
  rooms <- list(name = "cool rooms", code = "read_layer(demo_file(\"rooms.geojson\"))", verb = civicatlas:::verb_over_map(read_layer(demo_file("rooms.geojson"))))
  both <- civicatlas:::code_of_choices("wards", "wards", "", NULL, NULL, list(), list(rooms))
  expect_identical(both[3], "plain_map(wards) + map_points(cool.rooms)")
  expect_length(suppressMessages(eval(parse(text = both), env))$layers, 2)
  kinds <- civicatlas:::filled_rows(read_layer(demo_file("rooms.geojson")), "kind", NULL, "natural", 5, "harbour")
  expect_identical(length(kinds$labels), length(kinds$colours))
})

test_that("messages speak of the page: no folders, no code to type", {
  folder <- withr::local_tempdir()
  broken <- file.path(folder, "rooms.geojson")
  writeBin(utils::head(readBin(demo_file("rooms.geojson"), "raw", 1e6), 3000), broken)
  input <- list(type = "layer", shapes = "polygon", columns = "seets")
  told <- c(civicatlas:::layer_for_page("rooms", list(type = "layer"), broken)$problem, civicatlas:::layer_for_page("rooms", input, demo_file("rooms.geojson"))$problem,
            civicatlas:::layer_for_page("rooms", list(type = "layer", columns = "seets"), demo_file("rooms.geojson"))$problem,
            civicatlas:::layer_for_page("rooms", list(type = "layer"), file.path(folder, "gone.gpkg"))$problem)
  expect_length(told, 4)
  expect_no_match(told, folder, fixed = TRUE)
  expect_no_match(told, "[(][)]|--[a-z]|shell|options[(]")
  expect_match(told[1], "rooms.geojson")
  expect_match(told[3], "seets")
  read_only <- file.path(folder, "a file")
  file.create(read_only)
  expect_error(civicatlas:::new_run_folder(read_only), "read-only, or the disk is full", class = "civicatlas_error_file")
})

test_that("runs are read from their folders as data, and what is none is left out", {
  folder <- withr::local_tempdir()
  for (k in 1:4) dir.create(file.path(folder, "runs", k), recursive = TRUE)
  about <- function(answer) paste0("{\"answer\":\"", answer, "\",\"column\":\"v\",\"column_title\":\"v\",\"totals\":[],\"outputs\":[],\"inputs\":{\"n\":\"", answer, "\"},\"finished\":\"now\"}")
  writeLines(about("one"), file.path(folder, "runs", 1, ".found.json"))
  writeLines(about("two"), file.path(folder, "runs", 2, ".found.json"))
  writeLines("{\"answer\": [1", file.path(folder, "runs", 3, ".found.json"))
  writeLines("{\"problem\":\"failed\"}", file.path(folder, "runs", 4, ".found.json"))
  layer <- function(v, k) quiet_write(spatial_frame(id = c("a", "b", "c"), v = v, geometry = shapes_from_wkt(c("POINT (1 2)", "POINT (3 4)", "POINT (5 6)"), 4326)), file.path(folder, "runs", k, ".answer.gpkg"))
  quiet_write <- function(x, path) suppressMessages(write_layer(x, path, layer = "answer"))
  layer(c(1, 2, 3), 1)
  layer(c(1, 5, 2), 2)
  runs <- civicatlas:::runs_in_folder(folder)
  expect_named(runs, c("1", "2"))
  shown <- civicatlas:::layers_of_runs(runs[["2"]], runs[["1"]])
  expect_named(shown$frames, c("Change from run 1", "Result of run 2", "Result of run 1"))
  expect_identical(shown$frames[[1]]$id, c("b", "c", "a"))
  expect_equal(shown$frames[[1]]$change, c(3, -1, 0))
  expect_identical(shown$styles[[2]]$fill$labels, shown$styles[[3]]$fill$labels)  # on common classes
  expect_identical(shown$hidden, c("Result of run 2", "Result of run 1"))
  expect_named(suppressWarnings(civicatlas:::layers_of_runs(runs[["2"]], NULL))$frames, "Result of run 2")
})

test_that("nothing but the files of the folder can be chosen", {
  skip_on_os("windows")
  folder <- normalizePath(withr::local_tempdir())
  write_layer(read_layer(demo_file("wards.shp")), file.path(folder, "wards.shp"))
  file.create(file.path(folder, c("notes.txt", "secret.yaml")))
  file.symlink(demo_file("rooms.geojson"), file.path(folder, "rooms.geojson"))
  expect_identical(grep("wkt|txt", civicatlas:::layers_in_folder(folder), value = TRUE, invert = TRUE), "wards.shp")
})

test_that("a page opens with its key alone", {
  page <- civicatlas:::layers_page(list(wards = read_layer(demo_file("wards.shp"))), "wards")
  app <- civicatlas:::app_of_page(page, "k1")
  ask <- function(query) app$httpHandler(list(REQUEST_METHOD = "GET", PATH_INFO = "/", QUERY_STRING = query, HTTP_GUID = "x"))
  expect_equal(ask("")$status, 403)
  expect_equal(ask("?key=k2")$status, 403)
  opened <- ask("?key=k1")
  expect_equal(opened$status, 200)
  expect_match(as.character(opened$content), "coloured by", all = FALSE)
  expect_no_match(paste(opened$content, collapse = ""), "(src|href)=\"https?://")
  expect_false(identical(civicatlas:::random_key(), civicatlas:::random_key()))
  expect_error(look_at(), class = "civicatlas_error_argument")
  expect_error(open_workflow(ready("out-of-reach"), file.path(demo_file("wards.shp"), "nowhere")), class = "civicatlas_error_file")
})

test_that("a page runs a workflow as R does, beside the run before it, and hands out its files", {
  skip_without_browser()
  folder <- withr::local_tempdir()
  said <- file.path(folder, "said.txt")
  tool <- file.path(folder, "civicatlas")
  file.symlink(system.file("exec", "civicatlas", package = "civicatlas"), tool)
  pages <- file.path(folder, "pages")
  served <- processx::process$new(tool, c("page", ready("out-of-reach"), "--no-browser", "--folder", pages), stderr = said, cleanup_tree = TRUE,
                                  env = c("current", R_LIBS = paste(.libPaths(), collapse = ":"), CIVICATLAS_UPLOAD_BYTES = "500000",
                                          CIVICATLAS_UNPACK_LIMIT = "10000000"))
  withr::defer(served$kill_tree())
  address <- character()
  for (i in 1:600) {
    address <- regmatches(paste(readLines(said, warn = FALSE), collapse = ""), regexpr("http://[^ ]+key=[0-9a-f]{32}", paste(readLines(said, warn = FALSE), collapse = "")))
    if (length(address)) break
    Sys.sleep(0.1)
  }
  browser <- opened_browser()
  withr::defer(browser$close())
  withr::local_options(chromote.timeout = 600)
  browser$Browser$setDownloadBehavior(behavior = "allow", downloadPath = folder)
  ask <- function(code) browser$Runtime$evaluate(code)$result$value
  until <- function(code) for (i in 1:6000) if (isTRUE(ask(code))) return(TRUE) else Sys.sleep(0.1)
  for (i in 1:50) {
    browser$Page$navigate(address)
    if (isTRUE(ask("!!document.getElementById('run')"))) break
    Sys.sleep(0.2)
  }
  expect_true(until("+document.getElementById('map').dataset.fetched >= 2"))
  set <- function(id, value) {
    ask(sprintf("(function () { var e = document.getElementById('%s'); e.value = %s; e.dispatchEvent(new Event('change', {bubbles: true})); e.dispatchEvent(new Event('input', {bubbles: true})); })()", id, deparse(value)))
  }
  text <- function(id) ask(sprintf("(document.getElementById('%s') || {}).textContent", id))
  expect_true(until("document.getElementById('in-rooms-note').textContent.indexOf('140 rows; WGS 84 (EPSG:4326)') == 0"))
  expect_match(text("in-wards-note"), "24 rows; WGS 84 / UTM zone 57S", fixed = TRUE)
  members <- list.files(dirname(demo_file("wards.shp")), "^wards[.]", full.names = TRUE)
  field <- browser$DOM$querySelector(browser$DOM$getDocument()$root$nodeId, "#in-wards-upload")
  browser$DOM$setFileInputFiles(files = as.list(members), nodeId = field$nodeId)
  expect_true(until("document.getElementById('in-wards').selectedOptions[0].textContent == 'wards.shp (yours)'"))
  expect_true(until("document.getElementById('in-wards-note').textContent.indexOf('24 rows') == 0"))
  post <- function(bytes) httr2::request(sub("[?].*", "", address)) |> httr2::req_body_raw(raw(bytes)) |> httr2::req_error(is_error = function(r) FALSE) |> httr2::req_perform()
  expect_identical(httr2::resp_status(post(2e5)), 413L)  # nothing is being sent by the page
  large <- file.path(folder, "large.geojson")
  writeLines(strrep(" ", 6e5), large)
  browser$DOM$setFileInputFiles(files = list(large), nodeId = field$nodeId)
  refused <- "in-wards-upload-refused"
  expect_true(until(sprintf("document.getElementById('%s').textContent.indexOf('large.geojson has 600 kB') == 0", refused)))
  expect_match(text(refused), "up to 500 kB. Put it into the folder of the page")
  expect_match(text("in-wards-note"), "24 rows")
  swollen <- file.path(folder, "swollen.geojson.gz")
  packed <- gzfile(swollen, "wb")
  writeLines(strrep(" ", 3e7), packed)
  close(packed)
  browser$DOM$setFileInputFiles(files = list(swollen), nodeId = field$nodeId)
  expect_true(until("document.getElementById('in-wards-note').textContent.indexOf('swollen.geojson.gz') >= 0"))
  expect_match(text("in-wards-note"), "^Cannot read 'swollen.geojson.gz': its [0-9]+ bytes unpack to more than the 10000000 that are allowed")
  browser$DOM$setFileInputFiles(files = as.list(members), nodeId = field$nodeId)
  expect_true(until("document.getElementById('in-wards-note').textContent.indexOf('24 rows') == 0"))
  controls <- Filter(function(node) isTRUE(node$role$value %in% c("button", "combobox", "spinbutton", "textbox", "grid", "progressbar", "image")) && !isTRUE(node$ignored),
                     browser$Accessibility$getFullAXTree()$nodes)
  names <- vapply(controls, function(node) node$name$value, "")
  expect_true(all(nzchar(names)))
  expect_identical(sum(grepl("file for Wards", names)), 1L)
  set("in-which", "seats > 10000 OR")
  expect_true(until("document.getElementById('in-which-note').textContent.indexOf('ends where') >= 0"))
  set("in-which", "kind = 'Library'")
  expect_true(until("document.getElementById('in-which-note').textContent.indexOf(\"near it: 'library' (26 rows)\") >= 0"))
  ask("document.querySelector('#in-which-note button').click()")
  expect_true(until("document.getElementById('in-which').value == \"kind = 'library'\" && document.getElementById('in-which-note').textContent == '26 of 140 rows'"))
  set("in-which", "seats > 100")
  kept <- sum(read_layer(demo_file("rooms.geojson"))$seats > 100)
  expect_true(until(sprintf("document.getElementById('in-which-note').textContent == '%d of 140 rows'", kept)))
  set("in-distance", "500")
  expect_true(until("document.getElementById('command').textContent.indexOf('distance=500') >= 0"))
  ask("document.getElementById('run').click()")
  expect_true(until("!!document.getElementById('answer-text')"))
  here <- run_workflow(ready("out-of-reach"), distance = 500, which = "seats > 100", folder = withr::local_tempdir())
  expect_identical(text("answer-text"), civicatlas:::answer_of_run(here))
  expect_true(until("document.getElementById('shown').selectedOptions[0].textContent == 'Result of run 1'"))
  expect_true(until("document.querySelector('#key .key-title').textContent == 'share'"))  # the map is coloured by the answer's column
  heads <- "Array.from(document.querySelectorAll('#rows th')).map(function (cell) { return cell.textContent; }).join()"
  expect_true(until(paste0(heads, ".indexOf('ward_id,name,share,') == 0")))
  expect_identical(ask("document.querySelectorAll('#rows [tabindex=\"0\"]').length"), 1L)
  before_form <- "document.getElementById('answer-band').compareDocumentPosition(document.getElementById('map')) == Node.DOCUMENT_POSITION_FOLLOWING"
  expect_true(ask(before_form))
  report <- ask("document.getElementById('report').href")
  expect_match(ask("document.getElementById('report').target"), "_blank")
  expect_true(ask("(function () { var r = new XMLHttpRequest(); r.open('GET', document.getElementById('report').href, false); r.send(); return r.responseText.indexOf('Who is out of reach') > 0 && r.getResponseHeader('Content-Security-Policy').indexOf('sandbox') == 0; })()"))
  ask("document.getElementById('get_2').click()")
  for (i in 1:600) if (file.exists(file.path(folder, "shares.csv"))) break else Sys.sleep(0.1)
  expect_identical(readLines(file.path(folder, "shares.csv")), readLines(here$outputs[["shares.csv"]]))
  set("in-distance", "25")
  expect_true(until("document.getElementById('command').textContent.indexOf('distance=25,') >= 0"))
  ask("document.getElementById('run').click()")
  expect_true(until("!!document.querySelector('.before') && document.getElementById('answer-text').textContent.indexOf('25 m') >= 0"))
  expect_match(ask("document.querySelector('.before').textContent"), "farther than 500 m.*far_ha.*ha\\s*$")
  expect_no_match(ask("document.querySelector('.before').textContent"), "share")  # a share has no total
  expect_true(until("document.getElementById('shown').selectedOptions[0].textContent == 'Change from run 1'"))
  expect_true(until("document.querySelector('#key .key-title').textContent == 'Change of share'"))
  expect_true(until(paste0(heads, " == 'ward_id,name,change,share_before,share'")))
  changes <- "Array.from(document.querySelectorAll('#rows tbody tr')).map(function (row) { return Math.abs(+row.cells[2].textContent); })"
  expect_true(ask(sprintf("%s.every(function (value, k, all) { return !k || value <= all[k - 1]; })", changes)))
  set("in-distance", "-4")
  expect_true(until("document.getElementById('in-distance-note').textContent.indexOf('at least') >= 0"))
  ask("document.getElementById('run').click()")
  expect_true(until("document.getElementById('state').textContent.indexOf('First: How far people walk:') >= 0"))
  set("in-distance", "30")
  expect_true(until("document.getElementById('state').textContent == ''"))
  expect_identical(list.files(file.path(pages, "runs")), c("1", "2"))
  expect_match(readLines(file.path(pages, "runs", "2", "run.log")), "kept from before", all = FALSE)

  # A measure: two points, then three.
  ask("document.getElementById('measure').click()")
  click <- function(x, y) {
    for (type in c("mousePressed", "mouseReleased")) browser$Input$dispatchMouseEvent(type = type, x = x, y = y, button = "left", clickCount = 1)
  }
  ask("document.getElementById('map').scrollIntoView({block: 'center'})")
  place <- unlist(jsonlite::fromJSON(ask("JSON.stringify(document.getElementById('map').getBoundingClientRect())"))[c("x", "y")])
  click(place[["x"]] + 150, place[["y"]] + 150)
  click(place[["x"]] + 250, place[["y"]] + 150)
  expect_true(until("/^[0-9.,]+ k?m$/.test(document.getElementById('measured').textContent)"))
  click(place[["x"]] + 250, place[["y"]] + 250)
  expect_true(until("/^[0-9.,]+ k?m; [0-9.,]+ (km\u00b2|ha) enclosed$/.test(document.getElementById('measured').textContent)"))

  # Runs are there after a reload, a run that is stopped leaves no answer, and a phone has the answer first.
  browser$Page$navigate(address)
  expect_true(until("document.querySelectorAll('.runs tr').length == 2"))
  browser$Emulation$setDeviceMetricsOverride(width = 390, height = 844, deviceScaleFactor = 1, mobile = FALSE)
  expect_true(until("document.getElementById('panes').firstElementChild.id == 'asking'"))
  ask("document.querySelector('button[data-input=show_run]').click()")
  expect_true(until("!!document.getElementById('answer-text') && document.getElementById('panes').firstElementChild.id == 'seeing'"))
  expect_true(ask("document.documentElement.scrollWidth <= 390"))
  set("in-distance", "60")
  expect_true(until("document.getElementById('command').textContent.indexOf('distance=60') >= 0"))
  ask("document.getElementById('run').click()")
  expect_true(until("!document.getElementById('stop').disabled"))
  ask("document.getElementById('stop').click()")
  expect_true(until("document.getElementById('state').textContent.indexOf('Stopped') == 0 && document.querySelectorAll('.runs tr').length == 2"))
})

test_that("an upload is what shiny stored, and the key is handed over once", {
  stored <- file.path(tempdir(), strrep("0a", 12))
  dir.create(stored)
  withr::defer(unlink(stored, recursive = TRUE))
  file.copy(demo_file("rooms.geojson"), file.path(stored, "0.geojson"))
  upload <- function(path) data.frame(name = "a.geojson", size = 1, type = "", datapath = path)
  expect_true(civicatlas:::is_upload(upload(file.path(stored, "0.geojson"))))
  for (path in c("/etc/passwd", demo_file("rooms.geojson"), file.path(stored, "..", "..", "x"), file.path(tempdir(), "0.geojson"), file.path(stored, "a.geojson"))) {
    expect_false(civicatlas:::is_upload(upload(path)), info = path)
  }
  expect_false(civicatlas:::is_upload(as.list(upload(file.path(stored, "0.geojson")))))
  page <- civicatlas:::layers_page(list(wards = read_layer(demo_file("wards.shp"))), "wards")
  app <- civicatlas:::app_of_page(page, "k1", rlang::env(word = "w1"))
  ask <- function(query) app$httpHandler(list(REQUEST_METHOD = "GET", PATH_INFO = "/", QUERY_STRING = query, HTTP_GUID = "x"))
  expect_equal(ask("?once=w2")$status, 403)
  first <- ask("?once=w1")
  expect_equal(first$status, 303)
  expect_identical(first$headers$Location, "/?key=k1")
  expect_equal(ask("?once=w1")$status, 403)
  expect_equal(ask("?key=k1")$status, 200)
})
