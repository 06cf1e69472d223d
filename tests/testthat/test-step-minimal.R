test_that("pre_minimal() gives each family what it needs, and no more", {
  cmp <- plan_comparison(toy_brief("two_class", toy(missing = TRUE)),
    candidates(
      tree = fam_tree(),
      forest = fam_forest(trees = 5),
      linear = fam_linear(),
      base = fam_baseline()
    ),
    splits = split_kfold(2), seed = 1
  )
  steps <- lapply(cmp$spaces, function(s) {
    vapply(s$pipeline$steps, function(n) n$part$definition$name, "")
  })
  expect_identical(
    lapply(steps, as.character),
    list(
      tree = character(), forest = "missing",
      linear = c("missing", "onehot"),
      base = character()
    )
  )
  expect_match(paste(cmp$notes, collapse = " "), "minimal steps added: missing, onehot")
})
