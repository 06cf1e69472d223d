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

test_that("what packages say of columns and levels is said with their true names", {
  needs("gbm")
  table <- withr::with_seed(2, data.frame(rnorm(60), c(rep(0, 59), 1), rnorm(60)))
  names(table) <- c("x2", "wall, \"mm\"", "y")
  cmp <- quiet_run(brief(table, "y"), candidates(b = fam_boosted(trees = 5, min_leaf = 3)),
    splits = split_kfold(5), seed = 1, workers = 1)
  said <- warnings_by_split(cmp)
  # in the one split whose training rows have the odd value not
  expect_identical(unique(said$message), "variable 2: wall, \"mm\" has no variation.")
  expect_identical(nrow(said), 1L)
  x <- data.frame(glaze = factor(c("a b", "c")), "x 1" = 1:2, check.names = FALSE)
  coded <- list(coding = kw("learn_coding")(x), present = c("no", "\u00e9"))
  speak <- function(expr) kw("in_true_names")(coded, expr)
  expect_error(speak(stop("x1 has no l2 in class k2, nor l9; x7 is x2")),
    "glaze has no c in class \u00e9, nor l9; x7 is x 1", fixed = TRUE)
  expect_warning(found <- speak({
    warning("x2 is flat")
    3
  }), "^x 1 is flat$")
  expect_identical(found, 3)
  expect_error(speak(kw("stop_kw")("fit", "x1 it is.")), "x1 it is", class = "kw_error_fit")
})
