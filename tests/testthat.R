library(testthat)
library(civicatlas)
test_check("civicatlas")
