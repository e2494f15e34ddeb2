# What each format keeps: one small layer for each thing that may be kept, written and read back.

probe <- function(wkt = c("POINT (1 2)", "POINT (3 4)"), ..., crs = 4326) spatial_frame(id = seq_along(wkt), ..., geometry = shapes_from_wkt(wkt, crs = crs))

format_probes <- function() {
  own <- civicatlas::crs("PROJCS[\"own\",GEOGCS[\"g\",DATUM[\"D_WGS_1984\",SPHEROID[\"WGS_1984\",6378137,298.257223563]],PRIMEM[\"Greenwich\",0],UNIT[\"Degree\",0.017453292519943295]],PROJECTION[\"Transverse_Mercator\"],PARAMETER[\"Central_Meridian\",160.2],PARAMETER[\"Scale_Factor\",1],UNIT[\"Meter\",1]]")
  list(
    "points" = probe(),
    "multipoints" = probe(c("MULTIPOINT ((1 2), (3 4))", "MULTIPOINT ((5 6), (7 8))")),
    "lines" = probe(c("LINESTRING (0 0, 1.5 2)", "LINESTRING (5 5, 6 6, 7 5)")),
    "multilines" = probe(c("MULTILINESTRING ((0 0, 1 1), (2 2, 3 3))", "MULTILINESTRING ((0 0, 1 1), (4 4, 5 5))")),
    "polygons with holes" = probe("POLYGON ((0 0, 9 0, 9 9, 0 9, 0 0), (1 1, 1 2, 2 2, 1 1))"),
    "multipolygons" = probe("MULTIPOLYGON (((0 0, 1 0, 1 1, 0 0)), ((5 5, 9 5, 9 9, 5 5)))"),
    "collections" = probe("GEOMETRYCOLLECTION (POINT (1 2), LINESTRING (0 0, 1 1))"),
    "several kinds in a layer" = probe(c("POINT (1 2)", "LINESTRING (0 0, 1 1)")),
    "Z" = probe("POINT Z (1 2 3.25)"),
    "M" = probe("POINT M (1 2 3.25)"),
    "missing shapes" = probe(c("POINT (1 2)", NA)),
    "empty shapes" = probe(c("POLYGON ((0 0, 1 0, 1 1, 0 0))", "POLYGON EMPTY")),
    "every bit of a coordinate" = probe("POINT (0.1 -47.30000000000001)"),
    "a CRS with a code" = probe("POINT (590000 4750000)", crs = 32757),
    "a CRS without a code" = probe("POINT (100 4750000)", crs = own),
    "no CRS" = probe(crs = NULL),
    "integers" = probe(v = c(1L, -2147483647L)),
    "every bit of a number" = probe(v = c(1 / 3, 1e-300)),
    "whole numbers beyond 2^53" = probe(v = bit64::as.integer64(c("9007199254740993", "-1"))),
    "logical values" = probe(v = c(TRUE, FALSE)),
    "text" = probe(v = c("K\u00f6nig, \"x\"\nnew line", "plain")),
    "text beyond 254 bytes" = probe(v = c(strrep("x", 300), "b")),
    "leading zeros" = probe(v = c("007", "12")),
    "empty text apart from missing" = probe(v = c("", NA)),
    "dates" = probe(v = as.Date(c("2026-11-24", "1960-02-29"))),
    "times" = probe(v = as.POSIXct(c("2026-11-24 06:30:00", "1960-02-29 23:59:59"), tz = "UTC")),
    "missing values" = probe(v = c(NA, 1.5), text = c(NA, "a"), yes = c(TRUE, NA)),
    "long column names" = probe(a_name_longer_than_ten = 1:2)
  )
}

# "kept", "as text", "changed, said" (written or read with a warning or message that says so), "refused" or "changed".
format_outcome <- function(x, write, read) {
  said <- FALSE
  back <- tryCatch(withCallingHandlers({
    write(x)
    read(x)
  }, civicatlas_warning = function(w) {
    said <<- TRUE
    rlang::cnd_muffle(w)
  }, civicatlas_message = function(m) {
    said <<- said || grepl("reproject_to|renamed|cut at|holds no CRS", conditionMessage(m))
    rlang::cnd_muffle(m)
  }), civicatlas_error = function(e) NULL)
  if (is.null(back)) return("refused")
  same_crs <- if (is.null(crs_of(x))) is.null(crs_of(back)) else !is.null(crs_of(back)) && crs_of(back) == crs_of(x)
  same_shapes <- identical(wkt_of(back), wkt_of(x)) && same_crs
  a <- attribute_table(x)
  b <- attribute_table(back)
  if (same_shapes && identical(as.list(a), as.list(b))) return("kept")
  if (same_shapes && identical(names(a), names(b)) && all(unlist(Map(function(p, q) identical(p, q) || (is.character(q) && same_as_text(p, q)), a, b)))) return("as text")
  if (said) "changed, said" else "changed"
}

same_as_text <- function(p, q) {
  text <- if (inherits(p, "POSIXct")) format(p, "%Y-%m-%dT%H:%M:%SZ", tz = "UTC") else as.character(p)
  identical(text, q)
}
