# Outcomes that families learn on another scale.

priced <- function(n = 200) {
  withr::with_seed(8, {
    t <- data.frame(a = rnorm(n), b = runif(n), w = sample(1:3, n, TRUE))
    t$price <- exp(1 + t$a + rnorm(n, sd = 0.7))
    t
  })
}

test_that("scores and predictions are in the outcome's own unit, as a loop by hand has them", {
  table <- priced()[c("a", "b", "price")]
  plan <- plan_comparison(brief(table, "price"),
    candidates(l = pipeline(
      pre_outcome_scale(by = among("none", "log"), back = among("mean", "median")), fam_linear()
    )),
    splits = split_kfold(4), metrics = c("rmse", "mae"), seed = 1
  )
  cmp <- quiet_run(plan, workers = 1, keep = "training_scores")
  # on its own scale it goes back in no way
  expect_identical(nrow(standings(cmp)), 3L)
  settings <- cmp$results$tables$l
  for (s in seq_along(plan$splits)) {
    training <- table[plan$splits[[s]]$training, ]
    held <- table[plan$splits[[s]]$validation, ]
    fit <- stats::lm(log(price) ~ a + b, training)
    errors <- stats::quantile(stats::resid(fit), (1:50 - 0.5) / 50)
    hand <- list(
      mean = function(rows) {
        vapply(stats::predict(fit, rows), function(z) mean(exp(z + errors)), 1)
      },
      median = function(rows) exp(stats::predict(fit, rows)),
      none = function(rows) stats::predict(stats::lm(price ~ a + b, training), rows)
    )
    rmse <- function(way, rows) sqrt(mean((hand[[way]](rows) - rows$price)^2))
    for (i in seq_len(nrow(settings))) {
      way <- if (settings$by[i] == "none") "none" else settings$back[i]
      expect_equal(cmp$results$scores$rmse[i, s], rmse(way, held), tolerance = 1e-8)
      expect_equal(cmp$results$training$rmse[i, s], rmse(way, training), tolerance = 1e-8)
    }
  }
  # means are for squared errors, medians for absolute ones
  of <- function(metric, way) {
    table <- standings(cmp, metric)
    table$mean[table$by == "log" & table$back %in% way]
  }
  expect_lt(of("mae", "median"), of("mae", "mean"))
  # the same on workers
  same_numbers(quiet_run(plan, workers = 2, keep = "training_scores"), cmp)
})

test_that("every value along a path goes back with its own errors, also once fitted again", {
  table <- priced()
  job <- brief(table[c("a", "b", "price")], "price")
  for (family in list(
    fam_penalised(penalty = among(0.001, 0.1, 1)), fam_tree(pruning = among(0.001, 0.01, 0.1)),
    fam_neighbours(neighbours = among(1, 5, 15), weighting = among("equal", "fading")),
    fam_forest(trees = among(10, 40))
  )) {
    cmp <- quiet_run(plan_comparison(job,
      candidates(f = pipeline(pre_scale(), pre_outcome_scale("yeo_johnson"), family)),
      splits = split_kfold(3), metrics = "rmse", seed = 1
    ), workers = 1, keep = "all_predictions")
    for (at in seq_along(cmp$results$candidate)) {
      again <- kw("new_refit")(cmp, at)
      split <- cmp$plan$splits[[2]]
      refitted <- again$fit(split$training, split$key)
      expect_identical(
        refitted$predict(kw("frame_rows")(again$data$frame, split$validation)),
        kw("setting_predictions")(cmp, at)[[2]]
      )
    }
    # near the outcomes, not near their logarithms, and finite however far the columns are
    model <- fit_final(select_final(cmp, "best_mean"))
    expect_lt(abs(log(mean(predict(model, table)$value) / mean(table$price))), 0.35)
    far <- predict(model, data.frame(a = c(-1e6, 1e6), b = 0))$value
    expect_true(all(is.finite(far)))
    file <- withr::local_tempfile(fileext = ".zip")
    save_model(model, file)
    expect_identical(predict(open_model(file, trust = TRUE), table), predict(model, table))
  }
})

test_that("a script goes back as the model does", {
  folder <- withr::local_tempdir()
  file <- file.path(folder, "t.csv")
  utils::write.csv(priced(), file, row.names = FALSE)
  job <- brief(read_data(file), "price", weight = "w")
  cmp <- quiet_run(plan_comparison(job,
    candidates(p = pipeline(pre_outcome_scale("box_cox"), fam_penalised(penalty = 0.01))),
    splits = split_kfold(3), seed = 1
  ), workers = 1)
  model <- fit_final(select_final(cmp, "best_mean"))
  script <- file.path(folder, "s.R")
  write_script(model, script)
  lines <- readLines(script)
  lines <- sub("^(data_file|new_file) <- .*", paste0("\\1 <- \"", file, "\""), lines)
  writeLines(lines, script)
  expect_identical(system2(file.path(R.home("bin"), "Rscript"), script), 0L)
  made <- utils::read.csv(file.path(folder, "predictions.csv"))
  expect_equal(made$value, predict(model, read_data(file))$value, tolerance = 1e-8)
})

test_that("powers come back, weights are numbers of rows, and what does not fit is said", {
  y <- c(0.01, 0.5, 1, 2, 7, 300)
  for (power in c(-2, -0.5, 0, 0.5, 1, 2, 3)) {
    expect_equal(kw("from_box_cox")(kw("box_cox")(y, power), power), y, tolerance = 1e-4)
    both <- c(-y, 0, y)
    expect_equal(
      kw("from_yeo_johnson")(kw("yeo_johnson")(both, power), power), both, tolerance = 1e-4
    )
  }
  table <- priced()
  learned <- function(y, w) kw("learn_outcome_scale")(y, "box_cox", "mean", w)
  expect_equal(
    learned(table$price, table$w), learned(rep(table$price, table$w), NULL), tolerance = 1e-6
  )
  planned <- function(table, outcome, by) {
    plan_comparison(brief(table, outcome), candidates(
      l = pipeline(pre_outcome_scale(by), fam_linear())
    ), seed = 1)
  }
  table$price[3] <- 0
  expect_error(planned(table, "price", "log"), "above 0; there is 0", class = "kw_error_plan")
  expect_s3_class(planned(table, "price", "sqrt"), "kw_plan")
  table$class <- rep(c("x", "y"), 100)
  expect_error(planned(table[c("a", "class")], "class", "log"), "numeric outcome")
})

test_that("a brief's scale holds for every candidate without one of its own", {
  table <- priced()[c("a", "b", "price")]
  scaled <- brief(table, "price", outcome_scale = c("none", "log"))
  expect_output(print(scaled), "on the scale none or log")
  rivals <- candidates(
    l = fam_linear(), own = pipeline(optional(pre_outcome_scale("sqrt")), fam_linear())
  )
  said <- quiet_run(plan_comparison(scaled, rivals, splits = split_kfold(3), seed = 1), workers = 1)
  steps <- candidates(
    l = pipeline(pre_outcome_scale(among("none", "log")), pre_minimal(), fam_linear()),
    own = pipeline(optional(pre_outcome_scale("sqrt")), fam_linear())
  )
  written <- quiet_run(
    plan_comparison(brief(table, "price"), steps, splits = split_kfold(3), seed = 1),
    workers = 1
  )
  expect_identical(standings(said)$mean, standings(written)$mean)
  expect_identical(nrow(standings(said)), 4L)
  folder <- withr::local_tempdir()
  file <- file.path(folder, "t.csv")
  utils::write.csv(table, file, row.names = FALSE)
  job <- brief(read_data(file), "price", outcome_scale = "log")
  plan <- plan_comparison(job, candidates(l = fam_linear()), seed = 1)
  write_plan(plan, file.path(folder, "p.yml"), table = file)
  again <- read_plan(file.path(folder, "p.yml"))
  expect_identical(again$brief$outcome_scale, "log")
  expect_identical(
    standings(quiet_run(again, workers = 1))$mean, standings(quiet_run(plan, workers = 1))$mean
  )
  table$class <- rep(c("x", "y"), 100)
  expect_error(brief(table, "class", outcome_scale = "log"), "is for a number",
    class = "kw_error_brief")
  expect_error(brief(table, "price", outcome_scale = "cube"), "outcome_scale",
    class = "kw_error_argument")
})

test_that("a scale of one's own functions gives what the log does, everywhere", {
  table <- priced(60)
  to <- function(y) log(y) / log(2)
  from <- function(z) 2^z
  run <- function(scale) {
    job <- brief(table, "price", outcome_scale = scale)
    fit_final(select_final(quiet_run(job, candidates(l = fam_linear(), t = fam_tree()),
      splits = split_kfold(4), seed = 1, workers = 1
    ), candidate = "l"))
  }
  own <- run(list(to = to, from = from))
  expect_equal(predict(own, table), predict(run("log"), table), tolerance = 1e-8)
  files <- withr::local_tempfile(fileext = c(".R", ".kilnwright"))
  write_script(own, files[1])
  expect_equal(run_script(files[1], table)$predict_new(table)$value, predict(own, table)$value,
    tolerance = 1e-10
  )
  save_model(own, files[2])
  expect_equal(predict(open_model(files[2], trust = TRUE), table), predict(own, table))
  plan <- own$origin$choice$cmp$plan
  expect_error(write_plan(plan, tempfile(fileext = ".yml")), "outcome scale", class = "kw_error")
  expect_error(run(list(to = to, from = function(z) z)), "take back", class = "kw_error")
  expect_error(pre_outcome_scale("own"), "needs the functions", class = "kw_error_argument")
  expect_error(pre_outcome_scale(to = to), "`from`", class = "kw_error_argument")
})
