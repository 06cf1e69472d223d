# Metrics that are thought of after the run.

test_that("further metrics give what they would have given from the start", {
  table <- toy(120)
  plan <- function(metrics, ...) {
    plan_comparison(brief(table[c("x1", "x2", "two")], "two", event = "yes"),
      candidates(
        b = fam_baseline(), t = fam_tree(pruning = among(0.001, 0.1), min_leaf = among(3, 9))
      ),
      splits = split_kfold(4), metrics = metrics, seed = 2, ...
    )
  }
  both <- c("log_loss", "auc", "precision")
  for (keep in list("none", "all_predictions", c("training_scores", "all_predictions"))) {
    whole <- quiet_run(plan(both), workers = 1, keep = keep)
    some <- quiet_run(plan("log_loss"), workers = 1, keep = keep)
    more <- extend_comparison(some, metrics = c("auc", "precision", "log_loss"), quiet = TRUE,
      workers = 1)
    expect_equal(more$results$scores, whole$results$scores)
    expect_equal(more$results$training, whole$results$training)
    # what no prediction can be scored by is said in the same words
    expect_identical(failures(more), failures(whole))
    expect_identical(more$plan$decide, "log_loss")
    fits <- length(some$ledger$fit)
    expect_identical(length(more$ledger$fit), fits)
  }
  # with more repeats at once, after a screen, and after settling
  wide <- extend_comparison(some, repeats = 1, metrics = "auc", quiet = TRUE, workers = 1)
  expect_identical(dim(wide$results$scores$auc), c(5L, 8L))
  expect_false(anyNA(wide$results$scores$auc))
  clear <- withr::with_seed(1, transform(data.frame(x = rnorm(120)), y = 2 * x + rnorm(120) / 2))
  screened <- quiet_run(plan_comparison(brief(clear, "y"),
    candidates(l = fam_linear(), t = fam_tree(min_leaf = among(5, 50))),
    splits = split_kfold(8), metrics = "rmse", seed = 2, screen = screen_splits(at_least = 1)
  ), workers = 1)
  expect_gt(nrow(screened$results$dropped), 0)
  later <- extend_comparison(screened, metrics = "mae", quiet = TRUE, workers = 1)
  kept <- !is.na(standings(later, level = "all")$place)
  expect_identical(!is.na(standings(later, "mae", level = "all")$mean)[kept], rep(TRUE, sum(kept)))
  expect_identical(standings(later)$mean, standings(screened)$mean)
  settled <- settle(quiet_run(plan("log_loss", search = search_grid()), workers = 1) |>
    extend_comparison(repeats = 1, quiet = TRUE, workers = 1), 1, quiet = TRUE, workers = 1)
  scored <- extend_comparison(settled, metrics = "auc", quiet = TRUE, workers = 1)
  expect_identical(is.na(scored$results$scores$auc), is.na(settled$results$scores$log_loss))
})

test_that("further metrics that do not fit are refused as they are by a plan", {
  cmp <- quiet_run(toy_brief(), candidates(b = fam_baseline()), splits = split_kfold(3), seed = 1)
  expect_error(extend_comparison(cmp, metrics = "rmse"), "rmse", class = "kw_error")
  expect_error(extend_comparison(cmp, metrics = "acu"), "auc", class = "kw_error")
})
