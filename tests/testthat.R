library(testthat)
library(kilnwright)

test_check("kilnwright")
