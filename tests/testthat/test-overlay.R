squares <- function(...) shapes_from_wkt(c(...), crs = 32757)
left <- "POLYGON ((0 0, 4 0, 4 4, 0 4, 0 0))"
right <- "POLYGON ((2 1, 6 1, 6 3, 2 3, 2 1))"
a <- toy_frame(name = "a", area = 16, geometry = squares(left))
b <- toy_frame(name = "b", kind = 7L, geometry = squares(right))

test_that("each keep has its pieces, and both layers' columns", {
  sizes <- list(intersection = 4, union = c(4, 12, 4), difference = 12, "symmetric difference" = c(12, 4), identity = c(4, 12))
  for (keep in names(sizes)) {
    found <- overlay_with(a, b, keep)
    expect_named(found, c("name", "area", "name_y", "kind", "geometry"))
    expect_equal(area_of(found), sizes[[keep]])
  }
  union <- overlay_with(a, b, "union")
  expect_identical(union$name, c("a", "a", NA))
  expect_identical(union$name_y, c("b", NA, "b"))
  expect_identical(union$kind, c(7L, NA, 7L))
  expect_named(overlay_with(a, b, suffix = "_b"), c("name", "area", "name_b", "kind", "geometry"))
})

test_that("pieces come in the order of x, then of y", {
  x <- toy_frame(x = 1:2, geometry = squares("POLYGON ((0 0, 2 0, 2 9, 0 9, 0 0))", "POLYGON ((2 0, 4 0, 4 9, 2 9, 2 0))"))
  y <- toy_frame(y = 1:2, geometry = squares("POLYGON ((0 5, 4 5, 4 9, 0 9, 0 5))", "POLYGON ((0 0, 6 0, 6 5, 0 5, 0 0))"))
  found <- overlay_with(x, y, "union")
  expect_identical(found$x, c(1L, 1L, 2L, 2L, NA))
  expect_identical(found$y, c(1L, 2L, 1L, 2L, 2L))
})

test_that("the account counts pieces, touches and stale columns", {
  withr::local_options(civicatlas.quiet = FALSE)
  beside <- toy_frame(b = 1, geometry = squares("POLYGON ((4 0, 8 0, 8 4, 4 4, 4 0))"))
  expect_message(expect_message(found <- overlay_with(a, beside, "union"), "1 and 1 row in, 2 out: 0 where both lie, 1 of x alone, 1 of y alone, 1 pair only touch"),
                 "Measured before the change of shapes: \"area\"")
  expect_identical(nrow(suppressMessages(overlay_with(a, beside))), 0L) # and no warning
  kept <- suppressMessages(overlay_with(a, beside, touches = "keep"))
  expect_identical(wkt_of(kept), "LINESTRING (4 0, 4 4)")
  expect_match(history_of(found)$note, "1 pair only touch")
})

test_that("clip_to and erase_by part each row at the mask", {
  x <- toy_frame(id = 1:3, geometry = squares(left, "POLYGON ((9 9, 10 9, 10 10, 9 9))", NA))
  expect_equal(area_of(clip_to(x, b)), 4)
  expect_identical(clip_to(x, b)$id, 1L)
  erased <- erase_by(x, b)
  expect_identical(erased$id, 1:2)
  expect_equal(area_of(erased), c(12, 0.5))
  expect_equal(area_of(clip_to(as_shapes(x), as_shapes(b))), 4)
  withr::local_options(civicatlas.quiet = FALSE)
  expect_message(clip_to(x, b), "3 rows in, 1 out: 1 cut, 1 outside \\(left out\\)")
  expect_message(erase_by(x, b), "3 rows in, 2 out: 1 cut")
})

test_that("lines and points are clipped, and whole ones stay as they are", {
  lines <- toy_frame(id = 1:2, geometry = shapes_from_wkt(c("LINESTRING (6 2, -2 2)", "LINESTRING Z (1 1 5, 2 1 6)"), crs = 32757))
  clipped <- clip_to(lines, a)
  expect_identical(wkt_of(clipped), c("LINESTRING (4 2, 0 2)", "LINESTRING Z (1 1 5, 2 1 6)"))
  expect_identical(wkt_of(erase_by(lines, a)), "MULTILINESTRING ((0 2, -2 2), (6 2, 4 2))")
  points <- toy_frame(id = 1:3, geometry = shapes_from_wkt(c("POINT (1 1)", "POINT (4 4)", "POINT (7 7)"), crs = 32757))
  expect_identical(clip_to(points, a)$id, 1:2)
  expect_identical(erase_by(points, a)$id, 3L)
  expect_identical(overlay_with(points, a, "identity")$name, c("a", "a", NA))
  expect_equal(length_of(overlay_with(lines[1, ], a, "identity")), c(4, 4))
})

test_that("split_by takes one column", {
  found <- split_by(a, b, kind)
  expect_named(found, c("name", "area", "kind", "geometry"))
  expect_identical(found$kind, c(7L, NA))
})

test_that("a tolerance seals what is thinner, and x stays as it is", {
  x <- toy_frame(x = 1, geometry = squares("POLYGON ((0 0, 10 0, 10 10, 0 10, 0 0))"))
  y <- toy_frame(y = 1, geometry = squares("POLYGON ((10.02 -0.01, 20 0, 20 10, 9.97 10.03, 9.99 5, 10.02 -0.01))"))
  expect_gt(nrow(overlay_with(x, y)), 0)
  sealed <- overlay_with(x, y, "union", tolerance = 0.1)
  expect_identical(nrow(sealed), 2L)
  expect_equal(area_of(sealed), c(100, 100), tolerance = 1e-3)
  expect_identical(relation_of(sealed[1, ], sealed[2, ]), "FF2F11212")
  expect_equal(area_of(sealed)[1], 100, tolerance = 1e-14)
  expect_error(overlay_with(x, y, tolerance = 10, unit = "cm"), "Nearest", class = "civicatlas_error_choice")
})

# A grid of n x n fields whose borders bend at random, the same on both sides.
bent_fields <- function(n, bend) {
  at <- array(rep(0:(4 * n), 2), c(4 * n + 1, 4 * n + 1, 2))
  at[, , 2] <- t(at[, , 2])
  at <- at + runif(length(at), -bend, bend)
  shapes <- lapply(seq_len(n * n) - 1, function(k) {
    row <- 4 * (k %% n) + 1:5
    column <- 4 * (k %/% n) + 1:5
    places <- rbind(at[row, column[1], ], at[row[5], column[-1], ], at[rev(row)[-1], column[5], ], at[row[1], rev(column)[-1], ])
    paste0("((", paste(sprintf("%.17g %.17g", places[, 1], places[, 2]), collapse = ", "), "))")
  })
  toy_frame(id = seq_along(shapes), geometry = shapes_from_wkt(paste("POLYGON", shapes), crs = 32757))
}

test_that("with a tolerance no thin pieces are left, nothing new overlaps, and x keeps its areas", {
  quietly <- suppressMessages
  parts_of <- function(x) civicatlas:::single_parts(as_shapes(x))
  areas <- civicatlas:::planar_areas
  width <- function(shapes) 2 * areas(shapes) / length_of(shapes, ellipsoidal = FALSE)
  for (seed in 1:12) {
    withr::local_seed(seed)
    x <- bent_fields(4, 0.4)
    y <- bent_fields(4, c(0.1, 0.4)[seed %% 2 + 1])
    y <- y[sample(16, 16 - seed %% 4), ]
    tolerance <- c(0.05, 0.3, 1, 3)[seed %% 4 + 1]
    pieces <- quietly(suppressWarnings(overlay_with(x, y, "union", tolerance = tolerance)))
    expect_true(all(quietly(check_shapes(pieces))$valid))
    expect_equal(as.vector(tapply(areas(as_shapes(pieces)), pieces$id, sum)), areas(as_shapes(x)), tolerance = 1e-12)
    expect_identical(sum(find_slivers(pieces, thinness = 1e-9)$kind == "overlap"), 0L)
    parts <- parts_of(pieces)
    thin <- width(parts$shapes) < tolerance
    whole <- areas(parts$shapes) >= areas(as_shapes(x))[pieces$id[parts$rows]] * (1 - 1e-12)
    expect_true(all(whole[thin]))
  }
  withr::local_options(civicatlas.quiet = FALSE)
  expect_message(expect_message(overlay_with(x, y, tolerance = 1), "16 and 16 rows in"), "brought onto.*vert.*moved, by .* at most; area .* in all")
})

test_that("what of y is all narrower than the tolerance is named; islands stay", {
  x <- toy_frame(x = 1, geometry = squares("POLYGON ((0 0, 10 0, 10 10, 0 10, 0 0))"))
  y <- toy_frame(y = 1:3, geometry = squares("POLYGON ((5 5, 5.5 5, 5.5 9, 5 9, 5 5))", "POLYGON ((20 0, 20.5 0, 20.5 9, 20 9, 20 0))",
                                             "POLYGON ((0 0, 4 0, 4 4, 0 4, 0 0))"))
  expect_warning(pieces <- overlay_with(x, y, "union", tolerance = 1), "1 shape of `y` has nothing left.*rows: 1", class = "civicatlas_warning_data")
  expect_identical(pieces$y, c(3L, NA, 2L))
  expect_equal(area_of(pieces), c(16, 84, 4.5))
})

test_that("districts are the sum of the pieces of their union with wards", {
  wards <- read_layer(demo_file("wards.shp"))
  districts <- close_gaps(reproject_to(read_layer(demo_file("districts.shp")), wards), 30)
  pieces <- overlay_with(districts, wards, "union")
  of_district <- tapply(area_of(pieces), factor(pieces$district, districts$district), sum)
  expect_equal(as.vector(of_district), area_of(districts), tolerance = 1e-12)
  of_ward <- tapply(area_of(pieces), pieces$ward_id, sum)
  expect_equal(as.vector(of_ward), area_of(wards), tolerance = 1e-12)
  expect_true(all(check_shapes(pieces)$valid))
})

test_that("cells dissolved by ward are the wards", {
  wards <- read_layer(demo_file("wards.shp"))
  cells <- read_layer(demo_file("cells.zip"))
  made <- dissolve_by(cells, ward_id, cells = dplyr::n())
  expect_identical(made$ward_id, wards$ward_id)
  expect_identical(sum(made$cells), nrow(cells))
  expect_true(all(check_shapes(made)$valid))
  left <- erase_by(made, wards)
  expect_lt(sum(area_of(left)), 1e-6 * sum(area_of(wards)))
  expect_identical(geometry_type_of(made), geometry_type_of(wards))
})

test_that("dissolve_by summarises, keeps islands, and merges lines", {
  x <- toy_frame(
    ward = c("n", "s", "n"), people = c(1, 2, 4),
    geometry = squares(left, right, "POLYGON ((9 9, 10 9, 10 10, 9 9))")
  )
  found <- dissolve_by(x, ward, people = sum(people), rows = dplyr::n())
  expect_identical(found$ward, c("n", "s"))
  expect_equal(found$people, c(5, 2))
  expect_identical(geometry_type_of(found), c("multipolygon", "polygon"))
  expect_equal(area_of(dissolve_by(x)), 20.5)
  expect_identical(nrow(dissolve_by(x[0, ], ward)), 0L)
  lines <- toy_frame(street = "a", geometry = shapes_from_wkt(c("LINESTRING (0 0, 1 0)", "LINESTRING (2 0, 1 0)"), crs = 32757)[c(1, 2)])
  expect_identical(wkt_of(dissolve_by(toy_frame(street = c("a", "a"), geometry = as_shapes(lines)), street)), "LINESTRING (0 0, 1 0, 2 0)")
  expect_error(dissolve_by(x, wards), "Nearest", class = "civicatlas_error_column")
  expect_error(dissolve_by(x, ward, people = sum(ward)), "failed", class = "civicatlas_error_argument")
})

test_that("invalid shapes are taken by the even-odd rule and told", {
  bow <- toy_frame(id = 1, geometry = squares("POLYGON ((0 0, 4 4, 4 0, 0 4, 0 0))"))
  expect_warning(found <- clip_to(bow, a), "1 shape of `x` crosses.*repair_shapes", class = "civicatlas_warning_data")
  expect_equal(area_of(found), 8)
})

test_that("layers that do not fit together are refused", {
  expect_error(overlay_with(a, suppressWarnings(declare_crs(declare_crs(b, NULL), 32756))), class = "civicatlas_error_crs_mismatch")
  expect_error(overlay_with(a, b, "intersect"), "Nearest: \"intersection\"", class = "civicatlas_error_choice")
  expect_error(overlay_with(a, as_shapes(b)), class = "civicatlas_error_argument")
  expect_error(overlay_with(a, b, tolerance = -1), "above 0", class = "civicatlas_error_argument")
  bad <- toy_frame(id = 1, geometry = squares("POLYGON ((0 0, NaN 1, 1 1, 0 0))"))
  expect_error(clip_to(bad, a), "row 1.*not finite", class = "civicatlas_error_format")
  far <- toy_frame(id = 1, geometry = squares("POLYGON ((900 900, 901 900, 901 901, 900 900))"))
  expect_warning(clip_to(far, a), "metres apart", class = "civicatlas_warning_join")
  empty <- toy_frame(id = 1, geometry = squares("POLYGON EMPTY"))
  expect_identical(nrow(suppressWarnings(clip_to(empty, a))), 0L)
})

test_that("columns that hold measures of the shapes as they were are named by their values, and measured anew", {
  withr::local_options(civicatlas.quiet = FALSE)
  squares <- suppressMessages(toy_frame(
    ALAND = c(100, 400, 900) / 4046.8564224, km = c(4, 8, 12) * 10 / 1000, shape_area = c("a", "b", "c"), people = c(100, 30, 2500), area = c(1, 1, 1),
    geometry = shapes_from_wkt(sprintf("POLYGON ((%1$d 0, %2$d 0, %2$d %3$d, %1$d %3$d, %1$d 0))", c(0, 100, 200), c(10, 120, 230), c(10, 20, 30)), 32757)
  ))
  half <- shapes_from_wkt("POLYGON ((-10 -10, 500 -10, 500 5, -10 5, -10 -10))", 32757)
  expect_message(cut <- clip_to(squares, half), "Measured before the change of shapes: \"ALAND\" and \"km\"; `refresh_measures\\(\\)`")
  expect_message(fresh <- refresh_measures(cut), "ALAND area in ac, km perimeter in km")
  expect_equal(fresh$ALAND, c(50, 100, 150) / 4046.8564224, tolerance = 1e-12)
  expect_equal(fresh$km, c(30, 50, 70) / 1000, tolerance = 1e-12)
  expect_identical(fresh$people, squares$people)
  later <- suppressMessages(refresh_measures(dplyr::filter(dplyr::rename(cut, acres = people), km > 0)))
  expect_equal(later$ALAND, fresh$ALAND)
  for (verb in list(quote(buffer_by(squares, 1)), quote(overlay_with(squares, toy_frame(geometry = half))), quote(simplify_by(squares, 1)), quote(erase_by(squares, half)))) {
    expect_message(eval(verb), "Measured before the change of shapes: \"ALAND\"")
  }
  expect_message(refresh_measures(squares), "no column held")
  wards <- suppressMessages(add_measures(read_layer(demo_file("wards.shp")), area = "mi2"))
  expect_message(buffer_by(wards, 10), "\"area_mi2\"")
  expect_message(repair_shapes(squares), "no area changed")
})

test_that("what is lost is said: Z and M, and rows without a shape", {
  withr::local_options(civicatlas.quiet = FALSE)
  deep <- suppressMessages(toy_frame(id = 1:2, geometry = shapes_from_wkt(c("POLYGON Z ((0 0 1, 4 0 1, 4 4 1, 0 4 1, 0 0 1))", NA))))
  mask <- shapes_from_wkt("POLYGON ((1 1, 2 1, 2 2, 1 2, 1 1))")
  for (verb in list(quote(clip_to(deep, mask)), quote(erase_by(deep, mask)), quote(buffer_by(deep, 1)))) {
    expect_message(eval(verb), "Z and M of 1 shape are left out")
  }
  expect_message(erase_by(deep, mask), "1 without a shape \\(left out\\)")
  expect_message(overlay_with(deep, toy_frame(geometry = mask), keep = "union"), "1 without a shape")
})

test_that("vertices keep their Z and M through every verb that keeps vertices, and cut edges get what lies between", {
  deep <- squares("POLYGON ZM ((0 0 0 1, 10 0 10 1, 10 10 20 3, 0 10 10 3, 0 0 0 1))", "POLYGON ZM ((10 0 10 5, 20 0 5 5, 20 10 5 5, 10 10 20 5, 10 0 10 5))")
  x <- toy_frame(id = 1:2, geometry = deep)
  half <- squares("POLYGON ((0 0, 30 0, 30 5, 0 5, 0 0))")
  expect_identical(wkt_of(clip_to(deep[1], half)), "POLYGON ZM ((0 5 5 2, 0 0 0 1, 10 0 10 1, 10 5 15 2, 0 5 5 2))")
  line <- squares("LINESTRING Z (-4 5 0, 6 5 100, 12 5 40, 24 5 100)")
  expect_identical(wkt_of(erase_by(line, deep)), "MULTILINESTRING Z ((-4 5 0, 0 5 40), (20 5 80, 24 5 100))")
  same_depth <- function(made, from) {
    places <- function(shapes) unique(regmatches(wkt_of(shapes), gregexpr("[-0-9.]+ [-0-9.]+ [-0-9.]+ [-0-9.]+", wkt_of(shapes))) |> unlist())
    expect_true(all(places(made) %in% places(from)))
  }
  same_depth(as_shapes(dissolve_by(x)), deep)
  same_depth(simplify_by(deep, 0.1), deep)
  same_depth(as_shapes(flatten_layer(x)), deep)
  same_depth(as_shapes(absorb_slivers(x, area = 1)), deep)
  same_depth(as_shapes(close_gaps(x, 0.5)), deep)
  pieces <- overlay_with(x, toy_frame(geometry = half), "union")  # the last is of the flat layer alone
  expect_identical(grepl("ZM", wkt_of(pieces)), c(TRUE, TRUE, TRUE, TRUE, FALSE))
  bow <- squares("POLYGON Z ((0 0 0, 4 4 4, 4 0 4, 0 4 0, 0 0 0))")
  expect_match(wkt_of(repair_shapes(bow)), "2 2 2")
})

test_that("a shape of fill values does not change the others, and is named", {
  text <- c("POLYGON ((500000.1 4000000.3, 500010.7 4000000.2, 500009.9 4000010.4, 500000.1 4000000.3))", "POLYGON ((500005 4000000, 500020 4000000, 500020 4000020, 500005 4000000))")
  mask <- shapes_from_wkt("POLYGON ((500000 4000000, 500007 4000000, 500007 4000030, 500000 4000030, 500000 4000000))", 32757)
  frame <- function(...) toy_frame(id = seq_along(c(...)), geometry = shapes_from_wkt(c(...), 32757))
  clean <- frame(text)
  for (far in c("1e12", "1e15", "1.7e308")) {
    with <- frame(c(text, sprintf("POLYGON ((0 0, %1$s 0, %1$s %1$s, 0 0))", far)))
    for (verb in list(function(x) clip_to(x, mask), function(x) simplify_by(x, 0.1)[1:2, ], function(x) dissolve_by(x, id)[1:2, ],
                      function(x) overlay_with(x, toy_frame(geometry = mask), keep = "identity"))) {
      expect_warning(found <- verb(with), "far from all places.*|First rows: 3", class = "civicatlas_warning_data")
      expect_identical(wkt_of(found), wkt_of(verb(clean)))
    }
    expect_identical(wkt_of(suppressWarnings(simplify_by(with, 0.1)))[3], wkt_of(with)[3])
  }
  expect_no_warning(clip_to(clean, mask))
})

test_that("polygons are cut along lines, where these run through", {
  blocks <- toy_frame(id = 1:2, geometry = shapes_from_wkt(c("POLYGON ((0 0, 4 0, 4 4, 0 4, 0 0), (1 1, 2 1, 2 2, 1 2, 1 1))", "POLYGON ((4 0, 8 0, 8 4, 4 4, 4 0))")))
  roads <- toy_frame(road = "a", geometry = shapes_from_wkt("MULTILINESTRING ((-1 3, 9 3), (6 3, 6 2), (3 -1, 3 5))"))
  cut <- split_by(blocks, roads)
  expect_identical(cut$id, c(1L, 1L, 1L, 1L, 2L, 2L))
  expect_equal(sort(area_of(cut)[1:4]), c(1, 3, 3, 8))
  expect_equal(sum(area_of(cut)), sum(area_of(blocks)))
  expect_equal(sort(area_of(cut)[5:6]), c(4, 12))  # the dead end parts nothing
  expect_true(all(check_shapes(cut)$valid))
  expect_error(split_by(blocks, blocks), "column.*missing", class = "civicatlas_error_argument")
})

test_that("a layer is taken apart where its polygons overlap", {
  discs <- toy_frame(id = 1:3, geometry = shapes_from_wkt(c("POLYGON ((0 0, 4 0, 4 4, 0 4, 0 0))", "POLYGON ((2 0, 6 0, 6 4, 2 4, 2 0))", "POLYGON ((3 0, 9 0, 9 2, 3 2, 3 0))")))
  flat <- flatten_layer(discs)
  expect_identical(flat$rows, list(1L, 1:2, 1:3, 2L, 2:3, 3L))
  expect_equal(area_of(flat), c(8, 6, 2, 4, 4, 6))
  expect_identical(flat$id, vapply(flat$rows, `[`, 0L, 1))
  expect_equal(sum(area_of(flat)), area_of(dissolve_by(discs)))
  expect_equal(sum(area_of(flat) * flat$count), sum(area_of(discs)))
  withr::local_options(civicatlas.quiet = FALSE)
  expect_message(flatten_layer(discs[c(1, 1), ]), "1 of several rows \\(16 square units\\)")
})

test_that("rows that overlap within a layer are told where pieces double, invalid shapes wherever they are buffered", {
  withr::local_options(civicatlas.quiet = FALSE)
  stacked <- toy_frame(id = 1:3, geometry = squares("POLYGON ((0 0, 4 0, 4 4, 0 4, 0 0))", "POLYGON ((2 0, 6 0, 6 4, 2 4, 2 0))",
                                                    "POLYGON ((8 0, 9 0, 9 4, 8 4, 8 0))"))
  other <- toy_frame(k = 1, geometry = squares("POLYGON ((0 0, 9 0, 9 2, 0 2, 0 0))"))
  expect_message(suppressMessages(overlay_with(stacked, other, "union"), classes = "none"), "2 rows of `x` overlap, on 8 m2.*flatten_layer\\(x\\)")
  expect_message(suppressMessages(overlay_with(other, stacked, "identity"), classes = "none"), "2 rows of `y` overlap")
  expect_no_message(overlay_with(flatten_layer(stacked), other, "union"), message = "overlap, on")
  expect_no_message(overlay_with(stacked, other), message = "overlap, on")
  options(civicatlas.quiet = TRUE)
  doubled <- squares("MULTIPOLYGON (((0 0, 4 0, 4 4, 0 4, 0 0)), ((0 0, 4 0, 4 4, 0 4, 0 0)))")
  expect_warning(buffer_by(doubled, 1), "even-odd", class = "civicatlas_warning_data")
  expect_gt(area_of(buffer_by(repair_shapes(doubled, "winding"), 1)), 35)
})
