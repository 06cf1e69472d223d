# Outcomes beyond numbers and classes: ordered classes, counts with an exposure, positive amounts.

claims <- function(n = 240) {
  withr::with_seed(4, {
    t <- data.frame(
      x = rnorm(n), z = runif(n), kind = sample(c("a", "b", "c"), n, TRUE),
      years = round(runif(n, 0.2, 3), 2), w = sample(1:3, n, TRUE)
    )
    t$claims <- rpois(n, t$years * exp(0.3 + 0.5 * t$x))
    t$amount <- rgamma(n, 2, 2 / exp(1 + t$z))
    sum <- t$x + rlogis(n)
    t$grade <- cut(sum, c(-Inf, -1, 0.5, Inf), c("low", "mid", "high"), ordered_result = TRUE)
    t
  })
}

job_of <- function(outcome, ..., table = claims(), exposure = NULL) {
  others <- setdiff(c("claims", "amount", "grade", "years", "w"), c(outcome, exposure))
  brief(table[setdiff(names(table), others)], outcome, exposure = exposure, ...)
}

# Validation score of every split, one setting.
by_split <- function(cmp, metric) as.vector(cmp$results$scores[[metric]][1, ])

test_that("brief() reads the kind off the values, or takes the one that is asked for", {
  table <- claims()
  expect_identical(job_of("claims")$kind, "number")
  expect_identical(job_of("claims", outcome_kind = "count")$kind, "count")
  expect_identical(job_of("grade")$kind, "ordered")
  expect_identical(job_of("grade")$levels, c("low", "mid", "high"))
  expect_identical(job_of("grade", outcome_kind = "many_class")$kind, "many_class")
  table$grade <- as.character(table$grade)
  expect_identical(job_of("grade", table = table)$kind, "many_class")
  told <- job_of("grade", table = table, ordered = list(grade = c("low", "mid", "high")))
  expect_identical(told[c("kind", "levels")], job_of("grade")[c("kind", "levels")])
  expect_output(print(told), "ordered class of grade: low .* < mid .* < high")
  table$claims <- as.character(pmin(table$claims, 1))
  expect_identical(job_of("claims", table = table)$kind, "two_class")
})

test_that("what does not fit a kind is refused, with the rows and what to do", {
  table <- claims()
  refused <- function(pattern, ...) expect_error(job_of(...), pattern, class = "kw_error_brief")
  refused("whole numbers.*\n.*row", "amount", outcome_kind = "count")
  table$amount[7] <- 0
  refused("above 0.*\n.*row 7", "amount", outcome_kind = "positive", table = table)
  refused("holds text", "grade", outcome_kind = "count")
  refused("exposure` is for counts", "amount", exposure = "years")
  table$years[3] <- 0
  refused(
    "row 3", "claims", outcome_kind = "count", exposure = "years", table = table
  )
  refused("have no order.*\n.*ordered = list", "kind", outcome_kind = "ordered")
  names(table)[names(table) == "kind"] <- "of what?"
  expect_error(brief(table, "of what?", outcome_kind = "ordered"), "list\\(`of what\\?` = c\\(\"",
    class = "kw_error_brief")
  # numbers have an order of their own, also as text
  steps <- data.frame(x = 1:30, y = rep(c("10", "9", "100"), 10))
  expect_identical(brief(steps, "y", outcome_kind = "ordered")$levels, c("9", "10", "100"))
  refused("event` is for two classes", "claims", outcome_kind = "count", event = 1)
  refused("do not go together", "claims", outcome_kind = "count", exposure = "years",
    outcome_scale = "sqrt")
  expect_error(job_of("claims", outcome_kind = "counts"), "Did you mean 'count'",
    class = "kw_error_argument")
  # cumulative logits are for an order
  expect_error(
    quiet_run(job_of("grade", outcome_kind = "many_class"), candidates(a = fam_cumulative())),
    "cannot predict an outcome of many classes", class = "kw_error_plan"
  )
  expect_error(kw("find_metric")("class_error", "many_class"), "does not fit")
  expect_true(all(c("auc", "class_error") %in% list_metrics("ordered")$metric))
})

test_that("rows without outcome can be left out: all is as for a table that never had them", {
  withr::local_dir(withr::local_tempdir())
  table <- claims()
  unknown <- c(2, 40:44, nrow(table) - 0:2)
  table$claims[unknown] <- NA
  # what is wrong in such a row does not matter; what is wrong elsewhere is found by its number
  table$years[2] <- NA
  about <- list(outcome_kind = "count", exposure = "years")
  leaving <- function(table) {
    do.call(job_of, c("claims", list(table = table, rows_without_outcome = "leave_out"), about))
  }
  expect_error(do.call(job_of, c("claims", list(table = table), about)),
    "missing in 9 rows.*\n.*rows 2, 40.*\n.*rows_without_outcome = \"leave_out\"",
    class = "kw_error_brief"
  )
  wrong <- table
  wrong$claims[50] <- -1
  expect_error(leaving(wrong), "row 50", class = "kw_error_brief")
  wrong <- table
  wrong$years[60] <- 0
  expect_error(leaving(wrong), "row 60", class = "kw_error_brief")
  wrong$claims <- NA_real_
  expect_error(leaving(wrong), "missing in every row", class = "kw_error_brief")

  utils::write.csv(table[names(leaving(table)$table)], "table.csv", row.names = FALSE)
  table <- read_data("table.csv")
  job <- leaving(table)
  expect_output(print(job), "9 without outcome left out")
  plan_of <- function(job) {
    plan_comparison(job, candidates(tree = fam_tree(pruning = among(0.01, 0.1))),
      splits = split_kfold(3), seed = 3)
  }
  cmp <- quiet_run(plan_of(job), journal = "run.sqlite")
  cut <- quiet_run(plan_of(do.call(job_of, c("claims", list(table = table[-unknown, ]), about))))
  same_numbers(cmp, cut)
  expect_output(print(open_comparison("run.sqlite")$plan$brief), "9 without outcome left out")
  write_plan(plan_of(job), "plan.yml", table = "table.csv")
  expect_identical(read_plan("plan.yml")$brief$rows, setdiff(seq_len(nrow(table)), unknown))

  model <- fit_final(select_final(cmp))
  write_card(model, "card.md")
  expect_match(readLines("card.md"), "9 rows without outcome left out", all = FALSE)
  again <- repeat_model(model, "table.csv", quiet = TRUE)
  expect_true(all(again$same))
  local_no_pictures()
  write_report(model, "report.html")
  expect_match(page_text("report.html"), "9 rows without outcome left out")
  write_script(model, "final.R", data = "table.csv", new_data = "table.csv")
  utils::capture.output(sys.source("final.R", new.env()))
  expect_equal(utils::read.csv("predictions.csv")[[1]], predict(model, table)[[1]])
})

test_that("a script learns from no row at the table's end that was taken out of the brief", {
  table <- claims()[1:60, ]
  twice <- rbind(table, table[5:9, ])
  job <- job_of("amount", table = twice)
  job <- apply_remedies(job, inspect_data(job), also = "duplicate_rows")$brief
  expect_identical(nrow(job$table), 60L)
  model <- fit_final(select_final(quiet_run(job, candidates(a = fam_linear()), seed = 1)))
  file <- withr::local_tempfile(fileext = ".R")
  write_script(model, file, data = "nowhere", new_data = "nowhere")
  expect_length(run_script(file, twice)$y, 60)
})

test_that("metrics of ordered classes and deviances are what their formulas say", {
  truth <- factor(c("a", "b", "c", "c", "b"), c("a", "b", "c"))
  p <- rbind(c(.6, .3, .1), c(.2, .2, .6), c(0, .4, .6), c(.5, .3, .2), c(.1, .8, .1))
  w <- c(1, 2, 1, 3, 1)
  score <- function(name, truth, p, w = NULL) {
    kind <- if (is.factor(truth)) "ordered" else "positive"
    kw("score_predictions")(kw("find_metric")(name, kind), truth, p, w)
  }
  at_most <- t(apply(p, 1, cumsum))[, 1:2]
  was <- outer(as.integer(truth), 1:2, `<=`)
  each <- rowMeans((at_most - was)^2)
  expect_equal(score("ranked_probability", truth, p), mean(each))
  expect_equal(score("ranked_probability", truth, p, w), weighted.mean(each, w))
  called <- max.col(p, "first")
  expect_equal(score("class_error", truth, p, w), weighted.mean(abs(called - as.integer(truth)), w))
  # from the table of agreement, as it was published
  kappa <- function(w) {
    seen <- xtabs(w ~ factor(as.integer(truth), 1:3) + factor(called, 1:3)) / sum(w)
    cost <- outer(1:3, 1:3, function(i, j) (i - j)^2)
    1 - sum(cost * seen) / sum(cost * outer(rowSums(seen), colSums(seen)))
  }
  expect_equal(score("quadratic_kappa", truth, p), kappa(rep(1, 5)))
  expect_equal(score("quadratic_kappa", truth, p, w), kappa(w))
  y <- c(0.5, 2, 3, 7)
  m <- c(1, 1.5, 3, 5)
  w <- 1:4
  expect_equal(score("poisson_deviance", y, m, w),
    sum(stats::poisson()$dev.resids(y, m, w)) / sum(w))
  expect_equal(score("gamma_deviance", y, m, w), sum(stats::Gamma()$dev.resids(y, m, w)) / sum(w))
  # what cannot be: undefined, but for nothing predicted where there was nothing
  expect_equal(score("poisson_deviance", c(0, 1), cbind(c(0, 1), c(1, 0), c(-1, 1))), c(0, NA, NA))
})

test_that("counts with an exposure are fitted as with an offset, and scored as rates", {
  table <- claims()
  job <- job_of("claims", outcome_kind = "count", exposure = "years")
  rivals <- list(
    baseline = fam_baseline(), linear = pipeline(pre_onehot(drop_one = TRUE), fam_linear()),
    tree = fam_tree(pruning = 0.01),
    boosted = fam_boosted(trees = 20, row_share = 1)
  )
  control <- rpart::rpart.control(minsplit = 20, minbucket = 7, cp = 0, xval = 0, maxcompete = 0,
    maxsurrogate = 5, usesurrogate = 2)
  hand <- list(
    baseline = function(d, new) rep(sum(d$claims) / sum(d$years), nrow(new)),
    linear = function(d, new) {
      fit <- stats::glm(claims ~ x + z + kind + offset(log(years)), stats::poisson(), d)
      stats::predict(fit, new, type = "response") / new$years
    },
    tree = function(d, new) {
      fit <- rpart::rpart(cbind(years, claims) ~ x + z + factor(kind), d, method = "poisson",
        control = control)
      stats::predict(rpart::prune(fit, 0.01), new)
    },
    boosted = function(d, new) {
      x <- function(d) transform(d[c("x", "z", "kind")], kind = factor(kind))
      fit <- gbm::gbm.fit(x(d), d$claims, offset = log(d$years), distribution = "poisson",
        n.trees = 20, interaction.depth = 3, n.minobsinnode = 10, shrinkage = 0.1,
        bag.fraction = 1, verbose = FALSE)
      exp(gbm::predict.gbm(fit, x(new), 20))
    }
  )
  for (name in names(rivals)) {
    if (name == "boosted") skip_if_not_installed("gbm")
    plan <- plan_comparison(job, candidates(a = rivals[[name]]),
      splits = split_kfold(3), metrics = c("poisson_deviance", "rmse"), seed = 2)
    cmp <- quiet_run(plan)
    expected <- vapply(plan$splits, function(split) {
      d <- table[split$training, ]
      new <- table[split$validation, ]
      rate <- hand[[name]](d, new)
      sum(stats::poisson()$dev.resids(new$claims / new$years, rate, new$years)) / sum(new$years)
    }, 1)
    expect_equal(by_split(cmp, "poisson_deviance"), expected, tolerance = 1e-6, info = name)
  }
  expect_match(capture.output(preview(plan_comparison(job,
    candidates(n = pipeline(pre_minimal(), fam_support_vectors())), seed = 1))),
    "takes no case weights and no exposure", all = FALSE)
})

test_that("penalised regression has the likelihood of the kind", {
  table <- claims()
  x <- cbind(table$x, table$z)
  penalties <- c(0.2, 0.05)
  first <- function(outcome, ..., exposure = NULL) {
    used <- table[c("x", "z", outcome, exposure)]
    cmp <- quiet_run(plan_comparison(brief(used, outcome, ..., exposure = exposure),
      candidates(a = pipeline(
        pre_missing(), fam_penalised(penalty = do.call(among, as.list(penalties)))
      )),
      splits = split_kfold(3), metrics = "rmse", seed = 2), keep = "all_predictions")
    list(rows = cmp$plan$splits[[1]], got = cmp$results$predictions[[1]]$values)
  }
  fitted <- function(rows, y, w, family, unit) {
    fit <- glmnet::glmnet(x[rows$training, ], y[rows$training], family, w[rows$training],
      alpha = 0.5, lambda = penalties * unit, standardize = FALSE)
    exp(stats::predict(fit, x[rows$validation, ]))
  }
  one <- first("claims", outcome_kind = "count", exposure = "years")
  rate <- table$claims / table$years
  mean <- stats::weighted.mean(rate[one$rows$training], table$years[one$rows$training])
  expect_equal(
    sort(one$got), sort(fitted(one$rows, rate, table$years, "poisson", mean)), tolerance = 1e-6
  )
  one <- first("amount", outcome_kind = "positive")
  expect_equal(
    sort(one$got), sort(fitted(one$rows, table$amount, rep(1, 240), stats::Gamma("log"), 1)),
    tolerance = 1e-6
  )
})

test_that("cumulative logits are those of MASS; classes that are absent and copies do no harm", {
  table <- claims()[c("x", "z", "kind", "grade")]
  table$copy <- 2 * table$x + 1
  job <- brief(table, "grade")
  plan <- plan_comparison(job,
    candidates(a = pipeline(pre_onehot(drop_one = TRUE), fam_cumulative())),
    splits = split_kfold(3), metrics = c("ranked_probability", "log_loss"), seed = 2)
  cmp <- quiet_run(plan)
  expected <- vapply(plan$splits, function(split) {
    fit <- MASS::polr(grade ~ x + z + kind, table[split$training, ], Hess = FALSE)
    new <- table[split$validation, ]
    p <- stats::predict(fit, new, type = "probs")
    -mean(log(p[cbind(seq_len(nrow(new)), as.integer(new$grade))]))
  }, 1)
  expect_equal(by_split(cmp, "log_loss"), expected, tolerance = 1e-4)
  model <- fit_final(select_final(cmp))
  p <- predict(model, table, type = "probability")
  expect_equal(rowSums(p), rep(1, nrow(table)))
  # two classes in the training rows: logistic regression
  two <- table$grade != "mid"
  fit <- kw("fit_cumulative")(cbind(table$x, table$z)[two, ], droplevels(table$grade[two]), NULL,
    list(), 1, 1)
  by_glm <- stats::glm(grade == "high" ~ x + z, stats::binomial(), table[two, ])
  expect_equal(fit$slopes, unname(stats::coef(by_glm)[-1]), tolerance = 1e-6)
})

test_that("the whole way is open to every kind: rule, set-aside, file, plan file, script, report", {
  withr::local_dir(withr::local_tempdir())
  table <- claims()
  kinds <- list(
    claims = list(outcome_kind = "count", exposure = "years"), grade = list(),
    amount = list(outcome_kind = "positive")
  )
  for (outcome in names(kinds)) {
    job <- set_aside(do.call(job_of, c(outcome, kinds[[outcome]])), share = 0.2, seed = 1)
    plan <- plan_comparison(job, candidates(
      base = fam_baseline(), tree = fam_tree(pruning = among(0.01, 0.1)),
      near = pipeline(pre_minimal(), fam_neighbours(neighbours = among(3, 9)))
    ), splits = split_kfold(3), seed = 3)
    cmp <- quiet_run(plan, keep = "training_scores")
    # the usual metrics of the kind, and the same on workers, with an exposure
    expect_identical(names(plan$metrics), kw("outcome_kind")(job$kind)$metrics)
    if (outcome == "claims") {
      same_numbers(quiet_run(plan, workers = 2, keep = "training_scores"), cmp)
    }
    file.remove(dir(pattern = "[.](yml|csv)$"))
    write_plan(plan_comparison(do.call(job_of, c(outcome, kinds[[outcome]])),
      plan$candidates, splits = split_kfold(3), seed = 3), "plan.yml")
    again <- read_plan("plan.yml")
    expect_identical(again$brief$kind, job$kind)
    expect_identical(again$brief$levels, job$levels)
    model <- fit_final(select_final(cmp, candidate = "tree"))
    scores <- score_set_aside(model)
    expect_true(all(is.finite(scores$set_aside) & scores$low <= scores$set_aside), info = outcome)
    predicted <- predict(model, table)
    save_model(model, "model.kilnwright")
    expect_equal(predict(open_model("model.kilnwright", trust = TRUE), table), predicted)
    utils::write.csv(table, "table.csv", row.names = FALSE)
    utils::write.csv(table, "new.csv", row.names = FALSE)
    write_script(model, "final.R")
    utils::capture.output(sys.source("final.R", new.env()))
    got <- utils::read.csv("predictions.csv", check.names = FALSE)
    for (column in setdiff(names(predicted), "class")) {
      expect_equal(got[[column]], predicted[[column]], tolerance = 1e-8, info = outcome)
    }
  }
  expect_match(capture.output(print(model)), "amount", all = FALSE)
  local_no_pictures()
  write_report(model, "report.html")
  expect_match(page_text("report.html"), "a number between")
})

spread_out <- function(n = 300) {
  withr::with_seed(9, {
    t <- data.frame(x = runif(n), z = rnorm(n), w = sample(1:3, n, TRUE))
    t$y <- 2 * t$x + rnorm(n, sd = 0.2 + t$x)
    t
  })
}

test_that("quantiles are fitted at once, and scored as their formulas say", {
  table <- spread_out()[c("x", "z", "y")]
  asked <- c(0.1, 0.5, 0.9)
  job <- brief(table, "y", quantiles = asked)
  expect_identical(job$kind, "quantiles")
  expect_identical(brief(table, "y", outcome_kind = "quantiles")$quantiles, asked)
  expect_output(print(job), "the 0.1, 0.5, 0.9 quantiles of the number y")
  rivals <- list(
    base = list(fam_baseline(), function(d, new) {
      matrix(stats::quantile(d$y, asked), nrow(new), 3, byrow = TRUE)
    }),
    linear = list(fam_linear(), function(d, new) {
      unname(stats::predict(quantreg::rq(y ~ x + z, asked, d), new))
    }),
    forest = list(fam_forest(trees = among(10, 40), min_node = 20), NULL),
    boosted = list(fam_boosted(trees = among(10, 30), row_share = 1), function(d, new) {
      vapply(asked, function(alpha) {
        fit <- gbm::gbm.fit(d[1:2], d$y, distribution = list(name = "quantile", alpha = alpha),
          n.trees = 30, interaction.depth = 3, n.minobsinnode = 10, shrinkage = 0.1,
          bag.fraction = 1, verbose = FALSE)
        gbm::predict.gbm(fit, new[1:2], 30)
      }, numeric(nrow(new)))
    })
  )
  metrics <- c("mean_pinball", "coverage_gap", "interval_width", "crossing")
  for (name in names(rivals)) {
    if (name == "linear") skip_if_not_installed("quantreg")
    if (name == "boosted") skip_if_not_installed("gbm")
    plan <- plan_comparison(job, candidates(a = rivals[[name]][[1]]), splits = split_kfold(3),
      metrics = metrics, seed = 1)
    cmp <- quiet_run(plan, keep = c("training_scores", "all_predictions"))
    if (name == "forest") {
      apart <- quiet_run(plan, workers = 2, keep = c("training_scores", "all_predictions"))
      same_numbers(apart, cmp)
    }
    last <- nrow(cmp$results$scores$mean_pinball)
    for (s in 1:3) {
      held <- table[plan$splits[[s]]$validation, ]
      p <- if (is.null(rivals[[name]][[2]])) {
        cmp$results$predictions[[s]]$values[, , which(cmp$results$predictions[[s]]$place == last)]
      } else {
        rivals[[name]][[2]](table[plan$splits[[s]]$training, ], held)
      }
      loss <- vapply(1:3, function(i) {
        mean(ifelse(held$y > p[, i], asked[i], asked[i] - 1) * (held$y - p[, i]))
      }, 1)
      score <- function(metric) cmp$results$scores[[metric]][last, s]
      expect_equal(score("mean_pinball"), mean(loss), tolerance = 1e-5, info = name)
      inside <- mean(held$y >= p[, 1] & held$y <= p[, 3])
      expect_equal(score("coverage_gap"), abs(inside - 0.8), tolerance = 1e-8, info = name)
      expect_equal(score("interval_width"), mean(abs(p[, 3] - p[, 1])), tolerance = 1e-5)
      expect_equal(score("crossing"), mean(p[, 2] < p[, 1] | p[, 3] < p[, 2]))
    }
    # of true quantiles about as many rows lie between as should
    if (name == "forest") expect_lt(mean(cmp$results$scores$coverage_gap[last, ]), 0.12)
  }
  # the forest's quantiles are those of the outcomes that its first trees drew
  values <- matrix(c(3, 1, 2, 5, 9, 7, 8, 8), 2, byrow = TRUE)
  expect_equal(kw("row_quantiles")(values, asked),
    t(apply(values, 1, stats::quantile, asked, names = FALSE)))
  # a weight is as many rows
  heavy <- spread_out()
  rows <- rep(seq_len(nrow(heavy)), heavy$w)
  fit <- function(d, w) {
    kw("fit_baseline")(NULL, d$y, w, list(guess = "shares"), 1, 1, quantiles = asked)$shares
  }
  expect_equal(fit(heavy, as.double(heavy$w)), fit(heavy[rows, ], NULL))
})

test_that("quantiles go the whole way; what does not fit them is refused", {
  withr::local_dir(withr::local_tempdir())
  table <- spread_out()[c("x", "z", "y")]
  refused <- function(pattern, ...) {
    expect_error(brief(table, "y", ...), pattern, class = "kw_error")
  }
  refused("rising numbers between 0 and 1", quantiles = c(0.9, 0.1))
  refused("rising numbers between 0 and 1", quantiles = c(0, 0.5))
  refused("is predicted as numbers", quantiles = 0.5, outcome_kind = "number")
  refused("outcome_scale` is for a number", quantiles = 0.5, outcome_scale = "sqrt")
  expect_error(
    quiet_run(brief(table, "y", quantiles = 0.5), candidates(a = fam_penalised())),
    "cannot predict quantiles of a number", class = "kw_error_plan"
  )
  job <- set_aside(brief(table, "y", quantiles = c(0.05, 0.5, 0.95)), share = 0.2, seed = 1)
  cmp <- quiet_run(job, candidates(base = fam_baseline(), forest = fam_forest(trees = among(10, 50),
    min_node = 10)), splits = split_kfold(4), seed = 2, journal = "run.sqlite")
  same_numbers(open_comparison("run.sqlite", trust = TRUE), cmp)
  choice <- select_final(cmp, candidate = "forest")
  model <- fit_final(choice)
  expect_true(all(is.finite(score_set_aside(model)$set_aside)))
  predicted <- predict(model, table)
  expect_named(predicted, c("q_5", "q_50", "q_95"))
  expect_identical(predict(model, table[0, ]), predicted[0, ])
  expect_error(predict(model, table, type = "class"), class = "kw_error_argument")
  save_model(model, "model.kilnwright")
  expect_equal(predict(open_model("model.kilnwright", trust = TRUE), table), predicted)
  expect_output(print(column_effect(model, "x", points = 3)), "the 0.5 quantile of y")
  expect_error(draw_observed(choice), class = "kw_error_draw")
  drawn <- ggplot2::ggplot_build(draw_intervals(choice))
  held <- kw("held_out_of_choice")(choice)
  inside <- mean(held$truth >= held$prediction[, 1] & held$truth <= held$prediction[, 3])
  expect_match(drawn$plot$labels$subtitle, format(round(100 * inside, 1)), fixed = TRUE)
  write_plan(plan_comparison(brief(table, "y", quantiles = c(0.05, 0.5, 0.95)),
    candidates(a = fam_baseline()), splits = split_kfold(3), seed = 3), "plan.yml")
  expect_identical(read_plan("plan.yml")$brief$quantiles, c(0.05, 0.5, 0.95))
  expect_true(all(try_out(fam_forest(trees = 20), job)$passed))
  expect_true(all(try_out(kw("find_metric")("mean_pinball", "quantiles"), job)$passed))
  utils::write.csv(table, "table.csv", row.names = FALSE)
  utils::write.csv(table, "new.csv", row.names = FALSE)
  write_script(model, "final.R")
  sys.source("final.R", new.env())
  expect_equal(utils::read.csv("predictions.csv"), as.data.frame(predicted), tolerance = 1e-8)
})

test_that("a step of one's own that makes training rows leaves the kind as it is", {
  job <- job_of("claims", outcome_kind = "count", exposure = "years")
  plain <- pipeline(pre_onehot(), fam_linear())
  cmp <- quiet_run(plan_comparison(job,
    candidates(once = plain, twice = pipeline(pre_double(), pre_onehot(), fam_linear())),
    splits = split_kfold(3), seed = 1))
  expect_equal(cmp$results$scores$rmse[1, ], cmp$results$scores$rmse[2, ], tolerance = 1e-6)
})

test_that("what Kilnwright proposes by itself fits the kind", {
  names_of <- function(job) names(sensible_candidates(job, "quick")$pipelines)
  expect_identical(names_of(job_of("grade")), c("baseline", "penalised", "tree", "forest",
    "cumulative"))
  expect_identical(names_of(brief(spread_out()[c("x", "z", "y")], "y", quantiles = c(0.1, 0.9))),
    c("baseline", "forest", "linear"))
  cmp <- quiet_run(brief(spread_out(80)[c("x", "z", "y")], "y", quantiles = c(0.1, 0.9)))
  expect_identical(names(cmp$plan$spaces), c("baseline", "linear", "forest"))
})

test_that("families for numbers never predict a count or an amount of 0 or less", {
  below <- define_family("below", "number",
    fit = function(x, y, weights, settings, seed, threads) NULL,
    predict = function(model, x) rep(c(-1, 2), length.out = nrow(x))
  )
  table <- claims()[c("x", "z", "claims")]
  cmp <- quiet_run(plan_comparison(brief(table, "claims", outcome_kind = "count"),
    candidates(a = below()), splits = split_kfold(3), metrics = "poisson_deviance", seed = 1))
  expect_true(all(is.finite(by_split(cmp, "poisson_deviance"))))
  model <- fit_final(select_final(cmp))
  expect_equal(range(predict(model, table)$value), c(mean(table$claims) / 1000, 2))
  script <- withr::local_tempfile(fileext = ".R")
  write_script(model, script)
  scripted <- run_script(script, table)$predict_new(table)$value
  expect_equal(range(scripted), c(mean(table$claims) / 1000, 2))
})

test_that("a family of one's own may ask for kind and exposure", {
  rate <- define_family("rate", c("number", "count"),
    fit = function(x, y, weights, settings, seed, threads, kind, exposure) {
      if (kind == "count") sum(y * exposure) / sum(exposure) else mean(y)
    },
    predict = function(model, x) rep(model, nrow(x)), weights = TRUE
  )
  job <- job_of("claims", outcome_kind = "count", exposure = "years")
  cmp <- quiet_run(plan_comparison(job, candidates(a = rate(), b = fam_baseline()),
    splits = split_kfold(3), seed = 1))
  expect_equal(cmp$results$scores$rmse[1, ], cmp$results$scores$rmse[2, ])
  expect_error(
    define_family("bad", "number",
      fit = function(x, y, weights, settings, seed, threads, other) 1,
      predict = function(model, x) 1
    ),
    class = "kw_error_argument"
  )
})
