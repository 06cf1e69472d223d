# Whole weights are rows that are there so often: what is learned and scored must be the same.

weighted_table <- function() {
  withr::with_seed(3, {
    n <- 80
    t <- data.frame(
      a = rnorm(n), b = rexp(n), c = round(runif(n, 0, 9)),
      gaps = ifelse(runif(n) < 0.2, NA, rnorm(n)), mostly = as.numeric(runif(n) < 0.1),
      colour = sample(
        c("red", "blue", "ash", "jade", "sand"), n, TRUE, c(0.4, 0.3, 0.2, 0.05, 0.05)
      ),
      notes = sample(c("old kiln cracked", "new glaze", "kiln glaze blue", "foot rim"), n, TRUE)
    )
    t$near_a <- t$a + rnorm(n, sd = 1)
    t$number <- t$a + (t$colour == "red") + rnorm(n)
    t$class <- factor(ifelse(t$number > 0.3, "hi", "lo"))
    t$count <- sample(0:3, n, TRUE, c(0.1, 0.4, 0.3, 0.2))
    t
  })
}

step_variants <- function() {
  list(
    pre_scale(), pre_scale(by = "range"), pre_scale(by = "iqr"),
    pre_outliers(fence = 0.5), pre_outliers(by = "quantile", share = 0.1),
    pre_missing(), pre_missing(fill = "mean"), pre_missing(fill = "mode"),
    pre_missing(fill = "nearest"), pre_missing(fill = "model"),
    pre_skew(by = "log"), pre_skew(by = "box_cox"), pre_skew(by = "yeo_johnson"),
    pre_skew(by = "normal"), pre_bins(by = "quantile", bins = 5), pre_bins(by = "width"),
    pre_bins(by = "tree", bins = 4),
    pre_components(number = 2), pre_components(number = 0.8, equal_scale = FALSE),
    pre_polynomial(), pre_splines(), pre_interactions(), pre_rare_levels(at_least = 9),
    pre_frequency(), pre_ordinal(by = "outcome", columns = of_kind("category")),
    pre_ordinal(by = "frequency", columns = of_kind("category")), pre_target_mean(),
    pre_drop_constant(share = 0.9), pre_drop_correlated(above = 0.55),
    pre_keep_top(top = 3), pre_keep_top(top = 3, by = "information"),
    pre_keep_top(top = 3, by = "importance", columns = of_kind("number") & !gaps),
    pre_text(in_at_least = 20, count_as = "tfidf"), pre_text(in_at_least = 0.3)
  )
}

# These learn no statistic, draw rows (balance, see below), are the user's (custom), or leave
# columns alone (outcome_scale, see there).
without_statistics <- c(
  "derive", "dates", "hash", "onehot", "drop", "balance", "custom", "minimal", "outcome_scale",
  "recalibrate"
)

learned_from <- function(step, table, outcome, weight = NULL) {
  used <- setdiff(names(table), setdiff(c("number", "class", "count"), c(outcome, weight)))
  job <- brief(table[used], outcome, weight = weight, event = if (outcome == "class") "hi")
  data <- kw("working_data")(job)
  kw("learn_step")(step, data$frame, data$target, 5)$state
}

frame_values <- function(frame) {
  sparse <- if (!is.null(frame$sparse)) list(as.matrix(frame$sparse))
  c(as.list(frame$columns), sparse)
}

test_that("every step that learns a statistic takes a weight as so many rows", {
  steps <- step_variants()
  names <- vapply(steps, function(step) step$definition$name, "")
  expect_setequal(
    c(names, without_statistics), sub("pre_", "", names(kw("exported_members")("pre_")))
  )
  table <- weighted_table()
  repeated <- table[rep(seq_len(nrow(table)), table$count), ]
  row.names(repeated) <- NULL
  changed <- character()
  for (outcome in c("number", "class")) {
    job <- brief(table[setdiff(names(table), c(setdiff(c("number", "class"), outcome), "count"))],
      outcome, event = if (outcome == "class") "hi")
    frame <- kw("working_data")(job)$frame
    for (i in seq_along(steps)) {
      used <- function(state) frame_values(kw("use_step")(state, frame))
      weighted <- used(learned_from(steps[[i]], table, outcome, "count"))
      expect_equal(
        weighted, used(learned_from(steps[[i]], repeated, outcome)),
        tolerance = 1e-8, info = paste(names[i], i, outcome)
      )
      if (!isTRUE(all.equal(weighted, used(learned_from(steps[[i]], table, outcome))))) {
        changed <- union(changed, names[i])
      }
    }
  }
  # the table is one on which most would differ without weights
  expect_gt(length(changed), 12)
})

test_that("weights that are shares do what the same weights as numbers of rows do", {
  table <- weighted_table()
  table$count <- table$count / sum(table$count)
  half <- transform(table, count = count / 2)
  for (step in step_variants()) {
    one <- learned_from(step, table, "number", "count")
    expect_equal(learned_from(step, half, "number", "count")$state, one$state, tolerance = 1e-8)
  }
  # they stand for as many rows as there are, not for one
  levels <- learned_from(pre_rare_levels(at_least = 9), table, "number", "count")$state
  expect_gt(length(levels$colour), 1L)
  terms <- learned_from(pre_text(in_at_least = 5, columns = notes), table, "number", "count")$state
  expect_gt(length(terms$terms$notes$label), 1L)
})

test_that("parts of the rows weigh alike, class by class and group by group", {
  table <- withr::with_seed(1, data.frame(
    x = rnorm(300), y = factor(sample(c("no", "yes"), 300, TRUE, c(0.8, 0.2))),
    lot = sample(60, 300, TRUE), w = rexp(300)^2
  ))
  apart <- function(job, ...) {
    held <- lapply(plan_comparison(job, candidates(b = fam_baseline()),
      splits = split_kfold(5, ...), seed = 2)$splits, `[[`, "validation")
    sums <- vapply(held, function(rows) tapply(table$w[rows], table$y[rows], sum), c(1, 1))
    # largest deviation from a fifth, in each class
    list(rows = held, apart = apply(abs(sums / rowSums(sums) - 0.2), 1L, max))
  }
  blind <- apart(brief(table[c("x", "y")], "y", event = "yes"))
  weighed <- apart(brief(table[c("x", "y", "w")], "y", event = "yes", weight = "w"))
  expect_lt(max(weighed$apart), 0.01)
  expect_gt(max(blind$apart), 0.03)
  # and the rows of a class are still dealt to the floor or the ceiling
  counts <- vapply(weighed$rows, function(rows) sum(table$y[rows] == "yes"), 1)
  expect_lte(diff(range(counts)), 1)
  grouped <- apart(brief(table, "y", event = "yes", weight = "w", group = "lot"))
  expect_lt(max(grouped$apart), max(blind$apart))
  aside <- set_aside(brief(table[c("x", "y", "w")], "y", event = "yes", weight = "w"),
    0.25, seed = 1)
  expect_equal(sum(aside$table$w) / sum(table$w), 0.75, tolerance = 0.01)
  # no row is in the same part every time for what it weighs
  drawn <- plan_comparison(brief(table[c("x", "y", "w")], "y", event = "yes", weight = "w"),
    candidates(b = fam_baseline()), splits = split_holdout(0.2, draws = 60), seed = 1)$splits
  held <- sapply(drawn, function(split) seq_len(300) %in% split$validation)
  expect_false(anyDuplicated(t(held)) > 0)
  # of 60 draws 12 are expected, with a standard deviation of 3.1
  expect_true(all(rowSums(held[order(-table$w)[1:10], ]) %in% 2:26))
  # equal weights change nothing
  same <- brief(transform(table[c("x", "y")], w = 2), "y", event = "yes", weight = "w")
  expect_identical(apart(same)$rows, blind$rows)
})

test_that("classes are evened out by what their rows weigh", {
  table <- withr::with_seed(1, data.frame(
    x = rnorm(200), y = factor(rep(c("no", "yes"), c(150, 50))),
    w = c(sample(0:3, 150, TRUE), sample(1:4, 50, TRUE))
  ))
  job <- brief(table, "y", event = "yes", weight = "w")
  data <- kw("working_data")(job)
  for (by in c("thin", "repeat", "synthetic")) {
    learned <- kw("learn_step")(pre_balance(by = by, ratio = 0.8), data$frame, data$target, 5)
    made <- learned$target
    sums <- tapply(made$weights, made$outcome, sum)
    before <- tapply(table$w, table$y, sum)
    kept <- if (by == "thin") min(before) else max(before)
    expect_equal(sums[["yes"]] / sums[["no"]], 0.8, tolerance = 0.05, info = by)
    expect_equal(if (by == "thin") sums[["yes"]] else sums[["no"]], kept, tolerance = 0.05)
  }
})

test_that("every metric takes a weight as so many rows", {
  table <- weighted_table()
  rows <- rep(seq_len(nrow(table)), table$count)
  p <- stats::plogis(2 * table$a)
  three <- cut(table$number, c(-Inf, 0, 1, Inf), labels = c("low", "mid", "high"))
  odds <- exp(cbind(-table$a, 0, table$a))
  cases <- list(
    number = list(truth = abs(table$number), prediction = matrix(abs(table$a))),
    two_class = list(truth = kw("truth_of")(kw("new_target")(
      table$class, costs = cbind(missed = table$a^2, false_alarm = 1)
    )), prediction = cbind(1 - p, p)),
    many_class = list(truth = three, prediction = odds / rowSums(odds))
  )
  cases$ordered <- cases$many_class
  cases$count <- list(truth = round(cases$number$truth), prediction = cases$number$prediction)
  cases$positive <- cases$number
  cases$quantiles <- list(
    truth = kw("truth_of")(list(outcome = table$number, quantiles = c(0.2, 0.8))),
    prediction = cbind(table$a - 1, table$a + 1)
  )
  score <- kw("score_predictions")
  for (metric in lapply(kw("shipped_members")("metric"), function(make) make())) {
    for (kind in metric$kinds) {
      case <- cases[[kind]]
      expect_equal(
        score(metric, case$truth, case$prediction, as.double(table$count)),
        score(metric, case$truth[rows], case$prediction[rows, , drop = FALSE]),
        tolerance = 1e-9, info = paste(metric$name, kind)
      )
    }
  }
})

test_that("families whose packages know of weights alone take a weight as so many rows", {
  table <- weighted_table()[c("a", "b", "c", "number", "class", "count")]
  repeated <- table[rep(seq_len(nrow(table)), table$count), ]
  row.names(repeated) <- NULL
  new <- table[1:20, c("a", "b", "c")]
  for (outcome in c("number", "class")) {
    fitted <- function(family, table, weight = NULL) {
      drop <- setdiff(c("number", "class", "count"), c(outcome, weight))
      job <- brief(table[setdiff(names(table), drop)], outcome,
        weight = weight, event = if (outcome == "class") "hi"
      )
      cmp <- quiet_run(plan_comparison(job, candidates(f = pipeline(pre_scale(), family)),
        splits = split_kfold(3), seed = 1
      ), workers = 1)
      model <- fit_final(select_final(cmp, "best_mean"))
      predict(model, new, type = if (outcome == "number") "value" else "probability")
    }
    for (family in list(fam_baseline(), fam_linear(), fam_penalised(penalty = 0.05))) {
      expect_equal(
        fitted(family, table, "count"), fitted(family, repeated),
        tolerance = 1e-5, info = family$definition$name
      )
    }
  }
})

test_that("boosted quantiles, whose package weighs none, take whole weights as so many rows", {
  skip_if_not_installed("gbm")
  table <- weighted_table()[c("a", "b", "number", "count")]
  repeated <- table[rep(seq_len(nrow(table)), table$count), ]
  row.names(repeated) <- NULL
  new <- table[1:20, c("a", "b")]
  fitted <- function(table, weight = NULL) {
    job <- brief(table[c("a", "b", "number", weight)], "number",
      weight = weight, quantiles = c(0.2, 0.8)
    )
    cmp <- quiet_run(job, candidates(f = fam_boosted(trees = 20, row_share = 1)),
      splits = split_kfold(3), seed = 1, workers = 1
    )
    predict(fit_final(select_final(cmp, "best_mean")), new)
  }
  expect_equal(fitted(table, "count"), fitted(repeated), tolerance = 1e-8)
  table$count <- table$count + 0.5
  expect_error(fitted(table, "count"), "unless they are whole", class = "kw_error")
})

test_that("figures and effects count a row as often as its weight, as scores do", {
  table <- weighted_table()[c("a", "c", "class", "count")]
  table <- table[rep(1:80, 4), ]
  row.names(table) <- NULL
  # a weight that goes with the error, so that it matters
  wrong <- (table$a > 0) != (table$class == "hi")
  table$count <- ifelse(wrong, 5, 1)
  job <- brief(table, "class", event = "hi", weight = "count")
  cmp <- quiet_run(plan_comparison(job, candidates(l = fam_linear()),
    splits = split_holdout(0.5), metrics = "auc", seed = 1
  ), workers = 1)
  line <- draw_roc(cmp)$data
  area <- sum(diff(line$x) * (utils::head(line$mean, -1) + utils::tail(line$mean, -1)) / 2)
  expect_equal(area, standings(cmp)$mean, tolerance = 0.01)
  expect_lt(area, 0.7)
  held <- cmp$plan$splits[[1]]$validation
  expect_equal(sum(draw_calibration(cmp)$data$rows), sum(table$count[held]))
  cells <- draw_confusion(select_final(cmp, "best_mean"))$data
  expect_equal(sum(cells$Freq), sum(table$count[held]))
  repeated <- table[rep(seq_len(nrow(table)), table$count), c("a", "c", "class")]
  row.names(repeated) <- NULL
  effect <- function(job) {
    cmp <- quiet_run(plan_comparison(job, candidates(l = fam_linear()),
      splits = split_holdout(0.5), metrics = "auc", seed = 1
    ), workers = 1)
    model <- fit_final(select_final(cmp, "best_mean"))
    column_effect(model, "c", rows = 1e5)$mean
  }
  expect_equal(effect(job), effect(brief(repeated, "class", event = "hi")), tolerance = 1e-6)
})
