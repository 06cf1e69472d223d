test_that("bins cut where they say", {
  x <- c(1:99, NA)
  binned <- function(...) prepared(list(pre_bins(...)), data.frame(x = x, z = 1))$columns$x
  expect_equal(
    as.vector(table(binned(bins = 4))),
    as.vector(table(findInterval(1:99, quantile(1:99, 1:3 / 4))))
  )
  expect_equal(as.vector(table(binned(by = "width", bins = 2))), c(49, 50))
  expect_true(is.na(binned()[100]))
  step <- learned(
    pre_bins(by = "tree", bins = 3), data.frame(x = 1:90 + 0), rep(c(0, 5, 1), each = 30)
  )
  expect_equal(step$state$state$x, c(30.5, 60.5))
})
