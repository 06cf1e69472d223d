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
