# Probabilities three times too certain on the scale of log odds.
too_certain <- define_family("too_certain",
  kinds = "two_class",
  fit = function(x, y, weights, settings, seed, threads) {
    stats::glm.fit(cbind(1, x), as.integer(y) - 1L, family = stats::quasibinomial())$coefficients
  },
  predict = function(model, x) {
    model[is.na(model)] <- 0
    p <- stats::plogis(3 * drop(cbind(1, x) %*% model))
    cbind(1 - p, p)
  }
)

table <- toy(400, seed = 4)
job <- toy_brief("two_class", table, group = "batch")
behind <- function(by, ...) pipeline(pre_recalibrate(by = by), ..., pre_minimal(), too_certain())

test_that("probabilities come out as they turn out, by every map", {
  cmp <- quiet_run(job,
    candidates(one = behind(among("none", "platt", "beta", "isotonic")), honest = fam_linear()),
    splits = split_kfold(5), metrics = c("log_loss", "auc"), seed = 1
  )
  table <- standings(cmp)
  loss <- stats::setNames(table$mean, table$by)
  honest <- table$mean[table$candidate == "honest"]
  expect_gt(loss[["none"]], honest + 0.1)
  expect_lt(loss[["platt"]], honest + 0.02)
  expect_lt(loss[["beta"]], honest + 0.02)
  expect_lt(loss[["isotonic"]], honest + 0.08)
  order <- standings(cmp, metric = "auc")
  order <- stats::setNames(order$mean, order$by)
  # but for ties of what is as good as certain, no pair of rows changes its order
  expect_equal(order[["platt"]], order[["none"]], tolerance = 1e-3)
  p <- sort(withr::with_seed(2, plogis(rnorm(300, sd = 3))))
  map <- list(by = "platt", constant = 0.2, slopes = 0.4)
  inside <- p > 1e-5 & p < 1 - 1e-5
  expect_identical(order(kw("recalibrated")(p, map)[inside]), seq_len(sum(inside)))
})

test_that("the isotonic map is that of stats::isoreg, weights count as repeated rows", {
  withr::local_seed(8)
  x <- round(runif(200), 2)
  y <- rbinom(200, 1, x^2)
  steps <- kw("rising_means")(x, y, rep(1, 200))
  found <- approx(steps$at, steps$value, sort(x), rule = 2)$y
  expect_equal(found, isoreg(x, ave(y, x))$yf, tolerance = 1e-12)
  w <- sample(3, 200, replace = TRUE)
  repeated <- kw("rising_means")(rep(x, w), rep(y, w), rep(1, sum(w)))
  expect_equal(kw("rising_means")(x, y, w), repeated)
})

test_that("a map of Platt is a logistic curve of smoothed targets, and never falls", {
  withr::local_seed(9)
  p <- runif(150)
  event <- rbinom(150, 1, plogis(1 + 0.5 * qlogis(p))) == 1
  ends <- c(1 / (sum(!event) + 2), (sum(event) + 1) / (sum(event) + 2))
  direct <- suppressWarnings(glm(ends[event + 1] ~ qlogis(p), family = binomial))
  map <- kw("learn_recalibration")(p, event, rep(1, 150), "platt")
  expect_equal(c(map$constant, map$slopes), unname(coef(direct)), tolerance = 1e-6)
  turned <- kw("learn_recalibration")(1 - p, event, rep(1, 150), "beta")
  expect_false(is.unsorted(kw("recalibrated")(sort(p), turned)))
})

test_that("before balancing, probabilities are brought back to the rows as they came", {
  table$two[table$two == "yes"][-(1:60)] <- "no"
  job <- toy_brief("two_class", table)
  fitted <- function(pipeline) {
    cmp <- quiet_run(job, candidates(one = pipeline), splits = split_kfold(4), seed = 2)
    mean(predict(fit_final(select_final(cmp)), table)$p_yes)
  }
  balance <- pre_balance(by = "repeat")
  before <- fitted(pipeline(pre_recalibrate(), balance, pre_minimal(), fam_linear()))
  after <- fitted(pipeline(balance, pre_recalibrate(), pre_minimal(), fam_linear()))
  expect_lt(abs(before - mean(table$two == "yes")), 0.03)
  expect_gt(after, before + 0.1)
})

test_that("the map travels with the model, in files and scripts, for many classes too", {
  job <- toy_brief("many_class", table)
  data <- withr::local_tempfile(fileext = ".csv")
  data.table::fwrite(table, data)
  for (by in c("beta", "isotonic")) {
    cmp <- quiet_run(job,
      candidates(one = pipeline(pre_recalibrate(by), pre_minimal(),
        fam_penalised(penalty = among(0.1, 0.01, 0.001)))),
      splits = split_kfold(3), metrics = "log_loss", seed = 3
    )
    model <- fit_final(select_final(cmp))
    ours <- as.matrix(predict(model, table)[paste0("p_", c("high", "low", "mid"))])
    expect_equal(rowSums(ours), rep(1, nrow(table)), tolerance = 1e-12)
    file <- withr::local_tempfile(fileext = ".kilnwright")
    save_model(model, file)
    expect_identical(predict(open_model(file, trust = TRUE), table), predict(model, table))
    script <- withr::local_tempfile(fileext = ".R")
    write_script(model, script, data = data, new_data = data)
    home <- run_script(script, table)
    found <- as.matrix(home$predict_new(table)[colnames(ours)])
    expect_equal(found, ours, tolerance = 1e-10)
  }
})

test_that("numbers, and classes with too few rows, are told what to do", {
  expect_error(
    quiet_run(toy_brief("number"), candidates(one = pipeline(pre_recalibrate(), fam_tree()))),
    "pre_recalibrate\\(\\) is for classes"
  )
  table$two <- replace(rep("no", 400), c(1, 101, 201, 301), "yes")
  job <- toy_brief("two_class", table[1:150, ])
  cmp <- quiet_run(job, candidates(base = fam_baseline(), one = behind("platt")),
    splits = split_kfold(2), metrics = "log_loss", seed = 1
  )
  expect_match(failures(cmp)$message, "there are too few rows or groups", all = FALSE)
})
