test_that("naive Bayes for counts is that of the package, dense or sparse", {
  needs("naivebayes")
  d <- agree("many_class")
  d$x <- round(abs(d$x))
  fit <- suppressWarnings(naivebayes::multinomial_naive_bayes(
    d$x[d$train, ], d$y[d$train],
    laplace = 0.5
  ))
  theirs <- unname(suppressWarnings(predict(fit, d$x[d$test, ], type = "prob")))
  expect_equal(bare(ours(fam_count_bayes(0.5), d)), theirs, tolerance = 1e-8)
  d$x <- Matrix::Matrix(d$x, sparse = TRUE)
  expect_equal(bare(ours(fam_count_bayes(0.5), d)), theirs, tolerance = 1e-8)
})
