# Screens: what they drop, what they keep, and that nothing dropped is ranked.

screened_plan <- function(screen, splits = split_kfold(8), ...) {
  table <- toy(240)
  plan_comparison(toy_brief(table = table),
    candidates(
      base = fam_baseline(),
      near = pipeline(pre_missing(), pre_onehot(), pre_scale(), fam_neighbours(
        neighbours = among(1, 3, 9, 27), weighting = among("equal", "inverse")
      )),
      tree = pipeline(pre_missing(), fam_tree(
        pruning = among(0.001, 0.03), min_leaf = among(2, 10, 30, 60)
      ))
    ),
    splits = splits, metrics = c("auc", "log_loss"), seed = 6, screen = screen, ...
  )
}

# The decisions of screen_splits(), setting by setting, in plain R.
screened_by_hand <- function(full, screen, fit, splits) {
  auc <- full$results$scores$auc
  alive <- rep(TRUE, nrow(auc))
  gone <- integer(nrow(auc))
  seen <- screen$first
  ratio <- mean(vapply(splits, function(s) length(s$validation) / length(s$training), 1))
  while (seen < ncol(auc)) {
    now <- auc[, seq_len(seen)]
    known <- alive
    worse <- rep(FALSE, nrow(auc))
    leader <- vapply(seq_len(seen), function(j) {
      means <- rowMeans(now[, -j, drop = FALSE])
      means[!known] <- -Inf
      which.max(means)
    }, 1L)
    margin <- 1e-3 * stats::sd(now[which.max(ifelse(known, rowMeans(now), -Inf)), ])
    for (i in which(known)) {
      d <- now[cbind(leader, seq_len(seen))] - now[i, ]
      se <- sqrt((1 / seen + ratio) * stats::var(d))
      worse[i] <- mean(d) - stats::qt(screen$level, seen - 1) * se > margin + 1e-12
    }
    best <- which(known)[order(-rowMeans(now)[known])][seq_len(screen$at_least)]
    worse[best] <- FALSE
    # the baseline was scored in full before
    worse[1] <- FALSE
    for (f in unique(fit[known])) {
      its <- known & fit == f
      if (!all(worse[its])) worse[its] <- FALSE
    }
    gone[worse] <- seen
    alive <- alive & !worse
    seen <- seen + max(1, seen %/% 3)
  }
  gone
}

test_that("screen_splits() drops what a plain loop over the scores of all splits drops", {
  full <- quiet_run(screened_plan(NULL), workers = 1)
  work <- kw("work_of")(full)
  for (arguments in list(
    list(first = 3, level = 0.95, at_least = 2), list(first = 4, level = 0.7, at_least = 1)
  )) {
    screen <- do.call(screen_splits, arguments)
    cmp <- quiet_run(screened_plan(screen), workers = 1)
    by_hand <- screened_by_hand(full, arguments, work$settings$fit, full$plan$splits)
    gone <- cmp$results$dropped
    expect_gt(nrow(gone), 3)
    found <- integer(length(by_hand))
    found[gone$at] <- gone$splits
    expect_equal(found, by_hand)
    expect_identical(unique(gone$why), "clearly worse than the leader")
    # what is left has the scores of the full run; what is gone has some and no place
    kept <- setdiff(seq_along(by_hand), gone$at)
    expect_identical(cmp$results$scores$auc[kept, ], full$results$scores$auc[kept, ])
    expect_identical(nrow(standings(cmp)), length(kept))
    expect_false(anyNA(standings(cmp)$place))
    all <- standings(cmp, level = "all")
    expect_identical(nrow(all), length(by_hand))
    out <- all[is.na(all$place), ]
    expect_setequal(paste(out$candidate, out$setting), paste(names(cmp$plan$spaces)[
      gone$candidate], gone$setting))
    expect_equal(out$splits, gone$splits)
    expect_equal(out$so_far, vapply(seq_len(nrow(gone)), function(i) {
      mean(full$results$scores$auc[gone$at[i], seq_len(gone$splits[i])])
    }, 1))
    expect_output(print(cmp), "were dropped after")
    left <- kw("settings_left")(cmp)
    last <- left[left$stage == max(left$stage), ]
    expect_identical(
      stats::setNames(last$left, as.character(last$candidate)),
      c(table(factor(standings(cmp)$candidate, levels(left$candidate))))[
        as.character(last$candidate)]
    )
    expect_s3_class(ggplot2::ggplot_build(draw_screen(cmp)), "ggplot_built")
    expect_s3_class(select_final(cmp), "kw_choice")
  }
})

test_that("a screened run is the same on workers, after a break and from its journal", {
  screens <- list(screen_splits(level = 0.8), screen_rows(shares = 0.3, first = 3, at_least = 2))
  for (screen in screens) {
    plan <- screened_plan(screen)
    plain <- quiet_run(plan, workers = 1)
    everything <- function(cmp) list(numbers_of(cmp), cmp$results$dropped)
    expect_gt(nrow(plain$results$dropped), 0)
    expect_identical(everything(quiet_run(plan, workers = 2)), everything(plain))
    file <- journal_file()
    expect_identical(everything(quiet_run(plan, journal = file)), everything(plain))
    opened <- open_comparison(file)
    expect_identical(everything(opened), everything(plain))
    expect_null(opened$stopped)
    expect_equal(opened$plan$screen$arguments, screen$arguments)
    change_rows(file, "DELETE FROM fits WHERE split IN (SELECT split FROM fits LIMIT 1)")
    expect_identical(everything(quiet_run(plan, journal = file)), everything(plain))
    # begun with fewer settings, of which the screen left more: that the journal has it changes
    # nothing, neither now nor when it is opened
    begun <- journal_file()
    few <- quiet_run(plan, journal = begun, limits = limits(settings = 6))
    expect_identical(everything(open_comparison(begun)), everything(few))
    expect_identical(everything(quiet_run(plan, journal = begun)), everything(plain))
    expect_gt(count_rows(begun), count_rows(file))
    expect_identical(everything(open_comparison(begun)), everything(plain))
    expect_identical(everything(quiet_run(plan, journal = begun, limits = limits(settings = 6))),
      everything(few))
    expect_identical(everything(open_comparison(begun)), everything(few))
  }
})

test_that("a share of the rows lies within a larger one, with whole groups and all classes", {
  table <- toy(300)
  table$batch <- rep(1:60, each = 5)
  for (group in list(NULL, "batch")) {
    job <- toy_brief(table = table, group = group)
    plan <- plan_comparison(job, candidates(b = fam_baseline()), splits = split_kfold(5), seed = 2)
    run <- kw("new_run")(
      plan, kw("new_work")(plan$spaces), kw("working_data")(plan$brief), "none", limits()
    )
    shares <- c(0.05, 0.1, 0.3, 0.7)
    rows <- lapply(shares, function(share) kw("training_rows")(run, 1L, share))
    all <- plan$splits[[1]]$training
    for (i in seq_along(shares)) {
      expect_true(all(rows[[i]] %in% c(rows, list(all))[[i + 1]]))
      expect_equal(length(rows[[i]]) / length(all), shares[i], tolerance = 0.25)
      outcome <- plan$brief$table[[plan$brief$outcome]]
      expect_true(all(table(outcome[rows[[i]]]) > 0))
      if (!is.null(group)) {
        expect_length(intersect(table$batch[rows[[i]]], table$batch[setdiff(all, rows[[i]])]), 0)
      }
    }
  }
})

test_that("screen_rows() keeps the better part by scores on a share of the rows", {
  screen <- screen_rows(shares = 0.4, keep = 0.3, first = 3, at_least = 2)
  plan <- screened_plan(screen)
  cmp <- quiet_run(plan, workers = 1)
  work <- kw("work_of")(cmp)
  run <- kw("new_run")(plan, work, kw("working_data")(plan$brief), "none", limits())
  # the same fits, done by hand on the same rows
  splits <- 1:3
  by_fit <- vapply(seq_along(work$fits$node), function(fit) {
    scores <- vapply(splits, function(s) {
      smaller <- run
      smaller$splits[[s]]$training <- kw("training_rows")(run, s, 0.4)
      smaller$splits[[s]]$key <- paste(run$splits[[s]]$key, "0.4")
      kw("run_unit")(smaller, s, fit)$validation[, "auc"]
    }, numeric(work$fits$count[fit]))
    max(rowMeans(matrix(scores, ncol = 3)))
  }, 1)
  whose <- work$fits$candidate
  staying <- order(-by_fit)[seq_len(max(2, ceiling(0.3 * length(by_fit))))]
  best_of <- function(i) which(whose == i)[which.max(by_fit[whose == i])]
  staying <- union(staying, vapply(1:3, best_of, 1L))
  expect_setequal(
    unique(work$settings$fit[cmp$results$dropped$at]), setdiff(seq_along(by_fit), staying)
  )
  expect_true(all(cmp$results$dropped$share == 0.4))
  expect_setequal(standings(cmp)$candidate, c("base", "near", "tree"))
  # the baseline was scored in full at once
  expect_identical(sum(cmp$ledger$share < 1), 3L * (length(by_fit) - 1L))
})

test_that("a setting that fails goes, and settings that tie stay", {
  fails <- define_family("fails", "two_class",
    defaults = list(a = 1),
    fit = function(x, y, weights, settings, seed, threads) {
      if (settings$a == 3) stop("never")
      0.5
    },
    predict = function(model, x) cbind(rep(0.5, nrow(x)), 0.5)
  )
  plan <- plan_comparison(toy_brief(table = toy(150)), candidates(f = fails(a = among(1:9))),
    splits = split_kfold(6), metrics = "log_loss", seed = 1, screen = screen_splits()
  )
  cmp <- quiet_run(plan, workers = 1)
  expect_identical(cmp$results$dropped$setting, 3L)
  expect_match(cmp$results$dropped$why, "failed on a split")
  expect_identical(nrow(standings(cmp)), 8L)
  expect_identical(attr(kw("settings_left")(cmp), "stages"), c("begin", "3 splits", "whole"))
  cmp$results$dropped <- cmp$results$dropped[0, ]
  nothing <- kw("settings_left")(cmp)
  expect_identical(attr(nothing, "stages"), c("begin", "whole"))
  expect_identical(nothing$left, c(9L, 9L))
  expect_s3_class(ggplot2::ggplot_build(draw_screen(cmp)), "ggplot_built")
  expect_identical(sum(cmp$ledger$fit == 3L), 3L)
})

test_that("in later rounds, however small, what is worse than earlier settings goes", {
  level <- define_family("level", "number",
    defaults = list(at = 0),
    fit = function(x, y, weights, settings, seed, threads) mean(y) + settings$at,
    predict = function(model, x) rep(model, nrow(x))
  )
  rounds <- define_search("rounds", function(field, history, arguments, memory) {
    if (!is.null(memory)) return(NULL)
    at <- if (is.null(history)) (0:9) / 50 else c(0.05, 0.95, 0.99)
    list(
      settings = list(l = field$from_cube("l", matrix(at))), memory = if (!is.null(history)) TRUE
    )
  })
  for (screen in list(screen_splits(), screen_rows(shares = 0.5, keep = 0.5, first = 3))) {
    plan <- plan_comparison(
      brief(toy(200)[c("x1", "number")], "number"), candidates(l = level(at = from_to(0, 9))),
      splits = split_kfold(8), search = rounds(), metrics = "rmse", seed = 2, screen = screen
    )
    cmp <- quiet_run(plan, workers = 1)
    expect_true(all(12:13 %in% cmp$results$dropped$setting))
    expect_false(11L %in% cmp$results$dropped$setting && screen$name == "splits")
    expect_true(all(cmp$results$dropped$splits[cmp$results$dropped$setting > 11] == 3L))
  }
})

test_that("screens are refused where single splits say too little", {
  refused <- function(...) expect_error(screened_plan(...), class = "kw_error_splits")
  refused(screen_splits(), splits = split_kfold(4))
  refused(screen_splits(first = 8))
  refused(screen_rows(first = 9), splits = split_kfold(8))
  expect_error(
    plan_comparison(toy_brief("number", table = toy(40)), candidates(b = fam_baseline()),
      splits = split_leave_row(), screen = screen_splits()
    ), "scored together",
    class = "kw_error_splits"
  )
  expect_error(screen_splits(first = 2), "first", class = "kw_error_argument")
  expect_error(screen_rows(shares = c(0.3, 0.1)), "rising", class = "kw_error_argument")
  expect_error(screened_plan("splits"), "screen", class = "kw_error_argument")
})

test_that("where every setting fails a screened run says so as any other does", {
  broken <- define_family("broken", "number",
    fit = function(x, y, weights, settings, seed, threads) stop("no luck today"),
    predict = function(model, x) rep(0, nrow(x)), defaults = list(a = 1)
  )
  table <- toy(90)[c("x1", "x2", "number")]
  for (screen in list(screen_splits(), screen_rows())) {
    plan <- plan_comparison(brief(table, "number"), candidates(b = broken(a = among(1:9))),
      splits = split_kfold(6), screen = screen, metrics = "rmse", seed = 1
    )
    expect_error(quiet_run(plan, workers = 1), "no luck today", class = "kw_error_run")
    # beside a candidate that does not fail
    both <- plan_comparison(brief(table, "number"),
      candidates(b = broken(a = among(1:9)), base = fam_baseline()),
      splits = split_kfold(6), screen = screen, metrics = "rmse", seed = 1
    )
    cmp <- suppressWarnings(quiet_run(both, workers = 1))
    expect_identical(standings(cmp)$candidate[1], "base")
    expect_match(standings(cmp, level = "all")$why[-1], "failed", all = TRUE)
  }
})

test_that("lines of candidates with as many settings are drawn beside each other", {
  set.seed(8)
  table <- data.frame(x = rnorm(60), z = rnorm(60))
  table$y <- table$x + rnorm(60)
  cmp <- quiet_run(brief(table, "y"),
    candidates(
      one = fam_tree(min_leaf = among(2, 5, 10)), other = fam_tree(depth = among(2, 3, 4)),
      apart = fam_tree(min_leaf = among(2, 10))
    ),
    splits = split_kfold(5), screen = screen_splits(), seed = 1
  )
  cmp$results$dropped <- cmp$results$dropped[0, ]
  lines <- ggplot2::ggplot_build(draw_screen(cmp))$data[[1]]
  heights <- 10^lines$y[lines$x == 1]
  expect_identical(anyDuplicated(heights), 0L)
  # near what they stand for, and what meets no other line is just there
  expect_lt(max(abs(heights - c(3, 3, 2)) / c(3, 3, 2)), 0.1)
  expect_equal(heights[3], 2)
})
