# What scores, ties and intervals claim, in short simulations; bench/honesty.R runs them at
# full size.

# Is a rate of `runs` runs as far above `nominal` as chance hardly brings it?
too_often <- function(rate, nominal, runs) rate > nominal + 4 * sqrt(nominal * (1 - nominal) / runs)

test_that("alike candidates are called different about as seldom as the level says", {
  runs <- if (in_full()) 30 else 6
  rate <- mean(simulate(runs, function(s) {
    alike_called_different(s, split_kfold(10, repeats = 2), n = 40)
  }))
  expect_false(too_often(rate, 0.05, runs))
  rate <- mean(simulate(runs, function(s) alike_called_different(s, split_leave_row(), n = 30)))
  expect_false(too_often(rate, 0.05, runs))
})

test_that("pooled differences are judged by the jackknife of the paired difference", {
  table <- toy(45)
  cmp <- quiet_run(
    toy_brief("number", table),
    candidates(l = pipeline(pre_onehot(drop_one = TRUE), fam_linear()), b = fam_baseline()),
    splits = split_leave_row(), metrics = "mae", seed = 1
  )
  error <- sapply(c("l", "b"), function(name) {
    at <- which(kw("candidate_names")(cmp) == name)
    abs(unlist(kw("setting_predictions")(cmp, at)) - table$number)
  })
  order <- colMeans(error)
  apart <- error[, which.max(order)] - error[, which.min(order)]
  without <- sapply(seq_along(apart), function(i) mean(apart[-i]))
  se <- sqrt(44 / 45 * sum((without - mean(without))^2))
  pair <- compare_pairs(cmp)
  expect_equal(pair$difference, mean(apart))
  expect_equal((pair$high - pair$low) / 2, qt(0.975, 44) * se)
  expect_error(select_final(cmp, "steady"), "scored together", class = "kw_error_select")
})

test_that("a threshold chosen on noise scores as noise under draws that share rows", {
  for (splits in list(split_bootstrap(8), split_holdout(0.3, 8))) {
    runs <- if (in_full()) 30 else 8
    found <- simulate(runs, function(s) threshold_on_noise(s, splits))
    expect_lt(mean(found), 0.5 + 3.5 * sd(found) / sqrt(runs))
  }
})

test_that("a threshold is chosen without the rows and groups that its split holds out", {
  part <- function(rep, unit) {
    list(
      rep = rep, truth = factor(rep("a", length(unit))), weights = NULL, event = unit / 10,
      unit = unit
    )
  }
  parts <- list(part(1, 1:4), part(2, 3:6), part(3, 1:2))
  kept <- kw("parts_for_threshold")(parts, 1)
  expect_identical(unlist(lapply(kept, `[[`, "unit")), 5:6)
})

test_that("importance and learning curve of single rows are had from all of them together", {
  table <- toy(40)
  cmp <- quiet_run(
    toy_brief("number", table[c("x1", "x2", "number", "two", "three", "batch")]),
    candidates(l = fam_linear()),
    splits = split_leave_row(), metrics = "rmse", seed = 1
  )
  choice <- select_final(cmp)
  found <- column_importance(choice, times = 2)
  expect_identical(found$column[1], "x1")
  expect_gt(found$importance[1], 0.1)
  curve <- learning_curve(choice, shares = c(0.5, 1))
  expect_equal(curve$validation[2], standings(cmp)$mean)
  expect_gt(curve$se[2], 0)
})

test_that("importance of the called class uses the moved threshold", {
  table <- toy(150)
  cmp <- quiet_run(
    toy_brief("two_class", table), candidates(l = fam_linear()),
    splits = split_kfold(3), metrics = c("log_loss", "recall"), seed = 1
  )
  choice <- select_final(cmp)
  moved <- set_threshold(choice, costs = c(missed = 50, false_alarm = 1))
  expect_false(isTRUE(all.equal(
    column_importance(choice, "recall", times = 2)$importance,
    column_importance(moved, "recall", times = 2)$importance
  )))
  expect_equal(
    column_importance(choice, "log_loss", times = 2)$importance,
    column_importance(moved, "log_loss", times = 2)$importance
  )
})

test_that("every fold has the floor or the ceiling of every class's share", {
  for (seed in 1:40) {
    n <- withr::with_seed(seed, c(10, sample(31:95, 1), sample(11:29, 1)))
    part <- withr::with_seed(seed, kw("deal_rows")(sum(n), rep(0.1, 10), rep(1:3, n)))
    for (class in 1:3) {
      counts <- tabulate(part[rep(1:3, n) == class], 10)
      expect_true(all(counts %in% c(floor(n[class] / 10), ceiling(n[class] / 10))))
    }
    expect_lte(diff(range(tabulate(part, 10))), 1)
  }
})

test_that("whole groups are dealt so that no fold lacks a class that can be spread", {
  empty <- simulate(15, function(seed) {
    set.seed(seed)
    group <- rep(1:60, sample(2:6, 60, replace = TRUE))
    class <- rep("common", length(group))
    class[match(sample(60, 10), group)] <- "rare"
    part <- kw("deal_rows")(length(group), rep(0.1, 10), class, group)
    expect_true(all(tapply(part, group, function(p) length(unique(p))) == 1))
    sum(tabulate(part[class == "rare"], 10) == 0)
  })
  expect_identical(sum(empty), 0)
})

test_that("no fold is empty, however few and unlike the groups are", {
  smallest <- vapply(1:60, function(seed) {
    withr::local_seed(seed)
    groups <- sample(2:12, 1)
    folds <- 1 + sample.int(groups - 1, 1)
    group <- rep(seq_len(groups), sample(1:20, groups, TRUE))
    y <- rnorm(groups, sd = 3)[group] + rnorm(length(group))
    table <- data.frame(g = paste0("g", group), x = rnorm(length(group)), y)
    plan <- plan_comparison(brief(table, "y", group = "g"), candidates(b = fam_baseline()),
      splits = split_kfold(folds), metrics = "rmse", seed = seed)
    held_out <- lapply(plan$splits, `[[`, "validation")
    expect_identical(sort(unlist(held_out)), seq_along(group))
    min(lengths(held_out))
  }, 1L)
  expect_gt(min(smallest), 0L)
})

test_that("pooled AUC compares rows of one part; where there are no such pairs it is refused", {
  table <- withr::with_seed(4, data.frame(x = rnorm(60), y = rep(c("no", "yes"), c(47, 13))))
  job <- brief(table, "y")
  cmp <- quiet_run(
    job, candidates(b = fam_baseline()),
    splits = split_kfold(12, stratify = FALSE), metrics = "auc", seed = 2
  )
  expect_equal(standings(cmp)$mean, 0.5)
  for (metric in c("auc", "average_precision")) {
    expect_error(
      plan_comparison(job, splits = split_leave_row(), metrics = metric, seed = 1),
      "cannot be had",
      class = "kw_error_splits"
    )
  }
  usual <- plan_comparison(job, splits = split_leave_row(), seed = 1)
  expect_identical(names(usual$metrics), c("log_loss", "brier"))
  # against plain pairs
  p <- withr::with_seed(5, round(runif(60), 1))
  truth <- factor(table$y)
  part <- rep(1:12, 5)
  right <- pairs <- 0
  for (i in which(truth == "yes")) {
    for (j in which(truth == "no" & part == part[i])) {
      pairs <- pairs + 1
      right <- right + (p[i] > p[j]) + 0.5 * (p[i] == p[j])
    }
  }
  ours <- kw("auc_in_parts")(truth, array(c(1 - p, p), c(60, 2, 1)), NULL, part)
  expect_equal(ours, right / pairs)
})

test_that("bootstrap draws hold every class on both sides", {
  table <- withr::with_seed(4, data.frame(x = rnorm(60), y = rep(c("no", "yes"), c(56, 4))))
  plan <- plan_comparison(brief(table, "y"), splits = split_bootstrap(40), seed = 1)
  for (rows in rows_by_split(plan)) {
    expect_setequal(unique(table$y[rows$training]), c("no", "yes"))
    expect_setequal(unique(table$y[rows$validation]), c("no", "yes"))
  }
})

test_that("a filter does not prefer a column for its many levels, nor lose one to its codes", {
  for (by in c("p_value", "information")) {
    expect_gt(mean(simulate(30, function(s) place_of_noise(s, by))), 2.5)
  }
  table <- withr::with_seed(6, {
    data.frame(kind = sample(letters[1:9], 200, TRUE), matrix(rnorm(200 * 11), 200))
  })
  # levels whose codes go up and down with the outcome
  y <- factor(ifelse(table$kind %in% c("a", "c", "e", "g"), "yes", "no"))
  table$kind <- factor(table$kind)
  scores <- kw("judge_columns")(kw("new_frame")(table), names(table), y, "p_value")
  expect_identical(names(which.max(scores)), "kind")
})

test_that("the bootstrap's correction of one setting is none", {
  expect_identical(correction_of_one(1, "number", "rmse"), 0)
  expect_identical(correction_of_one(2, "two_class", "average_precision"), 0)
})

test_that("set-aside intervals with few groups are not too narrow", {
  covered <- simulate(25, function(s) set_aside_covers(s, 6))
  expect_gt(mean(covered), 0.95 - 4 * sqrt(0.95 * 0.05 / 25))
})

test_that("latest groups come near the share that was asked for, and none is divided", {
  table <- withr::with_seed(7, {
    patient <- sample(1:80, 400, replace = TRUE)
    data.frame(patient, when = patient + sample(0:60, 400, TRUE), x = rnorm(400), y = rnorm(400))
  })
  job <- set_aside(brief(table, "y", group = "patient", time = "when"), share = 0.2, seed = 1)
  expect_lt(abs(job$sealed$n / 400 - 0.2), 0.02)
  expect_length(intersect(job$sealed$table$patient, job$table$patient), 0)
  expect_output(print(job), "set aside \\(sealed, [0-9.]+ %\\)")
})

test_that("splits in time leave out training rows of groups that are held out, and say so", {
  table <- withr::with_seed(8, {
    patient <- sort(sample(1:60, 300, replace = TRUE))
    data.frame(patient, when = patient * 2 + sample(0:8, 300, TRUE), x = rnorm(300), y = rnorm(300))
  })
  job <- brief(table, "y", group = "patient", time = "when")
  plan <- plan_comparison(
    job, candidates(b = fam_baseline()),
    splits = split_time(0.4, 0.2), seed = 1
  )
  for (rows in rows_by_split(plan)) {
    expect_length(intersect(table$patient[rows$training], table$patient[rows$validation]), 0)
  }
  expect_output(print(plan), "left out: [0-9]+")
  expect_output(print(plan), "patient kept whole")
  open <- plan_comparison(job, candidates(b = fam_baseline()),
    splits = split_time(0.4, 0.2, keep_groups = FALSE), seed = 1
  )
  expect_output(print(open), "NOT keeping patient whole")
})

test_that("target means and the no-information rate count a row as often as its weight", {
  table <- data.frame(k = factor(c("a", "a", "b", "b", "c")))
  y <- c(1, 5, 2, 8, 4)
  weights <- c(1, 3, 2, 1, 2)
  twice <- rep(1:5, weights)
  ours <- kw("level_means")(table$k, cbind(y), 2, weights)
  repeated <- kw("level_means")(table$k[twice], cbind(y[twice]), 2, rep(1, length(twice)))
  expect_equal(ours, repeated)
  metric <- kw("shipped_members")("metric")$mae()
  rate <- function(y, p, w) {
    fitted <- list(
      model = p, definition = list(path = NULL, predict = function(model, x) model),
      levels = NULL
    )
    target <- kw("new_target")(y, w)
    kw("no_information_scores")(fitted, matrix(0, length(y), 1), target, NULL,
      list(mae = metric))[1]
  }
  p <- c(2, 3, 5, 1, 4)
  pairs <- outer(y, p, function(a, b) abs(a - b))
  expect_equal(rate(y, p, NULL), mean(pairs))
  expect_equal(rate(y, p, weights), sum(outer(weights, weights) * pairs) / sum(weights)^2)
})

test_that("a constraint that is undefined for all is said without a raw warning", {
  table <- withr::with_seed(9, data.frame(x = rnorm(80), y = rep(c("no", "yes"), 40)))
  cmp <- quiet_run(
    brief(table, "y"), candidates(b = fam_baseline()),
    splits = split_kfold(4), metrics = "log_loss", provided = "mcc >= 0.2", seed = 1
  )
  expect_no_warning(expect_error(
    select_final(cmp), "undefined for every",
    class = "kw_error_select"
  ))
})

test_that("nested scores on pure noise are those of chance under searches and a screen", {
  # the best of many seems better than chance; what has not seen the rows does not
  screen <- screen_splits(level = 0.8)
  naive <- simulate(3, function(s) {
    selected_on_noise(s, search_random(6), screen, nested = FALSE)
  })
  expect_true(all(naive > 0.52))
  honest <- simulate(3, function(s) selected_on_noise(s, search_random(6), screen))
  expect_lt(abs(mean(honest) - 0.5), 3 * 0.06 / sqrt(3))
  # nor does it pay to look at one split first
  looked <- simulate(3, function(s) selected_on_noise(s, search_evolve(14), NULL))
  expect_lt(abs(mean(looked) - 0.5), 3 * 0.06 / sqrt(3))
})

test_that("the paired rule costs no more than that of 1984 where sites are unlike", {
  paired <- simulate(5, function(seed) regret_of_rule(seed, "one_se", unlike = TRUE))
  apart <- simulate(5, function(seed) regret_of_rule(seed, "one_se_1984", unlike = TRUE))
  expect_true(all(paired >= -1e-8))
  expect_lt(mean(paired), mean(apart))
})

test_that("a difference as large as the margin is seldom called practically the same", {
  expect_lte(sum(simulate(20, function(s) apart_called_same(s, split_kfold(5)))), 3)
  constants <- simulate(15, function(s) {
    apart_called_same(s, split_kfold(5, stratify = FALSE), learned = FALSE)
  })
  expect_lte(sum(constants), 3)
})

test_that("a blend is no worse on fresh rows; recalibrated odds have about the right slope", {
  found <- vapply(1:4, function(s) suppressWarnings(blend_on_fresh(s, fresh = 2000)), c(0, 0))
  expect_lt(mean(found[2, ]), 0.01)
  expect_lt(abs(mean(found[1, ])), 0.05)
  slope <- function(by) mean(simulate(3, function(s) slope_on_fresh(s, by, fresh = 2000)))
  expect_lt(slope("none"), 0.5)
  expect_lt(abs(slope("platt") - 1), 0.5)
})
