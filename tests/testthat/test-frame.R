frame <- function() toy_frame(id = 1:4, kind = c("a", "b", "a", "b"), geometry = point_shapes(1:4, 0, crs = 32757))

test_that("the shape column stays with the rows through base subsetting", {
  x <- frame()
  expect_s3_class(x[2:3, ], "spatial_frame")
  expect_identical(wkt_of(x[3:2, c("id", "geometry")]), c("POINT (3 0)", "POINT (2 0)"))
  expect_named(x["kind"], "kind")
  expect_identical(wkt_of(x[x$kind == "b", ]), c("POINT (2 0)", "POINT (4 0)"))
  expect_identical(x[["id"]], 1:4)
  x$geometry <- NULL
  expect_identical(class(x), c("tbl_df", "tbl", "data.frame"))
})

test_that("the shape column stays with the rows through dplyr's verbs", {
  x <- frame()
  kept <- list(
    dplyr::filter(x, id > 1), dplyr::arrange(x, -id), dplyr::mutate(x, twice = 2 * id), dplyr::select(x, id), dplyr::slice_head(x, n = 2),
    dplyr::rename(x, shape = geometry), dplyr::left_join(x, data.frame(id = 1:2, more = c("x", "y")), by = "id"), dplyr::relocate(x, kind),
    dplyr::bind_rows(x, x), dplyr::group_by(x, kind) |> dplyr::mutate(n = dplyr::n()) |> dplyr::filter(id > 2) |> dplyr::ungroup(),
    dplyr::transmute(x, up = id + 1), dplyr::distinct(x), dplyr::semi_join(x, data.frame(id = 2), by = "id"), rbind(x, x)
  )
  for (out in kept) {
    expect_s3_class(out, c("spatial_frame", "tbl_df"), exact = FALSE)
    expect_true(crs_of(out) == crs(32757))
  }
  expect_identical(wkt_of(kept[[2]])[1], "POINT (4 0)")
  expect_identical(wkt_of(kept[[9]])[5:6], c("POINT (1 0)", "POINT (2 0)"))
  expect_identical(kept[[10]]$n, c(2L, 2L))
  expect_identical(wkt_of(kept[[6]]), wkt_of(x))
})

test_that("dropping the shape column by name and summarising give plain tables", {
  for (out in list(dplyr::select(frame(), -geometry), attribute_table(frame()), dplyr::summarise(frame(), n = dplyr::n(), .by = kind),
                   dplyr::count(frame(), kind), tibble::as_tibble(frame()))) {
    expect_false(inherits(out, "spatial_frame"))
    expect_s3_class(out, "tbl_df")
  }
})

test_that("frames survive RDS files", {
  x <- frame()
  file <- withr::local_tempfile(fileext = ".rds")
  saveRDS(x, file)
  expect_identical(readRDS(file), x)
})

test_that("binding frames of different CRSs is the mismatch error", {
  other <- toy_frame(id = 9L, geometry = point_shapes(160, -47, crs = 4326))
  expect_error(dplyr::bind_rows(frame(), other), class = "civicatlas_error_crs_mismatch")
  expect_error(c(frame()$geometry, other$geometry), "reproject_to", class = "civicatlas_error_crs_mismatch")
})

test_that("printing says what came in", {
  shown <- paste(capture.output(print(frame())), collapse = "\n")
  expect_match(shown, "4 points", fixed = TRUE)
  expect_match(shown, "WGS 84 / UTM zone 57S (EPSG:32757)", fixed = TRUE)
  expect_match(shown, "x 1 to 4, y 0 to 0", fixed = TRUE)
  expect_match(paste(capture.output(print(declare_crs(frame(), NULL))), collapse = "\n"), "declare_crs")
})

test_that("tables of coordinates and of text become frames", {
  table <- data.frame(name = c("a", "b", "c"), lon = c("160.1", "", "160.3"), lat = c(-47, -47.1, -47.2))
  expect_warning(x <- as_spatial_frame(table, coords = c("lon", "lat"), crs = 4326), "1 row", class = "civicatlas_warning_data")
  expect_identical(wkt_of(x), c("POINT (160.1 -47)", NA, "POINT (160.3 -47.2)"))
  table$lon[2] <- "west"
  expect_error(as_spatial_frame(table, coords = c("lon", "lat")), "west", class = "civicatlas_error_column")
  expect_error(as_spatial_frame(table, coords = c("lng", "lat")), "Nearest.*lon", class = "civicatlas_error_column")
  expect_identical(wkt_of(as_spatial_frame(data.frame(w = "POINT (1 2)"), wkt = "w")), "POINT (1 2)")
  expect_error(toy_frame(a = 1), class = "civicatlas_error_argument")
})

test_that("a CRS given with shapes that have none labels them, and is refused where they have one", {
  x <- spatial_frame(a = 1, geometry = point_shapes(1, 2), crs = 4326)
  expect_identical(names(x), c("a", "geometry"))
  expect_identical(crs_of(x), crs(4326))
  expect_identical(crs_of(as_spatial_frame(tibble::tibble(geometry = point_shapes(1, 2)), crs = 4326)), crs(4326))
  expect_error(spatial_frame(geometry = as_shapes(x), crs = 3857), "have a CRS already, WGS 84", class = "civicatlas_error_argument")
  expect_error(as_spatial_frame(tibble::tibble(geometry = as_shapes(x)), crs = 3857), "have a CRS already", class = "civicatlas_error_argument")
})

test_that("verbs write the history, and dplyr carries it along", {
  x <- read_layer(demo_file("rooms.geojson"), where = seats > 100) |> reproject_to(32757) |> dplyr::filter(seats > 150)
  history <- history_of(x)
  expect_identical(history$verb, c("read_layer", "reproject_to"))
  expect_identical(history$rows_in[1], 140L)
  expect_identical(history$rows_out[1], history$rows_in[2])
  expect_match(history$call[1], "seats > 100")
})
