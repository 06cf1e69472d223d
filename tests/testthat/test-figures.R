# What the figures show: the numbers that were built, not their looks.

layer <- function(plot, i) ggplot2::layer_data(plot, i)

test_that("the curves of ROC and precision-recall are means over splits of curves made by hand", {
  cmp <- quiet_run(
    toy_brief(),
    candidates(l = fam_linear(), b = fam_baseline()),
    splits = split_kfold(5),
    seed = 3
  )
  built <- draw_roc(cmp)$data
  linear <- built[built$candidate == "l", ]
  each <- vapply(rows_by_split(cmp), function(r) {
    table <- toy()
    fit <- suppressWarnings(glm(
      (two == "yes") ~ x1 + x2 + x3 + colour, binomial, table[r$training, ]
    ))
    p <- predict(fit, table[r$validation, ])
    truth <- table$two[r$validation] == "yes"
    cut <- c(Inf, sort(p, decreasing = TRUE))
    alarms <- vapply(cut, function(t) mean(p[!truth] >= t), 1)
    found <- vapply(cut, function(t) mean(p[truth] >= t), 1)
    # no two rows have the same score: the line is of steps
    vapply(0:100 / 100, function(most) max(found[alarms <= most + 1e-9]), 1)
  }, numeric(101))
  expect_equal(linear$mean, rowMeans(each), tolerance = 1e-6)
  expect_equal(
    linear$high - linear$mean, pmin(apply(each, 1, sd), 1 - linear$mean),
    tolerance = 1e-6
  )
  precision <- draw_precision_recall(cmp)$data
  at_all <- precision$mean[precision$candidate == "l" & precision$x == 1]
  expect_equal(at_all, mean(vapply(rows_by_split(cmp), function(r) {
    table <- toy()
    fit <- suppressWarnings(glm(
      (two == "yes") ~ x1 + x2 + x3 + colour, binomial, table[r$training, ]
    ))
    p <- predict(fit, table[r$validation, ])
    truth <- table$two[r$validation] == "yes"
    sum(truth) / sum(p >= min(p[truth]))
  }, 1)), tolerance = 1e-6)
  benefit <- draw_net_benefit(cmp, most = 0.8)$data
  expect_equal(benefit$mean[benefit$candidate == "l" & abs(benefit$x - 0.4) < 1e-9], mean(vapply(
    rows_by_split(cmp), function(r) {
      table <- toy()
      fit <- suppressWarnings(glm(
        (two == "yes") ~ x1 + x2 + x3 + colour, binomial, table[r$training, ]
      ))
      act <- predict(fit, table[r$validation, ], type = "response") >= 0.4
      truth <- table$two[r$validation] == "yes"
      mean(act & truth) - mean(act & !truth) * 0.4 / 0.6
    }, 1
  )))
  expect_error(draw_net_benefit(cmp, most = 1), "most", class = "kw_error_argument")
  bins <- draw_calibration(cmp, candidates = "l", bins = 5)$data
  expect_identical(sum(bins$rows), 150L)
  expect_true(all(bins$low <= bins$share & bins$share <= bins$high))
  expect_error(
    draw_roc(quiet_run(
      toy_brief("number"), candidates(b = fam_baseline()),
      splits = split_kfold(3), seed = 1
    )),
    "two classes",
    class = "kw_error_draw"
  )
})

test_that("split lines, tuning maps and the confusion table show the comparison's own numbers", {
  cmp <- toy_comparison()
  lines <- draw_split_scores(cmp)$data
  scores <- scores_by_split(cmp, metric = "auc")
  best <- standings(cmp, level = "candidates")
  for (i in 1:3) {
    expect_equal(
      lines$score[lines$candidate == best$candidate[i]],
      scores$validation[scores$candidate == best$candidate[i] & scores$setting == best$setting[i]]
    )
  }
  map <- draw_tuning_map(cmp, "tree")$data
  table <- standings(cmp)
  for (i in seq_len(nrow(map))) {
    expect_equal(
      map$mean[i],
      table$mean[which(table$candidate == "tree" &
        table$pruning == as.numeric(as.character(map$pruning[i])) &
          table$impurity == map$impurity[i])]
    )
  }
  expect_s3_class(ggplot2::ggplot_build(draw_tuning_each(cmp, "tree")), "ggplot_built")
  choice <- select_final(cmp)
  cells <- draw_confusion(choice)$data
  expect_equal(sum(cells$Freq), 150)
  accuracy <- sum(cells$Freq[cells$right]) / 150
  held <- kw("held_out_of_choice")(choice)
  expect_equal(accuracy, mean((held$prediction[, 2] > 0.5) == (held$truth == "yes")))
  expect_error(draw_observed(choice), "numeric", class = "kw_error_draw")
  expect_error(draw_threshold(choice), "set_threshold", class = "kw_error_draw")
  expect_error(draw_tuning_map(cmp, "baseline"), class = "kw_error_draw")
})

test_that("every figure of the verdict is built for numbers and classes", {
  built <- function(plot) expect_s3_class(ggplot2::ggplot_build(plot), "ggplot_built")
  for (kind in c("number", "two_class", "many_class")) {
    cmp <- quiet_run(
      toy_brief(kind),
      candidates(t = fam_tree(pruning = among(0.001, 0.01, 0.1)), b = fam_baseline()),
      splits = split_kfold(4),
      seed = 3
    )
    choice <- select_final(cmp, "best_mean")
    model <- fit_final(choice)
    built(draw_split_scores(cmp))
    built(draw_search(cmp))
    built(draw_search(cmp, against = "seconds"))
    built(draw_optimism(optimism(cmp)))
    built(draw_importance(column_importance(choice, times = 1)))
    for (columns in list("x1", "colour", c("x1", "colour"), c("colour", "x1"))) {
      built(draw_dependence(model, columns, rows = 20, points = 5))
    }
    built(draw_learning_curve(learning_curve(choice, shares = c(0.5, 1))))
    if (kind == "number") {
      built(draw_observed(choice))
      built(draw_residuals(choice))
    } else {
      built(draw_confusion(choice))
    }
    if (kind == "two_class") built(draw_threshold(set_threshold(choice, best = "f1")))
  }
})

test_that("one prediction call for all shuffled copies gives what a loop gives", {
  cmp <- quiet_run(
    toy_brief(),
    candidates(t = fam_tree()),
    splits = split_kfold(3),
    metrics = "log_loss",
    seed = 3
  )
  choice <- select_final(cmp)
  refit <- kw("new_refit")(cmp, choice$at)
  split <- cmp$plan$splits[[1]]
  metric <- cmp$plan$metrics$log_loss
  once <- withr::with_seed(5, {
    kw("unit_importance")(refit, 1L, choice, list(
      metric = metric, sets = list("x1", "x2"), times = 3, near = NULL, again = FALSE
    ))
  })
  fitted <- c(
    refit$fit(split$training, split$key)["predict"],
    kw("data_rows")(refit$data, split$validation)
  )
  n <- fitted$frame$n
  loop <- withr::with_seed(5, vapply(c("x1", "x2"), function(column) {
    mean(vapply(1:3, function(i) {
      frame <- fitted$frame
      frame$columns[[column]] <- frame$columns[[column]][sample.int(n)]
      score <- function(f) {
        kw("score_predictions")(metric, fitted$target$outcome, fitted$predict(f), NULL)
      }
      score(frame) - score(fitted$frame)
    }, 1))
  }, 1))
  expect_equal(as.vector(once), unname(loop))
})

test_that("settings in which a hyperparameter has no effect are drawn, too", {
  table <- toy(90)[c("x1", "x2", "number")]
  cmp <- quiet_run(plan_comparison(brief(table, "number"),
    candidates(p = pipeline(
      pre_outcome_scale(by = among("none", "yeo_johnson"), back = among("mean", "median")),
      fam_penalised(penalty = among(0.01, 0.1, 1))
    )),
    splits = split_kfold(3), metrics = "rmse", seed = 1
  ), workers = 1)
  for (along in list("penalty", "back")) {
    plot <- draw_tuning(cmp, along = along)
    expect_no_warning(layers <- ggplot2::ggplot_build(plot)$data)
    expect_false(anyNA(vapply(layers, function(layer) anyNA(layer$shape), NA)))
  }
  lines <- draw_tuning(cmp, along = c("penalty"))$data
  expect_identical(nrow(lines), 9L)
  expect_true("not used" %in% c(levels(lines$line), lines$panel, sub(".* = ", "", lines$panel)))
  expect_true("not used" %in% levels(draw_tuning_each(cmp)$data$value))
})
