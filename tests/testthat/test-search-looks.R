# Evolution looks at new settings on few splits before it asks for the others.

# A hill over a and b; every split adds something of its own, and every setting a little noise.
rough_family <- function(name) {
  define_family(name, "number",
    defaults = list(a = 1, b = 1, top = 0),
    fit = function(x, y, weights, settings, seed, threads) {
      settings$top + (settings$a - 0.4)^2 + (settings$b - 0.7)^2 + (seed %% 97) / 97 * 0.02
    },
    predict = function(model, x) rep(model, nrow(x)) + x[, "x"] / 10,
    random = TRUE
  )
}

rough_rivals <- function() {
  values <- among(0:9 / 10)
  candidates(
    good = pipeline(optional(pre_skew()), rough_family("good")(a = values, b = values)),
    bad = rough_family("bad")(a = values, b = values, top = 2)
  )
}

rough_plan <- function(search, folds = 6, ...) {
  table <- data.frame(x = seq(-1, 1, length.out = 90), y = seq(-1, 1, length.out = 90) * 1e-3)
  plan_comparison(brief(table, "y"), rough_rivals(),
    splits = split_kfold(folds), metrics = "rmse", search = search, seed = 3, ...
  )
}

# On how many splits every setting was scored.
splits_known <- function(cmp) rowSums(cmp$results$done)

test_that("evolution scores in full what may lead, and looks at the rest on one split", {
  cmp <- quiet_run(rough_plan(search_evolve(60)), workers = 1)
  whole <- quiet_run(rough_plan(search_evolve(60, first_splits = 99)), workers = 1)
  known <- splits_known(cmp)
  expect_setequal(unique(known), c(1, 6))
  expect_identical(unique(splits_known(whole)), 6)
  expect_lt(sum(known), 0.6 * sum(splits_known(whole)))
  # and finds what is as good
  expect_lt(min(standings(cmp)$mean), min(standings(whole)$mean) + 0.01)
  # of every candidate something is ranked; of a hopeless one no more than the simplest setting of
  # the run, where it is its own, and its best
  ranked <- standings(cmp)
  expect_setequal(ranked$candidate, c("good", "bad"))
  expect_lte(sum(ranked$candidate == "bad"), 2)
  # generation after generation on another split
  looked <- cmp$results$done[known == 1, ]
  generation <- cmp$results$round[known == 1]
  at <- tapply(apply(looked, 1, which), generation, unique)
  expect_true(all(lengths(at) == 1))
  expect_setequal(unlist(at), 1:6)
  expect_match(paste(summary(cmp), collapse = " "), paste(sum(known == 6), "scored on all"))
  left <- standings(cmp, level = "all")
  expect_identical(sum(!is.na(left$why)), sum(known == 1))
  # at first one of them in full, the simplest
  first <- preview(rough_plan(search_evolve(60)), pilots = FALSE)
  expect_identical(first$scores, first$settings - 1L + 6L)
  expect_output(print(first), "settings x 6 splits, in part at first")
})

test_that("the same is asked for by any number of workers, and after a resume", {
  plan <- rough_plan(search_evolve(30))
  file <- journal_file()
  cmp <- quiet_run(plan, workers = 1, journal = file)
  expect_identical(quiet_run(plan, workers = 2)$results$done, cmp$results$done)
  change_rows(file, "DELETE FROM fits WHERE substr(fit, 1, 1) < '9'")
  resumed <- quiet_run(plan, workers = 1, journal = file)
  same_numbers(resumed, cmp)
  expect_identical(resumed$results$done, cmp$results$done)
  same_numbers(open_comparison(file), cmp)
})

test_that("there are no first looks under a screen, on few splits, and where scores are pooled", {
  in_rounds <- function(plan) {
    cmp <- quiet_run(plan, workers = 1)
    list(tasks = lapply(cmp$rounds, `[[`, "tasks"), cmp = cmp)
  }
  none <- function(found) all(vapply(found$tasks, is.null, NA))
  screened <- in_rounds(rough_plan(search_evolve(20), screen = screen_splits(3)))
  expect_true(none(screened))
  expect_gte(min(splits_known(screened$cmp)), 3)
  few <- in_rounds(rough_plan(search_evolve(20), folds = 4))
  expect_true(none(few))
  expect_identical(unique(splits_known(few$cmp)), 4)
  expect_true(none(in_rounds(rough_plan(search_evolve(20, first_splits = 6)))))
  pooled <- plan_comparison(
    brief(data.frame(x = 1:24, y = sin(1:24)), "y"), rough_rivals(),
    splits = split_leave_row(), metrics = "rmse", search = search_evolve(8), seed = 1
  )
  expect_true(none(in_rounds(pooled)))
  expect_error(search_evolve(first_splits = 0), class = "kw_error_argument")
  expect_error(search_evolve(first_splits = 1.5), class = "kw_error_argument")
})

test_that("what may be better than the leader goes on, by the spread of differences", {
  set.seed(4)
  scores <- matrix(rnorm(60), 10) + rep(rnorm(6), each = 10)
  scores[6:10, ] <- NA
  scores[6, 2] <- max(scores[1:5, 2]) + 1
  scores[7, 3] <- scores[which.max(rowMeans(scores[1:5, ])), 3] - 0.1
  scores[8, 1:3] <- -9
  good <- rowMeans(scores, na.rm = TRUE)
  seen <- list(scores = scores, known = rowSums(!is.na(scores)), good = good)
  # in a plain loop
  leader <- which.max(good[1:5])
  better <- which(good[1:5] >= median(good[1:5]))
  spread <- c()
  for (i in setdiff(better, leader)) spread <- c(spread, sd(scores[leader, ] - scores[i, ]))
  low <- c()
  for (i in 6:8) {
    apart <- na.omit(scores[leader, ] - scores[i, ])
    low <- c(low, mean(apart) - 0.25 * median(spread) * sqrt(1 / length(apart) - 1 / 6))
  }
  found <- kw("apart_from_leader")(seen)
  expect_equal(found$low[6:8], low)
  expect_identical(found$low[6:8] <= 0, c(TRUE, TRUE, FALSE))
  expect_equal(found$error, median(spread) / sqrt(6))
  # what is next: the others of six; of thirty ten first, and those behind it before the first ones
  expect_identical(kw("next_splits")(1:6, 2L), integer())
  expect_identical(kw("next_splits")(1:30, 28L), c(1:7, 28:30))
})

test_that("a setting that fails or misses the constraints is not asked for on more splits", {
  fails <- define_family("fails", "number",
    defaults = list(a = 1),
    fit = function(x, y, weights, settings, seed, threads) {
      if (settings$a < 4) stop("it cannot be so small")
      settings$a
    },
    predict = function(model, x) rep(model, nrow(x)) / 10
  )
  table <- data.frame(x = 1:60, y = rep(0:1, 30) / 100)
  run <- function(...) {
    quiet_run(plan_comparison(brief(table, "y", outcome_kind = "number"),
      candidates(fails = fails(a = among(0:9))),
      splits = split_kfold(5), metrics = c("rmse", "mae"), search = search_evolve(10), seed = 2, ...
    ), workers = 1)
  }
  cmp <- run()
  settings <- cmp$results$tables$fails
  known <- splits_known(cmp)
  # the first one is tried on all splits, whatever comes
  expect_identical(sort(known[settings$a < 4]), c(1, 1, 1, 5))
  expect_identical(standings(cmp)$a[1], 4)
  # those below 0.65 miss it
  cmp <- run(provided = "mae >= 0.65")
  settings <- cmp$results$tables$fails
  expect_identical(standings(cmp)$a[1], 7)
  expect_lte(sum(splits_known(cmp)[settings$a %in% 4:6] == 5), 1)
})

test_that("settings that diverge keep nothing else from being scored", {
  # near its defaults, which are tried first and in full, the scores are infinite
  far <- define_family("far", "number",
    defaults = list(a = 5, b = 1),
    fit = function(x, y, weights, settings, seed, threads) {
      if (settings$a > 2) 1e200 else settings$a + settings$b
    },
    predict = function(model, x) rep(model, nrow(x))
  )
  table <- data.frame(x = 1:60, y = rep(0:1, 30) / 100)
  cmp <- quiet_run(plan_comparison(brief(table, "y", outcome_kind = "number"),
    candidates(far = far(a = among(0:5), b = among(0:5))),
    splits = split_kfold(6), metrics = "rmse", search = search_evolve(30), seed = 2
  ), workers = 1)
  expect_lt(standings(cmp)$mean[1], 2)
  # of what diverged nothing but the first is scored in full
  diverged <- cmp$results$tables$far$a > 2
  expect_identical(sum(splits_known(cmp)[diverged] == 6), 1L)
})
