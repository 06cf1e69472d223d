test_that("naive Bayes is that of the package, factors and kernels included", {
  needs("naivebayes")
  d <- agree("many_class")
  for (kernel in c(FALSE, TRUE)) {
    fit <- naivebayes::naive_bayes(
      d$columns[d$train, ], d$y[d$train],
      laplace = 1, usekernel = kernel
    )
    theirs <- predict(fit, d$columns[d$test, ], type = "prob")
    expect_equal(
      bare(ours(fam_naive_bayes(if (kernel) "kernel" else "normal"), d, factors = TRUE)),
      unname(theirs),
      tolerance = 1e-6
    )
  }
  d$columns$x1[c(3, 160)] <- NA
  d$columns$colour[161] <- NA
  fit <- naivebayes::naive_bayes(d$columns[d$train, ], d$y[d$train], laplace = 1)
  expect_equal(
    bare(ours(fam_naive_bayes(), d, factors = TRUE)),
    unname(predict(fit, d$columns[d$test, ], type = "prob")),
    tolerance = 1e-6
  )
})
