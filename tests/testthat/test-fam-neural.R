test_that("the neural net is that of the package on scaled columns", {
  needs("ANN2")
  d <- agree("many_class")
  p <- ours(fam_neural(package = "ANN2", units = 4, layers = 2, epochs = 20, decay = 1e-4), d)
  x <- scale(d$x[d$train, ])
  net <- kw("with_seed")(
    9,
    ANN2::neuralnetwork(x, paste0("k", as.integer(d$y[d$train])),
      hidden.layers = c(4, 4), standardize = FALSE,
      learn.rates = 0.01, L2 = 1e-4,
      sgd.momentum = 0.9, n.epochs = 20, batch.size = 32,
      drop.last = FALSE, val.prop = 0, verbose = FALSE, random.seed = 9
    )
  )
  theirs <- predict(net, scale(d$x[d$test, ], attr(x, "scaled:center"),
    attr(x, "scaled:scale")))$probabilities
  expect_equal(
    bare(p),
    unname(theirs[, match(paste0("k", 1:3), sub("class_", "", colnames(theirs)))]),
    tolerance = 1e-8
  )
  expect_error(ours(fam_neural(package = "ANN2", rate = 1e6), agree("number")), "rate")
})

test_that("the default net is that of nnet on scaled columns", {
  d <- agree("many_class")
  p <- ours(fam_neural(units = 4, decay = 0.01, epochs = 50), d)
  x <- scale(d$x[d$train, ])
  y <- diag(nlevels(d$y))[as.integer(d$y[d$train]), ]
  n_weights <- (ncol(x) + 1) * 4 + 5 * ncol(y)
  start <- kw("with_seed")(9, runif(n_weights, -0.7, 0.7))
  net <- nnet::nnet(
    x,
    y,
    size = 4,
    Wts = start,
    decay = 0.01 * nrow(x) / 2,
    maxit = 50,
    softmax = TRUE,
    trace = FALSE
  )
  theirs <- predict(net, scale(d$x[d$test, ], attr(x, "scaled:center"), attr(x, "scaled:scale")))
  expect_equal(bare(p), unname(theirs), tolerance = 1e-8)
})
