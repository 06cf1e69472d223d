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
