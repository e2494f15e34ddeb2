# Random conditions on columns of every kind, whose names are also those of variables of the caller.
random_condition <- function(columns) {
  constant <- function(kind) {
    switch(kind, whole = sample(-3:9, 1), real = round(stats::runif(1, -2, 5), 2), text = sample(c("a", "it's", "", "\u00e9", "B", "5"), 1),
           day = quote(as.Date("2026-01-03")), time = quote(as.POSIXct("2026-01-03 12:00:00", tz = "UTC")), flag = sample(c(TRUE, FALSE), 1),
           price = round(stats::runif(1, 0, 5), 1))
  }
  leaf <- function() {
    name <- sample(names(columns), 1)
    column <- if (stats::runif(1) < 0.2) rlang::expr(.data[[!!name]]) else rlang::sym(name)
    if (name %in% c("whole", "real") && stats::runif(1) < 0.3) column <- rlang::call2(sample(c("+", "-", "*"), 1), column, constant("real"))
    if (name == "flag" && stats::runif(1) < 0.5) return(column)
    switch(sample(4, 1),
      rlang::call2(sample(c("==", "!="), 1), column, constant(name)),
      rlang::call2(sample(c("<", "<=", ">", ">="), 1), column, constant(name)),
      rlang::call2("is.na", column),
      rlang::call2("%in%", column, rlang::call2("c", constant(name), if (stats::runif(1) < 0.3) NA else constant(name)))
    )
  }
  grow <- function(depth) {
    if (depth == 0 || stats::runif(1) < 0.3) return(leaf())
    switch(sample(3, 1), rlang::call2("!", rlang::call2("(", grow(depth - 1))), rlang::call2("&", grow(depth - 1), grow(depth - 1)),
           rlang::call2("(", rlang::call2("|", grow(depth - 1), grow(depth - 1))))
  }
  grow(3)
}

expect_same_rows <- function(source, layer, runs) {
  columns <- read_layer(source, layer)
  day <- time <- flag <- price <- whole <- real <- text <- 1e9  # never taken for the columns
  for (run in seq_len(runs)) {
    condition <- rlang::new_quosure(random_condition(as.list(columns)[setdiff(names(columns), "row")]), environment())
    found <- suppressWarnings(read_layer(source, layer, where = !!condition), classes = "civicatlas_warning")
    expect_identical(found$row, columns$row[which(rlang::eval_tidy(condition, columns))], info = rlang::as_label(condition))
  }
}

table_of_all_kinds <- function(n = 60) {
  withr::local_seed(2)
  pick <- function(values) sample(c(values, NA), n, TRUE)
  data.frame(row = seq_len(n), whole = pick(-3:9), real = pick(round(stats::runif(12, -2, 5), 2)), text = pick(c("a", "b", "it's", "", "\u00e9", "B", "5")),
             day = pick(as.Date("2026-01-01") + 0:5), time = pick(as.POSIXct("2026-01-01", tz = "UTC") + 43200 * 0:6), flag = pick(c(TRUE, FALSE)))
}
