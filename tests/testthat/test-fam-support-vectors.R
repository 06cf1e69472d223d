test_that(
  "support vectors give the packages' decision values, and Platt's curve is at its optimum",
  {
    needs("kernlab", "LiblineaR")
    d <- agree("two_class")
    inside <- factor(d$y[d$train] == "yes", levels = c(TRUE, FALSE))
    kernels <- list(radial = kernlab::rbfdot(0.3), polynomial = kernlab::polydot(2, 0.3, 1))
    for (kernel in names(kernels)) {
      machine <- attr(
        ours(fam_support_vectors(kernel, cost = 2, width = sqrt(1 / 0.6)), d), "model"
      )$against_rest[[1]]
      fit <- kernlab::ksvm(
        d$x[d$train, ], inside,
        type = "C-svc", kernel = kernels[[kernel]], C = 2, scaled = FALSE
      )
      theirs <- as.vector(kernlab::predict(fit, d$x[d$test, ], type = "decision"))
      expect_equal(kw("machine_values")(machine$machine, d$x[d$test, ]), theirs, tolerance = 1e-6)
    }
    machine <- attr(ours(fam_support_vectors("linear", cost = 2), d),
      "model")$against_rest[[1]]$machine
    fit <- kw("with_seed")(
      9, LiblineaR::LiblineaR(d$x[d$train, ], d$y[d$train], type = 3, cost = 2)
    )
    theirs <- predict(fit, d$x[d$test, ], decisionValues = TRUE)$decisionValues[, "yes"]
    expect_gt(cor(kw("machine_values")(machine, d$x[d$test, ]), theirs), 0.99)
    withr::with_seed(2, {
      values <- rnorm(80)
      inside <- values + rnorm(80) > 0
    })
    target <- ifelse(inside, (sum(inside) + 1) / (sum(inside) + 2), 1 / (sum(!inside) + 2))
    loss <- function(ab) {
      -sum(target * plogis(-(ab[1] * values + ab[2]), log.p = TRUE) +
        (1 - target) * plogis(ab[1] * values + ab[2], log.p = TRUE))
    }
    expect_equal(
      kw("platt_curve")(values, inside),
      optim(c(-1, 0), loss, method = "BFGS")$par,
      tolerance = 1e-3
    )
    number <- agree("number")
    y <- number$y[number$train]
    fit <- kernlab::ksvm(
      number$x[number$train, ],
      (y - mean(y)) / sd(y),
      type = "eps-svr",
      kernel = kernels$radial,
      C = 1,
      epsilon = 0.1,
      scaled = FALSE
    )
    expect_equal(
      as.vector(bare(ours(fam_support_vectors(width = sqrt(1 / 0.6)), number))),
      mean(y) + sd(y) * as.vector(kernlab::predict(fit, number$x[number$test, ])),
      tolerance = 1e-6
    )
  }
)

test_that("held-out probabilities of support vectors do not see a group on both sides", {
  unit <- rep(1:40, each = 4)
  y <- factor(rep(c("a", "b"), 80))
  parts <- kw("with_seed")(1, kw("held_out_parts")(y, unit))
  expect_true(all(tapply(parts, unit, function(p) length(unique(p))) == 1))
})
