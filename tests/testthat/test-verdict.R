test_that("standings are the means and spreads of the split scores, best first", {
  cmp <- toy_comparison()
  table <- standings(cmp)
  scores <- scores_by_split(cmp, metric = "auc")
  for (i in c(1, 5, nrow(table))) {
    mine <- scores[scores$candidate == table$candidate[i] & scores$setting == table$setting[i], ]
    expect_equal(table$mean[i], mean(mine$validation))
    expect_equal(table$sd[i], sd(mine$validation))
    # k-fold: five folds however often repeated
    expect_equal(table$se[i], sd(mine$validation) / sqrt(5))
    expect_equal(c(table$lowest[i], table$highest[i]), range(mine$validation))
    expect_equal(table$training[i], mean(mine$training))
    expect_equal(table$gap[i], abs(mean(mine$training) - mean(mine$validation)))
  }
  expect_identical(table$mean, sort(table$mean, decreasing = TRUE))
  expect_identical(
    standings(cmp, metric = "log_loss")$mean, sort(standings(cmp, metric = "log_loss")$mean)
  )
  expect_identical(
    names(table),
    c(
      "place", "candidate", "setting", "pruning", "impurity", "penalty", "lasso_share", "metric",
      "mean", "sd", "se", "lowest", "highest", "splits", "training",
      "gap", "seconds", "failed"
    )
  )
  expect_identical(standings(cmp, top = 3), table[1:3, ])
})

test_that("standard errors of draws count what training sets have in common", {
  job <- toy_brief("number")
  cmp <- quiet_run(
    job, candidates(l = fam_linear()),
    splits = split_bootstrap(6), metrics = "rmse", seed = 1
  )
  ratio <- mean(vapply(
    rows_by_split(cmp), function(r) length(r$validation) / length(unique(r$training)), numeric(1)
  ))
  scores <- scores_by_split(cmp)$validation
  expect_equal(standings(cmp)$se, sd(scores) * sqrt(1 / 6 + ratio))
  for (rows in rows_by_split(cmp)) {
    expect_length(rows$training, 150)
    expect_setequal(c(rows$training, rows$validation), 1:150)
  }
})

test_that("one_se_1984 picks the simplest within one standard error, best_mean the best", {
  cmp <- toy_comparison()
  table <- standings(cmp)
  best <- select_final(cmp, "best_mean")
  expect_equal(best$mean, table$mean[1])
  chosen <- select_final(cmp, "one_se_1984")
  near <- table[table$mean >= table$mean[1] - table$se[1], ]
  # the penalised family is simpler than the tree, and a larger penalty simpler
  expect_true(all(near$candidate != "baseline"))
  by_hand <- near[near$candidate == "penalised", ]
  by_hand <- by_hand[order(-by_hand$penalty, -by_hand$lasso_share), ][1, ]
  expect_equal(chosen$mean, by_hand$mean)
  expect_output(print(chosen), "simplest of")
  tree <- select_final(cmp, "one_se", candidate = "tree")
  expect_output(print(tree), "Choice: tree")
  expect_error(select_final(cmp, "newest"), class = "kw_error_argument")
})

test_that("one_se and no_worse go by the differences from the best setting", {
  cmp <- toy_comparison()
  list <- shortlist(cmp, all = TRUE)
  se <- (list$high - list$low) / 2 / qt(0.975, 9)
  simplest <- function(rows) {
    known <- list[rows, ]
    expect_false("baseline" %in% known$candidate)
    known <- known[known$candidate == "penalised", ]
    known$mean[order(-known$penalty, -known$lasso_share)[1]]
  }
  expect_equal(select_final(cmp, "one_se")$mean, simplest(list$difference <= se))
  expect_equal(
    select_final(cmp, "no_worse", margin = 0.02)$mean,
    simplest(pt((0.02 - list$difference) / se, 9) >= 0.9 | list$place == 1)
  )
  expect_equal(select_final(cmp, "no_worse")$mean, simplest(list$p_better <= 0.1))
})

test_that("sites that are hard for all alike do not make the better candidate tied", {
  # the slope is the same everywhere, the level is not: a mean is worse on each site
  made <- withr::with_seed(4, {
    site <- rep(1:10, each = 20)
    x <- rnorm(200)
    data.frame(site = paste0("s", site), x = x, y = 0.7 * x + rnorm(200, sd = site / 3))
  })
  cmp <- quiet_run(brief(made, "y", group = "site"),
    candidates(mean = fam_baseline(), line = fam_linear()),
    splits = split_leave_group(), metrics = "rmse", seed = 1
  )
  expect_identical(candidate_of(select_final(cmp, "one_se_1984")), "mean")
  expect_identical(candidate_of(select_final(cmp, "one_se")), "line")
  expect_match(select_final(cmp)$reason, "worse by more than one standard error of the difference")
})

test_that("of settings with equal means the simplest leads", {
  job <- toy_brief("number")
  cmp <- quiet_run(
    job,
    candidates(z = fam_tree(pruning = among(0.5, 0.9, 1)), a = fam_baseline()),
    splits = split_kfold(3),
    seed = 1
  )
  table <- standings(cmp)
  expect_equal(table$mean, rep(table$mean[1], 4))
  expect_identical(table$candidate, c("a", "z", "z", "z"))
  expect_identical(table$pruning, c(NA, 1, 0.9, 0.5))
})

test_that("with one split there is no spread, and one_se says so", {
  cmp <- quiet_run(
    toy_brief(),
    candidates(t = fam_tree(), b = fam_baseline()),
    splits = split_holdout(0.3),
    seed = 1
  )
  expect_true(all(is.na(standings(cmp)$se)))
  expect_error(select_final(cmp, "one_se"), "two splits", class = "kw_error_select")
  expect_output(print(select_final(cmp, "best_mean")), "best mean")
})

test_that("the final model is the chosen pipeline fitted on all working rows", {
  table <- toy(160, missing = TRUE)
  job <- toy_brief("number", table)
  cmp <- quiet_run(
    job,
    candidates(l = fam_linear(), p = fam_penalised(penalty = among(0.01, 0.1, 1))),
    splits = split_kfold(3),
    seed = 1
  )
  model <- fit_final(select_final(cmp, "best_mean", candidate = "l"))
  filled <- table
  for (x in c("x1", "x2", "x3")) filled[[x]][is.na(filled[[x]])] <- median(table[[x]], na.rm = TRUE)
  filled$colour[is.na(filled$colour)] <- names(which.max(table(table$colour)))
  expect_equal(
    predict(model, table)$value, unname(predict(lm(number ~ x1 + x2 + x3 + colour, filled)))
  )
  expect_equal(model$scores$training[1], sqrt(mean((predict(model, table)$value - table$number)^2)))
  expect_equal(model$scores$validation[1], standings(cmp)$mean[standings(cmp)$candidate == "l"])
})

test_that("predictions take new rows as they come", {
  cmp <- toy_comparison()
  model <- fit_final(select_final(cmp))
  new <- toy(12, seed = 9)
  p <- predict(model, new)
  expect_identical(names(p), c("class", "p_no", "p_yes"))
  expect_identical(as.character(p$class), ifelse(p$p_yes > p$p_no, "yes", "no"))
  shuffled <- new[c("extra" = NA, rev(names(new)))[-1]]
  shuffled$more <- 1
  shuffled$x1 <- as.character(shuffled$x1)
  expect_equal(predict(model, shuffled), p)
  expect_identical(nrow(predict(model, new[0, ])), 0L)
  expect_identical(names(predict(model, new, type = "probability")), c("p_no", "p_yes"))
  strange <- transform(new, colour = "never seen", x2 = NA)
  expect_true(all(is.finite(predict(model, strange)$p_yes)))
  expect_error(
    predict(model, new[c("x1", "x2")]),
    "lack the columns 'x3', 'colour'",
    class = "kw_error_new_data"
  )
  expect_error(
    predict(model, transform(new, x1 = "tall")),
    "'x1' must be a number; found 'tall'",
    class = "kw_error_new_data"
  )
  expect_error(predict(model, transform(new, x1 = Inf)), "infinite", class = "kw_error_table")
  expect_error(predict(model, new, type = "value"), class = "kw_error_argument")
})

test_that("a saved model predicts the same; damage and distrust are refused", {
  cmp <- toy_comparison()
  for (candidate in c("tree", "penalised", "baseline")) {
    model <- fit_final(select_final(cmp, candidate = candidate))
    file <- withr::local_tempfile(fileext = ".kilnwright")
    save_model(model, file)
    expect_identical(predict(open_model(file, trust = TRUE), toy()), predict(model, toy()))
    expect_lt(file.size(file), 2e5)
  }
  expect_error(open_model(file), "not opened.*trust = TRUE", class = "kw_error_model_file")
  manifest <- jsonlite::read_json(unzip(file, "manifest.json", exdir = withr::local_tempdir()))
  expect_identical(manifest$kind, "kilnwright model")
  expect_identical(manifest$facts$data_fingerprint, cmp$plan$brief$fingerprint)
  whole <- readBin(file, raw(), 1e6)
  cut <- withr::local_tempfile()
  writeBin(whole[seq_len(length(whole) - 200)], cut)
  expect_error(open_model(cut, trust = TRUE), "damaged", class = "kw_error_model_file")
  folder <- withr::local_tempdir()
  zip::unzip(file, exdir = folder)
  saveRDS("something else", file.path(folder, "model.rds"))
  forged <- withr::local_tempfile()
  parts <- c("manifest.json", "plain.json", "model.rds", "checksums.txt")
  zip::zip(forged, parts, root = folder)
  expect_error(
    open_model(forged, trust = TRUE), "checksum of model.rds",
    class = "kw_error_model_file"
  )
  expect_error(save_model(model, file.path(folder, "no", "such", "file")), class = "kw_error_file")
  before <- readBin(file, raw(), 1e6)
  expect_error(save_model(model, folder), class = "kw_error_file")
  expect_identical(readBin(file, raw(), 1e6), before)
})

test_that("a model with a step of one's own opens in a session that never saw the step", {
  pre_shift <- define_step("shift",
    columns = "number", defaults = list(by = 1),
    learn = function(frame, target, settings, seed) list(state = settings, training = NULL),
    use = function(state, frame) {
      for (name in state$columns) frame$columns[[name]] <- frame$columns[[name]] + state$by
      frame
    }
  )
  cmp <- quiet_run(
    toy_brief("number"),
    candidates(a = pipeline(pre_shift(by = among(2, 3)), pre_onehot(), fam_linear())),
    splits = split_kfold(2),
    seed = 1
  )
  model <- fit_final(select_final(cmp))
  file <- withr::local_tempfile(fileext = ".kilnwright")
  save_model(model, file)
  new <- withr::local_tempfile(fileext = ".rds")
  saveRDS(toy()[1:3, ], new)
  script <- sprintf(
    paste(
      "cat(format(kilnwright:::predict.kw_model(kilnwright::open_model('%s', trust = TRUE),",
      "readRDS('%s'))$value, digits = 15))"
    ),
    file,
    new
  )
  out <- system2(file.path(R.home("bin"), "Rscript"), c("-e", shQuote(script)), stdout = TRUE)
  expect_equal(as.numeric(strsplit(trimws(out), " +")[[1]]), predict(model, toy()[1:3, ])$value)
})

test_that("what differs by rounding alone is called no worse", {
  table <- toy(150)
  table$x1 <- table$x1 - mean(table$x1) + 0.01
  near_one <- define_family("near_one", "number",
    defaults = list(by = 0), fit = function(x, y, weights, settings, seed, threads) settings$by,
    predict = function(model, x) 1 - model * x[, 1]
  )
  level <- define_metric("level", "number", "lower", function(truth, prediction, weights) {
    mean(prediction)
  })
  cmp <- quiet_run(brief(table[c("x1", "number")], "number"),
    candidates(a = near_one(), b = pipeline(pre_minimal(), near_one(by = 1e-12))),
    splits = split_kfold(5, repeats = 2), metrics = list(level()), seed = 1, workers = 1
  )
  expect_identical(standings(cmp)$candidate[1], "b")
  expect_match(select_final(cmp, "one_se")$reason, "its own mean is 1[.0]*, no worse[.]$")
})
