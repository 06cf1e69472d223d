# Families against direct calls of their packages, or against plain loops.

agree <- function(kind, n = 200) {
  table <- toy(n, seed = 4)
  y <- table[[outcomes[[kind]]]]
  y <- if (kind == "number") {
    y
  } else {
    factor(y, levels = if (kind == "two_class") c("no", "yes") else c("low", "mid", "high"))
  }
  columns <- table[c("x1", "x2", "x3")]
  columns$colour <- factor(table$colour)
  train <- 1:150
  list(x = as.matrix(columns[1:3]), columns = columns, y = y, train = train, test = 151:n)
}

# Our predictions for the test rows.
ours <- function(
  family, d, factors = FALSE, values = NULL, seed = 9,
  about = list(rows = 150, columns = 3, classes = nlevels(d$y))
) {
  family <- kw("resolve_part")(family, about)
  definition <- family$definition
  settings <- family$settings
  if (!is.null(values)) settings[[definition$path$along]] <- values
  x <- if (factors) d$columns else d$x
  fitted <- kw("fit_family")(
    definition, x[d$train, ], kw("new_target")(d$y[d$train]), settings, seed
  )
  p <- kw("predict_family")(fitted, x[d$test, ], values)
  attr(p, "model") <- fitted$model
  p
}
bare <- function(p) unname(structure(p, model = NULL))
needs <- function(...) for (package in c(...)) skip_if_not_installed(package)

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

test_that(
  "nearest neighbours equal a plain loop, for every distance, weighting, tie and case weight",
  {
    d <- agree("many_class")
    d$x <- round(2 * d$x)
    d$x[160, ] <- d$x[10, ]
    w <- withr::with_seed(3, sample(0:3, 150, TRUE))
    far <- list(
      euclidean = function(a, b) sqrt(sum((a - b)^2)),
      manhattan = function(a, b) sum(abs(a - b)), chebyshev = function(a, b) max(abs(a - b))
    )
    definition <- kw("member_fam_neighbours")()
    values <- expand.grid(
      neighbours = c(1, 4, 30),
      weighting = c("equal", "inverse", "fading"),
      distance = names(far),
      stringsAsFactors = FALSE
    )
    values <- kw("plain_frame")(as.list(values), nrow(values))
    target <- kw("new_target")(d$y[d$train], weights = w)
    fitted <- kw("fit_family")(definition, d$x[d$train, ], target, as.list(values), 1)
    found <- kw("predict_family")(fitted, d$x[d$test, ], values)
    for (v in seq_len(nrow(values))) {
      k <- values$neighbours[v]
      plain <- t(sapply(d$test, function(i) {
        use <- d$train[w > 0]
        distance <- sapply(use, function(j) far[[values$distance[v]]](d$x[i, ], d$x[j, ]))
        near <- order(distance, seq_along(use))
        next_one <- distance[near[k + 1]]
        near <- near[1:k]
        last <- distance[near[k]]
        if (next_one <= last) next_one <- last * (1 + 1e-6)
        weight <- switch(values$weighting[v],
          equal = rep(1, k),
          inverse = if (any(distance[near] == 0)) {
            as.numeric(distance[near] == 0)
          } else {
            1 / distance[near]
          },
          fading = if (next_one > 0) 1 - (distance[near] / next_one)^2 else rep(1, k)
        )
        weight <- weight * w[match(use[near], d$train)]
        sapply(levels(d$y), function(level) sum(weight * (d$y[use[near]] == level)) / sum(weight))
      }))
      expect_equal(unname(found[, , v]), unname(plain), tolerance = 1e-8)
    }
  }
)

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

test_that("rules are those of the packages, and can be read", {
  needs("C50", "Cubist")
  d <- agree("many_class")
  fit <- C50::C5.0(d$columns[d$train, ], d$y[d$train], rules = TRUE)
  p <- ours(fam_rules(), d, factors = TRUE)
  expect_equal(bare(p), unname(predict(fit, d$columns[d$test, ], type = "prob")), tolerance = 1e-8)
  d <- agree("number")
  fit <- Cubist::cubist(d$columns[d$train, ], d$y[d$train], committees = 3)
  expect_equal(
    bare(ours(fam_rules(rounds = 3), d, factors = TRUE)),
    predict(fit, d$columns[d$test, ]),
    tolerance = 1e-6
  )
  cmp <- quiet_run(
    toy_brief("many_class"),
    candidates(rules = fam_rules(), tree = fam_tree()),
    splits = split_kfold(3),
    seed = 1
  )
  expect_output(lines <- show_rules(fit_final(select_final(cmp, candidate = "rules"))), "Rule 1")
  expect_match(paste(lines, collapse = " "), "class (low|mid|high)")
  expect_error(
    show_rules(fit_final(select_final(cmp, candidate = "tree"))),
    "fam_tree",
    class = "kw_error_argument"
  )
})

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
