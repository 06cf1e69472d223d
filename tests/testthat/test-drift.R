# New rows beside those that a model was fitted on.

drift_table <- function(n, seed, group = FALSE) {
  withr::with_seed(seed, {
    t <- data.frame(
      a = rnorm(n), b = rexp(n), few = sample(0:3, n, TRUE),
      colour = sample(c("red", "green", "blue", "grey"), n, TRUE, c(5, 3, 1, 1)),
      when = as.Date("2031-01-01") + sample(300, n, TRUE)
    )
    t$a[sample(n, n / 20)] <- NA
    t$y <- ifelse(is.na(t$a), 0, t$a) + (t$colour == "red") + rnorm(n)
    t
  })
}

drift_model <- function(table = drift_table(800, 1), ..., outcome = "y") {
  job <- brief(table, outcome, ...)
  cmp <- quiet_run(job, candidates(
    line = pipeline(pre_missing(), pre_dates(parts = "month"), pre_onehot(), fam_linear())
  ), splits = split_kfold(4), seed = 1, workers = 1, keep = "all_predictions")
  fit_final(select_final(cmp))
}

test_that("a column that moved is found, by how much is as counted by hand, the others are not", {
  model <- drift_model()
  new <- drift_table(500, 2)
  new$b <- new$b + 0.6
  new$colour[1:100] <- "violet"
  found <- watch_drift(model, new)
  expect_setequal(found$column, c("a", "b", "few", "colour", "when", "y (outcome)", "(prediction)"))
  answer <- stats::setNames(found$answer, found$column)
  expect_identical(unname(answer[c("b", "colour")]), c("moved", "moved"))
  expect_identical(unname(answer[c("a", "few", "when")]), rep("no sign", 3))
  then <- drift_table(800, 1)
  b <- found[found$column == "b", ]
  expect_equal(b$shift, (mean(new$b) - mean(then$b)) / sd(then$b))
  expect_equal(b$outside, mean(new$b < min(then$b) | new$b > max(then$b)))
  expect_equal(found$missing_now[found$column == "a"], mean(is.na(new$a)))
  expect_equal(found$outside[found$column == "colour"], 0.2)
  # of levels all have at least five rows: shares by hand, and base R's test of the same cells
  levels <- c("red", "green", "blue", "grey", "violet")
  counts <- rbind(
    table(factor(then$colour, levels)), table(factor(new$colour, levels))
  )
  shares <- counts / rowSums(counts)
  colour <- found[found$column == "colour", ]
  expect_equal(colour$distance, sum(abs(shares[1, ] - shares[2, ])) / 2)
  plain <- suppressWarnings(stats::chisq.test(counts, correct = FALSE))$p.value
  cells <- attr(found, "cells")
  expect_equal(
    kw("two_samples")(cells$colour$then, cells$colour$now, 800, 500), plain, tolerance = 1e-9
  )
  expect_equal(sum(cells$b$now), 1)
  expect_output(print(found), "2 moved \\(")
})

test_that("where nothing moved, few looks find anything, also where rows come in groups", {
  looks <- function(group) {
    kiln <- function(n, seed) {
      t <- drift_table(n, seed)
      if (!group) return(t)
      # fifteen rows of a kiln are much alike
      t$kiln <- paste(seed, rep(seq_len(n / 15), each = 15))
      own <- withr::with_seed(seed, rnorm(n / 15))[rep(seq_len(n / 15), each = 15)]
      t$a <- own + 0.3 * t$a
      t$b <- own + 0.3 * t$b
      t
    }
    model <- drift_model(kiln(600, 100), group = if (group) "kiln")
    mean(vapply(1:60, function(seed) {
      new <- kiln(450, seed)
      new$y <- NULL
      any(grepl("moved", watch_drift(model, new)$answer))
    }, NA))
  }
  # 60 looks at 5 %: more than ten would be had once in 1500 times
  expect_lte(looks(FALSE), 10 / 60)
  expect_lte(looks(TRUE), 10 / 60)
})

test_that("scores of known outcomes are put beside those of then, and few rows tell nothing", {
  model <- drift_model()
  new <- drift_table(400, 5)
  same <- attr(watch_drift(model, new), "scores")
  expect_identical(unique(same$answer), "no sign")
  new$y <- new$y + 2
  found <- watch_drift(model, new)
  scores <- attr(found, "scores")
  expect_identical(scores$answer[scores$metric == "rmse"], "worse")
  known <- score_known(model, new)
  expect_equal(scores[c("now", "low", "high")], known[c("score", "low", "high")],
    ignore_attr = TRUE
  )
  expect_identical(found$answer[found$column == "y (outcome)"], "moved")
  few <- watch_drift(model, new[1:6, ])
  expect_identical(unique(few$answer), "too few rows")
  expect_error(watch_drift(model, new[0, ]), class = "kw_error_new_data")
})

test_that("drift survives a saved model and hostile columns, and an older model says what to do", {
  table <- drift_table(300, 3)
  table$two <- ifelse(table$y > 0, "yes \"it\" is", "no\nnever")
  names(table)[1:2] <- c("a \"b\"", "c,d")
  table$note <- strrep("x", seq_len(300) %% 40)
  table$y <- NULL
  model <- drift_model(table, outcome = "two", event = "yes \"it\" is", text = "note")
  file <- withr::local_tempfile(fileext = ".kilnwright")
  save_model(model, file)
  opened <- open_model(file, trust = TRUE)
  new <- table[sample(300, 200), ]
  expect_identical(watch_drift(opened, new), watch_drift(model, new))
  new$note <- strrep("x", 200)
  moved <- watch_drift(opened, new)
  expect_identical(moved$answer[moved$column == "note"], "moved")
  expect_s3_class(draw_drift(moved), "ggplot")
  expect_s3_class(draw_drift(moved, most = 1), "ggplot")
  expect_error(draw_drift(1), "found", class = "kw_error_argument")
  expect_error(watch_drift(model, new, group = "nothing"), "group", class = "kw_error_argument")
  opened$reference <- NULL
  expect_error(watch_drift(kw("complete_record")(unclass(opened), "kw_model"), new),
    "keeps no shares", class = "kw_error_argument"
  )
})

test_that("kilnwright drift prints what moved, as JSON too, and draws it", {
  model <- drift_model()
  folder <- withr::local_tempdir()
  file <- file.path(folder, "model.kilnwright")
  save_model(model, file)
  new <- drift_table(300, 6)
  new$b <- 2 * new$b
  utils::write.csv(new, file.path(folder, "new.csv"), row.names = FALSE)
  withr::local_dir(folder)
  said <- utils::capture.output(
    status <- kw("run_command")(c("drift", file, "new.csv", "--trust", "--figure", "moved.png"))
  )
  expect_identical(status, 0L)
  expect_match(paste(said, collapse = " "), "moved (", fixed = TRUE)
  expect_gt(file.size("moved.png"), 5000)
  said <- utils::capture.output(
    status <- kw("run_command")(c("drift", file, "new.csv", "--trust", "--json"))
  )
  found <- jsonlite::fromJSON(said)
  expect_identical(found$columns$answer[found$columns$column == "b"], "moved")
  expect_true("rmse" %in% found$scores$metric)
})
