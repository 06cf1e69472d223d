test_that("target means are smoothed means of the level; training rows get those of other parts", {
  table <- withr::with_seed(3, data.frame(k = sample(c("a", "b", "c"), 300, TRUE)))
  y <- withr::with_seed(4, rnorm(300) + (table$k == "a"))
  out <- learned(pre_target_mean(smoothing = 7), table, y)
  state <- kw("use_step")(out$state,
    kw("new_frame")(data.frame(k = factor(c("a", "never")))))$columns$k_mean
  expect_equal(
    state, c((sum(y[table$k == "a"]) + 7 * mean(y)) / (sum(table$k == "a") + 7), mean(y))
  )
  inside <- out$frame$columns$k_mean
  expect_gt(length(unique(round(inside[table$k == "a"], 10))), 1)
  expect_lte(length(unique(round(inside, 10))), 15)
  many <- learned(pre_target_mean(), table, factor(sample(c("x", "y", "z"), 300, TRUE)))
  expect_named(many$frame$columns, c("k_mean_y", "k_mean_z"))
})

test_that("a row's own outcome, and its bootstrap copies', never enter its own target mean", {
  table <- data.frame(k = rep(sprintf("l%02d", 1:30), 4))
  y <- withr::with_seed(6, rnorm(120))
  rows <- withr::with_seed(7, sample(120, replace = TRUE))
  for (i in c(1, 50)) {
    moved <- y
    moved[rows[i]] <- moved[rows[i]] + 1000
    before <- learned(pre_target_mean(smoothing = 1), table, y, rows = rows)$frame$columns$k_mean
    after <- learned(pre_target_mean(smoothing = 1), table, moved, rows = rows)$frame$columns$k_mean
    expect_equal(after[rows == rows[i]], before[rows == rows[i]])
    expect_false(isTRUE(all.equal(after, before)))
  }
})
