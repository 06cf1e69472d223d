test_that("the .632 and .632+ bootstraps follow Efron and Tibshirani", {
  table <- toy(80)
  job <- toy_brief("number", table)
  rivals <- candidates(deep = fam_tree(pruning = among(0, 0.05), min_leaf = 1), b = fam_baseline())
  runs <- lapply(c("out_of_bag", "632", "632plus"), function(score) {
    quiet_run(job, rivals, splits = split_bootstrap(8, score = score), metrics = "mae", seed = 2)
  })
  grown <- function(rows) {
    rpart::prune(
      rpart::rpart(
        number ~ x1 + x2 + x3 + colour,
        table[rows, ],
        control = rpart::rpart.control(cp = 0, xval = 0, minsplit = 2, minbucket = 1)
      ),
      0
    )
  }
  rows <- rows_by_split(runs[[1]])
  outside <- sapply(rows, function(r) {
    mean(abs(table$number[r$validation] - predict(grown(r$training), table[r$validation, ])))
  })
  apparent_fit <- predict(grown(1:80), table)
  apparent <- mean(abs(table$number - apparent_fit))
  none <- mean(abs(outer(table$number, apparent_fit, `-`)))
  mean_of <- function(cmp) {
    t <- standings(cmp)
    t$mean[t$candidate == "deep" & t$pruning %in% 0]
  }
  expect_equal(mean_of(runs[[1]]), mean(outside))
  expect_equal(mean_of(runs[[2]]), 0.368 * apparent + 0.632 * mean(outside))
  capped <- min(mean(outside), none)
  r <- (capped - apparent) / (none - apparent)
  w <- 0.632 / (1 - 0.368 * r)
  expect_equal(mean_of(runs[[3]]), (1 - w) * apparent + w * capped, tolerance = 1e-6)
  long <- scores_by_split(runs[[2]])
  expect_equal(
    long$validation[long$split == 0 & long$candidate == "deep" & long$setting == 1], apparent
  )
  expect_error(
    quiet_run(job, rivals, splits = split_bootstrap(5, score = "632"), metrics = "rmse"),
    "mean",
    class = "kw_error_plan"
  )
})
