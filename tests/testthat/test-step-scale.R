test_that("scaling uses the training rows' centre and spread", {
  table <- data.frame(a = c(1, 2, 3, 4, 100), b = 5)
  out <- function(by) prepared(list(pre_scale(by = by)), table, rows = 1:4)$columns
  expect_equal(out("sd")$a, (table$a - 2.5) / sd(1:4))
  expect_equal(out("range")$a, (table$a - 1) / 3)
  expect_equal(out("iqr")$a, (table$a - 2.5) / IQR(1:4))
  expect_identical(out("sd")$b, rep(0, 5))
})
