test_that("drops drop what they say", {
  table <- withr::with_seed(1, data.frame(a = rnorm(50), k = 7, z = rnorm(50)))
  table$twin <- table$a + rnorm(50, 0, 0.01)
  table$rare <- c(1, rep(0, 49))
  expect_identical(
    names(prepared(list(pre_drop(columns = c(a, z))), table)$columns), c("k", "twin", "rare")
  )
  expect_identical(
    names(prepared(list(pre_drop_constant()), table)$columns), c("a", "z", "twin", "rare")
  )
  expect_false("rare" %in% names(prepared(list(pre_drop_constant(share = 0.95)), table)$columns))
  expect_identical(
    names(prepared(list(pre_drop_correlated()), table)$columns), c("a", "k", "z", "rare")
  )
})
