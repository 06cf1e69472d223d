built <- function(plot) ggplot2::ggplot_build(plot)$data

test_that("the standings figure shows means, errors and every split's score", {
  cmp <- toy_comparison()
  table <- standings(cmp)
  best <- table[!duplicated(table$candidate), ]
  data <- built(draw_standings(cmp))
  expect_identical(nrow(data[[1]]), 3L * 10L)
  ours <- scores_by_split(cmp, metric = "auc")
  ours <- ours[paste(ours$candidate, ours$setting) %in% paste(best$candidate, best$setting), ]
  expect_equal(sort(data[[1]]$x), sort(ours$validation))
  expect_equal(sort(data[[2]]$x), sort(best$mean - best$sd))
  expect_equal(sort(data[[3]]$xend), sort(best$mean + best$se))
  expect_equal(data[[4]]$x, best$mean)
  expect_identical(order(-data[[4]]$y), 1:3)
  expect_identical(nrow(built(draw_standings(cmp, show = "settings", top = 5))[[4]]), 5L)
})

test_that("the tuning figure shows score against hyperparameter, with the best marked", {
  cmp <- toy_comparison()
  tree <- standings(cmp)[standings(cmp)$candidate == "tree", ]
  plot <- draw_tuning(cmp, "tree")
  data <- built(plot)
  expect_equal(sort(data[[6]]$y), sort(tree$mean))
  expect_equal(sort(data[[4]]$y), sort(tree$training))
  long <- scores_by_split(cmp, metric = "auc")
  long <- long[long$candidate == "tree", ]
  expect_equal(
    sort(data[[3]]$y),
    sort(as.vector(tapply(long$validation, list(long$setting, long$`repeat`), mean)))
  )
  ring <- data[[length(data)]]
  expect_equal(c(10^ring$x, ring$y), c(tree$pruning[1], tree$mean[1]))
  expect_identical(length(unique(data[[6]]$linetype)), 2L)
  expect_identical(length(unique(data[[7]]$shape)), 2L)
  expect_match(plot$labels$x, "pruning \\(log scale\\)")
  expect_match(plot$labels$y, "AUC \\(higher is better\\)")
  words <- built(draw_tuning(cmp, "tree", along = "impurity"))
  expect_equal(range(words[[3]]$y), range(tree$mean))
  best <- standings(cmp)
  tuned <- best$candidate[best$candidate %in% c("tree", "penalised")][1]
  expect_match(draw_tuning(cmp)$labels$title, paste0("^", tuned, ":"))
  expect_error(draw_tuning(cmp, "baseline"), "No hyperparameter varies", class = "kw_error_draw")
})

test_that("the axis of a numeric outcome's metric carries the outcome's unit", {
  cmp <- quiet_run(
    toy_brief("number"),
    candidates(t = fam_tree(pruning = among(0.01, 0.1))),
    splits = split_kfold(2),
    seed = 1
  )
  expect_match(draw_standings(cmp)$labels$x, "RMSE, in units of number \\(lower is better\\)")
})

test_that("prints fit 80 columns", {
  job <- set_aside(pots_brief(), 0.2, seed = 1)
  plan <- plan_comparison(job, splits = split_kfold(5), search = search_grid(2), seed = 1)
  cmp <- toy_comparison()
  choice <- select_final(cmp)
  for (thing in list(
    job, plan$candidates, plan$candidates$pipelines$forest, plan, preview(plan),
    cmp, choice, fit_final(choice), fam_forest(),
    pre_missing(columns = of_kind("number")), from_to(0, 1), among(1:30),
    search_grid(), split_kfold(3)
  )) {
    lines <- capture.output(print(thing))
    expect_lte(max(nchar(lines)), 80)
    expect_gt(nchar(lines[1]), 5)
  }
  expect_output(print(job), "predict whether cracked is yes")
  expect_output(
    print(brief(demo_pots(), "grade")), "pot_id: nearly every row has its own level; an id"
  )
})

test_that("numbers are rounded to their uncertainty", {
  expect_identical(kw("with_spread")(0.81234, 0.0113), "0.812 (se 0.011)")
  expect_identical(kw("with_spread")(1234.567, 45.6), "1235 (se 46)")
})

test_that("listeners are told of progress, and quiet silences", {
  events <- list()
  plan <- plan_comparison(
    toy_brief(),
    candidates(t = fam_tree(min_leaf = among(1:4))),
    splits = split_kfold(3),
    seed = 1
  )
  kw("execute_plan")(plan, listener = function(event) events[[length(events) + 1L]] <<- event)
  expect_identical(events[[1]]$type, "start")
  last <- events[[length(events)]]
  expect_identical(c(last$type, last$done, last$total), c("end", "12", "12"))
  expect_identical(last$best$candidate, "t")
  expect_match(kw("progress_text")(last), "100 %, 12/12 scores, .* best auc")
  expect_silent(run_comparison(plan, quiet = TRUE))
})

test_that("standings print settings in words, rounded, with the spread as strips on one scale", {
  table <- data.frame(
    mean = c(0.75, 0.5, NA), lowest = c(0.5, 0.5, NA), highest = c(1, 0.5, NA)
  )
  withr::with_options(list(cli.unicode = FALSE), {
    expect_identical(kw("spread_strips")(table, 5L), c("--o--", "o    ", "     "))
  })
  expect_null(kw("spread_strips")(table[2, ], 5L))
  cmp <- toy_comparison()
  found <- standings(cmp)
  said <- capture.output(print(found, n = 3))
  honest <- honest_score(select_final(cmp, "best_mean"))
  expect_match(said[1], "Standings by AUC \\(higher is better\\): [0-9]+ settings of 3 candidates")
  expect_match(paste(said, collapse = " "), "What the best is worth: AUC")
  expect_match(paste(said, collapse = " "), substr(format(honest$score), 1, 4), fixed = TRUE)
  expect_match(said, "penalty = ", all = FALSE)
  expect_match(said, paste0("and ", nrow(found) - 3, " more: print\\(x, n = 6\\)"), all = FALSE)
  expect_lte(max(nchar(said)), 80)
  # some of its columns are a tibble like any other
  expect_identical(class(found[c("place", "mean")]), class(tibble::tibble()))
  expect_match(capture.output(print(found[2:3, ])), "^ +2 ", all = FALSE)
  expect_identical(names(tibble::as_tibble(found)), names(found))
})
