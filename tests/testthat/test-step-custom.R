test_that("a custom step learns from training rows and must keep the rows", {
  half <- pre_custom(
    learn = function(columns, outcome) max(columns$a),
    use = function(columns, state) {
      columns$a <- columns$a / state
      columns
    },
    columns = a
  )
  expect_equal(
    prepared(list(half), data.frame(a = c(1, 2, 4, 8), b = 1), rows = 1:3)$columns$a,
    c(0.25, 0.5, 1, 2)
  )
  short <- pre_custom(use = function(columns, state) columns[1, , drop = FALSE])
  expect_error(
    prepared(list(short), data.frame(a = 1:3, b = 1)),
    "data frame of 3 rows",
    class = "kw_error_step"
  )
})
