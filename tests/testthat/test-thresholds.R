# Constraints and decision thresholds.

test_that("constraints take places away, are checked by the rule, and are read, not evaluated", {
  job <- toy_brief(table = toy(300))
  rivals <- candidates(t = fam_tree(pruning = among(0.001, 0.05, 0.5)), l = fam_linear())
  free <- standings(
    quiet_run(job, rivals, splits = split_kfold(4), metrics = c("auc", "recall"), seed = 1),
    metric = "recall"
  )
  bound <- mean(range(free$mean))
  cmp <- quiet_run(
    job,
    rivals,
    splits = split_kfold(4),
    metrics = "auc",
    provided = paste("recall >=", bound),
    seed = 1
  )
  table <- standings(cmp)
  recall <- standings(cmp, metric = "recall")
  expect_identical(is.na(table$place), !table$provided)
  expect_setequal(
    recall$setting[recall$candidate == "t" & recall$mean >= bound],
    table$setting[table$candidate == "t" & table$provided]
  )
  chosen <- select_final(cmp, rule = "best_mean")
  expect_identical(kw("candidate_names")(cmp)[chosen$at], table$candidate[1])
  expect_output(print(cmp), "meet recall >=")
  none <- quiet_run(job, rivals, splits = split_kfold(4), provided = "recall >= 0.9999", seed = 1)
  expect_error(select_final(none), "best mean", class = "kw_error_select")
  for (bad in c("recall", "recall >= system('x')", "0.8 <= recall", "recall >= 0.8; q()")) {
    expect_error(
      plan_comparison(job, rivals, provided = bad), "cannot read",
      class = "kw_error_argument"
    )
  }
  expect_error(
    plan_comparison(job, rivals, provided = "recal > 1"), "recall",
    class = "kw_error_argument"
  )
})

plain_best <- function(p, y, cost) {
  cuts <- sort(unique(p))
  cuts <- c(cuts[1] / 2, (cuts[-1] + cuts[-length(cuts)]) / 2, (max(cuts) + 1) / 2)
  loss <- sapply(cuts, function(t) cost(p >= t, y))
  best <- which(loss <= min(loss) + 1e-12)
  cuts[best[(length(best) + 1) %/% 2]]
}

test_that("a threshold is chosen on the other splits of the repeat, and scored on its own", {
  table <- toy(200)
  job <- toy_brief(table = table) |> set_aside(share = 0.2, seed = 1)
  cmp <- quiet_run(
    job,
    candidates(l = pipeline(pre_onehot(drop_one = TRUE), fam_linear())),
    splits = split_kfold(4, repeats = 2),
    metrics = c("auc", "accuracy"),
    seed = 1
  )
  choice <- set_threshold(select_final(cmp), costs = c(missed = 5, false_alarm = 1))
  rows <- rows_by_split(cmp)
  y <- table$two == "yes"
  p <- lapply(rows, function(r) {
    predict(
      suppressWarnings(glm(y ~ x1 + x2 + x3 + colour, binomial, cbind(table, y = y)[r$training, ])),
      table[r$validation, ],
      type = "response"
    )
  })
  cost <- function(called, truth) mean(5 * (truth & !called) + (called & !truth))
  rep <- rep(1:2, each = 4)
  own <- sapply(1:8, function(j) {
    others <- setdiff(which(rep == rep[j]), j)
    t <- plain_best(unlist(p[others]), y[unlist(lapply(rows[others], `[[`, "validation"))], cost)
    cost(p[[j]] >= t, y[rows[[j]]$validation])
  })
  expect_equal(choice$threshold$scores["cost", "mean"], mean(own), tolerance = 1e-8)
  expect_equal(choice$threshold$scores["cost", "se"], sd(own) / sqrt(4), tolerance = 1e-8)
  all_rows <- unlist(lapply(rows, `[[`, "validation"))
  expect_equal(choice$threshold$value, plain_best(unlist(p), y[all_rows], cost), tolerance = 1e-8)
  expect_output(print(choice), "is called from a probability")

  model <- fit_final(choice)
  new <- predict(model, toy(50, seed = 9))
  expect_identical(new$class == "yes", new$p_yes >= choice$threshold$value)
  expect_equal(
    model$scores$validation[model$scores$metric == "accuracy"],
    unname(choice$threshold$scores["accuracy", "mean"])
  )
  file <- withr::local_tempfile(fileext = ".kilnwright")
  save_model(model, file)
  opened <- open_model(file, trust = TRUE)
  expect_identical(predict(opened, toy(50, seed = 9)), new)
  aside <- score_set_aside(model)
  sealed <- setdiff(seq_len(200), job$rows)
  called <- predict(model, table[sealed, ])$class == "yes"
  expect_equal(aside$set_aside[aside$metric == "accuracy"], mean(called == y[sealed]))
})

test_that("kept predictions and predictions had again are the same", {
  run <- function(keep) {
    quiet_run(
      toy_brief(),
      candidates(f = fam_forest(trees = among(5, 20))),
      splits = split_kfold(3),
      seed = 3,
      keep = keep
    )
  }
  kept <- run("all_predictions")
  again <- run("none")
  for (at in 1:2) {
    expect_equal(
      kw("setting_predictions")(kept, at),
      kw("setting_predictions")(again, at),
      tolerance = 1e-12
    )
  }
  expect_null(kw("kept_predictions")(again, 1))
  expect_false(is.null(kw("kept_predictions")(kept, 1)))
})

test_that("thresholds refuse what they cannot do", {
  cmp <- toy_comparison()
  choice <- select_final(cmp)
  expect_error(set_threshold(choice), "best", class = "kw_error_argument")
  expect_error(set_threshold(choice, best = "auc"), "does not depend", class = "kw_error_select")
  expect_error(
    set_threshold(choice, costs = c(miss = 1, alarm = 2)), "missed",
    class = "kw_error_argument"
  )
  expect_error(
    set_threshold(choice, best = "precision", provided = "recall > 2"),
    "No threshold",
    class = "kw_error_select"
  )
  number <- quiet_run(
    toy_brief("number"), candidates(b = fam_baseline()),
    splits = split_kfold(3), seed = 1
  )
  expect_error(
    set_threshold(select_final(number), best = "f1"), "two classes",
    class = "kw_error_select"
  )
  moved <- set_threshold(choice, best = "precision", provided = "recall >= 0.5")
  expect_gt(moved$threshold$scores["precision", "mean"], 0.5)
})
