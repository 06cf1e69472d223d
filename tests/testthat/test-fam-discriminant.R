test_that("linear and quadratic discriminants are those of the package", {
  needs("MASS")
  for (kind in c("two_class", "many_class")) {
    d <- agree(kind)
    linear <- predict(MASS::lda(d$x[d$train, ], d$y[d$train]), d$x[d$test, ])$posterior
    expect_equal(bare(ours(fam_discriminant(), d)), unname(linear), tolerance = 1e-8)
    quadratic <- predict(MASS::qda(d$x[d$train, ], d$y[d$train]), d$x[d$test, ])$posterior
    expect_equal(bare(ours(fam_discriminant("quadratic"), d)), unname(quadratic), tolerance = 1e-8)
  }
})

test_that(
  "the regularised discriminant follows Friedman's formulas, more columns than rows included",
  {
    d <- agree("many_class")
    for (wide in c(FALSE, TRUE)) {
      if (wide) d$x <- withr::with_seed(1, cbind(d$x, matrix(rnorm(200 * 180), 200)))
      for (pooling in c(0, 0.3, 1)) {
        x <- d$x[d$train, ]
        y <- d$y[d$train]
        lambda <- pooling
        gamma <- 0.2
        eta <- sapply(levels(y), function(k) {
          s <- lapply(levels(y), function(j) cov(x[y == j, ]) * (sum(y == j) - 1))
          names(s) <- levels(y)
          sigma <- ((1 - lambda) * s[[k]] + lambda * Reduce(`+`, s)) / ((1 - lambda) * sum(y == k) +
            lambda * length(y))
          sigma <- (1 - gamma) * sigma + gamma * sum(diag(sigma)) / ncol(x) * diag(ncol(x))
          m <- colMeans(x[y == k, ])
          -0.5 * mahalanobis(d$x[d$test, ], m,
            sigma) - 0.5 * as.numeric(determinant(sigma)$modulus) +
            log(mean(y == k))
        })
        plain <- exp(eta - apply(eta, 1, max))
        p <- ours(fam_discriminant("regularised", pooling, gamma), d)
        expect_equal(bare(p), unname(plain / rowSums(plain)), tolerance = 1e-6)
      }
    }
  }
)
