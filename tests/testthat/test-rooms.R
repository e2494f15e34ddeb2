# Files of R/ belong to rooms by their prefix, and call the files of their own room and of those below it alone.
root <- testthat::test_path("..", "..")
skip_if_not(file.exists(file.path(root, "R", "base-conditions.R")), "the sources belong to the checkout")

levels <- c(base = 1, data = 2, io = 3, fmt = 3, verb = 4, stat = 5, map = 6, op = 7, tile = 8, cli = 9, flow = 10, page = 11)

# The names that a file defines, and those of other files that its functions use.
names_of <- function(file) {
  assigned <- Filter(function(code) rlang::is_call(code, "<-"), as.list(parse(file, keep.source = FALSE)))
  list(defines = vapply(assigned, function(code) as.character(code[[2]])[1], ""),
       uses = unique(unlist(lapply(assigned, function(code) setdiff(symbols(code[[3]]), locals(code[[3]]))))))
}

# All names in some code but those of members and of other packages.
symbols <- function(code) {
  if (is.name(code)) return(as.character(code))
  if (rlang::is_call(code, c("::", ":::"))) return(character())
  if (rlang::is_call(code, c("$", "@"))) return(symbols(code[[2]]))
  if (is.call(code) || is.pairlist(code)) unlist(lapply(as.list(code), symbols))
}

# The names that stand for arguments and local values in some code.
locals <- function(code) {
  if (is.pairlist(code)) return(c(names(code), unlist(lapply(code, locals))))
  if (!is.call(code)) return(character())
  own <- if (rlang::is_call(code, c("<-", "for")) && is.name(code[[2]])) as.character(code[[2]])
  c(own, unlist(lapply(as.list(code), locals)))
}

# Rows `from`, `to`, `name` of what calls from one file into another.
calls_between <- function(files) {
  known <- lapply(stats::setNames(files, basename(files)), names_of)
  home <- unlist(lapply(names(known), function(file) stats::setNames(rep(file, length(known[[file]]$defines)), known[[file]]$defines)))
  do.call(rbind, lapply(names(known), function(file) {
    names <- setdiff(intersect(known[[file]]$uses, names(home)), ls(baseenv()))
    data.frame(from = rep(file, length(names)), to = unname(home[names]), name = names)
  }))
}

upward_calls <- function(files) {
  calls <- calls_between(files)
  room <- function(file) levels[sub("-.*", "", file)]
  calls[room(calls$to) > room(calls$from), ]
}

sources <- function() setdiff(list.files(file.path(root, "R"), "[.]R$", full.names = TRUE), file.path(root, "R", c("RcppExports.R", "civicatlas-package.R")))

test_that("every file is in a room, and none calls a higher one", {
  expect_identical(setdiff(sub("-.*", "", basename(sources())), names(levels)), character())
  upward <- upward_calls(sources())
  expect_identical(paste(upward$from, "calls", upward$name, "of", upward$to, recycle0 = TRUE), character())
})

test_that("workflows and pages stand on operations, not on the command line", {
  calls <- calls_between(sources())
  across <- calls[grepl("^(flow|page)-", calls$from) & grepl("^cli-", calls$to), ]
  expect_identical(paste(across$from, "calls", across$name, "of", across$to, recycle0 = TRUE), character())
})

test_that("no name is given twice", {
  defined <- unlist(lapply(sources(), function(file) names_of(file)$defines))
  expect_identical(unique(defined[duplicated(defined)]), character())
})

test_that("a call upward is found", {
  folder <- withr::local_tempdir()
  writeLines(c("low <- function(x) {", "  local <- function(y) y", "  local(high(x))", "}"), file.path(folder, "base-low.R"))
  writeLines(c("high <- function(x) x + 1", "local <- function(x) low(x)"), file.path(folder, "verb-high.R"))
  upward <- upward_calls(list.files(folder, full.names = TRUE))
  expect_identical(c(upward$from, upward$to, upward$name), c("base-low.R", "verb-high.R", "high"))
})

# The table of the core's folders in the architecture page: what each may use, by name.
folders_that_may_be_used <- function() {
  rows <- grep("^[|] `[a-z]+/` [|]", readLines(file.path(root, "docs", "architecture.md"), encoding = "UTF-8"), value = TRUE)
  cells <- strsplit(rows, "|", fixed = TRUE)
  uses <- lapply(cells, function(cell) regmatches(cell[4], gregexpr("[a-z]+", cell[4]))[[1]])
  stats::setNames(uses, gsub("[^a-z]", "", vapply(cells, `[`, "", 2)))
}

# The folders that one includes headers of.
folders_used <- function(folder) {
  files <- list.files(file.path(root, "src", "kernel", folder), "[.](h|cpp)$", full.names = TRUE)
  includes <- grep("^#include \"[.][.]/", unlist(lapply(files, readLines, encoding = "UTF-8")), value = TRUE)
  unique(sub("^#include \"[.][.]/([a-z]+)/.*", "\\1", includes))
}

# Calls of the core in some code that do not stand within core(), whose errors would not be ours.
bare_calls <- function(code) {
  if (!is.call(code)) return(if (is.pairlist(code)) unlist(lapply(as.list(code), bare_calls)))
  if (rlang::is_call(code, "core")) return(NULL)
  own <- if (is.name(code[[1]]) && startsWith(as.character(code[[1]]), "core_")) as.character(code[[1]])
  c(own, unlist(lapply(as.list(code), bare_calls)))
}

test_that("the core is called through core() alone, but by what core() itself stands on", {
  files <- setdiff(list.files(file.path(root, "R"), "[.]R$"), c("RcppExports.R", "base-conditions.R", "base-progress.R", "base-child.R", "civicatlas-package.R"))
  found <- unlist(lapply(file.path(root, "R", files), function(file) unlist(lapply(parse(file, keep.source = FALSE), bare_calls))))
  expect_setequal(found, c("core_give_memory_back", "core_processors", "core_random_bytes"))  # which cannot fail
  expect_identical(bare_calls(quote(f <- function(x) core(g(core_a(x))) + core_b(x))), "core_b")
})

test_that("the core's folders are layers, and use what the architecture page says", {
  may <- folders_that_may_be_used()
  expect_setequal(names(may), list.dirs(file.path(root, "src", "kernel"), full.names = FALSE, recursive = FALSE))
  for (k in seq_along(may)) {
    expect_identical(setdiff(may[[k]], names(may)[seq_len(k - 1)]), character(), info = names(may)[k])
    expect_setequal(folders_used(names(may)[k]), may[[k]])
  }
})
