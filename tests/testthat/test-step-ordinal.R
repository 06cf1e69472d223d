test_that("ordered categories become their rank", {
  table <- data.frame(
    size = factor(c("s", "l", "m", NA), c("s", "m", "l"), ordered = TRUE),
    kiln = c("b", "a", "b", "a")
  )
  expect_identical(prepared(list(pre_ordinal()), table)$columns$size, c(1, 3, 2, NA))
  out <- prepared(list(pre_ordinal(order = list(kiln = c("b", "a")), columns = "kiln")),
    table)$columns
  expect_identical(out$kiln, c(1, 2, 1, 2))
  expect_error(
    prepared(list(pre_ordinal(order = list(kiln = "b"), columns = "kiln")), table),
    class = "kw_error_columns"
  )
  expect_error(
    prepared(list(pre_ordinal(order = list(kiln = c("b", "a")))), table),
    "'kiln', but that is not among the columns", class = "kw_error_columns"
  )
})
