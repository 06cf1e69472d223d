test_that("formulas are worked out row by row; what is no number becomes missing", {
  scale <- 2
  step <- pre_derive(ratio = a / b * scale, big = a > 1)
  scale <- 100
  out <- prepared(list(step), data.frame(a = c(1, 2, 3), b = c(1, 0, 4)))$columns
  expect_identical(out$ratio, c(2, NA, 1.5))
  expect_identical(out$big, c(0, 1, 1))
  expect_error(
    pre_derive(x = mean(a)),
    "mean\\(\\), which is not worked out row by row",
    class = "kw_error_argument"
  )
  expect_error(
    prepared(list(pre_derive(x = absent + 1)), data.frame(a = 1:3)),
    "absent",
    class = "kw_error_columns"
  )
})
