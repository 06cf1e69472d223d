# Splitters: who is where, and how scores of unusual splits are had, against plain loops.

places <- function(job, splitter, seed = 1) {
  rows_by_split(plan_comparison(
    job,
    candidates(b = fam_baseline()),
    splits = splitter,
    metrics = if (job$kind == "number") "mae" else "log_loss",
    seed = seed
  ))
}

test_that("folds are alike in further columns, and in groups, as far as can be", {
  table <- toy(600)
  table$site <- rep(c("n", "s", "w"), c(400, 140, 60))
  job <- brief(table, outcome = "two", event = "yes", ignore = c("number", "three", "batch"))
  shares <- sapply(places(job, split_kfold(6, stratify = c("site", "x3"))), function(r) {
    table(table$site[r$validation])
  })
  expect_true(all(shares["w", ] %in% 8:12))
  grouped <- toy_brief(table = table, group = "batch")
  rows <- places(grouped, split_kfold(6, stratify = "colour"))
  expect_true(all(sapply(rows, function(r) {
    length(intersect(table$batch[r$training], table$batch[r$validation])) == 0
  })))
  expect_error(places(job, split_kfold(3, stratify = "sight")), "site", class = "kw_error_splits")
})

test_that("leaving groups, a column's values or given parts out does just that", {
  table <- toy(90)
  table$fold <- rep(c("training", "validation", NA), 30)
  table$other <- rep(c("validation", "training"), 45)
  job <- brief(
    table,
    outcome = "number", group = "batch", ignore = c("two", "three", "fold", "other")
  )
  groups <- places(job, split_leave_group())
  expect_length(groups, 18)
  expect_true(all(sapply(groups, function(r) length(unique(table$batch[r$validation])) == 1)))
  colours <- places(job, split_leave_group(group = "colour"))
  expect_setequal(
    sapply(colours, function(r) unique(table$colour[r$validation])), unique(table$colour)
  )
  given <- places(job, split_columns(c("fold", "other")))
  expect_identical(
    given[[1]],
    list(
      training = which(table$fold %in% "training"),
      validation = which(table$fold %in% "validation")
    )
  )
  expect_error(places(job, split_columns("colour")), "holds", class = "kw_error_splits")
  expect_error(places(job, split_leave_row()), "batch", class = "kw_error_splits")
})

test_that("splits in time train on the past, keep ties together and mind gap and window", {
  table <- toy(200)
  table$day <- withr::with_seed(3, sample(1:50, 200, TRUE))
  job <- brief(table, outcome = "number", time = "day", ignore = c("two", "three", "batch"))
  points <- match(table$day, sort(unique(table$day)))
  growing <- places(job, split_time(first = 20, ahead = 5, gap = 2))
  expect_length(growing, (max(points) - 20 - 7) %/% 5 + 1)
  for (i in seq_along(growing)) {
    expect_identical(growing[[i]]$training, which(points <= 20 + 5 * (i - 1)))
    expect_identical(
      growing[[i]]$validation, which(points > 22 + 5 * (i - 1) & points <= 27 + 5 * (i - 1))
    )
  }
  sliding <- places(job, split_time(first = 20, ahead = 5, window = "sliding"))
  expect_identical(sliding[[3]]$training, which(points > 10 & points <= 30))
  expect_error(places(toy_brief("number"), split_time()), "time", class = "kw_error_splits")
  expect_error(
    places(job, split_time(first = 49, ahead = 5)), "time point",
    class = "kw_error_splits"
  )
  plan <- plan_comparison(job, candidates(b = fam_baseline()), splits = split_time(20, 5), seed = 1)
  expect_output(print(plan), "not independent")
})

test_that(
  "leaving single rows out scores all held-out predictions together, with the jackknife's error",
  {
    table <- toy(60)
    job <- toy_brief("two_class", table)
    cmp <- quiet_run(
      job,
      candidates(l = pipeline(pre_onehot(drop_one = TRUE), fam_linear()), b = fam_baseline()),
      splits = split_leave_row(),
      metrics = c("log_loss", "accuracy"),
      seed = 1
    )
    table$y <- as.integer(table$two == "yes")
    p <- sapply(1:60, function(i) {
      predict(
        suppressWarnings(glm(y ~ x1 + x2 + x3 + colour, binomial, table[-i, ])),
        table[i, ],
        type = "response"
      )
    })
    row <- standings(cmp)[standings(cmp)$candidate == "l", ]
    loss <- -log(ifelse(table$y == 1, p, 1 - p))
    expect_equal(row$mean, mean(loss), tolerance = 1e-6)
    without <- sapply(1:60, function(i) mean(loss[-i]))
    expect_equal(row$se, sqrt(59 / 60 * sum((without - mean(without))^2)), tolerance = 1e-6)
    expect_equal(
      standings(cmp, metric = "accuracy")$mean[standings(cmp,
        metric = "accuracy")$candidate == "l"],
      mean((p > 0.5) == table$y)
    )
    expect_output(print(cmp$plan), "scored together")
    expect_s3_class(select_final(cmp, rule = "one_se"), "kw_choice")
    small <- quiet_run(
      toy_brief("number", table),
      candidates(b = fam_baseline()),
      splits = split_kfold(10),
      metrics = "rmse",
      seed = 1
    )
    held <- unlist(lapply(rows_by_split(small), function(r) {
      table$number[r$validation] - mean(table$number[r$training])
    }))
    expect_equal(standings(small)$mean, sqrt(mean(held^2)))
  }
)

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

test_that("check_splits warns about what is wrong with splits", {
  table <- toy(100)
  table[51:60, ] <- table[1:10, ]
  table$batch <- rep(1:20, 5)
  job <- toy_brief(table = table, group = "batch")
  found <- check_splits(job, split_kfold(10, keep_groups = FALSE), seed = 1)
  expect_true(all(c("small_validation_part", "groups_on_both_sides",
    "rows_alike_on_both_sides") %in% found$code))
  table$two <- c("yes", "yes", rep("no", 98))
  rare <- check_splits(toy_brief(table = table), split_kfold(5, stratify = FALSE))
  expect_true("class_missing_in_validation" %in% rare$code)
  table$day <- 1:100
  timed <- brief(table, outcome = "number", time = "day", ignore = c("two", "three", "batch"))
  expect_true("training_later_than_validation" %in% check_splits(timed, split_kfold(3))$code)
  expect_false("training_later_than_validation" %in% check_splits(timed, split_time(30, 30))$code)
  clean <- toy(300)
  expect_identical(nrow(check_splits(toy_brief(table = clean), split_kfold(3))), 0L)
})

test_that("draw_splits shows each split's rows", {
  job <- toy_brief(group = "batch")
  plot <- draw_splits(job, split_kfold(5))
  data <- ggplot2::ggplot_build(plot)$data[[1]]
  expect_identical(length(unique(data$y)), 5L)
  expect_match(plot$labels$subtitle, "ordered by batch")
  validation <- plot$data[plot$data$part == "validation", ]
  expect_equal(
    as.vector(tapply(validation$share, validation$line, sum)),
    lengths(lapply(
      rows_by_split(plan_comparison(
        job, candidates(b = fam_baseline()),
        splits = split_kfold(5), seed = 1
      )),
      `[[`,
      "validation"
    )),
    ignore_attr = TRUE
  )
})
