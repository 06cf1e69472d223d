test_that("rules are those of the packages, and can be read", {
  needs("C50", "Cubist")
  d <- agree("many_class")
  fit <- C50::C5.0(d$columns[d$train, ], d$y[d$train], rules = TRUE)
  p <- ours(fam_rules(), d, factors = TRUE)
  expect_equal(bare(p), unname(predict(fit, d$columns[d$test, ], type = "prob")), tolerance = 1e-8)
  d <- agree("number")
  fit <- Cubist::cubist(d$columns[d$train, ], d$y[d$train], committees = 3)
  expect_equal(
    bare(ours(fam_rules(rounds = 3), d, factors = TRUE)),
    predict(fit, d$columns[d$test, ]),
    tolerance = 1e-6
  )
  cmp <- quiet_run(
    toy_brief("many_class"),
    candidates(rules = fam_rules(), tree = fam_tree()),
    splits = split_kfold(3),
    seed = 1
  )
  expect_output(lines <- show_rules(fit_final(select_final(cmp, candidate = "rules"))), "Rule 1")
  expect_match(paste(lines, collapse = " "), "class (low|mid|high)")
  expect_error(
    show_rules(fit_final(select_final(cmp, candidate = "tree"))),
    "fam_tree",
    class = "kw_error_argument"
  )
})
