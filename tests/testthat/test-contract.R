# What R's users know of tables holds of spatial frames: `?dplyr::dplyr_extending`, `?vctrs::vctrs_vctr`.

frame <- function() {
  x <- toy_frame(id = 1:4, kind = c("a", "b", "a", "b"), v = c(1.5, 2, NA, 4), geometry = point_shapes(1:4, 0, crs = 32757))
  attr(x, "history") <- list("how it was made")
  x
}
other <- data.frame(id = c(1L, 2L, 9L), w = c("p", "q", "r"))

# Each is a spatial frame of so many rows, with the history and with shapes that stay with their rows.
expect_frames <- function(..., keyed = "id") {
  cases <- rlang::enquos(...)
  for (name in names(cases)) {
    out <- suppressWarnings(rlang::eval_tidy(cases[[name]]))
    expect_s3_class(out, "spatial_frame")
    expect_identical(attr(out, "history"), list("how it was made"), label = paste("history after", name))
    shapes <- out[[attr(out, "shape_column")]]
    expect_true(crs_of(shapes) == crs(32757), label = paste("the CRS after", name))
    if (keyed %in% names(out)) {
      known <- which(!is.na(shapes))
      expect_identical(wkt_of(shapes)[known], sprintf("POINT (%d 0)", out[[keyed]][known]), label = paste("shapes after", name))
    }
  }
}

expect_tables <- function(...) {
  for (out in list(...)) {
    expect_s3_class(out, "tbl_df")
    expect_false(inherits(out, "spatial_frame"))
    expect_null(attr(out, "shape_column"))
  }
}

test_that("verbs of dplyr that keep the shape column give spatial frames", {
  x <- frame()
  more <- toy_frame(id = 7L, kind = "c", v = 7, geometry = point_shapes(7, 0, crs = 32757))
  expect_frames(
    mutate = dplyr::mutate(x, n = id * 2), used = dplyr::mutate(x, n = id * 2, .keep = "used"), unused = dplyr::mutate(x, n = id * 2, .keep = "unused"),
    none = dplyr::mutate(x, n = id, .keep = "none"), transmute = dplyr::transmute(x, id), across = dplyr::mutate(x, dplyr::across(dplyr::where(is.numeric), \(c) c)),
    grouped = dplyr::group_by(x, kind), ungrouped = dplyr::ungroup(dplyr::group_by(x, kind)), rowwise = dplyr::mutate(dplyr::rowwise(x), n = id),
    add_count = dplyr::add_count(x, kind), add_tally = dplyr::add_tally(x), distinct = dplyr::distinct(x), keep_all = dplyr::distinct(x, kind, .keep_all = TRUE),
    arrange = dplyr::arrange(x, dplyr::desc(id)), by_shape = dplyr::arrange(x, geometry), slice = dplyr::slice(x, 4:2), head = dplyr::slice_head(x, n = 2),
    tail = dplyr::slice_tail(x, n = 2), sample = dplyr::slice_sample(x, n = 2), min = dplyr::slice_min(x, v), max = dplyr::slice_max(x, v, by = kind),
    filter = dplyr::filter(x, id > 1, .by = kind), relocate = dplyr::relocate(x, geometry), select = dplyr::select(x, id), where = dplyr::select(x, dplyr::where(is.numeric)),
    renamed = dplyr::select(x, shape = geometry, id), rename = dplyr::rename(x, g = geometry), rename_with = dplyr::rename_with(x, \(n) paste0(n, "_1"), -id),
    left = dplyr::left_join(x, other, by = "id"), inner = dplyr::inner_join(x, other, by = "id"), full = dplyr::full_join(x, other, by = "id"),
    right = dplyr::right_join(x, other, by = "id"), semi = dplyr::semi_join(x, other, by = "id"), anti = dplyr::anti_join(x, other, by = "id"),
    nest_join = dplyr::nest_join(x, other, by = "id"), itself = dplyr::left_join(x, x, by = "id"), cross = dplyr::cross_join(x, other["w"]),
    bind_rows = dplyr::bind_rows(x, more), bind_cols = dplyr::bind_cols(x, w = 1:4), update = dplyr::rows_update(x, data.frame(id = 1L, v = 9), by = "id"),
    insert = dplyr::rows_insert(x, more, by = "id"), append = dplyr::rows_append(x, more), patch = dplyr::rows_patch(x, data.frame(id = 3L, v = 9), by = "id"),
    upsert = dplyr::rows_upsert(x, data.frame(id = c(3L, 8L), v = 9), by = "id"), delete = dplyr::rows_delete(x, data.frame(id = 3L), by = "id"),
    modify = dplyr::group_modify(dplyr::group_by(x, kind), \(rows, key) utils::head(rows, 1)), shapes = dplyr::summarise(x, geometry = geometry[1], id = id[1], .by = kind)
  )
  expect_named(dplyr::mutate(x, n = id, .keep = "none"), c("n", "geometry"))
  expect_named(dplyr::mutate(x, n = id, .keep = "used"), c("id", "n", "geometry"))
  expect_identical(attr(dplyr::select(x, shape = geometry, id), "shape_column"), "shape")
  expect_identical(attr(dplyr::left_join(x, x, by = "id"), "shape_column"), "geometry.x")
  for (part in dplyr::group_split(x, kind)) expect_frames(part = part)
})

test_that("rows that another table changes take its shapes", {
  x <- frame()
  moved <- toy_frame(id = 2:3, geometry = point_shapes(c(20, 30), 0, crs = 32757))
  expect_identical(wkt_of(dplyr::rows_update(x, moved, by = "id")), c("POINT (1 0)", "POINT (20 0)", "POINT (30 0)", "POINT (4 0)"))
  x$geometry[3] <- NA
  expect_identical(wkt_of(dplyr::rows_patch(x, moved, by = "id")), c("POINT (1 0)", "POINT (2 0)", "POINT (30 0)", "POINT (4 0)"))
  expect_identical(wkt_of(dplyr::rows_upsert(x, dplyr::mutate(moved, id = id + 6L), by = "id"))[5:6], c("POINT (20 0)", "POINT (30 0)"))
})

test_that("shapes are keys: equal ones meet, in whatever stores they are", {
  x <- frame()
  elsewhere <- toy_frame(geometry = point_shapes(c(30, 3, 1), 0, crs = 32757), w = 1:3)
  table <- dplyr::as_tibble(as.data.frame(elsewhere))
  expect_identical(dplyr::inner_join(x, table, by = "geometry")[c("id", "w")] |> as.list() |> unname(), list(c(1L, 3L), c(3L, 2L)))
  expect_identical(dplyr::left_join(x, table, by = "geometry")$w, c(3L, NA, 2L, NA))
  expect_identical(dplyr::semi_join(x, table, by = "geometry")$id, c(1L, 3L))
  expect_identical(dplyr::anti_join(x, table, by = "geometry")$id, c(2L, 4L))
  same <- toy_frame(geometry = point_shapes(c(4, 2), 0, crs = 32757), id = 8:9)
  expect_identical(dplyr::rows_update(x, same, by = "geometry")$id, c(1L, 9L, 3L, 8L))
  expect_identical(dplyr::rows_delete(x, same["geometry"], by = "geometry")$id, c(1L, 3L))
  expect_identical(dplyr::rows_upsert(x, elsewhere["geometry"], by = "geometry")$id, c(1:4, NA))
  expect_identical(wkt_of(dplyr::full_join(x, table, by = "geometry")), c(wkt_of(x), "POINT (30 0)"))
})

test_that("verbs of dplyr that leave the shape column out give plain tables", {
  x <- frame()
  expect_tables(
    x["id"], x[1:2, "id"], dplyr::select(x, -geometry), dplyr::select(x, !geometry), dplyr::select(x, -dplyr::any_of("geometry")),
    dplyr::select(x, -c(geometry, id)), dplyr::select(x, -dplyr::where(\(c) inherits(c, "shapes"))), dplyr::mutate(x, geometry = NULL),
    dplyr::transmute(x, id, geometry = NULL), dplyr::summarise(x, n = dplyr::n(), .by = kind), dplyr::count(x, kind), dplyr::tally(x),
    dplyr::reframe(x, n = 1:2, .by = kind), dplyr::distinct(x, kind), dplyr::summarise(dplyr::group_by(x, kind), n = dplyr::n()),
    dplyr::summarise(x, dplyr::across(dplyr::where(is.numeric), sum))
  )
  expect_named(dplyr::select(x, -dplyr::any_of("geometry")), c("id", "kind", "v"))
  expect_named(dplyr::summarise(x, dplyr::across(dplyr::where(is.numeric), sum)), c("id", "v"))
  for (joined in list(dplyr::left_join(other, x, by = "id"), dplyr::right_join(other, x, by = "id"), merge(x, other), cbind(x, k = 1:4))) {
    expect_identical(class(joined), "data.frame")
    expect_identical(wkt_of(as_spatial_frame(joined))[1], "POINT (1 0)")
  }
  expect_error(as_spatial_frame(merge(x, other), crs = 4326), "declare_crs", class = "civicatlas_error_argument")
})

test_that("verbs of tidyr give spatial frames as long as there are shapes", {
  skip_if_not_installed("tidyr")
  x <- frame()
  pairs <- dplyr::mutate(x, z = "a-b")
  expect_frames(
    longer = tidyr::pivot_longer(x, c(v), names_to = "what"), wider = tidyr::pivot_wider(x, names_from = kind, values_from = v),
    complete = tidyr::complete(x, id, kind), drop_na = tidyr::drop_na(x, v), replace_na = tidyr::replace_na(x, list(v = 0)), fill = tidyr::fill(x, v),
    separate = tidyr::separate(pairs, z, c("p", "q")), rows = tidyr::separate_rows(pairs, z, sep = "-"), unite = tidyr::unite(x, "u", kind, v),
    extract = tidyr::extract(pairs, z, "p", "(.)"), uncount = tidyr::uncount(x, id, .remove = FALSE), unnest = tidyr::unnest(tidyr::nest(x, d = c(kind, v)), d)
  )
  nested <- tidyr::nest(x, data = -kind)
  expect_frames(part = nested$data[[1]])
  for (table in list(tidyr::unnest(nested, data), tidyr::expand_grid(x, k = 1:2), tidyr::separate_wider_delim(pairs, z, "-", names = c("p", "q")))) {
    expect_identical(wkt_of(as_spatial_frame(table))[1], "POINT (1 0)")
  }
})

test_that("base's functions on tables keep the class where they keep the table", {
  x <- frame()
  parts <- split(x, x$kind)
  expect_frames(
    rows = x[2:3, ], negative = x[-1, ], condition = x[x$v > 1 & !is.na(x$v), ], none = x[0, ], columns = x[c("id", "geometry")], both = x[4:3, c("id", "geometry")],
    less = x[-2], rbind = rbind(x, x), within = within(x, n <- id), part = parts[[1]], unsplit = unsplit(parts, x$kind), bound = do.call(rbind, parts), subset = subset(x, id > 1),
    order = x[order(-x$id), ], duplicated = x[!duplicated(x$kind), ], unique = unique(rbind(x, x)), head = utils::head(x, 2), tail = utils::tail(x, 2), omitted = stats::na.omit(x)
  )
  expect_tables(subset(x, id > 1, select = id), tibble::as_tibble(x))
  expect_identical(class(as.data.frame(x)), "data.frame")
  expect_identical(stats::aggregate(v ~ kind, x, sum)$v, c(1.5, 6))
  expect_identical(wkt_of(as_spatial_frame(transform(x, n = id))), wkt_of(x))
  expect_identical(colSums(x[vapply(x, is.numeric, NA)]), c(id = 10, v = NA))
  expect_type(as.list(x), "list")
  expect_identical(unname(vapply(x, is.numeric, NA)), c(TRUE, FALSE, TRUE, FALSE))
  file <- withr::local_tempfile(fileext = ".csv")
  utils::write.csv(x, file, row.names = FALSE)
  expect_identical(utils::read.csv(file)$geometry, wkt_of(x))
  shown <- utils::capture.output(utils::str(x))
  expect_match(shown, "geometry.*POINT \\(1 0\\)", all = FALSE)
  expect_lt(max(nchar(shown)), 100)
  expect_lt(length(shown), 9)
  expect_match(utils::capture.output(print(summary(x))), "point:4", all = FALSE)
  expect_true(identical(x, x[1:4, ]))
})

test_that("cells, columns and rows are assigned, also shapes of another layer", {
  x <- frame()
  y <- toy_frame(id = 8:9, geometry = point_shapes(8:9, 0, crs = 32757))
  x[[1, "id"]] <- 9L
  x[1, "geometry"] <- y[2, "geometry"]
  x[2, "id"] <- 8L
  x[2, "geometry"] <- y$geometry[1]
  expect_frames(assigned = x)
  x[x$id > 7, c("id", "geometry")] <- y[2:1, ]
  expect_frames(both = x)
  x[3, ] <- list(5L, "z", 1, point_shapes(5, 0, crs = 32757))
  expect_frames(row = x)
  x[["geometry"]][4] <- NA
  x[["again"]] <- x$geometry
  x[c("geometry", "again")] <- list(rev(x$geometry), x$geometry)
  expect_identical(wkt_of(x$geometry)[1:2], c(NA, "POINT (5 0)"))
  expect_error(x[1, "geometry"] <- point_shapes(1, 1, crs = 4326), class = "civicatlas_error_crs_mismatch")
})

test_that("shapes are a column like any other, and no numbers", {
  x <- point_shapes(1:4, 0, crs = 32757)
  elsewhere <- point_shapes(9, 9, crs = 32757)
  expect_false(is.numeric(x))
  text <- list(
    as.character(x), wkt_of(rev(rev(x))), as.character(c(x[1:2], x[3:4])), wkt_of(dplyr::coalesce(c(x[1:3], NA), x[4])),
    wkt_of(append(x[c(1, 3, 4)], x[2], 1)), wkt_of(vctrs::vec_c(x[1:3], x[4])), wkt_of(do.call(c, as.list(x))), wkt_of(as.data.frame(x)$x)
  )
  for (found in text) expect_identical(found, sprintf("POINT (%d 0)", 1:4))
  expect_identical(wkt_of(replace(x, 2, elsewhere))[2], "POINT (9 9)")
  expect_identical(wkt_of(dplyr::if_else(c(TRUE, FALSE, NA, TRUE), x, elsewhere)), c("POINT (1 0)", "POINT (9 9)", NA, "POINT (4 0)"))
  expect_identical(wkt_of(dplyr::case_when(1:4 > 3 ~ elsewhere, .default = x))[3:4], c("POINT (3 0)", "POINT (9 9)"))
  is.na(x) <- 3
  expect_identical(is.na(x), c(FALSE, FALSE, TRUE, FALSE))
  expect_identical(x %in% c(x[1], elsewhere), c(TRUE, FALSE, FALSE, FALSE))
  expect_identical(match(elsewhere, c(x, elsewhere)), 5L)
  expect_identical(wkt_of(union(x[1:2], elsewhere)), c("POINT (1 0)", "POINT (2 0)", "POINT (9 9)"))
  expect_identical(wkt_of(setdiff(x, x[1])), c("POINT (2 0)", NA, "POINT (4 0)"))
  expect_identical(unclass(summary(x)), c(point = 3L, missing = 1L))
  expect_error(x + 1, "shapes")
  expect_error(sum(x), "shapes")
  expect_error(as.integer(x), "shapes")
  withr::local_pdf(NULL)
  expect_s3_class(plot(x), "ggplot")
})

test_that("equal shapes are equal in whatever stores they lie", {
  random <- function(n) shapes_from_wkt(sample(c("POINT (0 1)", "POINT (-0 1)", "POINT Z (0 1 2)", "LINESTRING (0 1, 2 3)", "MULTIPOINT ((0 1))", "POINT EMPTY",
                                                               "POLYGON ((0 0, 1 0, 1 1, 0 0))", "MULTIPOLYGON (((0 0, 1 0, 1 1, 0 0)))", NA), n, TRUE))
  text <- function(x) sub("-0 ", "0 ", wkt_of(x), fixed = TRUE)
  withr::local_seed(4)
  for (run in 1:20) {
    a <- random(30)
    b <- random(30)
    expect_identical(a == b, text(a) == text(b))
    expect_identical(match(a, b), match(text(a), text(b)))
    expect_identical(duplicated(c(a, b)), duplicated(c(text(a), text(b))))
    expect_identical(dplyr::n_distinct(a), length(unique(text(a))))
    expect_identical(vctrs::vec_rank(a, ties = "dense"), vctrs::vec_rank(a[30:1], ties = "dense")[30:1])
    expect_identical(is.na(sort(c(a, NA))), rep(FALSE, sum(!is.na(a))))
  }
})

# The methods that vctrs asks of a class, and R of a vector: `?vctrs::howto-faq-coercion`, `?vctrs::vec_proxy`, `?vctrs::vec_proxy_equal`.
test_that("the class of shapes has every method that is asked of it", {
  has <- function(generic, class = "shapes") !is.null(utils::getS3method(generic, class, optional = TRUE))
  for (generic in c("vec_restore", "vec_proxy_equal", "vec_proxy_compare", "vec_ptype_abbr", "vec_ptype_full",
                    "obj_print_header", "obj_str_data", "obj_str_footer")) {
    expect_true(!is.null(utils::getS3method(generic, "shapes", optional = TRUE, envir = asNamespace("vctrs"))), label = generic)
  }
  for (generic in c("vec_ptype2", "vec_cast")) {
    expect_true(!is.null(utils::getS3method(generic, "shapes.shapes", optional = TRUE, envir = asNamespace("vctrs"))), label = generic)
  }
  for (generic in c("format", "is.na", "as.character", "as.vector", "summary", "plot", "[<-", "[[<-", "is.numeric")) expect_true(has(generic), label = generic)
})

test_that("a damaged store is an error, whatever is damaged and wherever it comes from", {
  x <- shapes_from_wkt(c("POLYGON ((0 0, 9 0, 9 9, 0 0), (5 1, 6 1, 6 2, 5 1))", "POINT Z (1 2 3)", "MULTILINESTRING ((0 0, 1 1), (2 2, 3 3))", "GEOMETRYCOLLECTION (POINT (1 1))"))
  file <- withr::local_tempfile(fileext = ".rds")
  saveRDS(x, file)
  expect_identical(readRDS(file), x)
  expect_identical(wkt_of(readRDS(file)), wkt_of(x))
  broken <- 0
  for (column in c("types", "part_types", "shape_parts", "part_rings", "ring_vertices", "x", "y", "z", "boxes")) {
    values <- attr(x, "store")[[column]]
    for (i in seq_along(values)) for (value in c(-1, 0, 2, 5, 2e9)) {
      damaged <- readRDS(file)
      attr(damaged, "store")[[column]][i] <- if (is.integer(values)) as.integer(value) else value
      text <- tryCatch(wkt_of(damaged), civicatlas_error_format = function(e) conditionMessage(e))
      expect_type(text, "character")
      if (length(text) == 1) broken <- broken + 1
    }
    for (other in list(NULL, values[-1], rep(values, 2))) {
      damaged <- x
      attr(damaged, "store")[[column]] <- other
      if (!is.null(other) || column != "z") expect_error(wkt_of(damaged), "damaged", label = column)
    }
  }
  expect_gt(broken, 100)
  handle <- x
  handle[] <- x
  attr(handle, "store") <- attr(x[1], "store")
  attributes(handle)$store <- attr(shapes_from_wkt("POINT (1 1)"), "store")
  expect_error(wkt_of(handle), "beyond", class = "civicatlas_error")
})

test_that("a store made here is not looked through again, one that was changed is", {
  x <- point_shapes(1:10, 0)
  before <- wkt_of(x)
  store <- attr(x, "store")
  store$types[3] <- 99L
  store$ring_vertices[2] <- 77L
  expect_identical(wkt_of(x), before)
  attr(x, "store") <- store
  expect_error(wkt_of(x), "damaged", class = "civicatlas_error")
})

test_that("a verb on frames and on tiles is a generic, whose methods take what it takes", {
  for (verb in names(civicatlas:::tiled_verbs)) {
    for (class in c("default", "tiled_layer")) {
      expect_identical(formals(utils::getS3method(verb, class, envir = asNamespace("civicatlas"))), formals(getExportedValue("civicatlas", verb)), info = verb)
    }
  }
})
