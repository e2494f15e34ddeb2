test_that("every option that the package heeds stands on the page of options", {
  namespace <- asNamespace("civicatlas")
  code <- unlist(lapply(ls(namespace, all.names = TRUE), function(name) {
    value <- get(name, namespace)
    if (is.function(value)) deparse(value)
  }))
  heeded <- unique(unlist(regmatches(code, gregexpr("(?<=getOption\\(\")civicatlas[.][a-z_]+", code, perl = TRUE))))
  page <- tools::Rd_db("civicatlas")[["civicatlas_options.Rd"]]
  documented <- unique(unlist(regmatches(as.character(page), gregexpr("civicatlas[.][a-z_]+", as.character(page)))))
  expect_gte(length(heeded), 6)
  expect_setequal(documented, heeded)
})

test_that("the package says how to cite it and whose facts it holds", {
  expect_match(format(citation("civicatlas"), "text"), "Civic Atlas.*version", all = FALSE)
  expect_match(readLines(system.file("COPYRIGHTS", package = "civicatlas")), "EPSG Geodetic Parameter Dataset", all = FALSE)
})
