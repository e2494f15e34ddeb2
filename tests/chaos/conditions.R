# Random conditions, in CQL2 and as R code in turn, asked of the same rows by every door: a frame, files, databases, tiles, a pipe, a command, a
# workflow, and the condition written as text and as JSON. Each must keep the same rows. Among the values: integers beyond 32 bits, products that
# overflow them, zeros with a sign, missing values, quotes and backslashes; among the windows, such as go round the globe.
# usage: Rscript tests/chaos/conditions.R [conditions, 10000] [seed, 1]
suppressMessages(library(civicatlas))
source("tests/testthat/helper-servers.R")
options(civicatlas.quiet = TRUE, warn = -1)
given <- as.integer(commandArgs(TRUE))
wanted <- c(given[1], 10000L)[1 + is.na(given[1])]
set.seed(c(given[2], 1L)[1 + is.na(given[2])])

# The rows.

rows <- 40
values <- function(of) sample(c(of, NA), rows, replace = TRUE)
made <- spatial_frame(
  id = seq_len(rows), m = values(c(2000000000L, -2000000000L, 0L, 46341L, 7L, 1L)), k = values(c(-3L, 0L, 1L, 2L)),
  z = values(c(0, -0, 1, -1, 0.5, 1e300, -2.5)),
  t = values(c("Reef", "reef", "a%b", "it's", "x\\", "\\'", "", paste0(strrep("ab", 50), "c"))), l = values(c(TRUE, FALSE)),
  d = values(as.Date(c("2026-01-01", "2026-06-15"))), geometry = point_shapes(stats::runif(rows, -179, 179), stats::runif(rows, -60, 60), crs = 4326)
)
made$big <- bit64::as.integer64(values(c("1", "2", "5000000000", "-5000000000", "9007199254740991")))

# The doors.

folder <- tempfile("conditions")
dir.create(folder)
inside <- function(...) file.path(folder, ...)
write_layer(made, inside("x.gpkg"))
frame <- read_layer(inside("x.gpkg"))
write_layer(frame, inside("x.parquet"))
write_layer(frame, inside("x.geojson"))
tiled <- suppressMessages(tile_up(frame, inside("tiles"), rows_per_tile = 9))
bytes <- raw()
civicatlas:::write_stream(frame, function(more) bytes <<- c(bytes, more))
piped <- civicatlas:::read_stream_bytes(bytes, inside("pipe.geojsonl"))
writeLines(c("version: 1", "title: conditions", "inputs: {x: {type: layer}, which: {type: condition}}", "steps:",
             "  kept: {command: keep, layer: x, condition: \"{which}\"}"), inside("steps.yaml"))
server <- if (requireNamespace("RPostgres", quietly = TRUE) && length(postgres_programs())) local_postgres(globalenv())$address
if (!is.null(server)) write_layer(frame, server, layer = "x")

doors <- list(
  GeoPackage = function(condition) read_layer(inside("x.gpkg"), where = !!condition),
  PostgreSQL = function(condition) read_layer(server, "x", where = !!condition),
  GeoParquet = function(condition) read_layer(inside("x.parquet"), where = !!condition),
  GeoJSON = function(condition) read_layer(inside("x.geojson"), where = !!condition),
  tiles = function(condition) dplyr::collect(keep_rows(tiled, !!condition))
)
doors_of_text <- list(
  pipe = function(condition) keep_rows(piped, condition),
  command = function(condition) perform_command("keep", frame, condition),
  workflow = function(condition) run_workflow(inside("steps.yaml"), x = frame, which = condition, folder = inside("run"))$results$kept,
  text = function(condition) keep_rows(frame, condition_text(condition)),
  JSON = function(condition) keep_rows(frame, condition_json(condition))
)
doors_of_code <- list(
  filter = function(condition) dplyr::filter(frame, !!condition),
  "filter of tiles" = function(condition) dplyr::collect(dplyr::filter(tiled, !!condition))
)
if (is.null(server)) doors$PostgreSQL <- NULL

# The conditions.

one_of <- function(...) sample(c(...), 1)
quoted <- function(text) civicatlas:::text_in_quotes(text)

random_number <- function(depth) {
  if (depth <= 0 || stats::runif(1) < 0.5) return(one_of("m", "k", "z", "big", "0", "1", "-2", "2.5", "5000000000", "9007199254740991", "1.5", "id"))
  part <- function() random_number(depth - 1)
  switch(sample(4, 1), paste0("(", part(), " ", one_of("+", "-", "*", "/", "^", "%", "DIV"), " ", part(), ")"), paste0("abs(", part(), ")"),
         paste0("coalesce(", part(), ", ", part(), ")"), paste0("round(", part(), ")"))
}
random_text <- function() one_of("t", quoted("Reef"), quoted("x\\"), quoted("\\'"), "upper(t)", "CASEI(t)", "lower(t)")
random_window <- function() {
  west <- stats::runif(1, -400, 300)
  sprintf("S_INTERSECTS(geometry, BBOX(%s, -70, %s, 70))", west, west + one_of(10, 100, 200, 300, 359, 361))
}
random_condition <- function(depth) {
  if (depth <= 0) return(one_of("l", "k = 1", "t IS NULL", "m > 0", "big = 1"))
  part <- function() random_condition(depth - 1)
  number <- function() random_number(depth - 1)
  compared <- c("=", "<>", "<", "<=", ">", ">=")
  switch(sample(10, 1),
    paste(number(), sample(compared, 1), number()), paste(random_text(), sample(compared, 1), random_text()),
    paste(random_text(), one_of("LIKE", "NOT LIKE"), one_of("'R%'", "'a\\%b'", "'%a%b%c'", "'_eef'", "'x\\\\\\\\'")),
    paste(number(), one_of("BETWEEN", "NOT BETWEEN"), random_number(0), "AND", random_number(0)),
    paste(one_of("big", "k", "m", "id"), one_of("IN", "NOT IN"), "(1, 2, 5000000000)"),
    paste(one_of("m", "z", "t", "big", "l"), one_of("IS NULL", "IS NOT NULL")),
    paste("NOT", part()), paste0("(", part(), one_of(" AND ", " OR "), part(), ")"), random_window(), "d > DATE('2026-03-01')"
  )
}

# As R code: what databases can be asked in SQL and what they cannot, variables beside the columns, and what looks at all rows.
limits <- list(low = -1, high = 2)
threshold <- 46341L
random_number_in_r <- function(depth) {
  if (depth <= 0 || stats::runif(1) < 0.4) {
    return(one_of("m", "k", "z", "big", "id", ".data$k", ".data[[\"m\"]]", "0", "1L", "-2", "2.5", "5e9", "threshold", "limits$high",
                  "limits[[\"low\"]]", ".env$threshold"))
  }
  part <- function() random_number_in_r(depth - 1)
  switch(sample(6, 1), paste0("(", part(), " ", one_of("+", "-", "*"), " ", part(), ")"), paste0("abs(", part(), ")"), paste0("(", part(), " / 3)"),
         paste0(one_of("ifelse", "dplyr::if_else"), "(l, ", part(), ", ", part(), ")"), "nchar(t)", paste0("round(", part(), ", 1)"))
}
random_code <- function(depth) {
  if (depth <= 0) return(one_of("l", "k == 1", "is.na(t)", "m > 0", "big == 1", "z %in% c(0, NA)", "m > max(k, na.rm = TRUE)"))
  part <- function() random_code(depth - 1)
  number <- function() random_number_in_r(depth - 1)
  switch(sample(10, 1),
    paste(number(), one_of("==", "!=", "<", "<=", ">", ">="), number()),
    paste("t", one_of("==", "!="), one_of("\"Reef\"", "\"it's\"", "paste0(\"Re\", \"ef\")", "toupper(t)")),
    one_of("startsWith(t, \"R\")", "grepl(\"ee\", t)", "tolower(t) == \"reef\""),
    paste(number(), "%in%", one_of("c(1, 2, 5e9)", "c(NA, 0)", "limits", "1:3")),
    paste0("t %in% ", one_of("c(\"Reef\", NA)", "c(\"reef\", \"\")", "character()")), paste0("is.na(", one_of("m", "z", "t", "big", "l"), ")"),
    paste0("!(", part(), ")"), paste0("(", part(), one_of(" & ", " | "), part(), ")"), "dplyr::between(z, limits$low, limits$high)", "id < dplyr::n() / 2"
  )
}

# What is asked.

ids <- function(found) sort(as.integer(found$id))
quiet <- function(expr) suppressWarnings(suppressMessages(expr))
asked <- 0
differ <- 0
refused <- 0
while (asked < wanted) {
  text <- if (asked %% 2) random_code(3) else random_condition(3)
  condition <- if (asked %% 2) rlang::new_quosure(str2lang(text), globalenv()) else text
  here <- tryCatch(ids(quiet(keep_rows(frame, !!condition))), civicatlas_error = function(e) NULL)
  if (is.null(here)) next  # no condition: `abs()` of what is no number, say
  asked <- asked + 1
  others <- c(doors, if (is.character(condition)) doors_of_text else doors_of_code)
  if (is.character(condition) && grepl("DATE", condition)) others$GeoJSON <- NULL  # in which dates are texts
  for (door in names(others)) {
    got <- tryCatch(ids(quiet(others[[door]](condition))), error = function(e) conditionMessage(e))
    if (is.character(got) && grepl("tiles", door) && grepl("may look at all rows", gsub("\\s+", " ", got))) {
      refused <- refused + 1
      next
    }
    if (identical(got, here)) next
    differ <- differ + 1
    cat(door, ": ", text, "\n  here: ", paste(here, collapse = " "), "\n  there: ", paste(got, collapse = " "), "\n", sep = "")
  }
}
cat(sprintf("%d conditions, half of them R code, by %d doors, %d differ; tiles refused %d that look at all rows\n", asked,
            length(doors) + length(doors_of_text) + length(doors_of_code), differ, refused))
quit(status = differ > 0)
