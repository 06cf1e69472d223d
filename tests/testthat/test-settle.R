# More splits for those settings of which nobody can say yet whether they are as good as the leader.

settle_plan <- function(splits = split_kfold(5), metrics = c("rmse", "mae"), ...) {
  table <- withr::with_seed(5, data.frame(x1 = rnorm(120), x2 = rnorm(120)))
  table$number <- 2 * table$x1 + table$x2 + withr::with_seed(6, rnorm(120))
  plan_comparison(brief(table, "number"),
    candidates(
      base = fam_baseline(), tree = fam_tree(min_leaf = among(2, 5, 40)),
      line = pipeline(pre_scale(), fam_penalised(penalty = from_to(0.001, 1, "log", 4)))
    ),
    splits = splits, search = search_grid(), metrics = metrics, seed = 3, ...
  )
}

test_that("only the leader and what is undecided get more splits, and the rest keep their spread", {
  cmp <- quiet_run(settle_plan(split_kfold(10)), workers = 1)
  settled <- settle(cmp, repeats = 2, quiet = TRUE, workers = 1)
  whole <- extend_comparison(cmp, repeats = 2, quiet = TRUE, workers = 1)
  expect_length(whole$plan$splits, 30)
  expect_false(anyNA(whole$results$scores$rmse))
  # the scores that there are, are those of all on all splits
  mine <- settled$results$scores$rmse
  there <- !is.na(mine)
  expect_identical(mine[there], whole$results$scores$rmse[there])
  expect_identical(mine[, 1:10], cmp$results$scores$rmse)
  looks <- settled$settled
  expect_identical(looks$splits[1], 10L)
  expect_identical(looks$undecided + looks$same + looks$worse, rep(nrow(standings(cmp)) - 1L,
    nrow(looks)))
  # those that were worse for sure at the start got nothing, while they stayed so
  expect_gt(looks$worse[1], 0)
  expect_true(any(rowSums(!is.na(mine)) == 10))
  expect_true(all(rowSums(!is.na(mine)) %in% c(10, 20, 30)))
  table <- standings(settled)
  at <- match(paste(table$candidate, table$setting), paste(
    names(settled$plan$spaces)[settled$results$candidate], settled$results$row
  ))
  expect_equal(table$mean, rowMeans(mine[at, ], na.rm = TRUE))
  expect_equal(table$sd, apply(mine[at, ], 1, sd, na.rm = TRUE))
  expect_equal(table$se, table$sd / sqrt(10))
  expect_equal(table$splits, rowSums(!is.na(mine[at, ])))
  # the leader's interval against another one, from the splits in common
  near <- shortlist(settled, all = TRUE)
  apart <- mine[at[2], ] - mine[at[1], ]
  n <- sum(!is.na(apart))
  se <- sqrt((1 / n + 1 / 9) * var(apart, na.rm = TRUE))
  expect_equal(near$low[2], mean(apart, na.rm = TRUE) - qt(0.975, n - 1) * se, tolerance = 1e-6)
  expect_output(print(settled), "scored on up to 30 splits", fixed = TRUE)
  expect_match(summary(settled), "it took no more to judge, on 10", all = FALSE, fixed = TRUE)
})

test_that("everything that reads a comparison reads one that was settled", {
  cmp <- quiet_run(settle_plan(provided = "mae <= 2"), workers = 1)
  settled <- settle(cmp, repeats = 2, quiet = TRUE, workers = 1)
  choice <- select_final(settled)
  expect_true(is.finite(honest_score(choice)$low))
  loser <- select_final(settled, candidate = "base")
  expect_true(is.finite(honest_score(loser)$score))
  expect_true(all(is.finite(explain_choice(choice)$mean)))
  expect_true(is.finite(optimism(settled)$score[2]))
  expect_false(anyNA(shortlist(settled, adjust = "step_down")$p))
  expect_identical(unique(compare_pairs(settled)$splits)[1] >= 5, TRUE)
  withr::local_pdf(NULL)
  expect_no_warning(print(draw_split_scores(settled)))
  expect_no_warning(print(draw_standings(settled)))
  expect_s3_class(fit_final(choice), "kw_model")
  scores <- scores_by_split(settled, "rmse")
  expect_false(anyNA(scores$validation))
  expect_identical(nrow(scores), sum(!is.na(settled$results$scores$rmse)))
  # further candidates are scored on all splits, and it can be settled again
  more <- extend_comparison(settled, candidates(deep = fam_tree(depth = 9)), quiet = TRUE,
    workers = 1)
  expect_identical(standings(more)$splits[standings(more)$candidate == "deep"], 15)
  again <- settle(more, repeats = 1, quiet = TRUE, workers = 1)
  expect_length(again$plan$splits, 20)
  expect_identical(again$plan$everywhere, 1:5)
})

test_that("it is the same on two workers, and comes back from its journal", {
  cmp <- quiet_run(settle_plan(), workers = 1)
  one <- settle(cmp, repeats = 2, quiet = TRUE, workers = 1)
  file <- journal_file()
  two <- settle(cmp, repeats = 2, quiet = TRUE, workers = 2, journal = file)
  expect_identical(standings(two)$mean, standings(one)$mean)
  expect_identical(two$settled, one$settled)
  opened <- open_comparison(file)
  expect_null(opened$stopped)
  expect_identical(standings(opened)[1:8], standings(one)[1:8])
  expect_identical(opened$plan$everywhere, one$plan$everywhere)
  # none of the minutes is left: all is as it was
  late <- settle(cmp, repeats = 2, minutes = 1e-6, quiet = TRUE, workers = 1)
  expect_match(late$stopped, "minutes")
  expect_equal(standings(late)$mean, standings(cmp)$mean)
})

test_that("bootstrap draws and holdouts are settled too, by fives", {
  for (splits in list(split_bootstrap(6, score = "632"), split_holdout(0.3, draws = 6))) {
    cmp <- quiet_run(settle_plan(splits, "mae"), workers = 1)
    settled <- settle(cmp, repeats = 2, quiet = TRUE, workers = 1)
    expect_identical(settled$settled$splits[1], 6L)
    expect_lte(max(settled$settled$splits), 16L)
    whole <- extend_comparison(cmp, repeats = 10, quiet = TRUE, workers = 1)
    known <- kw("score_summary")(settled, "mae")$scores
    there <- !is.na(known)
    expect_equal(known[there], kw("score_summary")(whole, "mae")$scores[there])
  }
})

test_that("what cannot be settled is said", {
  expect_error(settle(quiet_run(settle_plan(split_kfold(3)), workers = 1)),
    "extend_comparison", class = "kw_error_select")
  pooled <- quiet_run(settle_plan(split_kfold(40)), workers = 1)
  expect_error(settle(pooled), "scored together", class = "kw_error_splits")
  expect_error(extend_comparison(pooled), "Nothing is to be added", class = "kw_error_argument")
  table <- transform(toy(60)[c("x1", "number")], day = 1:60)
  timed <- quiet_run(plan_comparison(brief(table, "number", time = "day"),
    candidates(b = fam_baseline()), splits = split_time(), metrics = "rmse", seed = 1), workers = 1)
  expect_error(settle(timed), class = "kw_error_select")
  expect_error(extend_comparison(timed, repeats = 1), "cannot be repeated",
    class = "kw_error_splits")
  cmp <- quiet_run(settle_plan(), workers = 1)
  expect_error(settle(cmp, repeats = 0), "repeats", class = "kw_error_argument")
  expect_error(settle(quiet_run(settle_plan(provided = "mae <= 0.001"), workers = 1)),
    "No setting meets", class = "kw_error_select")
  expect_error(settle(cmp, margin = -1), "margin", class = "kw_error_argument")
  # one setting has nobody to be compared with
  alone <- quiet_run(plan_comparison(cmp$plan$brief, candidates(b = fam_baseline()),
    splits = split_kfold(5), metrics = "rmse", seed = 1), workers = 1)
  expect_identical(settle(alone, quiet = TRUE, workers = 1)$settled$undecided, 0L)
})

test_that("looking again and again does not find differences that are not there", {
  # in full a false alarm in a tenth of the runs or more would be found out in most of the cases
  runs <- if (in_full()) 30 else 10
  rate <- mean(simulate(runs, function(s) alike_settled_different(s, split_kfold(5), 3, n = 50)))
  expect_lte(rate, 0.1)
})
