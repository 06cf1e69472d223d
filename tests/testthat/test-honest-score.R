# What a choice is worth: the correction for being picked, and its interval.

pair_of_numbers <- function(...) {
  quiet_run(toy_brief("number", toy(120)), candidates(
    tree = fam_tree(pruning = from_to(0.001, 0.1, spacing = "log", points = 12)),
    base = fam_baseline()
  ), ..., metrics = "rmse", seed = 5)
}

test_that("one setting has its mean and the interval of the corrected variance", {
  cmp <- quiet_run(toy_brief("number", toy(120)), candidates(tree = fam_tree()),
    splits = split_kfold(6), metrics = "rmse", seed = 5
  )
  scores <- scores_by_split(cmp)$validation
  sizes <- lengths(lapply(rows_by_split(cmp), `[[`, "validation"))
  reach <- qt(0.95, 5) * sd(scores) * sqrt(1 / 6 + mean(sizes / (120 - sizes)))
  found <- honest_score(select_final(cmp), level = 0.9)
  expect_equal(found$score, mean(scores))
  expect_equal(c(found$low, found$high), mean(scores) + c(-1, 1) * reach)
  expect_equal(found$optimism, 0)
})

test_that("draws have held-out rows in common as well, which counts once more", {
  for (splits in list(split_bootstrap(8), split_holdout(0.25, 8))) {
    cmp <- quiet_run(toy_brief("number", toy(120)), candidates(tree = fam_tree()),
      splits = splits, metrics = "rmse", seed = 5
    )
    scores <- scores_by_split(cmp)$validation
    share <- vapply(rows_by_split(cmp), function(split) {
      length(split$validation) / length(unique(split$training))
    }, 1)
    reach <- qt(0.975, 7) * sd(scores) * sqrt(1 / 8 + 2 * mean(share))
    found <- honest_score(select_final(cmp))
    expect_equal(c(found$low, found$high), mean(scores) + c(-1, 1) * reach)
  }
})

test_that("what was picked from many on noise is corrected by about what it is too good", {
  found <- lapply(1:12, function(seed) {
    set.seed(seed)
    cmp <- quiet_run(brief(hard_table("noise", 200), "y", event = "yes"), candidates(
      t = fam_tree(
        pruning = from_to(1e-3, 0.1, spacing = "log", points = 20), min_leaf = among(2, 9)
      )
    ), splits = split_kfold(10), metrics = "auc", seed = seed, workers = 1)
    honest_score(select_final(cmp, "best_mean"))
  })
  found <- do.call(rbind, found)
  too_good <- mean(found$mean) - 0.5
  expect_gt(too_good, 0.01)
  expect_lt(abs(mean(found$score) - 0.5), 3 * sd(found$score) / sqrt(12) + too_good / 2)
  expect_gt(mean(found$low <= 0.5 & found$high >= 0.5), 0.7)
})

test_that("what scores alike on every split owes nothing to luck", {
  set.seed(4)
  cmp <- quiet_run(brief(hard_table("noise", 60), "y", event = "yes"), candidates(
    b = fam_baseline(), t = fam_tree(min_leaf = among(2, 5, 9))
  ), splits = split_kfold(5), metrics = "auc", seed = 4)
  found <- honest_score(select_final(cmp, candidate = "b"))
  expect_identical(unlist(found[c("score", "low", "high")], use.names = FALSE), rep(0.5, 3))
  among_all <- honest_score(select_final(cmp, function(table) which(table$candidate == "b")))
  expect_identical(among_all$score, 0.5)
  expect_gt(honest_score(select_final(cmp, "best_mean", candidate = "t"))$optimism, 0)
})

test_that("it repeats the rule, is the same every time, and keeps the caller's random numbers", {
  cmp <- pair_of_numbers(splits = split_kfold(5, repeats = 2))
  set.seed(1)
  before <- .Random.seed
  first <- honest_score(select_final(cmp, "one_se"))
  expect_identical(.Random.seed, before)
  expect_identical(honest_score(select_final(cmp, "one_se")), first)
  own <- honest_score(select_final(cmp, function(table) 2))
  expect_match(own$note, "as if the best mean")
  expect_gte(own$optimism, 0)
  # the worse end starts from the corrected mean, the better one from the mean
  expect_equal(first$score, first$mean + first$optimism)
  expect_equal(first$high - first$score, first$mean - first$low)
  for (rule in c("best_mean", "one_se_1984", "no_worse", "steady")) {
    expect_true(is.finite(honest_score(select_final(cmp, rule))$optimism))
  }
})

test_that("where nothing is known of the error it says so", {
  one <- pair_of_numbers(splits = split_holdout(0.3, draws = 1))
  found <- honest_score(select_final(one, "best_mean"))
  expect_true(is.na(found$low) && is.na(found$optimism))
  expect_output(print(select_final(one, "best_mean")), "one split says nothing")
  pooled <- quiet_run(toy_brief("two_class", toy(30)), candidates(
    t = fam_tree(min_leaf = among(2, 5)), b = fam_baseline()
  ), splits = split_leave_row(), metrics = "log_loss", seed = 1)
  found <- honest_score(select_final(pooled, "best_mean"))
  expect_true(found$low < found$score && found$score <= found$mean + 1 && is.finite(found$high))
  expect_error(honest_score(pooled), class = "kw_error_argument")
  table <- toy(90)
  table$day <- seq(as.Date("2020-01-01"), by = "day", length.out = 90)
  job <- brief(table, "number", time = "day")
  timed <- quiet_run(job, candidates(b = fam_baseline()), splits = split_time(), seed = 1)
  expect_match(honest_score(select_final(timed))$note, "depend on one another")
})

test_that("the interval is where a choice is shown: print, summary, card, sentence", {
  cmp <- pair_of_numbers(splits = split_kfold(5))
  choice <- select_final(cmp)
  for (shown in list(choice, summary(cmp))) {
    expect_output(print(shown), "on\\s+new\\s+rows")
  }
  file <- withr::local_tempfile()
  write_card(fit_final(choice), file)
  expect_match(paste(readLines(file), collapse = " "), "on new rows")
  expect_match(kw("in_one_sentence")(choice), "corrected for having been picked from 13 settings")
})

test_that("what a rule gives away is had on splits that it did not choose by", {
  cmp <- pair_of_numbers(splits = split_kfold(8))
  choice <- select_final(cmp)
  rules <- explain_choice(choice, margin = 100)
  cost <- stats::setNames(rules$cost, rules$rule)
  expect_identical(cost[["best_mean"]], 0)
  # with such a margin the simplest is taken whatever the splits are, so that the cost is about the
  # difference of the means
  table <- standings(cmp)
  apart <- table$mean[table$candidate == "base"] - table$mean[1]
  expect_equal(cost[["within"]], apart, tolerance = 0.25)
  expect_identical(rules, explain_choice(choice, margin = 100))
  base <- candidates(base = fam_baseline())
  alone <- quiet_run(toy_brief("number"), base, splits = split_kfold(3))
  expect_true(all(is.na(explain_choice(select_final(alone))$cost)))
})
