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
