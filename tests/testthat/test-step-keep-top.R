test_that(
  "filters keep the columns with the highest statistic, sparse ones judged like dense ones",
  {
    table <- withr::with_seed(2, data.frame(matrix(rpois(150 * 8, 1), 150)))
    y <- withr::with_seed(3, factor(ifelse(table$X3 + table$X6 + rnorm(150) > 2, "b", "a")))
    sparse <- methods::as(Matrix::Matrix(as.matrix(table), sparse = TRUE), "generalMatrix")
    for (by in c("p_value", "information", "importance")) {
      kept <- names(learned(pre_keep_top(top = 2, by = by), table, y)$frame$columns)
      expect_setequal(kept, c("X3", "X6"))
    }
    for (outcome in list(y, as.numeric(y) + rnorm(150))) {
      expect_equal(
        kw("judge_sparse")(sparse, outcome, "p_value"),
        vapply(table, function(x) {
          -log(anova(if (is.factor(outcome)) lm(x ~ outcome) else lm(outcome ~ x))[1, 5])
        }, 1)
      )
    }
    expect_identical(
      names(which.max(kw("judge_sparse")(sparse, y, "information"))),
      names(which.max(vapply(
        table, function(x) kw("mutual_information")((x > 0) + 1L, as.integer(y)), 1
      )))
    )
  }
)
