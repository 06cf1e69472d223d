# Intervals of single predictions, and sets of classes.

# CV+ in plain R: masses of the held-out rows, the fold's centre with what it was off.
ends_by_hand <- function(centres, off, mass, level) {
  t(sapply(seq_len(nrow(centres)), function(row) {
    upper <- centres[row, ] + off
    lower <- -(centres[row, ] - off)
    end <- function(v) {
      order <- order(v)
      v[order][which(cumsum(mass[order]) >= level - 1e-12)[1]]
    }
    c(-end(lower), end(upper))
  }))
}

fold_models <- function(cmp, table, fit) {
  lapply(rows_by_split(cmp), function(split) fit(table[split$training, ]))
}

test_that("intervals of numbers are those of a plain loop over folds", {
  set.seed(3)
  table <- data.frame(x = rnorm(60), y = rnorm(60))
  table$y <- table$y + table$x
  new <- data.frame(x = c(-2, 0, 0.3, 4))
  cmp <- quiet_run(brief(table, "y"), candidates(l = fam_linear()),
    splits = split_kfold(5, repeats = 2), seed = 3
  )
  model <- fit_final(select_final(cmp), intervals = TRUE)
  folds <- rows_by_split(cmp)[1:5]
  fits <- fold_models(cmp, table, function(some) lm(y ~ x, some))[1:5]
  off <- unlist(Map(function(fit, split) {
    abs(table$y[split$validation] - predict(fit, table[split$validation, ]))
  }, fits, folds))
  centres <- do.call(cbind, Map(function(fit, split) {
    matrix(predict(fit, new), nrow(new), length(split$validation))
  }, fits, folds))
  for (level in c(0.5, 0.9, 0.98)) {
    found <- predict(model, new, type = "interval", level = level)
    expect_equal(
      unname(as.matrix(found[c("low", "high")])),
      unname(ends_by_hand(centres, off, rep(1 / 61, 60), level))
    )
  }
  expect_identical(found$value, predict(model, new)$value)
  expect_error(predict(model, new, type = "interval", level = 0.99), "at most 98.3 %",
    class = "kw_error_argument"
  )
  expect_error(predict(fit_final(select_final(cmp)), new, type = "interval"), "intervals = TRUE",
    class = "kw_error_argument"
  )
})

test_that("every group counts once, as do whole weights", {
  table <- toy(80)
  table$batch <- rep(paste0("b", 1:10), times = c(1, 1, 2, 3, 4, 5, 8, 12, 20, 24))
  job <- brief(table, "number", group = "batch")
  masses <- kw("interval_masses")(kw("working_data")(job)$target)
  expect_equal(as.vector(tapply(masses, table$batch, sum)), rep(1 / 11, 10))
  table$w <- rep(1:2, 40)
  job <- brief(table, "number", weight = "w", ignore = "batch")
  expect_equal(kw("interval_masses")(kw("working_data")(job)$target), table$w / 121)
})

test_that("they hold about as many fresh rows as they say, also of new groups", {
  held <- simulate(12, function(seed) {
    set.seed(seed)
    made <- function(groups) {
      g <- rep(seq_len(groups), each = 6)
      own <- data.frame(g = paste0("g", g), x = rnorm(6 * groups))
      cbind(own, e = rnorm(groups)[g] + rnorm(6 * groups))
    }
    table <- made(20)
    table$y <- table$x + table$e
    cmp <- quiet_run(brief(table, "y", group = "g", ignore = "e"), candidates(t = fam_tree()),
      splits = split_kfold(5), seed = seed, workers = 1
    )
    fresh <- made(300)
    found <- predict(fit_final(select_final(cmp), intervals = TRUE), fresh, type = "interval",
      level = 0.8
    )
    mean(found$low <= fresh$x + fresh$e & fresh$x + fresh$e <= found$high)
  })
  expect_gt(mean(held), 0.8 - 4 * sd(held) / sqrt(12))
  expect_lt(mean(held), 0.93)
})

test_that("sets of classes hold the true one as often as they say, and leave out what they can", {
  table <- toy(240, seed = 2)
  job <- set_aside(brief(table, "three", ignore = c("number", "two")), share = 0.5, seed = 1)
  cmp <- quiet_run(job, candidates(t = fam_forest(trees = 60)), splits = split_kfold(4), seed = 1)
  model <- fit_final(select_final(cmp), intervals = TRUE)
  found <- predict(model, table, type = "interval", level = 0.8)
  sets <- as.matrix(found[paste0("may_be_", model$levels)])
  # by hand for one row: the mass of held-out rows that were less off, by the folds' own models
  row <- table[7, ]
  frame <- kw("frame_from_new")(row, model$schema, model$missing_codes)
  less <- rowSums(sapply(model$folds, function(fold) {
    p <- kw("predict_frame")(c(fold, model[c("kind", "levels")]), frame)
    sapply(1 - p, function(off) sum(fold$off < off) / 121)
  }))
  expect_identical(unname(sets[7, ]), unname(less < 0.8))
  covered <- attr(suppressWarnings(score_set_aside(model)), "intervals")
  expect_gt(covered$held, 0.9 - 4 * sqrt(0.09 / 120))
  expect_lt(covered$size, 3.01)
})

test_that("a saved model keeps its intervals; the command line writes them", {
  folder <- withr::local_tempdir()
  cmp <- quiet_run(toy_brief("number"), candidates(
    t = pipeline(pre_missing(), pre_onehot(), fam_penalised(penalty = among(0.1, 0.01)))
  ), splits = split_bootstrap(3), seed = 4)
  model <- fit_final(select_final(cmp), intervals = TRUE)
  expect_length(model$folds, 10)
  file <- file.path(folder, "m.kilnwright")
  save_model(model, file)
  new <- toy()[1:5, ]
  plain <- file.path(folder, "plain.kilnwright")
  save_model(fit_final(select_final(cmp)), plain)
  expect_error(predict(open_model(plain, trust = TRUE), new, type = "interval"), "intervals = TRUE",
    class = "kw_error_argument"
  )
  expect_identical(
    predict(open_model(file, trust = TRUE), new, type = "interval"),
    predict(model, new, type = "interval")
  )
  table <- file.path(folder, "new.csv")
  write.csv(new, table, row.names = FALSE)
  written <- file.path(folder, "out.csv")
  write_predictions(model, table, written, type = "interval", level = 0.5)
  expect_named(read.csv(written), c("value", "low", "high"), ignore.order = TRUE)
})

test_that("of leave-one-out a model keeps ten folds, not a fit for every row", {
  cmp <- quiet_run(toy_brief("number", toy(30)), candidates(b = fam_baseline()),
    splits = split_leave_row(), metrics = "mae", seed = 1
  )
  model <- fit_final(select_final(cmp), intervals = TRUE)
  expect_length(model$folds, 10)
  expect_length(unlist(lapply(model$folds, `[[`, "off")), 30)
})

test_that("where there are no intervals the reason is said before anything is fitted", {
  table <- toy(90)
  table$day <- as.Date("2030-01-01") + 1:90
  timed <- quiet_run(
    brief(table, "number", time = "day"), candidates(b = fam_baseline()),
    splits = split_time(), seed = 1
  )
  expect_error(fit_final(select_final(timed), intervals = TRUE), "exchangeable",
    class = "kw_error_argument"
  )
  counts <- quiet_run(
    brief(toy(60), "number", outcome_kind = "quantiles", quantiles = c(0.1, 0.9)),
    candidates(b = fam_baseline()), splits = split_kfold(3), seed = 1
  )
  expect_error(fit_final(select_final(counts), intervals = TRUE), "intervals already",
    class = "kw_error_argument"
  )
})
