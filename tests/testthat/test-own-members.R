# Families and metrics of a user's own that do not keep to what they promise.

own_run <- function(predict, metrics = "log_loss", ...) {
  family <- define_family("odd", "two_class",
    fit = function(x, y, weights, settings, seed, threads) {
      list(mean(as.integer(y) == 2), levels(y))
    },
    predict = predict
  )
  quiet_run(
    toy_brief(table = toy(60)), candidates(
      b = fam_baseline(), odd = pipeline(pre_drop(columns = "colour"), family())
    ),
    splits = split_kfold(2), metrics = metrics, seed = 1, ...
  )
}

test_that("probabilities that are none are refused with the family's name", {
  refused <- function(predict, message) {
    said <- failures(own_run(predict))
    expect_identical(unique(said$candidate), "odd")
    expect_match(said$message, message, all = TRUE)
    expect_match(said$message, "fam_odd", all = TRUE)
  }
  refused(function(model, x) matrix(c(-0.1, 1.1), nrow(x), 2, byrow = TRUE), "-0.1 as a prob")
  refused(function(model, x) matrix(c(0, 1.1), nrow(x), 2, byrow = TRUE), "1.1 as a prob")
  refused(function(model, x) matrix(c(-Inf, Inf), nrow(x), 2, byrow = TRUE), "as a probability")
  refused(function(model, x) matrix(0.4, nrow(x), 2), "sum to 0.8")
  refused(function(model, x) {
    matrix(0.5, nrow(x), 2, dimnames = list(NULL, rev(model[[2]])))
  }, "in the order 'yes', 'no'")
  refused(function(model, x) matrix("a", nrow(x), 2), "where numbers were expected")
  refused(function(model, x) rep(0.5, nrow(x)), "a vector of 30 values where 30 x 2")
  fine <- own_run(function(model, x) {
    matrix(c(1 / 3, 2 / 3), nrow(x), 2, byrow = TRUE, dimnames = list(NULL, model[[2]]))
  })
  expect_identical(nrow(failures(fine)), 0L)
})

test_that("a metric that gives NA, or fails without deciding, costs no more than itself", {
  half <- function(model, x) matrix(0.5, nrow(x), 2)
  none <- define_metric("none", "two_class", "lower", function(truth, prediction, weights) NA)
  broken <- define_metric("broken", "two_class", "lower", function(truth, prediction, weights) {
    stop("no idea")
  })
  cmp <- own_run(half, metrics = list("log_loss", none(), broken()))
  expect_false(anyNA(standings(cmp)$place))
  expect_true(all(is.na(standings(cmp, metric = "none")$mean)))
  expect_true(all(is.na(standings(cmp, metric = "broken")$mean)))
  expect_output(print(cmp), "the metric 'broken' failed: no idea")
  expect_error(own_run(half, metrics = list(broken(), "log_loss")), "no idea")
  # two scores where one was asked for
  twice <- define_metric(
    "twice", "two_class", "lower", function(truth, prediction, weights) c(1, 2), vectorised = TRUE
  )
  expect_error(own_run(half, metrics = list(twice(), "log_loss")), class = "kw_error_run")
  pooled <- suppressWarnings(quiet_run(
    toy_brief(table = toy(30)), candidates(b = fam_baseline(), t = fam_tree()),
    splits = split_leave_row(), metrics = list("log_loss", broken()), seed = 1
  ))
  expect_false(anyNA(standings(pooled)$place))
})
