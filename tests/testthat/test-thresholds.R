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

test_that("costs of each row decide, by hand, and travel into files", {
  pots <- demo_pots()[1:700, ]
  pots$price <- 5 + (seq_len(700) * 37) %% 90
  job <- brief(pots,
    outcome = "cracked", event = "yes", id = "pot_id", group = "firing_id",
    ignore = c("shrinkage_pct", "grade", "price"), costs = list(missed = "price", false_alarm = 4)
  ) |> set_aside(share = 0.25, seed = 3)
  cmp <- quiet_run(job, candidates(penalised = fam_penalised(penalty = 0.01)),
    splits = split_kfold(4), metrics = c("case_cost", "auc"), seed = 2, keep = "all_predictions"
  )
  choice <- select_final(cmp)
  table <- cmp$plan$brief$table
  predicted <- kw("setting_predictions")(cmp, 1L)
  cost <- function(rows, p, threshold) {
    event <- table$cracked[rows] == "yes"
    mean(ifelse(event, (p < threshold) * table$price[rows], (p >= threshold) * 4))
  }
  by_hand <- vapply(1:4, function(j) {
    cost(cmp$plan$splits[[j]]$validation, predicted[[j]][, 2], 0.5)
  }, 1)
  expected <- tibble::tibble(mean = mean(by_hand), sd = sd(by_hand))
  expect_equal(standings(cmp)[c("mean", "sd")], expected)
  moved <- set_threshold(choice, best = "case_cost")
  rows <- unlist(lapply(cmp$plan$splits, `[[`, "validation"))
  all <- unlist(lapply(predicted, function(p) p[, 2]))
  least <- min(vapply(seq(0.01, 0.6, 0.001), function(t) cost(rows, all, t), 1))
  expect_lte(cost(rows, all, moved$threshold$value), least + 1e-9)
  model <- fit_final(moved)
  sealed <- job$sealed$table
  p <- predict(model, sealed)
  wrong <- ifelse(sealed$cracked == "yes", (p$class == "no") * sealed$price, (p$class == "yes") * 4)
  expect_equal(score_set_aside(model, job)$set_aside[1], mean(wrong))
  expect_equal(score_known(model, sealed)$score[1], mean(wrong))
  file <- withr::local_tempfile(fileext = ".yml")
  write_plan(cmp$plan, file)
  expect_identical(read_plan(file)$brief$costs, job$costs)
  expect_error(brief(pots, "grade", costs = list(missed = 1, false_alarm = 1)), "two classes")
  expect_error(brief(pots, "cracked", costs = list(missed = "pric", false_alarm = 1)), "price")
  pots$price[7] <- -1
  expect_error(brief(pots, "cracked", costs = list(missed = "price", false_alarm = 1)), "row 7")
})
