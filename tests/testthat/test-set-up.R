# Set-up is run for real by `make fresh`; here are its decisions. The tools are there in a checkout alone.
root <- testthat::test_path("..", "..")
skip_if_not(file.exists(file.path(root, "tools", "setup-plan.R")), "set-up belongs to the checkout")

set_up <- function() {
  env <- new.env()
  for (file in c("setup-plan.R", "setup-build.R")) sys.source(file.path(root, "tools", file), env)
  env$stop_with <- function(...) stop(..., call. = FALSE)
  env
}

# A registry of packages, each with its version and what it needs.
registry_of <- function(...) {
  rows <- list(...)
  fields <- c("Version", "Depends", "Imports", "LinkingTo", "Suggests")
  table <- t(vapply(rows, function(row) stats::setNames(row[fields], fields), stats::setNames(character(5), fields)))
  table <- cbind(Package = names(rows), table)
  rownames(table) <- names(rows)
  table
}

test_that("each package is left, taken from Debian or built, and what a built one needs is raised", {
  env <- set_up()
  env$registry <- function() {
    registry_of(walls = c(Version = "2.0", Imports = "bricks (>= 1.5), methods"), bricks = c(Version = "1.6", Depends = "R (>= 4.0)"),
                roof = c(Version = "3.1", LinkingTo = "nails"), nails = c(Version = "0.9"))
  }
  env$debian_versions <- function(names) c(walls = "1.0", bricks = "1.2", roof = "3.0", nails = "0.8")[names]
  plan <- function(needs, present = character()) env$plan_installation(needs, present)[c("debian", "cran")]
  expect_identical(plan(c(roof = "3.0")), list(debian = "r-cran-roof", cran = character()))
  expect_identical(plan(c(roof = "3.0"), c(roof = "2.9"))$cran, "roof")  # an old one stays in Debian's library; a new one goes before it
  expect_identical(plan(c(walls = "1.1", bricks = "1.0")), list(debian = character(), cran = c("walls", "bricks")))
  expect_identical(plan(c(walls = "1.1"), c(bricks = "1.5"))$cran, "walls")
  expect_identical(plan(c(roof = "3.0"), c(roof = "3.1"))$cran, character())
  expect_error(plan(c(walls = "9.0")), "walls \\(>= 9.0\\).*newer R")
})

test_that("needs are read from DESCRIPTION, without what R brings itself", {
  env <- set_up()
  expect_identical(env$parse_needs(c("R (>= 4.2.0), cli (>= 3.6.0),\n    grid,\n    DBI", NA)), c(cli = "3.6.0", DBI = "0.0"))
  description <- read.dcf(file.path(root, "DESCRIPTION"))[1, ]
  needs <- env$needs_of_project(description, c("testthat", "data.table"))
  expect_identical(needs[["testthat"]], sub(".*testthat \\(>= ([0-9.]+)\\).*", "\\1", description[["Suggests"]]))
  expect_identical(needs[["data.table"]], "0.0")
  expect_true(all(c("ggplot2", "RcppSimdJson") %in% names(needs)))
})

test_that("what is missing is said early, with what mends it", {
  env <- set_up()
  expect_error(env$need_r("R (>= 99.1)"), "R 99.1 or later.*apt-get install r-base")
  expect_error(env$need_space(tempdir(), 1e9), "MB are free.*TMPDIR=FOLDER.*R_LIBS_USER=FOLDER")
  env$is_root <- function() FALSE
  expect_error(env$install_system(c("libxml2-dev", "g++")), "sudo apt-get install libxml2-dev g\\+\\+")
  withr::local_options(repos = c(CRAN = "http://127.0.0.1:1"))
  expect_error(env$registry(), "127.0.0.1:1 does not answer.*options\\(repos")
  withr::local_dir(withr::local_tempdir())
  served <- cbind(Version = c(walls = "2.0"), Repository = "http://127.0.0.1:1", MD5sum = "0")
  expect_error(suppressMessages(env$download_sources("walls", served)), "broke off in the middle of walls_2.0.tar.gz")
})

test_that("a system that has no C++20 compiler is told", {
  folder <- withr::local_tempdir()
  makevars <- file.path(folder, "Makevars")
  writeLines(c("CXX20 = g++", "CXX20STD = -std=c++03"), makevars)
  withr::local_envvar(R_MAKEVARS_USER = makevars)
  said <- suppressWarnings(system2(file.path(root, "tools", "check-compiler.sh"), stdout = TRUE, stderr = TRUE))
  expect_identical(attr(said, "status"), 1L)
  expect_match(paste(said, collapse = " "), "does not know C\\+\\+20.*apt-get install g\\+\\+")
})

test_that("packages that broke off are not taken for installed, and their locks are cleared unless they are alive", {
  env <- set_up()
  library <- withr::local_tempdir()
  dir.create(file.path(library, "walls"))
  writeLines(c("Package: walls", "Version: 2.0"), file.path(library, "walls", "DESCRIPTION"))
  withr::with_libpaths(library, action = "prefix", expect_true(is.na(env$installed_versions()["walls"])))
  dir.create(file.path(library, "00LOCK-walls"))
  env$drop_stale_locks(library, character())
  expect_length(list.files(library, "^00LOCK"), 0)
  dir.create(file.path(library, "00LOCK-walls"))
  system2("bash", c("-c", shQuote("exec -a 'R CMD INSTALL walls_2.0.tar.gz' sleep 60")), wait = FALSE)
  withr::defer(system2("pkill", c("-f", shQuote("R CMD INSTALL walls_2.0"))))
  Sys.sleep(0.5)
  expect_error(env$drop_stale_locks(library), "another R is installing")
  expect_error(env$drop_stale_locks(library, "R CMD INSTALL --no-test-load ."), "another R is installing")  # whose package its command does not say
  env$drop_stale_locks(library, "R CMD INSTALL roof_1.0.tar.gz")
  expect_length(list.files(library, "^00LOCK"), 0)
})

test_that("what a package declares of the system is known by its words", {
  env <- set_up()
  env$description_of <- function(name, source) c(SystemRequirements = source)
  expect_identical(env$declared_libraries("a", "libcurl: libcurl-devel (rpm)"), "libcurl4-openssl-dev")
  expect_identical(env$declared_libraries("a", "freetype2, fribidi, harfbuzz (>= 2)"), c("libfreetype6-dev", "libfribidi-dev", "libharfbuzz-dev"))
  expect_silent(expect_identical(env$declared_libraries("a", "C++17, GNU make"), character()))
  expect_message(env$declared_libraries("a", "a weaving loom"), "does not know: a weaving loom")
})

test_that("set-up is as it was when a machine with nothing last came through it", {
  lock <- file.path(root, "tools", "fresh.lock")
  sum <- system2(file.path(root, "tools", "fresh-sum.sh"), stdout = TRUE)
  expect_identical(sum, if (file.exists(lock)) readLines(lock),
                   info = "DESCRIPTION, Makefile or tools/ changed since `make fresh` last passed: run it as root, and commit tools/fresh.lock")
})
