test_that("boosted trees are those of the package at every number of trees", {
  needs("gbm")
  for (kind in c("number", "two_class")) {
    d <- agree(kind)
    family <- fam_boosted(rate = 0.2, depth = 2)
    p <- ours(family, d, factors = TRUE, values = c(5, 40), seed = 9)
    y <- if (kind == "number") d$y else as.integer(d$y) - 1
    seed <- kw("derive_seed")(9, "class 1")
    fit <- kw("with_seed")(
      seed,
      gbm::gbm.fit(
        d$columns[d$train, ],
        y[d$train],
        n.trees = 40,
        shrinkage = 0.2,
        interaction.depth = 2,
        distribution = if (kind == "number") "gaussian" else "bernoulli",
        verbose = FALSE
      )
    )
    theirs <- predict(fit, d$columns[d$test, ], n.trees = c(5, 40), type = "response")
    expect_equal(bare(if (kind == "number") p else p[, 2, ]), unname(theirs), tolerance = 1e-10)
  }
})

test_that("lightgbm gives the same path as separate runs, where it is installed", {
  needs("lightgbm")
  d <- agree("number")
  family <- fam_boosted(package = "lightgbm", column_share = 0.5, row_share = 0.8)
  both <- ours(family, d, factors = TRUE, values = c(5, 40))
  expect_equal(
    bare(both)[, 1], bare(ours(family, d, factors = TRUE, values = 5))[, 1],
    tolerance = 1e-10
  )
})

test_that("shares of one-against-rest sum to 1 even where every class is thought impossible", {
  p <- kw("from_against_rest")(list(cbind(c(0.2, 0)), cbind(c(0.6, 0)), cbind(c(0, 0))))
  expect_equal(matrix(p, 2), rbind(c(0.25, 0.75, 0), rep(1 / 3, 3)))
})
