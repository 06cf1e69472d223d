test_that("powers of skew transformations maximise the published likelihoods", {
  x <- withr::with_seed(5, rlnorm(400, 1, 0.8))
  likelihood <- function(p, f, jacobian) {
    z <- f(p)
    -200 * log(mean((z - mean(z))^2)) + (p - 1) * jacobian
  }
  box <- function(p) if (abs(p) < 1e-8) log(x) else (x^p - 1) / p
  best <- optimize(function(p) likelihood(p, box, sum(log(x))), c(-5, 5), maximum = TRUE)$maximum
  expect_equal(
    prepared(list(pre_skew(by = "box_cox")), data.frame(x = x, z = 1))$columns$x,
    box(best),
    tolerance = 1e-3
  )
  yeo <- function(p) ((x + 1)^p - 1) / p
  best <- optimize(function(p) likelihood(p, yeo, sum(log1p(x))), c(-5, 5), maximum = TRUE)$maximum
  expect_equal(
    prepared(list(pre_skew()), data.frame(x = x, z = 1))$columns$x, yeo(best),
    tolerance = 1e-3
  )
  expect_equal(kw("yeo_johnson")(c(-3, -0.5, 0, 2), 1), c(-3, -0.5, 0, 2))
  normal <- prepared(
    list(pre_skew(by = "normal")),
    data.frame(x = x, z = 1),
    new = data.frame(x = c(x, 1e9, -1e9), z = 1)
  )$columns$x
  expect_gt(cor(normal[1:400], qnorm(ppoints(400))[rank(x)]), 0.999)
  expect_true(all(is.finite(normal)))
  expect_true(all(is.finite(prepared(
    list(pre_skew(by = "log")), data.frame(x = x - 5, z = 1),
    new = data.frame(x = -1e6, z = 1)
  )$columns$x)))
})
