# Runs that are broken off, choices with odd names, deep trees, fields fitted to the table.

test_that("Ctrl-C that compiled code turns into an error stops the run, and nothing is written", {
  stops <- define_family("stops", "number",
    fit = function(x, y, weights, settings, seed, threads) {
      if (settings$at == 2) stop("User interrupt or internal error.")
      mean(y)
    },
    predict = function(model, x) rep(model, nrow(x)), defaults = list(at = 1)
  )
  file <- withr::local_tempfile(fileext = ".sqlite")
  plan <- plan_comparison(
    toy_brief("number"), candidates(s = stops(at = among(1, 2))),
    splits = split_kfold(3), metrics = "mae", seed = 1
  )
  cmp <- run_comparison(plan, journal = file, quiet = TRUE, workers = 1)
  expect_identical(cmp$stopped, "an interruption")
  expect_identical(nrow(failures(cmp)), 0L)
  con <- DBI::dbConnect(RSQLite::SQLite(), file)
  withr::defer(DBI::dbDisconnect(con))
  expect_false("failed" %in% DBI::dbGetQuery(con, "SELECT status FROM fits")$status)
  # Ctrl-C does not reach workers: there it is an error like any other
  elsewhere <- quiet_run(plan, workers = 2)
  expect_null(elsewhere$stopped)
  expect_match(failures(elsewhere)$message, "internal error")
})

test_that("a step that fails ends the settings behind it, however many steps follow", {
  broken <- define_step("broken",
    learn = function(frame, target, settings, seed) {
      if (settings$at == 2) stop("no luck")
      list(state = NULL, training = NULL)
    },
    use = function(state, frame) frame, defaults = list(at = 1)
  )
  cmp <- quiet_run(
    toy_brief("number"), candidates(
      bad = pipeline(broken(at = among(1, 2)), pre_scale(), pre_onehot(), fam_linear()),
      good = fam_tree()
    ),
    splits = split_kfold(3), seed = 1
  )
  expect_identical(unique(failures(cmp)$candidate), "bad")
  expect_match(failures(cmp)$message, "no luck", all = TRUE)
  expect_identical(is.na(standings(cmp)$place), c(FALSE, FALSE, TRUE))
})

test_that("names of choices may hold dots and slashes, and like choices are kept apart", {
  steps <- list(
    either(k.3 = pre_skew(), `a/b` = as_is()),
    either(plain = as_is(), skewed = pre_skew(columns = "x1", by = among("log", "normal")))
  )
  plan <- plan_comparison(
    toy_brief("number"), candidates(t = pipeline(steps, fam_tree())),
    splits = split_kfold(2), seed = 1
  )
  found <- plan$round$t$settings
  expect_identical(names(found), c("skew", "skew_2", "by"))
  expect_identical(nrow(found), 6L)
  expect_true(all(is.na(found$by) == (found$skew_2 == "plain")))
  expect_identical(nrow(failures(quiet_run(plan))), 0L)
})

test_that("a tree deeper than integers count its nodes predicts like the package", {
  # every question takes one row off: node numbers double each time
  n <- 120
  table <- data.frame(x = seq_len(n), y = 2^(seq_len(n) / 4))
  y <- table$y
  definition <- kw("shipped_members")("fam")$tree()
  settings <- list(pruning = 0, impurity = "gini", min_leaf = 1, depth = 30)
  expect_no_warning(fitted <- kw("fit_family")(
    definition, table["x"], kw("new_target")(y), settings, 1
  ))
  theirs <- rpart::rpart(y ~ x, table,
    minsplit = 2, minbucket = 1, cp = 0, xval = 0, maxcompete = 0, maxsurrogate = 0
  )
  expect_equal(
    kw("predict_family")(fitted, table["x"], 0)[, 1], unname(predict(theirs, table))
  )
  expect_no_warning(numbers <- kw("plain_tree")(
    list(
      frame = data.frame(
        var = c("x1", "<leaf>", "<leaf>"), wt = 1, yval = 1:3, complexity = 0, ncompete = 0,
        nsurrogate = 0, row.names = c("1073741825", "2147483650", "2147483651")
      ),
      splits = matrix(c(3, -1, 1, 2), 1,
        dimnames = list("x1", c("count", "ncat", "improve", "index"))
      ), csplit = NULL
    ), list(NULL), 1:3, "x1"
  ))
  expect_identical(numbers$left[1], 1L)
  expect_identical(numbers$right[1], 2L)
})

test_that("forests take categories as they are, many levels and all", {
  table <- withr::with_seed(3, {
    k <- sample(sprintf("l%02d", 1:40), 400, TRUE)
    data.frame(k, x = rnorm(400), y = 3 * (as.integer(factor(k)) %% 2) + rnorm(400, sd = 0.3))
  })
  plan <- plan_comparison(brief(table, "y"), candidates(f = fam_forest(trees = 50)), seed = 1)
  expect_identical(length(plan$spaces$f$pipeline$steps), 1L)
  cmp <- quiet_run(plan)
  expect_gt(standings(cmp, metric = "r_squared")$mean, 0.9)
  # in as many threads as there are cores a model is the same, and predicts the same
  choice <- select_final(cmp)
  one <- withr::with_options(list(mc.cores = 1), fit_final(choice))
  model <- withr::with_options(list(mc.cores = 3), fit_final(choice))
  expect_identical(model$family$model, one$family$model)
  expect_identical(
    withr::with_options(list(mc.cores = 3), predict(model, table)),
    withr::with_options(list(mc.cores = 1), predict(one, table))
  )
  seen <- integer()
  local_stand_in("predict_family", function(...) {
    seen <<- c(seen, kw("threads_here")())
    stop("no need")
  })
  withr::local_options(mc.cores = 3)
  expect_error(predict(model, table), "no need")
  expect_identical(c(seen, kw("threads_here")()), c(3L, 1L))
})

test_that("the quick look uses texts and dates, and is cut where a full one takes long", {
  table <- withr::with_seed(4, {
    remark <- replicate(
      80, paste(sample(c("fine", "crack", "slow", "rim", "foot"), 3), collapse = " ")
    )
    data.frame(remark,
      day = as.Date("2031-01-01") + 1:80,
      y = grepl("crack", remark) + rnorm(80, sd = 0.2)
    )
  })
  job <- brief(table, "y", text = "remark")
  whole <- kw("quick_plan")(job)
  steps <- vapply(whole$spaces$forest$pipeline$steps, function(node) node$part$definition$name, "")
  expect_true(all(c("dates", "text") %in% steps))
  expect_identical(length(whole$splits), 10L)
  expect_false(any(grepl("cut to about a minute", whole$notes)))
  cut <- kw("quick_plan")(job, function(plan) 100)
  expect_identical(length(cut$splits), 3L)
  expect_match(cut$notes, "cut to about a minute: hardly any values", all = FALSE)
})

test_that("time left follows what the work that is left costs", {
  plan <- plan_comparison(
    brief(toy(60)[c("x1", "number")], "number"),
    candidates(n = fam_tree(min_leaf = among(1, 2, 3, 4))),
    splits = split_kfold(2), seed = 1
  )
  work <- kw("compile_work")(plan$spaces, lapply(plan$round, `[[`, "settings"))
  schedule <- kw("new_schedule")(work, matrix(TRUE, 4, 2))
  taken <- 0
  while (!is.null(unit <- schedule$take())) {
    n <- length(unit$fits)
    schedule$learn(list(steps = list(), fit = unit$fits, seconds = rep(2, n), share = rep(1, n)))
    taken <- taken + length(unit$fits)
    expect_equal(schedule$share_left(), (8 - taken) / taken)
  }
})

test_that("a journal that ended cleanly leaves no files beside it, and brings predictions back", {
  folder <- withr::local_tempdir()
  file <- file.path(folder, "run.sqlite")
  cmp <- quiet_run(
    toy_brief("number"), candidates(t = fam_tree(pruning = among(0.01, 0.1))),
    splits = split_kfold(3), seed = 1, journal = file, keep = "all_predictions"
  )
  expect_identical(list.files(folder), "run.sqlite")
  again <- optimism(open_comparison(file))
  expect_equal(again, optimism(cmp))
  expect_false(is.na(again$score[again$estimate == "bootstrap"]))
})

test_that("words that people try lead to ours", {
  hint <- function(name, known) kw("nearest_names")(name, known)
  metrics <- names(kw("shipped_members")("metric"))
  expect_identical(hint("sensitivity", metrics), "recall")
  expect_identical(hint("rsq", metrics), "r_squared")
  expect_identical(hint("pr_auc", metrics), "average_precision")
  families <- names(kw("shipped_members")("fam"))
  expect_identical(hint("svm", families), "support_vectors")
  expect_identical(hint("lasso", families), "penalised")
  steps <- names(kw("shipped_members")("step"))
  expect_identical(hint("pca", steps), "components")
  expect_identical(hint("impute", steps), "missing")
  all <- c(metrics, families, steps, "kfold", "leave_row", unlist(lapply(
    c(kw("shipped_members")("fam"), kw("shipped_members")("step")),
    function(make) names(make()$arguments)
  )))
  expect_identical(setdiff(unlist(kw("synonyms")), all), character())
  found <- quiet_run(
    toy_brief(), candidates(b = fam_baseline()),
    splits = split_kfold(2), metrics = c("cost", "f_beta", "log_loss"), seed = 1
  )
  expect_identical(names(found$plan$metrics), c("cost", "f_beta", "log_loss"))
})
