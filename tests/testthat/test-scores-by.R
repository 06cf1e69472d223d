# Scores within the parts of a column, against plain loops.

parted <- function() {
  withr::with_seed(2, {
    x <- rnorm(400)
    kind <- sample(c("a", "b", "c"), 400, TRUE, c(0.6, 0.3, 0.1))
    # nothing is to be learned of kind b, which is noise
    y <- ifelse(kind == "b", rnorm(400, sd = 3), x + rnorm(400, sd = 0.3))
    data.frame(x = x, kind = kind, late = c(rnorm(398), NA, NA), y = y)
  })
}

parted_comparison <- function(...) {
  quiet_run(brief(parted(), "y"),
    candidates(mean = fam_baseline(), line = pipeline(pre_drop(columns = "kind"), pre_missing(),
      fam_linear())),
    splits = split_kfold(10), metrics = c("mae", "rmse"), seed = 1, ...
  )
}

test_that("parts are scored on their held-out rows, and told where they differ", {
  cmp <- parted_comparison(keep = "all_predictions")
  table <- parted()
  found <- scores_by(cmp, "kind")
  expect_identical(found$part, rep(c("a", "b", "c"), 2))
  expect_identical(found$rows[1:3], as.double(table(table$kind)))
  line <- found[found$candidate == "line", ]
  by_split <- vapply(rows_by_split(cmp), function(split) {
    used <- table[c("x", "late", "y")]
    used$late[is.na(used$late)] <- median(used$late[split$training], na.rm = TRUE)
    fit <- lm(y ~ x + late, used[split$training, ])
    rows <- split$validation
    error <- abs(predict(fit, used[rows, ]) - table$y[rows])
    c(tapply(error, factor(table$kind[rows], c("a", "b", "c")), mean), mean(error))
  }, numeric(4))
  sizes <- vapply(rows_by_split(cmp), function(split) {
    as.double(table(factor(table$kind[split$validation], c("a", "b", "c"))))
  }, numeric(3))
  known <- !is.na(by_split[1:3, ])
  expect_equal(
    line$mean,
    unname(rowSums(ifelse(known, by_split[1:3, ] * sizes, 0)) / rowSums(sizes * known))
  )
  apart <- by_split[2, ] - by_split[4, ]
  p <- 2 * pt(-abs(mean(apart) / sqrt((1 / 10 + 1 / 9) * var(apart))), 9)
  expect_equal(line$p[2], min(1, 3 * p), tolerance = 1e-6)
  expect_identical(line$answer[2], "worse")
  # small and uncertain parts are drawn more than others, all towards the whole
  centre <- mean(line$shrunk)
  whole <- weighted.mean(line$mean, line$rows)
  expect_true(all(abs(line$shrunk - line$mean) < abs(line$mean - whole)))
  expect_output(print(found), "c  +[0-9]+")
})

test_that("rows are counted once, however often they are held out", {
  table <- parted()
  twice <- quiet_run(brief(table, "y"), candidates(mean = fam_baseline()),
    splits = split_kfold(5, repeats = 2), metrics = "mae", seed = 1
  )
  expect_identical(scores_by(twice, "kind")$rows, as.double(table(table$kind)))
})

test_that("numbers are cut into ranges of equal size; without kept predictions it is the same", {
  kept <- scores_by(parted_comparison(keep = "all_predictions"), "late", parts = 3)
  expect_identical(kept$part[4], "missing")
  expect_lte(diff(range(kept$rows[1:3])), 2)
  expect_equal(scores_by(parted_comparison(), "late", parts = 3), kept)
  expect_identical(kept$splits[4] < 5L, is.na(kept$answer[4]))
  drawn <- draw_scores_by(kept)
  expect_s3_class(ggplot2::ggplot_build(drawn), "ggplot_built")
  points <- ggplot2::layer_data(drawn, 3L)
  expect_setequal(signif(points$x, 6), signif(kept$shrunk, 6))
})

test_that("columns that there are not, texts and a thousand levels", {
  cmp <- parted_comparison()
  expect_error(scores_by(cmp, "kinds"), "kind", class = "kw_error_brief")
  expect_error(scores_by(cmp, "y"), class = "kw_error_brief")
  expect_error(scores_by(cmp, "kind", metric = "auc"), class = "kw_error_argument")
  many <- transform(parted(), code = sprintf("c%03d", seq_len(400)))
  wide <- quiet_run(brief(many, "y"), candidates(mean = fam_baseline()),
    splits = split_kfold(5), metrics = "mae", seed = 1)
  found <- scores_by(wide, "code")
  expect_identical(nrow(found), 12L)
  expect_identical(found$part[12], "others (389)")
})

test_that("a column of few values has a part for each; splits of single rows have no parts", {
  made <- transform(parted()[1:80, c("x", "y")], flag = rep(c(0, 1, NA, 1), 20), same = 3)
  cmp <- quiet_run(brief(made, "y", ignore = "same"), candidates(mean = fam_baseline()),
    splits = split_kfold(5), metrics = "mae", seed = 1)
  found <- scores_by(cmp, "flag")
  expect_identical(found$part, c("0", "1", "missing"))
  expect_identical(found$rows, c(20, 40, 20))
  one <- scores_by(quiet_run(brief(made, "y"), candidates(mean = fam_baseline()),
    splits = split_kfold(5), metrics = "mae", seed = 1), "same")
  expect_identical(one$part, "3")
  expect_length(grep("^3 ", capture.output(print(one))), 1)
  held <- quiet_run(brief(made, "y", ignore = "same"), candidates(mean = fam_baseline()),
    splits = split_holdout(0.4, draws = 1), metrics = "mae", seed = 1)
  expect_identical(scores_by(held, "flag")$shrunk, scores_by(held, "flag")$mean)
  single <- quiet_run(brief(made, "y"), candidates(mean = fam_baseline()),
    splits = split_leave_row(), metrics = "mae", seed = 1)
  expect_error(scores_by(single, "flag"), "few rows", class = "kw_error_select")
})
