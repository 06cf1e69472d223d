test_that("splines are those of the package, with at most so many terms", {
  needs("earth")
  for (kind in c("number", "two_class", "many_class")) for (degree in 1:2) {
    d <- agree(kind)
    values <- c(2, 5, 9)
    p <- suppressWarnings(ours(fam_adaptive_splines(degree = degree), d, values = values))
    for (i in seq_along(values)) {
      y <- switch(kind,
        number = d$y,
        two_class = as.numeric(d$y == "yes"),
        many_class = diag(3)[d$y, ]
      )
      arguments <- list(d$x[d$train, ], as.matrix(y)[d$train, ],
        degree = degree,
        nprune = values[i]
      )
      if (kind != "number") arguments$glm <- list(family = stats::binomial())
      theirs <- predict(
        suppressWarnings(do.call(earth::earth, arguments)), d$x[d$test, ],
        type = "response"
      )
      if (kind == "many_class") theirs <- theirs / rowSums(theirs)
      mine <- switch(kind,
        number = p[, i],
        two_class = p[, 2, i],
        many_class = p[, , i]
      )
      expect_equal(as.vector(bare(mine)), as.vector(theirs), tolerance = 1e-5)
    }
  }
})
