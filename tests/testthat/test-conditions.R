# Conditions in CQL2 (OGC 21-065r2): what holds for which rows, here and in databases, and what is said of those that cannot be read.

rooms <- function() read_layer(demo_file("rooms.geojson"))

# Rows with every kind of column and missing values among them.
mixed_rows <- function(n = 60, seed = 7) {
  withr::with_seed(seed, {
    pick <- function(values) sample(c(values, NA), n, replace = TRUE)
    spatial_frame(
      id = seq_len(n), n = pick(c(-3L, 0L, 1L, 2L, 5L)), v = pick(c(-1.5, 0, 0.25, 2, 1e6)), t = pick(c("Reef", "reef", "R\u00e9ef", "a%b", "", "it's", "x_y")),
      l = pick(c(TRUE, FALSE)), d = pick(as.Date(c("2026-01-01", "2026-06-15", "2027-01-01"))),
      at = pick(as.POSIXct(c("2026-01-01 00:00:00", "2026-06-15 12:30:00"), tz = "UTC")),
      geometry = point_shapes(5e5 + stats::runif(n, 0, 10), 5e6 + stats::runif(n, 0, 10)), crs = 32757
    )
  })
}

kept <- function(x, condition, ...) keep_rows(x, condition, ...)$id

test_that("comparisons hold as R's own do, with three values of truth", {
  x <- mixed_rows()
  same <- list(
    "n = 1" = quote(n == 1), "n <> 1" = quote(n != 1), "n < 2 AND v >= 0" = quote(n < 2 & v >= 0), "n = 1 OR v > 0" = quote(n == 1 | v > 0),
    "NOT (n = 1 OR v > 0)" = quote(!(n == 1 | v > 0)), "n IN (1, 5)" = quote(!is.na(n) & n %in% c(1, 5)), "n NOT IN (1, 5)" = quote(!is.na(n) & !n %in% c(1, 5)),
    "n BETWEEN 0 AND 2" = quote(n >= 0 & n <= 2), "n NOT BETWEEN 0 AND 2" = quote(!(n >= 0 & n <= 2)), "t IS NULL" = quote(is.na(t)), "t IS NOT NULL" = quote(!is.na(t)),
    "t = 'it''s'" = quote(t == "it's"), "t LIKE 'R%f'" = quote(grepl("^R.*f$", t)), "t LIKE 'a\\%b'" = quote(t == "a%b"), "t LIKE '_\\__'" = quote(t == "x_y"),
    "t LIKE '%'" = quote(!is.na(t)), "t LIKE ''" = quote(t == ""), "t NOT LIKE 'r%'" = quote(!is.na(t) & !startsWith(t, "r")), "l" = quote(l), "l = FALSE" = quote(!l),
    "NOT l" = quote(!l), "d > DATE('2026-01-01')" = quote(d > as.Date("2026-01-01")), "d = DATE('2027-01-01')" = quote(d == as.Date("2027-01-01")),
    "at >= TIMESTAMP('2026-06-15T12:30:00Z')" = quote(at >= as.POSIXct("2026-06-15 12:30:00", tz = "UTC")), "n + v * 2 > 3 ^ 2" = quote(n + v * 2 > 9),
    "n DIV 2 = 1" = quote(trunc(n / 2) == 1), "n % 2 = -1" = quote(n == -3), "-n = 3" = quote(n == -3), "n = v" = quote(n == v),
    "CASEI(t) = CASEI('REEF')" = quote(tolower(t) == "reef"), "ACCENTI(t) = 'Reef'" = quote(t %in% c("Reef", "R\u00e9ef")),
    "CASEI(ACCENTI(t)) LIKE CASEI('REE%')" = quote(t %in% c("Reef", "reef", "R\u00e9ef")), "t < 'a'" = quote(t %in% c("", "Reef", "R\u00e9ef")),
    "d < at" = quote(as.double(d) * 86400 < as.double(at)), "CASE WHEN n > 1 THEN 'big' WHEN n > 0 THEN 'one' ELSE 'small' END = 'small'" = quote(!(n > 0) | is.na(n)),
    "coalesce(n, 5) = 5" = quote(is.na(n) | n == 5), "upper(t) = 'REEF'" = quote(t %in% c("Reef", "reef")), "substring(t, 1, 2) = 'Re'" = quote(t == "Reef"),
    "concat(t, '-', n) = 'Reef-1'" = quote(t == "Reef" & n == 1), "round(v, 1) = 0.3" = quote(v == 0.25), "year(d) = 2026 AND month(d) = 6" = quote(d == as.Date("2026-06-15")),
    "TRUE" = quote(id > 0), "FALSE OR n = NULL IS NULL" = NULL
  )
  for (condition in names(Filter(Negate(is.null), same))) {
    expect_identical(kept(x, condition), x$id[which(eval(same[[condition]], x))], info = condition)
  }
})

test_that("lists of times, functions and rounding have no value but the right one", {
  x <- data.frame(id = 1:3, d = as.Date(c("2026-01-01", "2026-06-15", NA)), at = as.POSIXct(c("2026-01-01 00:00:00", "2026-06-15 12:30:00", NA), tz = "UTC"), n = c(1L, NA, 3L),
                  f = factor(c("a", "bb", NA)), v = c(1e13, 0.125, 2.675))
  withr::local_timezone("America/New_York")
  expect_identical(kept(x, "d IN (TIMESTAMP('2026-01-01T00:00:00Z'))"), 1L)
  expect_identical(kept(x, "at IN (DATE('2026-01-01'), DATE('2026-06-15'))"), 1L)
  expect_identical(kept(x, "d NOT IN (DATE('2026-06-15'))"), 1L)
  expect_identical(kept(x, "characters(f) = 2"), 2L)
  expect_identical(kept(x, "replace(f, '', 'x') = 'a' OR replace(f, 'b', 'c') = 'cc'"), 1:2)
  expect_identical(kept(x, "round(v, 2) = v OR round(v, 2) = 2.68"), c(1L, 3L))
  expect_identical(kept(x, "round(v, 400) = v"), 1:3)
  for (wrong in c("coalesce(n, 'x') = 'x'", "d = INTERVAL('2026-01-01', '..')", "T_AFTER(INTERVAL(n, '..'), DATE('2020-01-01'))", "year(INTERVAL(d, at)) = 2026")) {
    expect_error(kept(x, wrong), class = "civicatlas_error_argument")
  }
})

test_that("the relations of times are those of Allen", {
  x <- spatial_frame(id = 1:5, from = as.Date(c("2026-01-01", "2026-02-01", "2026-03-01", "2026-02-01", NA)),
                     to = as.Date(c("2026-02-01", "2026-03-01", "2026-04-01", "2026-02-15", "2026-03-01")), geometry = point_shapes(1:5, 1:5))
  feb <- "INTERVAL('2026-02-01', '2026-03-01')"
  of <- function(relation) kept(x, sprintf("T_%s(INTERVAL(from, to), %s)", relation, feb))
  expect_identical(of("MEETS"), 1L)
  expect_identical(of("METBY"), 3L)
  expect_identical(of("EQUALS"), 2L)
  expect_identical(of("STARTS"), 4L)
  expect_identical(of("STARTEDBY"), integer())
  expect_identical(of("BEFORE"), integer())
  expect_identical(of("INTERSECTS"), 1:4)
  expect_identical(of("DISJOINT"), integer())
  expect_identical(kept(x, "T_CONTAINS(INTERVAL('2026-01-15', '..'), INTERVAL(from, to))"), 2:4)
  expect_identical(kept(x, "T_DURING(INTERVAL(from, to), INTERVAL('..', '2026-02-20'))"), c(1L, 4L))
  expect_identical(kept(x, "T_OVERLAPS(INTERVAL(from, to), INTERVAL('2026-02-10', '2026-05-01'))"), c(2L, 4L))
  expect_identical(kept(x, "T_OVERLAPPEDBY(INTERVAL('2026-02-10', '2026-05-01'), INTERVAL(from, to))"), c(2L, 4L))
  expect_identical(kept(x, "T_FINISHES(INTERVAL('2026-02-10', '2026-03-01'), INTERVAL(from, to))"), 2L)
  expect_identical(kept(x, "T_FINISHEDBY(INTERVAL(from, to), INTERVAL('2026-02-10', '2026-03-01'))"), 2L)
  expect_identical(kept(x, "T_AFTER(from, DATE('2026-02-01'))"), 3L)
  expect_identical(kept(x, "T_EQUALS(from, DATE('2026-02-01')) AND T_BEFORE(from, to)"), c(2L, 4L))
})

test_that("the three values of truth are those of the standard's tables", {
  x <- data.frame(a = rep(c(TRUE, FALSE, NA), each = 3), b = rep(c(TRUE, FALSE, NA), 3))
  truth <- function(condition) civicatlas:::truth_of_tree(x, civicatlas:::parse_text(condition, "where"))
  expect_identical(truth("a AND b"), c(TRUE, FALSE, NA, FALSE, FALSE, FALSE, NA, FALSE, NA))
  expect_identical(truth("a OR b"), c(TRUE, TRUE, TRUE, TRUE, FALSE, NA, TRUE, NA, NA))
  expect_identical(truth("NOT a"), rep(c(FALSE, TRUE, NA), each = 3))
  expect_identical(truth("a IN (TRUE, NULL)"), rep(c(TRUE, NA, NA), each = 3))
})

test_that("places: text, boxes, layers by name, in whatever order", {
  x <- rooms()
  wards <- read_layer(demo_file("wards.shp"))
  inside <- keep_where(x, reproject_to(wards, x))
  expect_identical(keep_rows(x, "S_INTERSECTS(geometry, wards)", wards = wards)$room_id, inside$room_id)
  expect_identical(keep_rows(x, "S_CONTAINS(wards, geometry)", wards = wards)$room_id, keep_rows(x, "S_WITHIN(geometry, wards)", wards = wards)$room_id)
  expect_identical(nrow(keep_rows(x, "S_DISJOINT(geometry, wards)", wards = wards)), nrow(x) - nrow(inside))
  box <- extent_of(x[1:9, ])
  text <- sprintf("BBOX(%.9f, %.9f, %.9f, %.9f)", box[1] - 1e-6, box[2] - 1e-6, box[3] + 1e-6, box[4] + 1e-6)
  by_hand <- coordinates_of(x)
  expect_identical(keep_rows(x, paste0("S_INTERSECTS(geometry, ", text, ")"))$room_id,
                   x$room_id[by_hand$x >= box[1] & by_hand$x <= box[3] & by_hand$y >= box[2] & by_hand$y <= box[4]])
  here <- "POLYGON ((590000 4740000, 600000 4740000, 600000 4760000, 590000 4760000, 590000 4740000))"
  planar <- reproject_to(x, 32757)
  expect_identical(keep_rows(x, sprintf("S_WITHIN(geometry, %s)", here), crs = 32757)$room_id, keep_rows(planar, sprintf("S_WITHIN(geometry, %s)", here))$room_id)
  expect_identical(keep_rows(planar, sprintf("S_CONTAINS(%s, geometry)", here))$room_id, keep_rows(planar, sprintf("S_WITHIN(geometry, %s)", here))$room_id)
  expect_identical(nrow(keep_rows(wards, "area('km2') > 5")), sum(area_of(wards, "km2") > 5))
  expect_identical(nrow(keep_rows(planar, "x() > 595000")), sum(coordinates_of(planar)$x > 595000))
  odd <- spatial_frame(id = 1:4, geometry = shapes_from_wkt(c("POINT (1 1)", NA, "POINT EMPTY", "POINT (5 5)"), crs = 4326))
  expect_identical(kept(odd, "S_DISJOINT(geometry, POINT (1 1))"), 3:4)
  expect_identical(kept(odd, "NOT S_INTERSECTS(geometry, BBOX(0, 0, 2, 2))"), 3:4)
  expect_identical(kept(odd, "S_DISJOINT(geometry, odd)", odd = odd), 3L)
  expect_identical(kept(odd, "S_EQUALS(geometry, geometry)"), c(1L, 4L))
  across <- spatial_frame(id = 1:3, geometry = point_shapes(c(179.5, -179.5, 0), c(0, 0, 0), crs = 4326))
  expect_identical(kept(across, "S_INTERSECTS(geometry, BBOX(179, -1, -179, 1))"), 1:2)
})

test_that("what is read by a text is what is kept of the whole", {
  x <- mixed_rows(200, 3)
  folder <- withr::local_tempdir()
  conditions <- c("n > 0 AND t LIKE 'R%'", "n IN (1, 2) OR v IS NULL", "NOT (t = 'Reef')", "l AND d >= DATE('2026-06-15')", "t LIKE 'a\\%b' OR t LIKE '_ee%'", "CASEI(t) = 'reef'",
                  "S_WITHIN(geometry, BBOX(500002, 5000002, 500008, 5000008)) AND n >= 0", "S_WITHIN(geometry, BBOX(500002, 5000002, 500008, 5000008)) OR n = 1", "n / 2 > 0.5", "t > 'a' AND n <> v")
  for (ending in c("gpkg", "parquet", "geojson", "shp", "csv")) {
    file <- file.path(folder, paste0("x.", ending))
    suppressWarnings(write_layer(x, file))
    back <- suppressWarnings(read_layer(file, crs = 32757))
    for (condition in conditions) {
      if (ending %in% c("geojson", "csv", "shp") && grepl("DATE|t ", condition)) next  # dates are texts there, and texts may be missing where empty
      found <- suppressWarnings(read_layer(file, where = condition, crs = 32757))
      expect_identical(found$id, kept(back, condition), info = paste(ending, condition))
      expect_identical(suppressWarnings(read_layer(file, where = condition, columns = c(number = id), crs = 32757))$number, found$id)
    }
  }
  text <- "n > 0"
  expect_identical(read_layer(file.path(folder, "x.gpkg"), where = text)$id, kept(x, text))
})

# A random condition, and its columns are those of mixed_rows().
random_condition <- function(depth) {
  one <- function(values) sample(values, 1)
  if (depth > 0 && stats::runif(1) < 0.7) {
    parts <- replicate(sample(2:3, 1), random_condition(depth - 1))
    joined <- paste0("(", paste(parts, collapse = one(c(" AND ", " OR "))), ")")
    return(if (stats::runif(1) < 0.3) paste("NOT", joined) else joined)
  }
  number <- function() one(c("n", "v", "id", "0", "1", "2.5", "-3", "(n + v)", "n * 2", "v - 1"))
  text <- function() one(c("'Reef'", "'reef'", "''", "'it''s'", "'a%b'"))
  one(c(
    paste(number(), one(c("=", "<>", "<", "<=", ">", ">=")), number()), paste("t", one(c("=", "<>", "<", ">=")), text()),
    paste("t", one(c("LIKE", "NOT LIKE")), one(c("'R%'", "'%e%'", "'_eef'", "'a\\%b'", "'%'"))), paste0("n ", one(c("IN", "NOT IN")), " (1, 2, -3)"),
    paste0("t IN (", text(), ", ", text(), ")"), paste(one(c("n", "v", "t", "l", "d")), one(c("IS NULL", "IS NOT NULL"))), "l", "l = TRUE",
    paste("n BETWEEN", number(), "AND", number()), paste0("d ", one(c("<", "=", ">=")), " DATE('2026-06-15')")
  ))
}

test_that("random conditions give the same rows in databases as here", {
  x <- mixed_rows(150, 11)
  file <- withr::local_tempfile(fileext = ".gpkg")
  write_layer(x, file)
  runs <- as.integer(Sys.getenv("CIVIC_CONDITIONS", "300"))
  withr::with_seed(2026, for (i in seq_len(runs)) {
    condition <- random_condition(2)
    here <- kept(x, condition)
    suppressWarnings(expect_identical(read_layer(file, where = condition)$id, here, info = condition))
    expect_identical(kept(x, condition_text(condition)), here, info = condition)
    expect_identical(kept(x, condition_json(condition)), here, info = condition)
  })
})

# A random condition as R code, on columns whose names are those of mixed_rows().
random_code <- function(columns) {
  one <- function() {
    name <- sample(names(columns), 1)
    column <- if (stats::runif(1) < 0.2) rlang::expr(.data[[!!name]]) else as.name(name)
    value <- switch(name, n = sample(-3:5, 1), v = sample(c(-1.5, 0, 0.25, 3), 1), t = sample(c("Reef", "it's", "", "z"), 1), l = TRUE)
    switch(sample(4, 1), rlang::call2(sample(c("==", "!=", "<", ">="), 1), column, value), rlang::call2("is.na", column),
           rlang::call2("%in%", column, value), rlang::call2("!", rlang::call2("is.na", column)))
  }
  if (stats::runif(1) < 0.4) one() else rlang::call2(sample(c("&", "|"), 1), one(), one())
}

test_that("random conditions give the same rows of every source, as texts and as R code", {
  x <- mixed_rows(150, 11)
  folder <- withr::local_tempdir()
  files <- file.path(folder, paste0("x.", c("gpkg", "parquet", "geojsonl")))
  for (file in files[1:2]) write_layer(x, file)
  civicatlas:::write_stream(x, function(bytes) writeBin(bytes, files[3]))
  from_pipe <- function() civicatlas:::read_stream_bytes(readBin(files[3], "raw", file.size(files[3])), withr::local_tempfile(fileext = ".geojsonl"))
  suppressMessages(tile_up(files[1], file.path(folder, "tiles"), rows_per_tile = 20))
  tiles <- suppressMessages(read_layer(file.path(folder, "tiles")))
  streamed <- suppressMessages(from_pipe())
  expect_equal(as.double(streamed$at), as.double(x$at))
  runs <- as.integer(Sys.getenv("CIVIC_CONDITIONS", "60"))
  withr::with_seed(if (runs > 60) NULL else 5, for (i in seq_len(runs)) {
    condition <- random_condition(2)
    here <- kept(x, condition)
    suppressMessages(suppressWarnings({
      for (file in files[1:2]) expect_identical(read_layer(file, where = condition)$id, here, info = paste(file, condition))
      expect_identical(kept(streamed, condition), here, info = condition)
      expect_setequal(dplyr::collect(keep_rows(tiles, condition))$id, here)
      expect_identical(perform_command("keep", x, condition)$id, here, info = condition)
      expect_identical(perform_command("head", x, rows = 1000, where = condition)$id, here, info = condition)
    }))
    if (i %% 5 == 0) {
      code <- rlang::new_quosure(random_code(as.list(attribute_table(x))[c("n", "v", "t", "l")]), environment())
      here <- x$id[which(rlang::eval_tidy(code, attribute_table(x)))]
      suppressMessages(suppressWarnings({
        for (file in files[1:2]) expect_identical(read_layer(file, where = !!code)$id, here, info = paste(file, rlang::as_label(code)))
        expect_identical(keep_rows(x, !!code)$id, here, info = rlang::as_label(code))
        expect_setequal(dplyr::collect(keep_rows(tiles, !!code))$id, here)
      }))
    }
  })
})

# Integers of 64 bits, products beyond 32 bits and signed zeros, among missing values.
wide_rows <- function() {
  tibble::tibble(
    id = 1:8, t = c("a", "b", "cc", "d", "e", "ff", NA, "h"), m = c(2000000000L, -2000000000L, 0L, 46341L, NA, 7L, 1L, 3L), z = c(0, -0, 1, -1, NA, 2, 0.5, 1e300),
    big = bit64::as.integer64(c("1", "2", "9007199254740993", "9007199254740992", NA, "-9007199254740993", "3", "5000000000"))
  )
}

test_that("integers of 64 bits are compared by value, whatever stands beside them", {
  x <- wide_rows()
  file <- withr::local_tempfile(fileext = ".gpkg")
  write_layer(x, file)
  by_value <- list(
    "big IN (1, 2) AND characters(t) = 1" = 1:2, "NOT (big IN (1, 2) AND characters(t) = 1)" = c(3L, 4L, 6L, 7L, 8L), "big = 1.5" = integer(),
    "big = 9007199254740993" = 3L, "big IN (9007199254740993, -9007199254740993)" = c(3L, 6L), "big > 9007199254740992" = 3L,
    "big <> 9007199254740993 AND characters(t) > 0" = c(1L, 2L, 4L, 6L, 8L), "big > 1.5 OR characters(t) = 9" = c(2L, 3L, 4L, 7L, 8L),
    "text(big) = '9007199254740993'" = 3L, "big BETWEEN 3 AND 5000000000 OR floor(z) = -1" = c(4L, 7L, 8L), "big IS NULL OR abs(id) = 1" = c(1L, 5L)
  )
  rows_of <- function(source, ...) suppressWarnings(lapply(names(by_value), function(condition) sort(read_layer(source, ..., where = condition)$id)))
  expect_identical(stats::setNames(rows_of(file), names(by_value)), by_value)
  store <- tryCatch(local_postgres()$address, skip = function(e) NULL)
  if (is.null(store)) return()
  write_layer(x, store, layer = "wide")
  expect_identical(stats::setNames(rows_of(store, "wide"), names(by_value)), by_value)
})

test_that("what integers make is no integer, and a missing value has no power", {
  x <- wide_rows()[c("id", "t", "m", "z")]
  folder <- withr::local_tempdir()
  files <- file.path(folder, c("x.gpkg", "x.parquet", "x.csv"))
  for (file in files) write_layer(x, file)
  for (condition in c("m * m > 0", "m + m > 0", "m - 2000000000 < 0 AND m * m * m < 0", "m ^ 0 = 1", "(m - m) ^ 0 = 1", "z = 0", "1 / z > 0", "1 DIV z > 0", "z ^ -1 > 0", "CASE WHEN m * m > 1e18 THEN TRUE END")) {
    here <- kept(x, condition)
    for (file in files) expect_identical(suppressWarnings(read_layer(file, where = condition)$id), here, info = paste(file, condition))
  }
  expect_identical(kept(x, "m * m > 0"), c(1L, 2L, 4L, 6L, 7L, 8L))
  expect_identical(kept(x, "m ^ 0 = 1"), setdiff(1:8, 5L))
  expect_identical(perform_command("compute", x, set = "p = m * m")$p, as.double(x$m)^2)
  squares <- suppressWarnings(civicatlas:::expressions_option("s = sum(m * m)", "set", x, "group"))$s
  expect_identical(rlang::eval_tidy(squares, x), sum(as.double(x$m)^2, na.rm = TRUE))
})

test_that("windows on the globe hold what lies between their meridians", {
  withr::local_seed(4)
  at <- data.frame(x = c(stats::runif(300, -180, 180), -180, 180, 0), y = c(stats::runif(300, -80, 80), 0, 0, 0))
  x <- spatial_frame(id = seq_len(nrow(at)), geometry = point_shapes(at$x, at$y, crs = 4326))
  within <- function(west, east) (at$x - west) %% 360 <= east - west
  windows <- c(list(c(-181, 181), c(-180.000000001, 180.000000001), c(-1e308, 1e308), c(0, 360.00000001), c(-170, 170), c(-190, 100), c(100, 300), c(-400, -200), c(500, 700)),
               lapply(1:30, function(i) sort(stats::runif(2, -540, 540))))
  for (window in windows) {
    box <- sprintf("BBOX(%.17g, -90, %.17g, 90)", window[1], window[2])
    inside <- if (diff(window) >= 360) x$id else which(within(window[1], window[2]))
    expect_setequal(kept(x, sprintf("S_INTERSECTS(geometry, %s)", box)), inside)
  }
  for (reach in c(180.000000001, 181, 400)) {
    ring <- sprintf("POLYGON ((-%1$.9f -89, %1$.9f -89, %1$.9f 89, -%1$.9f 89, -%1$.9f -89))", reach)
    mask <- spatial_frame(mask = 1L, geometry = shapes_from_wkt(ring, crs = 4326))
    expect_identical(keep_where(x, mask)$id, x$id)
    expect_identical(clip_to(x, mask)$id, x$id)
    expect_identical(join_where(x, mask)$mask, rep(1L, nrow(x)))
    expect_identical(summarise_into(mask, x, n = dplyr::n())$n, nrow(x))
  }
})

test_that("a pattern of many parts is matched in texts of any length, and many values in a moment", {
  x <- data.frame(id = 1:3, t = c(paste0(strrep("ab", 1e6), "c"), "abc", NA))
  expect_identical(kept(x, "t LIKE '%a%b%a%b%a%b%c'"), 1L)
  expect_identical(kept(x, "t NOT LIKE '%b%b%d%'"), 1:2)
  many <- data.frame(id = 1:40000)
  expect_identical(kept(many, sprintf("id IN (%s)", paste(1:20000 * 2, collapse = ", "))), 1:20000 * 2L)
  expect_identical(kept(many, paste0("id = ", 1:5000, collapse = " OR ")), 1:5000)
  expect_identical(kept(many, "id = 1 OR id = 2 OR id IS NULL OR id > 39999"), c(1L, 2L, 40000L))
})

# Expressions of every form, truths among them.
random_truth <- function(depth) {
  one <- function(...) sample(list(...), 1)[[1]]
  if (depth == 0) return(one("l", "TRUE", "n = 1", "t IS NULL", "t = 'it''s'", "t LIKE 'a\\'", "d > DATE('2026-01-01')", "S_INTERSECTS(geometry, BBOX(1, 2, 3, 4))"))
  number <- function(d = depth - 1) {
    if (d <= 0) return(one("n", "-2", "1e-7", "\"over 65\"", "-n"))
    one(paste(number(d - 1), one("+", "-", "*", "/", "^", "%", "DIV"), number(d - 1)), paste0("(", number(d - 1), ")"), paste0("abs(", number(d - 1), ")"),
        paste0("CASE WHEN ", random_truth(d - 1), " THEN ", number(d - 1), " END"))
  }
  a <- random_truth(depth - 1)
  one(paste(number(), one("=", "<", ">="), number()), paste0("(", a, ") = (", random_truth(depth - 1), ")"), paste0("(", a, ") IS NOT NULL"), paste("NOT", a),
      paste(number(), one("BETWEEN", "NOT BETWEEN"), number(), "AND", number()), paste(number(), one("IN", "NOT IN"), "(1, ", number(), ")"),
      paste0("(", a, ") IN (TRUE, l)"), paste(a, one("AND", "OR"), random_truth(depth - 1)), paste0("(", a, ") ", one("AND", "OR"), " ", random_truth(depth - 1)))
}

test_that("the text and the JSON of a condition are read as that condition", {
  withr::local_seed(8)
  read <- 0
  for (i in 1:400) {
    text <- tryCatch(condition_text(random_truth(3)), civicatlas_error_argument = function(e) NULL)
    if (is.null(text)) next
    read <- read + 1
    expect_identical(condition_text(text), text)
    expect_identical(condition_text(condition_json(text)), text)
  }
  expect_gt(read, 300)
  x <- data.frame(id = 1:3, t = c("a\\", "a\\'b", "a"))
  for (i in 1:2) {
    text <- condition_text(sprintf("{\"op\":\"=\",\"args\":[{\"property\":\"t\"},%s]}", jsonlite::toJSON(x$t[i], auto_unbox = TRUE)))
    expect_identical(kept(x, text), i)
  }
  expect_error(kept(x, "{\"op\":\"=\",\"args\":[{\"property\":\"t\"},\"a\\u0000b\"]}"), "zero byte", class = "civicatlas_error_argument")
  expect_error(condition_json("id = 9007199254740993"), "beyond 2\\^53", class = "civicatlas_error_argument")
})

test_that("PostgreSQL gives the same rows", {
  store <- local_postgres()$address
  x <- mixed_rows(150, 11)
  write_layer(x, store, layer = "mixed")
  withr::with_seed(1, for (i in 1:60) {
    condition <- random_condition(2)
    suppressWarnings(expect_identical(sort(read_layer(store, "mixed", where = condition)$id), kept(x, condition), info = condition))
  })
})

test_that("a condition that looks at other rows is worked out on all of them", {
  n <- 60000L
  x <- tibble::tibble(v = seq_len(n), w = rev(v))
  file <- withr::local_tempfile(fileext = ".gpkg")
  write_layer(x, file)
  expect_identical(read_layer(file, where = v == max(v))$v, n)
  expect_identical(nrow(read_layer(file, where = v %in% w)), n)
  expect_identical(nrow(read_layer(file, where = sqrt(v) < 10)), 99L)
  expect_identical(read_layer(file, where = sqrt(v) == sqrt(v[[1]]))$v, 1L)
})

test_that("JSON goes both ways", {
  standard <- "{\"op\":\"and\",\"args\":[{\"op\":\"like\",\"args\":[{\"property\":\"t\"},\"R%\"]},{\"op\":\"between\",\"args\":[{\"property\":\"n\"},0,5]}]}"
  expect_identical(condition_text(standard), "t LIKE 'R%' AND n BETWEEN 0 AND 5")
  expect_identical(condition_json(condition_text(standard)), standard)
  expect_identical(condition_text("{\"op\":\"s_intersects\",\"args\":[{\"property\":\"geometry\"},{\"type\":\"Point\",\"coordinates\":[1,2.5]}]}"),
                   "S_INTERSECTS(geometry, POINT (1 2.5))")
  expect_match(condition_json("S_WITHIN(geometry, POLYGON ((0 0, 1 0, 1 1, 0 0)))"), "\"type\":\"Polygon\",\"coordinates\":[[[0,0],[1,0],[1,1],[0,0]]]", fixed = TRUE)
  expect_identical(condition_json("T_AFTER(d, INTERVAL('2026-01-01', '..'))"), "{\"op\":\"t_after\",\"args\":[{\"property\":\"d\"},{\"interval\":[\"2026-01-01\",\"..\"]}]}")
  for (bad in c("{\"op\":\"=\",\"args\":[1]}", "{\"op\":", "{\"x\":1}", "{\"op\":\"in\",\"args\":[1,2]}", "{\"op\":\"between\",\"args\":[1,2]}",
                "{\"type\":\"Nothing\",\"coordinates\":[]}", "{\"op\":\"system\",\"args\":[\"touch x\"]}")) {
    expect_error(keep_rows(data.frame(a = 1), bad), class = "civicatlas_error_argument")
  }
})

test_that("errors point at the place and say what to write", {
  x <- rooms()
  told <- function(condition, ...) {
    text <- tryCatch(keep_rows(x, condition), civicatlas_error = conditionMessage)
    for (part in c(...)) expect_match(text, part, fixed = TRUE, info = condition)
  }
  told("seats > 100, kind = 'school'", "a comma does not join", "\n             ^\n", "AND or OR")
  told("kind = school", "there is no column \"school\"", "\n         ^^^^^^\n", "'school'")
  told("seatz > 3", "Columns: seats")
  told("kind > 5", "a text is compared with a number", "mend_numbers(x)")
  told("'seats' > 100", "no single quotes: seats")
  told("is.na(seats)", "IS NULL")
  told("seats > mean(seats)", "many rows")
  told("opens > DATE('2026-13-01')", "")
  told("T_AFTER(opens, DATE('2026-01-01'))", "takes a date or time")
  told("seats = DATE('2026-02-30')", "")
  told("seats", "this is a number and no condition")
  told("substring(kind) = 'x'", "is given 1")
  told("S_WITHIN(geometry, POLYGON ((0 0, 1)))", "cannot be read")
  told("S_WITHIN(geometry, BBOX(0, 2, 1, 1))", "ymin lies above ymax")
  expect_error(keep_rows(reproject_to(x, 32757), "S_WITHIN(geometry, BBOX(5, 0, 1, 1))"), "xmin lies above", class = "civicatlas_error_argument")
  expect_error(keep_rows(x, "seats = "), class = "civicatlas_error_argument")
  expect_error(keep_rows(x, seats), "TRUE", class = "civicatlas_error_argument")
  expect_error(keep_rows(x), "which rows", class = "civicatlas_error_argument")
  expect_error(read_layer(demo_file("rooms.geojson"), where = "seatz > 3"), "no column \"seatz\"", class = "civicatlas_error_column")
})

test_that("nothing outside the list can be called, whatever is written", {
  x <- data.frame(a = 1:3, b = letters[1:3])
  names <- c("system", "eval", "parse", "get", "readLines", "file", "unlink", "source", "library", "do.call", "Sys.setenv", "quit", "q", "cat", "print", "assign", "attr",
             "environment", "globalenv", "base::system", "civicatlas::read_layer", "read_layer", "write_layer", "shell", "pipe", "url", "download.file", "sys.call",
             "Recall", "function", "tracemem", "body", "rm", "options", "setwd", "mean.default", ".Internal", ".Call", "Rprof", "browser", "`system`", "(system)")
  for (name in names) {
    for (form in c("%s('x') = 1", "a = %s('x')", "a IN (%s('touch x'))", "CASE WHEN %s('x') THEN TRUE END", "upper(%s('x')) = 'A'")) {
      expect_error(keep_rows(x, sprintf(form, name)), class = "civicatlas_error")
    }
  }
  expect_error(keep_rows(x, "b = '`rm -rf`'"), NA)
})

test_that("drop_rows keeps what is unknown, and both say so", {
  x <- mixed_rows()
  expect_identical(sort(c(keep_rows(x, "n > 0")$id, drop_rows(x, "n > 0")$id)), x$id)
  withr::local_options(civicatlas.quiet = FALSE)
  expect_message(keep_rows(x, "n > 0"), "unknown, .*left out")
  expect_message(drop_rows(x, "n > 0"), "unknown, .*kept")
  withr::local_options(civicatlas.quiet = TRUE)
  expect_match(utils::tail(history_of(keep_rows(x, "n > 0"))$note, 1), "unknown")
  expect_identical(keep_rows(x, n > 0)$id, keep_rows(x, "n > 0")$id)
})

test_that("an explanation counts the rows of each part and points at near misses", {
  x <- rooms()
  found <- explain_condition(x, "kind = 'Library' OR kind IN ('school', 'libary') AND NOT (seats > 100 OR opens = '08:00')")
  expect_identical(found$condition, "kind = 'Library' OR (kind IN ('school', 'libary') AND (NOT (seats > 100 OR opens = '08:00')))")
  for (row in seq_len(nrow(found$parts))) {
    part <- found$parts[row, ]
    expect_identical(nrow(keep_rows(x, part$part)), part$holds)
    expect_identical(part$holds + part$fails + part$unknown, nrow(x))
  }
  expect_match(found$hints[1], "'library' (26 rows)", fixed = TRUE)
  expect_match(found$hints[2], "'library'", fixed = TRUE)
  expect_match(paste(capture.output(print(found)), collapse = "\n"), "holds  fails  unknown  part")
})

# --- R code ------------------------------------------------------------------------------------------------------------------

test_that("R code goes row by row where each function in it is known to, whatever it is called", {
  by_row <- function(quosure) civicatlas:::goes_by_row(civicatlas:::tree_of_code(quosure), c("v", "w", "t"))
  limit <- 3
  limits <- list(v = 1:2, high = 9)
  alone <- rlang::quos(
    v > limit, .data$v > limits$high, v %in% limits$v, v > .env$limit, -v + w %% 2 == 0, is.na(.data[["t"]]), paste0(t, "x") == "ax", dplyr::between(v, 1, limit),
    dplyr::case_when(v > 1 ~ t, .default = "b") == "b", as.Date(t, "%Y") > w, startsWith(t, "a") & !grepl("b", t), (v > 1) | FALSE, base::abs(v) > mean(limits$v)
  )
  for (quosure in alone) expect_true(by_row(quosure), label = rlang::as_label(quosure))
  together <- rlang::quos(
    v > mean(v), v > limits$v, v[1] > 2, v %in% w, paste(t, collapse = "") == "a", format(v) == " 1", as.Date(t) > w, as.Date(t, tryFormats = "%Y") > w, dplyr::n() > 2, v > runif(1),
    cumsum(v) > 2, rank(v) < 3, ifelse(v > 1, 1L, 0.5) > 0, c(v, w) > 1, .data[[t]] > 1, (function(x) x > mean(x))(v)
  )
  for (quosure in together) expect_false(by_row(quosure), label = rlang::as_label(quosure))
  expect_identical(names(civicatlas:::uses_in(civicatlas:::tree_of_code(rlang::quo(f(v, list(~ sum(.x)), base::sum, function(a) a))))), "v")
  expect_true(by_row(rlang::quo(round(v) > 1)))
  round <- function(x) x - mean(x)
  expect_false(by_row(rlang::quo(round(v) > 1)))
  `>` <- function(a, b) base::rev(a) == b
  expect_false(by_row(rlang::quo(v > 1)))
})

test_that("integers that R multiplies overflow by every door, as they do in a frame", {
  made <- spatial_frame(id = 1:3, a = c(50000L, 2L, NA), geometry = point_shapes(4e6 + 1:3, 3e6), crs = 3035)
  store <- withr::local_tempfile(fileext = ".gpkg")
  write_layer(made, store)
  expect_identical(suppressWarnings(read_layer(store, where = a * a > 0))$id, suppressWarnings(keep_rows(made, a * a > 0))$id)
  expect_identical(read_layer(store, where = a * 50000 > 0)$id, 1:2)
})

test_that("a column comes before a variable whose text asks for shapes", {
  made <- spatial_frame(id = 1:3, open = c(TRUE, FALSE, TRUE), geometry = point_shapes(4e6 + 1:3, 3e6), crs = 3035)
  store <- withr::local_tempfile(fileext = ".gpkg")
  write_layer(made, store)
  open <- "S_INTERSECTS(geometry, POINT(4000002 3000000))"
  other <- open
  expect_identical(read_layer(store, where = open)$id, c(1L, 3L))
  expect_identical(read_layer(store, where = other)$id, 2L)
  expect_identical(keep_rows(made, open)$id, c(1L, 3L))
})
