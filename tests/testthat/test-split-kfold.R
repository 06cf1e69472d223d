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

test_that("however unlike groups are, each is held out about as often, and repeats differ", {
  sizes <- withr::with_seed(2, 1L + round(exp(rnorm(40, 3, 0.8))))
  table <- data.frame(site = rep(sprintf("s%02d", 1:40), sizes), x = seq_len(sum(sizes)))
  table$two <- withr::with_seed(3, ifelse(runif(nrow(table)) < 0.4, "yes", "no"))
  job <- brief(table, "two", event = "yes", group = "site")
  # which groups the validation rows are of: groups x splits
  held_groups <- function(splitter) {
    sapply(places(job, splitter), function(r) sprintf("s%02d", 1:40) %in% table$site[r$validation])
  }
  drawn <- held_groups(split_holdout(0.2, draws = 150))
  expect_false(anyDuplicated(t(drawn)) > 0)
  # 30 of 150 expected, 99.9 % of a binomial number are between 15 and 47
  expect_true(all(rowSums(drawn) >= 10 & rowSums(drawn) <= 55))
  rows <- colSums(drawn * sizes) / sum(sizes)
  expect_true(all(abs(rows - 0.2) < 1.5 / 40))
  expect_equal(mean(rows), 0.2, tolerance = 0.03)
  folds <- held_groups(split_kfold(5, repeats = 6))
  expect_identical(unname(rowSums(folds)), rep(6, 40))
  expect_false(anyDuplicated(t(folds)) > 0)
  # groups of one size: as many in each fold
  even <- transform(toy(216), batch = rep(1:54, each = 4))
  held <- places(toy_brief("number", even, group = "batch"), split_kfold(9, repeats = 5))
  expect_true(all(sapply(held, function(r) length(unique(even$batch[r$validation]))) == 6))
  event <- sapply(places(job, split_kfold(5, repeats = 6)), function(r) {
    mean(table$two[r$validation] == "yes")
  })
  expect_true(all(abs(event - mean(table$two == "yes")) < 0.12))
})
