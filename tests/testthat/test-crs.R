test_that("codes, text, files and frames name a CRS", {
  utm <- crs(32757)
  expect_true(utm == crs("EPSG:32757"))
  expect_true(utm == crs("32757"))
  expect_true(utm == crs(frame <- two_wards()))
  expect_true(crs("urn:ogc:def:crs:OGC:1.3:CRS84") == crs(4326))
  expect_true(crs(demo_file("wards.prj")) == utm)
  expect_false(utm == crs(32756))
  expect_null(crs(NULL))
  expect_identical(utm$unit, "metre")
})

test_that("unknown codes and unreadable text are refused with help", {
  expect_error(crs(32799), "Nearest codes.*EPSG:32766", class = "civicatlas_error_crs")
  expect_error(crs(3e12), class = "civicatlas_error_crs")
  expect_error(crs("Saltmere grid"), "no known CRS", class = "civicatlas_error_crs")
  expect_error(crs("PROJCS[\"a\",GEOGCS[\"b\""), "character", class = "civicatlas_error_crs")
  expect_error(crs(TRUE), class = "civicatlas_error_crs")
})

test_that("a match by meaning is shown as a match, not as a fact", {
  expect_match(format(crs(demo_file("wards.prj"))), "matched by meaning")
  expect_no_match(format(crs(32757)), "matched")
  expect_match(paste(capture.output(print(crs(27700))), collapse = "\n"), "Ordnance Survey")
})

test_that("reprojecting agrees with a published point and returns", {
  # IOGP Guidance Note 373-7-2: NAD27 / Texas South Central, 28 30 N 96 W.
  point <- reproject_to(point_shapes(-96, 28.5, crs = 4267), 32040)
  expect_equal(unlist(coordinates_of(point)[c("x", "y")]), c(x = 2963503.91, y = 254759.80), tolerance = 1e-8)
  back <- reproject_to(point, 4267)
  expect_equal(unlist(coordinates_of(back)[c("x", "y")]), c(x = -96, y = 28.5), tolerance = 1e-13)
})

test_that("labelling keeps coordinates and says which verb moves them", {
  x <- point_shapes(160, -47, crs = 4326)
  expect_warning(y <- declare_crs(x, 4167), "reproject_to", class = "civicatlas_warning_crs")
  expect_identical(wkt_of(y), wkt_of(x))
  expect_null(crs_of(declare_crs(x, NULL)))
  expect_error(reproject_to(declare_crs(x, NULL), 32757), "declare_crs", class = "civicatlas_error_crs")
})

test_that("shapes that are only turned around the globe are not said to be cut", {
  x <- spatial_frame(id = 1:2, geometry = shapes_from_wkt(c("POLYGON ((190 0, 200 0, 200 10, 190 10, 190 0))", "POLYGON ((170 0, 190 0, 190 10, 170 10, 170 0))"), 4326))
  cut <- function(x) {
    account <- account_of(reproject_to(x, 3857))
    sum(account$count[account$what == "cut where the map ends"])
  }
  expect_identical(cut(x[1, ]), 0)
  expect_identical(cut(x), 1)
})

test_that("coordinates that do not fit their label raise one warning with the likely cause", {
  cause <- function(x, y, crs, text) expect_warning(declare_crs(point_shapes(x, y), crs), text, class = "civicatlas_warning_crs")
  cause(590000, 4749000, 4326, "metres or feet")
  cause(-47, 160, 4326, "swapped")
  cause(160, -47, 32757, "degrees of longitude and latitude")
  cause(4749000, 590000, 32757, "axes look swapped")
  cause(590000 / 0.3048, 4749000 / 0.3048, 32757, "Taken as feet they would lie within")
  cause(300000, 60000, 2263, "Taken as metres they would lie within")
  cause(590000, 4749000, 27700, "far from its area of use")
  expect_silent(declare_crs(point_shapes(160, -47), 4326))
  expect_silent(declare_crs(point_shapes(590000, 4749000), 32757))
  expect_silent(declare_crs(point_shapes(numeric(), numeric()), 32757))
})

test_that("reading and reprojecting warn of a wrong label once", {
  folder <- withr::local_tempdir()
  path <- file.path(folder, "degrees.csv")
  writeLines(c("id,x,y", "a,160.2,-47.4"), path)
  expect_warning(read_layer(path, crs = 32757), "degrees of longitude", class = "civicatlas_warning_crs")
  warned <- 0
  withCallingHandlers(
    {
      x <- declare_crs(point_shapes(160.2, -47.4), 32757)
      reproject_to(x, 4326)
    },
    warning = function(w) {
      warned <<- warned + 1
      invokeRestart("muffleWarning")
    }
  )
  expect_identical(warned, 1)
})

test_that("shapes outside a projection's domain become missing and are counted", {
  x <- toy_frame(id = 1:2, geometry = point_shapes(c(160, -20), c(-47, 3), crs = 4326))
  expect_warning(y <- reproject_to(x, 32757), "1 shape.*domain", class = "civicatlas_warning_crs")
  expect_identical(is.na(y$geometry), c(FALSE, TRUE))
})

test_that("methods that are not there are refused by name", {
  text <- sub("Transverse_Mercator", "Vertical_Perspective", crs_text(32757, "wkt1"))
  text <- gsub(",AUTHORITY[^]]*]", "", text)
  expect_error(reproject_to(point_shapes(10, 50, crs = 4326), text), "Vertical_Perspective", class = "civicatlas_error_crs")
})

test_that("text is written in three spellings that read back the same", {
  for (code in c(32757, 27700, 3035, 5514, 2263, 4326)) {
    for (spelling in c("wkt2", "wkt1", "prj")) expect_true(crs(crs_text(code, spelling)) == crs(code), label = paste(code, spelling))
  }
  expect_match(crs_text(4326), "^GEOGCRS")
  expect_match(crs_text(32757, "wkt1"), "^PROJCS.*AUTHORITY")
  expect_no_match(crs_text(32757, "prj"), "AUTHORITY")
  expect_error(crs_text(4326, "wkt3"), "Nearest", class = "civicatlas_error_choice")
  expect_error(crs_text(NULL), class = "civicatlas_error_crs")
})

test_that("a printed CRS says in words what it is", {
  shown <- paste(capture.output(print(crs(27700))), collapse = "\n")
  for (part in c("keeps angles", "unit +metre", "Transverse Mercator", "scale factor 0.9996012717", "Airy", "446.448", "good to about 2 m", "area of use")) {
    expect_match(shown, part)
  }
  expect_match(paste(capture.output(print(crs(3035))), collapse = "\n"), "keeps areas")
})

test_that("two layers meet on one CRS, or with crs = \"match\" on that of the first, which is said", {
  utm <- toy_frame(id = 1, geometry = point_shapes(590000, 4749000, crs = 32757))
  degrees <- reproject_to(toy_frame(name = "a", geometry = point_shapes(590000, 4749000, crs = 32757)), 4326)
  expect_error(join_where(utm, degrees, relation = "within distance", distance = 1), "crs = \"match\"", class = "civicatlas_error_crs_mismatch")
  told <- withr::with_options(list(civicatlas.quiet = FALSE), capture_messages(joined <- join_where(utm, degrees, relation = "within distance", distance = 1, crs = "match")))
  expect_match(told, "reproject_to", all = FALSE)
  expect_identical(joined$name, "a")
  expect_identical(nrow(related_pairs(utm, degrees, "within distance", distance = 1, crs = "match")), 1L)
  expect_lt(distance_between(utm, degrees, crs = "match"), 1e-5)
  expect_error(related_pairs(utm, degrees, crs = "convert"), "Nearest", class = "civicatlas_error_choice")
})

test_that("steps and their accuracy are shown on request, a missing grid is said once", {
  withr::local_options(civicatlas.quiet = FALSE)
  said <- asNamespace("civicatlas")$said
  rm(list = ls(said), envir = said)
  x <- point_shapes(-1.5, 52, crs = 4326)
  first <- capture_messages(reproject_to(x, 27700, steps = TRUE))
  expect_match(first, "datum shift .*Ordnance Survey.*good to about 2 m", all = FALSE)
  expect_match(first, "grid file is published", all = FALSE)
  expect_false(any(grepl("grid file", capture_messages(reproject_to(x, 27700)))))
})

test_that("grid files that are missing or damaged are refused by name", {
  x <- point_shapes(-75, 45, crs = 4267)
  folder <- withr::local_tempdir()
  expect_error(reproject_to(x, 4269, grids = file.path(folder, "none.gsb")), "none.gsb", class = "civicatlas_error_file")
  expect_error(reproject_to(x, 4269, grids = folder), "No grid file", class = "civicatlas_error_file")
  writeLines("nothing", file.path(folder, "bad.gsb"))
  expect_error(reproject_to(x, 4269, grids = folder), "bad.gsb.*fewer than its header", class = "civicatlas_error_format")
})

test_that("edges follow their curve to a tolerance, and shapes are cut where the map ends", {
  withr::local_options(civicatlas.quiet = FALSE)
  line <- shapes_from_wkt("LINESTRING (0 60, 90 60)", 4326)
  expect_message(curved <- reproject_to(line, 3575, tolerance = 1000), "vertices added")
  expect_gt(nrow(coordinates_of(curved)), 20)
  expect_error(reproject_to(line, 3575, tolerance = -1), class = "civicatlas_error_argument")
  across <- shapes_from_wkt("POLYGON ((170 -10, -170 -10, -170 10, 170 10, 170 -10))", 4326)
  expect_message(cut <- reproject_to(across, 3395), "1 shape cut where the map ends")
  expect_identical(geometry_type_of(cut), "multipolygon")
})

test_that("find_crs() searches by words, place and kind, and offers the nearest spelling", {
  withr::local_options(civicatlas.quiet = FALSE)
  found <- find_crs("malaya", kind = "projected")
  expect_true("EPSG:3168" %in% found$code)
  expect_true(all(grepl("malay", paste(found$name, found$area, found$datum), ignore.case = TRUE)))
  expect_message(none <- find_crs("mallaya"), "malaya")
  expect_identical(nrow(none), 0L)
  wards <- suppressMessages(read_layer(demo_file("wards.shp")))
  here <- find_crs("utm", covering = wards)
  expect_true("EPSG:32757" %in% here$code)
  expect_false("EPSG:32756" %in% here$code)
  expect_identical(find_crs("EPSG:27700")$name, "OSGB36 / British National Grid")
  expect_error(find_crs(covering = point_shapes(1, 2)), class = "civicatlas_error_crs")
  expect_error(find_crs("utm", kind = "flat"), class = "civicatlas_error_choice")
})

test_that("find_crs() puts what is meant first, by name, nickname, method and unit", {
  first <- function(text) find_crs(text)$code[1]
  expected <- c(
    "WGS84" = 4326, "wgs 84" = 4326, "utm33n" = 32633, "UTM zone 33N" = 32633, "lambert93" = 2154, "new york long island feet" = 2263, "web mercator" = 3857,
    "conus albers" = 5070, "british national grid" = 27700, "equal earth" = 8857, "EPSG:27500" = 27500, "Gau\u00df-Kr\u00fcger zone 3" = 3333,
    "DHDN Gauss Kruger zone 3" = 31467, "ETRS89" = 4258
  )
  for (text in names(expected)) expect_identical(first(text), paste0("EPSG:", expected[[text]]), info = text)
  expect_lte(nrow(find_crs("web mercator")), 5)
  expect_identical(crs(first("mollweide"))$method, "Mollweide")
})

test_that("names, addresses and URNs name a CRS, and a mistyped code offers the one with its digits the right way round", {
  for (text in c("WGS 84", "wgs 84", "urn:ogc:def:crs:EPSG::4326", "http://www.opengis.net/def/crs/EPSG/0/4326", "https://www.opengis.net/def/crs/OGC/1.3/CRS84")) {
    expect_identical(crs(text)$code, "EPSG:4326")
  }
  expect_identical(crs("NAD83 / Conus Albers")$code, "EPSG:5070")
  expect_error(crs(4362), "Nearest codes: WGS 84 .EPSG:4326", class = "civicatlas_error_crs")
  expect_error(crs("WGS 85"), class = "civicatlas_error_crs")
})

test_that("two standard parallels stand in either order", {
  for (code in c(2263, 2227, 2154)) {
    text <- crs_text(code, "prj")
    first <- regmatches(text, regexpr("Standard_Parallel_1\",[0-9.]+", text))
    second <- regmatches(text, regexpr("Standard_Parallel_2\",[0-9.]+", text))
    value <- function(found) sub(".*,", "", found)
    swapped <- sub(first, paste0("Standard_Parallel_1\",", value(second)), text, fixed = TRUE)
    swapped <- sub(second, paste0("Standard_Parallel_2\",", value(first)), swapped, fixed = TRUE)
    expect_false(swapped == text)
    swapped <- sub('PROJCS\\["[^"]*"', 'PROJCS["unnamed"', swapped)
    expect_identical(crs(swapped)$code, paste0("EPSG:", code))
    expect_true(crs(swapped) == crs(code))
  }
})

test_that("systems with heights stand behind those without, and angles are printed with their unit", {
  expect_identical(crs(crs_text(4979, "prj"))$code, "EPSG:4326")
  expect_output(print(crs(4979)), "three-dimensional: heights stay as they are")
  expect_output(print(crs(27500)), "latitude of origin 49.5\u00b0, central meridian 5.4\u00b0, scale factor 0.99950908, false easting 500000 metres")
  bogota <- point_shapes(-74.25, 4.8, 4326)
  there <- coordinates_of(reproject_to(bogota, 6247))
  expect_lt(max(abs(c(there$x - 80859.033, there$y - 122543.174))), 0.001)
  back <- coordinates_of(reproject_to(point_shapes(there$x, there$y, 6247), 4326))
  expect_lt(max(abs(c(back$x + 74.25, back$y - 4.8))), 1e-9)
})

test_that("crs_for() names a CRS that keeps what is to be measured, and why", {
  wards <- suppressMessages(read_layer(demo_file("wards.shp")))
  suggested <- function(x, what) suppressMessages(crs_for(x, what))
  expect_true(suggested(wards, "distance") == crs(32757))
  area <- suggested(wards, "area")
  expect_match(area$method, "Equal Area")
  expect_match(attr(area, "reason"), "equal-area.*areas by nothing")
  on_ground <- area_of(wards, ellipsoidal = TRUE)
  expect_equal(area_of(suppressMessages(reproject_to(wards, area))), on_ground, tolerance = 1e-7)
  world <- shapes_from_wkt("MULTIPOINT ((-170 -60), (170 70))", 4326)
  expect_identical(suggested(world, "area")$method, "Equal Earth")
  europe <- shapes_from_wkt("MULTIPOINT ((-10 36), (30 60))", 4326)
  expect_match(suggested(europe, "shape")$method, "Lambert Conic Conformal")
  expect_match(suggested(europe, "distance")$method, "Azimuthal Equidistant")
  expect_identical(suggested(shapes_from_wkt("MULTIPOINT ((0 70), (120 80))", 4326), "shape")$code, "EPSG:3995")
  expect_error(crs_for(wards, "beauty"), class = "civicatlas_error_choice")
})

test_that("published worked examples are reproduced", {
  examples <- utils::read.csv(test_data("published_examples.csv"))
  tried <- 0
  for (i in seq_len(nrow(examples))) {
    example <- examples[i, ]
    projected <- tryCatch(crs(example$epsg), civicatlas_error_crs = function(e) NULL)
    if (is.null(projected)) next  # a row the registry lacks
    tried <- tried + 1
    geographic <- crs(projected$geographic_code)
    point <- point_shapes((example$lon_deg - geographic$meridian_degrees) / geographic$unit_size, example$lat_deg / geographic$unit_size, crs = geographic)
    found <- coordinates_of(suppressWarnings(reproject_to(point, projected), "civicatlas_warning_crs"))  # some lie outside their area of use
    expect_lt(abs(found$x - example$x), example$tolerance + 1e-9, label = example$description)
    expect_lt(abs(found$y - example$y), example$tolerance + 1e-9, label = example$description)
  }
  expect_gte(tried, 20)
})
