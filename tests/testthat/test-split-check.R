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
