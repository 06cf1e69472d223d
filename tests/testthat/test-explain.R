# Importance, dependence, learning curves, largest errors.

number_choice <- function() {
  if (is.null(store$number)) {
    cmp <- quiet_run(
      toy_brief("number"),
      candidates(l = fam_linear(), b = fam_baseline()),
      splits = split_kfold(5),
      metrics = "rmse",
      seed = 2
    )
    store$number <- select_final(cmp, "best_mean")
  }
  store$number
}

test_that(
  "importance is the loss of score when a column is shuffled, and a useless column has none",
  {
    table <- toy(400)
    table$noise <- withr::with_seed(3, rnorm(400))
    cmp <- quiet_run(
      toy_brief("number", table),
      candidates(l = fam_linear()),
      splits = split_kfold(5),
      metrics = "rmse",
      seed = 2
    )
    choice <- select_final(cmp, "best_mean")
    found <- column_importance(choice, times = 20)
    expect_identical(found$column[1], "x1")
    expect_lt(abs(found$importance[found$column == "noise"]), 0.02)
    # the same by a plain loop over splits with the standard function
    plain <- vapply(rows_by_split(cmp), function(r) {
      fit <- lm(number ~ x1 + x2 + x3 + colour + noise, table[r$training, ])
      valid <- table[r$validation, ]
      rmse <- function(t) sqrt(mean((valid$number - predict(fit, t))^2))
      mean(replicate(200, rmse(transform(valid, x1 = sample(x1))))) - rmse(valid)
    }, numeric(1))
    expect_equal(found$importance[1], mean(plain), tolerance = 0.05)
    expect_identical(column_importance(choice, times = 3), column_importance(choice, times = 3))
    expect_error(column_importance(choice, columns = "x9"), "x9")
  }
)

# x2 nearly repeats x1; only x1, and x3 a little, is in the outcome.
repeating_choice <- function(family, n = 300) {
  table <- withr::with_seed(8, {
    x1 <- rnorm(n)
    data.frame(x1 = x1, x2 = x1 + rnorm(n, sd = 0.3), x3 = rnorm(n), x4 = rnorm(n), e = rnorm(n))
  })
  table$y <- table$x1 + table$x3 / 2 + table$e
  cmp <- quiet_run(brief(table, "y", ignore = "e"), candidates(f = family),
    splits = split_kfold(5), metrics = "rmse", seed = 2
  )
  list(table = table, cmp = cmp, choice = select_final(cmp, "best_mean"))
}

test_that("columns that repeat one another can be shuffled together", {
  made <- repeating_choice(fam_linear())
  found <- column_importance(made$choice, times = 20, together = 0.9)
  expect_identical(found$column[1], "x1 + x2")
  expect_setequal(found$column, c("x1 + x2", "x3", "x4"))
  plain <- vapply(rows_by_split(made$cmp), function(r) {
    fit <- lm(y ~ x1 + x2 + x3 + x4, made$table[r$training, ])
    valid <- made$table[r$validation, ]
    rmse <- function(t) sqrt(mean((valid$y - predict(fit, t))^2))
    mean(replicate(200, {
      at <- sample(nrow(valid))
      rmse(transform(valid, x1 = x1[at], x2 = x2[at]))
    })) - rmse(valid)
  }, numeric(1))
  expect_equal(found$importance[1], mean(plain), tolerance = 0.05)
  # constant, missing and badly named columns say nothing, and break nothing
  table <- data.frame(
    made$table, aim = made$table$x1, one = 1, none = NA_real_, code = sprintf("%03d", 1:300 %/% 2)
  )
  job <- brief(table, "y", ignore = "e")
  steps <- list(pre_drop(columns = "code"), pre_drop_constant())
  cmp <- quiet_run(job, candidates(f = pipeline(steps, fam_linear())),
    splits = split_kfold(3), metrics = "rmse", seed = 2
  )
  choice <- select_final(cmp)
  sets <- column_importance(choice, times = 1, together = 0.9)$column
  expect_setequal(sets, c("x1 + x2 + aim", "x3", "x4", "one", "none", "code"))
  expect_length(column_importance(choice, times = 1, within = TRUE)$column, 8)
  named <- column_importance(made$choice, times = 2, columns = list(both = c("x1", "x2"), "x4"))
  expect_setequal(named$column, c("both", "x4"))
  expect_error(column_importance(made$choice, together = 2), "together",
    class = "kw_error_argument")
  expect_error(column_importance(made$choice, columns = list(c("x1", "x9"))), "x9")
  expect_error(column_importance(made$choice, together = 0.5, within = TRUE), "single columns",
    class = "kw_error_argument"
  )
})

test_that("within alike rows a column that only repeats another one adds nothing", {
  made <- repeating_choice(fam_forest(trees = 100))
  plain <- column_importance(made$choice, times = 10)
  within <- column_importance(made$choice, times = 10, within = TRUE)
  of <- function(found, column) found$importance[found$column == column]
  expect_gt(of(plain, "x2"), 0.1)
  expect_lt(of(within, "x2"), of(plain, "x2") / 3)
  expect_gt(of(within, "x1"), of(within, "x2"))
  # nothing is associated with x3
  expect_equal(of(within, "x3"), of(plain, "x3"), tolerance = 0.2)
  # values stay among rows of one code, all of them, once
  code <- rep(c(3, 1, 2), 7)
  order <- kw("shuffled_order")(21, NULL, code)
  expect_identical(sort(order), 1:21)
  expect_identical(code[order], code)
})

test_that("chance marks what a useless column reaches", {
  # groups keep their outcomes together
  outcome <- kw("shuffled_outcome")(list(
    outcome = rep(1:4, times = 3), group = rep(letters[1:4], times = 3), source_row = 1:12
  ))
  expect_identical(as.vector(table(outcome)), rep(3L, 4))
  expect_true(all(tapply(outcome, rep(letters[1:4], 3), function(x) length(unique(x))) == 1))
  expect_error(column_importance(number_choice(), chance = 2), "at least 5",
    class = "kw_error_argument"
  )
  made <- repeating_choice(fam_forest(trees = 50))
  found <- column_importance(made$choice, times = 3, chance = 10)
  of <- function(column) found[found$column == column, ]
  expect_gt(of("x1")$importance, of("x1")$by_chance)
  expect_lt(of("x4")$importance, of("x4")$by_chance + 0.02)
  expect_identical(found, column_importance(made$choice, times = 3, chance = 10))
  marks <- ggplot2::ggplot_build(draw_importance(found))$data
  expect_true(any(vapply(marks, function(layer) {
    setequal(layer$x, found$by_chance)
  }, NA)))
})

test_that("dependence of a linear model is its line, of a category its shift", {
  model <- fit_final(number_choice())
  fit <- lm(number ~ x1 + x2 + x3 + colour, toy())
  found <- column_effect(model, "x1", rows = 1000)
  slope <- diff(found$mean$mean) / diff(found$mean$x1)
  expect_equal(slope, rep(unname(coef(fit)["x1"]), length(slope)))
  expect_identical(nrow(found$rows), 150L * nrow(found$mean))
  colour <- column_effect(model, "colour")$mean
  expect_equal(
    colour$mean[colour$colour == "red"] - colour$mean[colour$colour == "blue"],
    unname(coef(fit)["colourred"])
  )
  two <- column_effect(model, c("x1", "colour"), points = 5)$mean
  expect_identical(nrow(two), 15L)
  expect_error(column_effect(model, "nothing"), class = "kw_error_brief")
  expect_s3_class(draw_dependence(model, c("x1", "x2")), "ggplot")
})

test_that("largest errors are the held-out rows furthest off", {
  choice <- number_choice()
  found <- largest_errors(choice, top = 5)
  table <- toy()
  predicted <- numeric(150)
  for (r in rows_by_split(choice$cmp)) {
    predicted[r$validation] <- predict(
      lm(number ~ x1 + x2 + x3 + colour, table[r$training, ]), table[r$validation, ]
    )
  }
  error <- abs(predicted - table$number)
  expect_identical(found$row, order(-error)[1:5])
  expect_equal(found$error, sort(error, decreasing = TRUE)[1:5])
})

test_that(
  "a learning curve ends at the comparison's own score and says whether more rows would help",
  {
    choice <- number_choice()
    curve <- learning_curve(choice, shares = c(0.2, 0.5, 1))
    expect_equal(curve$validation[3], choice$mean)
    expect_equal(curve$rows, c(24, 60, 120))
    expect_gt(curve$validation[1], curve$validation[3])
    expect_match(attr(curve, "says"), "levelled off|still improving|got worse")
    expect_error(learning_curve(choice, shares = 2), class = "kw_error_argument")
  }
)

test_that("a prognosis finds the curve that the points lie on, and none where nothing rises", {
  n <- c(0.2, 0.4, 0.6, 0.8, 1)
  found <- kw("gain_beyond")(n, 0.9 - 0.2 * n^-0.65, c(1.5, 2, 4))
  expect_equal(found, 0.2 * (1 - c(1.5, 2, 4)^-0.65), tolerance = 1e-6)
  expect_identical(kw("gain_beyond")(n, rev(n), c(2, 3)), c(0, 0))
  cmp <- quiet_run(toy_brief("number"), candidates(linear = fam_linear()),
    splits = split_kfold(5), metrics = "rmse", seed = 1
  )
  curve <- learning_curve(select_final(cmp), shares = c(0.3, 0.5, 0.7, 1), beyond = c(2, 3))
  ahead <- attr(curve, "prognosis")
  expect_equal(ahead$rows, c(2, 3) * max(curve$rows))
  expect_true(all(diff(c(min(curve$validation[4]), ahead$score)) <= 0))
  expect_true(all(ahead$low <= ahead$score & ahead$score <= ahead$high))
  expect_match(attr(curve, "says"), "If the curve goes on so, 360 rows would give")
  expect_s3_class(ggplot2::ggplot_build(draw_learning_curve(curve))$plot, "ggplot")
  expect_null(attr(learning_curve(select_final(cmp), shares = c(0.5, 1)), "prognosis"))
  expect_error(learning_curve(select_final(cmp), beyond = 0.5), "beyond")
  # a metric that a share of the rows never has
  few <- data.frame(x = rnorm(24), y = rep(c("sound", "cracked"), c(20, 4)))
  cmp <- quiet_run(brief(few, "y", event = "cracked"), candidates(t = fam_tree(min_leaf = 2)),
    splits = split_kfold(4), metrics = "auc", seed = 1, workers = 1)
  expect_output(print(learning_curve(select_final(cmp), shares = c(0.1, 1))),
    "No split has AUC on both fewer and more training rows")
})

test_that("importance by fitting again is the loss without the column, by hand", {
  table <- toy(200)
  table$twin <- table$x1
  job <- brief(table[c("x1", "twin", "x2", "number")], "number")
  cmp <- quiet_run(job, candidates(linear = pipeline(pre_scale(), fam_linear())),
    splits = split_kfold(4), metrics = "rmse", seed = 2
  )
  choice <- select_final(cmp)
  found <- column_importance(choice, again = TRUE)
  lost <- vapply(cmp$plan$splits, function(split) {
    error <- function(formula) {
      fit <- lm(formula, table[split$training, ])
      sqrt(mean((table$number[split$validation] - predict(fit, table[split$validation, ]))^2))
    }
    error(number ~ x1) - error(number ~ x1 + x2)
  }, 1)
  expect_equal(found$importance[found$column == "x2"], mean(lost), tolerance = 1e-8)
  expect_equal(found$importance[found$column %in% c("x1", "twin")], c(0, 0), tolerance = 1e-10)
  both <- column_importance(choice, columns = list(both = c("x1", "twin")), again = TRUE)
  expect_gt(both$importance, 0.2)
  expect_error(column_importance(choice, again = TRUE, within = TRUE), "Leave one of them out")
})
