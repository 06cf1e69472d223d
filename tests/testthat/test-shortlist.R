# Ties, pairs, rules and optimism, against plain formulas and simulated truth.

test_that("shortlist and pairs follow the corrected paired interval", {
  cmp <- toy_comparison()
  table <- standings(cmp)
  list <- shortlist(cmp, all = TRUE)
  expect_identical(list$mean, table$mean)
  scores <- scores_by_split(cmp, metric = "auc")
  of <- function(row) {
    scores$validation[scores$candidate == table$candidate[row] &
      scores$setting == table$setting[row]]
  }
  ratio <- mean(vapply(
    rows_by_split(cmp), function(r) length(r$validation) / length(r$training), numeric(1)
  ))
  for (row in c(2, 7, nrow(table))) {
    d <- of(1) - of(row)
    se <- sqrt((1 / 10 + ratio) * var(d))
    expect_equal(list$difference[row], mean(d))
    expect_equal(c(list$low[row], list$high[row]), mean(d) + c(-1, 1) * qt(0.975, 9) * se)
    # a hundredth of the scale of the AUC does not matter
    beyond <- max(abs(mean(d)) - 0.01, 0)
    p <- if (beyond == 0) 1 else 2 * pt(-beyond / se, 9)
    expect_equal(list$p[row], p)
    worse_by <- function(x) pt((x - mean(d)) / se, 9)
    chances <- c(1 - worse_by(0.01), worse_by(0.01) - worse_by(-0.01), worse_by(-0.01))
    expect_equal(unlist(list[row, c("p_better", "p_same", "p_worse")], use.names = FALSE), chances)
    expect_identical(
      list$answer[row],
      if (p <= 0.05) "better" else if (chances[2] >= 0.95) "the same" else "cannot tell"
    )
  }
  expect_false("better" %in% shortlist(cmp)$answer)
  stepped <- shortlist(cmp, all = TRUE, adjust = "step_down")
  expect_true(all(list$answer[stepped$answer == "better"] == "better"))
  expect_true(all(shortlist(cmp, margin = 1)$answer == "the same"))
  expect_gte(nrow(shortlist(cmp, margin = 0.5)), nrow(table))
  pairs <- compare_pairs(cmp)
  expect_identical(nrow(pairs), 3L)
  expect_true(all(pairs$difference >= 0))
  expect_output(print(shortlist(cmp)), "3 are practically the same as the leader")
})

test_that("none of the three answers is false more often than it says", {
  # differences on ten folds, as far from nothing as the margin: correlated, since training rows
  # are shared, by the share of the rows that validate
  n <- 10L
  false <- withr::with_seed(1, replicate(4000, {
    d <- 1 + sqrt(0.1) * rnorm(1) + sqrt(0.9) * rnorm(n)
    field <- list(
      good = rbind(d, 0), ratio = 1 / 9, margin = 1, level = 0.95, adjust = "none", seed = 1
    )
    kw("paired_differences")(field, 1L, 2L)$answer
  }))
  bound <- 0.05 + 3 * sqrt(0.05 * 0.95 / 4000)
  expect_lt(mean(false == "better"), bound)
  expect_lt(mean(false == "the same"), bound)
  expect_gt(mean(false == "cannot tell"), 0.9)
})

test_that("the corrected interval covers a true difference of nothing as often as it says", {
  # two constant predictors that are equally good: each is right on a random half
  runs <- if (in_full()) 80 else 30
  covered <- vapply(seq_len(runs), function(seed) {
    table <- withr::with_seed(seed, data.frame(x = rnorm(100), y = rnorm(100)))
    fam_shift <- define_family(
      "shift",
      "number",
      function(x, y, weights, settings, seed, threads) mean(y) + settings$by,
      function(model, x) rep(model, nrow(x)),
      defaults = list(by = 0)
    )
    cmp <- quiet_run(
      brief(table, "y"),
      candidates(a = fam_shift(by = 0.4), b = fam_shift(by = -0.4)),
      splits = split_kfold(10),
      metrics = "rmse",
      seed = seed
    )
    pair <- compare_pairs(cmp)
    pair$low <= 0 && pair$high >= 0
  }, logical(1))
  # 95 % within four standard errors of a simulation of so many
  expect_gt(mean(covered), 0.95 - 4 * sqrt(0.95 * 0.05 / runs))
})

test_that(
  paste(
    "with fewer than five splits it cannot be said; in time it is not offered; one split has",
    "no spread"
  ),
  {
    few <- quiet_run(
      toy_brief(),
      candidates(b = fam_baseline(), t = fam_tree()),
      splits = split_kfold(3),
      seed = 1
    )
    expect_true(all(is.na(shortlist(few, all = TRUE)$answer[-1])))
    expect_output(print(shortlist(few)), "of 1 other setting it cannot be said")
    one <- quiet_run(
      toy_brief(),
      candidates(b = fam_baseline(), t = fam_tree()),
      splits = split_holdout(0.3, draws = 1),
      seed = 1
    )
    for (rule in c("one_se", "one_se_1984", "no_worse", "steady")) {
      expect_error(select_final(one, rule), "two splits", class = "kw_error_select")
    }
    expect_output(print(summary(one)), "one split only")
    expect_s3_class(select_final(one, "best_mean"), "kw_choice")
    expect_s3_class(explain_choice(select_final(one, "best_mean")), "tbl_df")
    table <- toy(120)
    table$when <- as.Date("2031-01-01") + seq_len(120)
    timed <- quiet_run(
      brief(table, "number", time = "when", ignore = c("two", "three", "batch")),
      candidates(b = fam_baseline(), t = fam_tree()),
      splits = split_time(first = 0.4, ahead = 0.2),
      seed = 1
    )
    expect_error(shortlist(timed), "time", class = "kw_error_select")
    expect_error(select_final(timed, "no_worse"), "In time", class = "kw_error_select")
    expect_identical(
      select_final(timed, "one_se")$reason, select_final(timed, "one_se_1984")$reason
    )
  }
)

test_that("one sentence says what was chosen, how good it is, and what is as good", {
  cmp <- toy_comparison()
  said <- kw("in_one_sentence")(select_final(cmp, "best_mean"))
  expect_match(said, "was chosen; its AUC, corrected for having been picked from 19 settings, is")
  expect_match(said, "\\(95 % interval 0[.0-9]+ to [.0-9]+\\); of 18 other")
})

test_that("all settings tied: every rule picks the simplest", {
  cmp <- quiet_run(
    toy_brief("number"),
    candidates(z = fam_tree(pruning = among(0.5, 0.9, 1)), a = fam_baseline()),
    splits = split_kfold(5),
    seed = 1
  )
  expect_identical(nrow(shortlist(cmp)), 4L)
  for (rule in c("best_mean", "one_se", "one_se_1984", "no_worse", "steady")) {
    expect_identical(candidate_of(select_final(cmp, rule)), "a")
  }
  expect_identical(candidate_of(select_final(cmp, "within", margin = 0)), "a")
})

test_that("within, steady and a function of one's own choose as they say", {
  cmp <- toy_comparison()
  table <- standings(cmp)
  steady <- select_final(cmp, "steady")
  at <- which.max(table$mean - table$sd)
  expect_equal(c(steady$mean, steady$sd), c(table$mean[at], table$sd[at]))
  within <- select_final(cmp, "within", margin = 0.02)
  expect_gte(within$mean, table$mean[1] - 0.02)
  expect_match(within$reason, "within 0.02 of the best")
  third <- select_final(cmp, function(rows) 3)
  expect_equal(third$mean, table$mean[3])
  said <- select_final(cmp, function(rows) {
    list(row = which.min(rows$sd), reason = "It moves least.")
  })
  expect_identical(said$reason, "It moves least.")
  expect_error(
    select_final(cmp, function(rows) 999), "number of one of the",
    class = "kw_error_select"
  )
  expect_error(select_final(cmp, "within"), "margin", class = "kw_error_argument")
  expect_error(select_final(cmp, "one_se", margin = 1), class = "kw_error_argument")
  explained <- explain_choice(within, margin = 0.02)
  expect_setequal(
    explained$rule, c("best_mean", "no_worse", "one_se", "one_se_1984", "steady", "within")
  )
  expect_true(explained$picked[explained$rule == "within"])
})

test_that("standings at the level of candidates and families hold the best of each", {
  cmp <- toy_comparison()
  best <- standings(cmp, level = "candidates")
  expect_identical(best$candidate, unique(standings(cmp)$candidate))
  expect_identical(standings(cmp, level = "families")$family, best$candidate)
})

test_that("Tibshirani's correction follows its formula, and noise is seen through", {
  cmp <- toy_comparison()
  scores <- cmp$results$scores$auc
  bias <- vapply(1:2, function(rep) {
    mine <- scores[, (rep - 1) * 5 + 1:5]
    best <- which.max(rowMeans(mine))
    mean(apply(mine, 2, max) - mine[best, ])
  }, numeric(1))
  found <- optimism(cmp)
  expect_equal(found$score[found$estimate == "fold_corrected"], max(rowMeans(scores)) - mean(bias))
  expect_match(found$note[found$estimate == "bootstrap"], "all_predictions")
  expect_equal(found$optimism[1], 0)
})

# Predicts by the sign of a random direction of the columns: nothing but luck.
noise_family <- function() {
  define_family("lucky", "two_class", function(x, y, weights, settings, seed, threads) {
    sin(settings$way * seq_len(ncol(x)) * 12.9898)
  }, function(model, x) {
    p <- stats::plogis(drop(x %*% model))
    cbind(1 - p, p)
  }, defaults = list(way = 1))
}

test_that("on pure noise the naive score is too good, and corrections and nesting find the truth", {
  fam_lucky <- noise_family()
  each <- lapply(1:8, function(seed) {
    table <- withr::with_seed(
      seed, data.frame(matrix(rnorm(80 * 8), 80), y = rep(c("no", "yes"), 40))
    )
    plan <- plan_comparison(
      brief(table, "y", event = "yes"),
      candidates(l = pipeline(fam_lucky(way = among(1:40)))),
      splits = split_kfold(5),
      metrics = "accuracy",
      seed = seed
    )
    cmp <- quiet_run(plan, keep = "all_predictions")
    nested <- assess_selection(
      cmp,
      outer = split_kfold(4), rule = "best_mean", quiet = TRUE, workers = 1
    )
    optimism(cmp, nested = nested, draws = 200)
  })
  score <- function(name) {
    vapply(each, function(found) found$score[found$estimate == name], numeric(1))
  }
  reach <- function(x) 4 * sd(x) / sqrt(length(x))
  # the truth is 0.5
  expect_gt(mean(score("naive")) - reach(score("naive")), 0.5)
  for (name in c("bootstrap", "nested")) expect_lt(abs(mean(score(name)) - 0.5), reach(score(name)))
  expect_lt(mean(score("fold_corrected")), mean(score("naive")) - 0.03)
})

test_that("nested resampling never lets a model see the rows that judge it", {
  table <- toy(100)
  plan <- plan_comparison(
    toy_brief("number", table),
    candidates(b = fam_baseline(), l = fam_linear()),
    splits = split_kfold(3),
    metrics = "rmse",
    seed = 4
  )
  found <- assess_selection(plan, outer = split_kfold(4), quiet = TRUE, workers = 1)
  expect_identical(found$scores$outer_split, 1:4)
  outer <- kw("make_splits")(split_kfold(4), plan$brief, kw("derive_seed")(4, "outer splits"))
  for (i in 1:4) {
    train <- outer[[i]]$training
    plain <- if (found$choices$candidate[i] == "b") mean(table$number[train]) else
      predict(lm(number ~ x1 + x2 + x3 + colour, table[train, ]), table[outer[[i]]$validation, ])
    expect_equal(found$scores$outer[i], sqrt(mean((table$number[outer[[i]]$validation] - plain)^2)))
  }
  expect_output(print(found), "judged on outer splits")
  folder <- withr::local_tempdir()
  again <- assess_selection(
    plan,
    outer = split_kfold(4), quiet = TRUE, workers = 1, journal = folder
  )
  expect_identical(again$scores, found$scores)
  expect_length(list.files(folder, "sqlite$"), 4)
})

test_that(
  paste(
    "settings without all their scores are left out, and a metric that is undefined on some",
    "splits is compared on the rest"
  ),
  {
    fam_fails <- define_family(
      "fails",
      "two_class",
      function(x, y, weights, settings, seed, threads) {
        if (settings$bad == 1 && length(y) %% 2 == 1) stop("odd")
        mean(as.integer(y) == 2)
      },
      function(model, x) cbind(rep(1 - model, nrow(x)), model),
      defaults = list(bad = 0)
    )
    cmp <- quiet_run(
      toy_brief(table = toy(151)),
      candidates(f = pipeline(pre_onehot(), fam_fails(bad = among(0, 1))), t = fam_tree()),
      splits = split_kfold(6),
      seed = 2
    )
    expect_true(any(is.na(standings(cmp)$place)))
    expect_false(anyNA(shortlist(cmp, all = TRUE)$mean))
    expect_match(diagnose(cmp)$code, "failures", all = FALSE)
    expect_output(print(summary(cmp)), "failures")
    table <- toy(144)
    table$two <- c(rep("yes", 9), rep("no", 135))
    rare <- quiet_run(
      toy_brief("two_class", table),
      candidates(b = fam_baseline(), t = fam_tree()),
      splits = split_kfold(12, stratify = FALSE),
      metrics = "auc",
      seed = 4
    )
    used <- unique(standings(rare)$splits)
    expect_lt(used, 12)
    expect_true(all(shortlist(rare, all = TRUE)$splits == used))
    expect_s3_class(optimism(rare), "tbl_df")
  }
)
