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
  # a comparison stands for its choice, and a threshold is found where there is none
  expect_equal(draw_confusion(cmp)$data, cells)
  found <- set_threshold(choice, best = "balanced_accuracy")$threshold
  expect_equal(draw_threshold(cmp)$data, found$curve)
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
  each <- ggplot2::ggplot_build(draw_tuning_each(cmp))$layout$panel_params
  labels <- unlist(lapply(each, function(panel) panel$x$get_labels()))
  expect_setequal(
    labels[!is.na(labels)],
    c("0.01", "0.1", "1", "none", "yeo_johnson", "mean", "median", "not used")
  )
})

leaves <- function(min_leaf = among(2, 5, 12, 30), pruning = among(1e-4, 1e-3, 1e-2, 0.1), ...) {
  quiet_run(toy_brief("number"), candidates(
    base = fam_baseline(), tree = fam_tree(min_leaf = min_leaf, pruning = pruning),
    other = fam_tree(min_leaf = among(40, 45))
  ), splits = split_kfold(4), metrics = c("rmse", "mae"), seed = 2, ...)
}

test_that("tuning figures draw the best candidate if none is named, and what is in focus", {
  cmp <- leaves()
  table <- standings(cmp)
  table <- table[table$candidate == "tree", ]
  plot <- draw_tuning_each(cmp, worst = 1)
  expect_match(plot$labels$title, "^tree:")
  expect_match(gsub("\n", " ", plot$labels$caption), "tree: the best candidate that varies")
  expect_no_match(draw_tuning_each(cmp, "tree")$labels$caption, "since none was named")
  # a number on its own scale, by magnitude: even steps in log10 are even steps on the axis
  of_pruning <- plot$data[grepl("pruning", plot$data$panel), ]
  expect_equal(diff(diff(sort(unique(of_pruning$at)))), c(0, 0), tolerance = 1e-8)
  expect_equal(sort(of_pruning$mean), sort(table$mean))
  better <- draw_parallel(cmp, focus = 0.25)
  expect_identical(length(unique(better$data$setting)), 4L)
  expect_match(gsub("\n", " ", better$labels$caption), "In focus: 4 of 16 settings")
  inside <- draw_tuning_map(cmp, focus = list(min_leaf = c(3, 12), pruning = c(0, 0.01)))$data
  expect_setequal(as.character(inside$min_leaf), c("5", "12"))
  expect_identical(nrow(inside), 6L)
  expect_identical(nrow(draw_tuning(cmp, focus = list(pruning = c(0.05, 1)))$data), 4L)
  expect_error(draw_tuning(cmp, focus = list(min_leaf = c(100, 200))), class = "kw_error_draw")
  expect_error(draw_tuning(cmp, focus = list(leaves = 3)), "min_leaf", class = "kw_error_argument")
  expect_error(draw_tuning(cmp, focus = list(min_leaf = 3)), "lowest", class = "kw_error_argument")
  expect_error(draw_tuning(cmp, focus = 2), class = "kw_error_argument")
  # where the candidate's best is out of focus, the best of those in focus leads
  away <- list(min_leaf = c(2, 12))
  if (table$min_leaf[1] <= 12) away <- list(min_leaf = c(30, 30))
  lines <- draw_parallel(cmp, focus = away)$data
  at_end <- lines[lines$axis == max(lines$axis), ]
  expect_equal(at_end$place[at_end$leads], max(at_end$place))
  # a hyperparameter that nothing in focus uses
  kernels <- quiet_run(toy_brief("number"), candidates(s = fam_support_vectors(
    kernel = among("linear", "radial"), cost = among(0.1, 1), width = among(1, 3)
  )), splits = split_kfold(3), seed = 1)
  linear <- list(kernel = "linear")
  expect_error(draw_tuning(kernels, along = "width", focus = linear), class = "kw_error_draw")
  for (plot in list(
    draw_tuning_each(kernels, focus = linear), draw_parallel(kernels, focus = linear),
    draw_tuning_map(kernels, focus = linear)
  )) {
    expect_no_warning(ggplot2::ggplotGrob(plot))
  }
  map <- draw_tuning_map(kernels, along = c("kernel", "width"))$data
  expect_setequal(paste(map$kernel, map$width), c("linear not used", "radial 1", "radial 3"))
  expect_error(draw_threshold(cmp), "two classes", class = "kw_error_draw")
})

test_that("many hyperparameters at once: the better a setting, the higher and the later its line", {
  cmp <- leaves()
  lines <- draw_parallel(cmp, "tree")$data
  at_end <- lines[lines$axis == max(lines$axis), ]
  table <- standings(cmp)
  table <- table[table$candidate == "tree", ]
  # lower is better: the best one stands at the top
  expect_equal(at_end$place[at_end$leads], 1)
  expect_equal(
    sort(at_end$place), sort((max(table$mean) - table$mean) / diff(range(table$mean)))
  )
  expect_identical(order(at_end$place), order(at_end$worth))
})

test_that("two metrics have a front of their own, than which nothing is better by both", {
  cmp <- leaves()
  data <- draw_tradeoff(cmp, "mae")$data
  scores <- merge(
    standings(cmp)[c("candidate", "setting", "mean")],
    standings(cmp, "mae")[c("candidate", "setting", "mean")], by = c("candidate", "setting")
  )
  beaten <- vapply(seq_len(nrow(scores)), function(i) {
    any(scores$mean.x <= scores$mean.x[i] & scores$mean.y <= scores$mean.y[i] &
          (scores$mean.x < scores$mean.x[i] | scores$mean.y < scores$mean.y[i]))
  }, NA)
  expect_setequal(unique(data$mean[data$front]), unique(scores$mean.x[!beaten]))
  expect_error(draw_tradeoff(cmp, "auc"), "mae", class = "kw_error_argument")
})

test_that("plot() draws what the draw_ functions give, and many candidates have a legend", {
  cmp <- leaves()
  choice <- select_final(cmp)
  grDevices::pdf(NULL)
  withr::defer(grDevices::dev.off())
  expect_equal(plot(cmp)$data, draw_standings(cmp)$data)
  expect_equal(plot(choice)$data, draw_verdict(choice)$data)
  expect_equal(plot(fit_final(choice))$data, draw_verdict(choice)$data)
  worth <- column_importance(choice, times = 1)
  expect_equal(plot(worth)$data, draw_importance(worth)$data)
  for (made in list(cmp$plan$brief, cmp$plan, learning_curve(choice), scores_by(cmp, "colour"))) {
    expect_s3_class(plot(made), "ggplot")
  }
  names <- sprintf("a name that is as long as people like it, %02d", 1:20)
  many <- quiet_run(toy_brief("number"),
    do.call(candidates, lapply(stats::setNames(2:21, names), function(n) fam_tree(min_leaf = n))),
    splits = split_kfold(3), seed = 1
  )
  for (plot in list(draw_front(many), draw_split_scores(many), draw_standings(many))) {
    expect_no_warning(ggplot2::ggplotGrob(plot))
  }
})

test_that("figures of few settings are drawn without a word", {
  drawn <- function(plot) ggplot2::ggplot_gtable(ggplot2::ggplot_build(plot))
  run <- function(...) {
    rivals <- candidates(tree = pipeline(pre_missing(), fam_tree(...)))
    quiet_run(plan_comparison(toy_brief(), rivals, splits = split_kfold(3, repeats = 2),
      metrics = "auc", search = search_random(2), seed = 1
    ), workers = 1)
  }
  # of each line one value only, then one setting on the front
  two <- run(pruning = from_to(0.001, 0.1), min_leaf = from_to(2, 20))
  expect_identical(capture_messages(drawn(draw_tuning(two))), character())
  expect_identical(capture_messages(drawn(draw_front(run()))), character())
})

test_that("labels of standings have room for one another, however long settings are", {
  long <- paste0("columns_tried = ", 1:7 / 7, ", min_node = 5, row_share = 1, cut_rule = usual")
  label <- kw("lines_that_fit")
  lines <- function(labels) lengths(strsplit(labels, "\n", fixed = TRUE))
  for (n in 2:8) {
    for (text in list(long, strrep(long, 3), c("", "trees = 5", long))) {
      text <- rep_len(text, n)
      found <- label(letters[1:n], text)
      expect_true(all(lines(found) * (n + 0.3) <= 26 | lines(found) == 2), info = n)
      expect_identical(substr(found, 1, 1), letters[1:n])
      expect_identical(lines(found) == 1, text == "")
    }
  }
  # nothing is cut off where there is room
  whole <- gsub("[\n\u00a0]", " ", label("a", long[1]))
  expect_match(whole, "columns_tried = 0.14.*cut_rule = usual$")
})
