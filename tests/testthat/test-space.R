space_of <- function(..., brief = toy_brief(), search = search_grid(3)) {
  plan <- plan_comparison(
    brief, candidates(c = pipeline(...)),
    search = search, splits = split_kfold(2), seed = 1
  )
  plan$round$c
}

test_that("a grid is every combination, ranges cut into points and rounded to six digits", {
  found <- space_of(
    pre_onehot(),
    fam_penalised(penalty = from_to(1e-4, 1, "log", points = 4), lasso_share = from_to(0, 1))
  )
  expect_identical(nrow(found$settings), 12L)
  expect_identical(unique(found$settings$penalty), signif(10^seq(-4, 0, length.out = 4), 6))
  expect_identical(unique(found$settings$lasso_share), c(0, 0.5, 1))
})

test_that("whole-number ranges give whole values, each once", {
  expect_identical(
    space_of(fam_tree(min_leaf = from_to(1, 4, points = 10)))$settings$min_leaf, as.double(1:4)
  )
})

test_that("choices between steps open and close the hyperparameters inside them", {
  found <- space_of(
    pre_missing(),
    either(plain = as_is(), scaled = pre_scale(by = among("sd", "iqr"))),
    fam_tree(min_leaf = among(1, 5))
  )
  expect_identical(found$settings$scale, rep(c("plain", "scaled"), c(2, 4)))
  expect_identical(found$settings$by, c(NA, NA, "sd", "sd", "iqr", "iqr"))
  expect_equal(found$counts[["merged"]], 2)
})

test_that("hyperparameters without effect are blanked and equal settings merged", {
  found <- space_of(
    fam_tree(impurity = among("gini", "information"), min_leaf = among(1, 5)),
    brief = toy_brief("number")
  )
  expect_identical(nrow(found$settings), 2L)
  expect_true(all(is.na(found$settings$impurity)))
})

test_that("named steps keep equal hyperparameters apart", {
  found <- space_of(
    first = pre_scale(by = among("sd", "iqr")),
    second = pre_scale(by = among("range", "sd")),
    fam_tree()
  )
  expect_identical(names(found$settings), c("first_by", "second_by"))
  expect_identical(nrow(found$settings), 4L)
})

test_that("random search draws so many different settings, the same for the same seed", {
  part <- list(
    pre_onehot(),
    fam_penalised(penalty = from_to(1e-4, 1, "log"), lasso_share = among(0, 0.5, 1))
  )
  found <- do.call(space_of, c(part, list(search = search_random(30))))
  expect_identical(nrow(unique(found$settings)), 30L)
  expect_true(all(found$settings$penalty >= 1e-4 & found$settings$penalty <= 1))
  expect_gt(length(unique(found$settings$penalty)), 25)
  expect_lt(median(found$settings$penalty), 0.1)
  expect_identical(do.call(space_of, c(part, list(search = search_random(30)))), found)
  few <- space_of(fam_tree(min_leaf = among(1, 2, 3)), search = search_random(30))
  expect_setequal(few$settings$min_leaf, 1:3)
})

test_that("rule_out() removes what it says, in the candidates that it concerns", {
  limit <- 0.005
  rivals <- candidates(
    tree = fam_tree(pruning = among(0.001, 0.01), impurity = among("gini", "information")),
    other = fam_tree(pruning = among(0.001, 0.01)),
    base = fam_baseline()
  )
  ruled <- rule_out(rivals, impurity == "gini" & pruning < limit)
  limit <- 1
  counted <- preview(toy_brief(), ruled, splits = split_kfold(2), seed = 1)$candidates
  expect_identical(unname(counted$settings), c(3L, 2L, 1L))
  both <- preview(toy_brief(), rule_out(rivals, pruning < 0.005), splits = split_kfold(2),
    seed = 1)$candidates
  expect_identical(unname(both$settings), c(2L, 1L, 1L))
  one <- preview(
    toy_brief(),
    rule_out(rivals, pruning < 0.005, candidate = "other"),
    splits = split_kfold(2),
    seed = 1
  )$candidates
  expect_identical(unname(one$settings), c(4L, 1L, 1L))
})

test_that(
  "sensible() ranges fit the table, and sensible(family) opens every hyperparameter not set",
  {
    forest <- space_of(pre_onehot(), fam_forest(columns_tried = sensible()))
    expect_true(all(forest$settings$columns_tried * 6 >= 0.99 & forest$settings$columns_tried <= 1))
    all <- space_of(sensible(fam_tree(depth = 3)))
    expect_setequal(names(all$settings), c("pruning", "impurity", "min_leaf"))
  }
)

test_that("sensible() ranges keep to what their hyperparameters may be, on any size of table", {
  sizes <- expand.grid(rows = c(5, 54, 1e5), columns = c(1, 2, 3, 300), classes = c(0, 2, 6))
  broken <- character()
  for (kind in c("fam", "step")) for (make in kw("shipped_members")(kind)) {
    definition <- make()
    for (name in names(Filter(function(h) !is.null(h$sensible), definition$arguments))) {
      declared <- definition$arguments[[name]]
      for (i in seq_len(nrow(sizes))) {
        given <- do.call(declared$sensible, as.list(sizes[i, ]))
        tryCatch(kw("check_setting")(given, declared, name, definition$name),
          kw_error = function(e) broken <<- c(broken, conditionMessage(e)))
      }
    }
  }
  expect_identical(broken, character())
})

test_that("one search per candidate, the unnamed one for the rest", {
  rivals <- candidates(a = fam_tree(min_leaf = among(1:9)), b = fam_tree(min_leaf = among(1:9)))
  plan <- plan_comparison(
    toy_brief(),
    rivals,
    search = list(b = search_random(4), search_grid()),
    splits = split_kfold(2),
    seed = 1
  )
  expect_identical(vapply(plan$round, function(r) nrow(r$settings), 1L), c(a = 9L, b = 4L))
})

test_that("keys are the same for the same value however it is stored, and differ otherwise", {
  text <- kw("canonical_text")
  expect_identical(text(1:3), text(c(1, 2, 3)))
  expect_identical(text(list(b = 1, a = "x")), text(list(a = "x", b = 1L)))
  values <- list(
    NULL, NA, NA_real_, NA_character_, "NA", 1, "1", TRUE, "TRUE", c("a", "b"), "ab",
    c("a,b"), list("a", "b"), list(), character(),
    0.1, 0.1 + 1e-10, factor("a"), as.Date("2031-01-01"), quote(a + b), mean,
    function(x) x + 1, function(x) x + 2
  )
  expect_identical(anyDuplicated(vapply(values, text, "")), 0L)
  make <- function(k) function(x) x + k
  expect_false(text(make(1)) == text(make(2)))
  expect_identical(text(make(1)), text(make(1)))
  expect_identical(kw("derive_seed")(1, "a"), kw("derive_seed")(1, "a"))
  seeds <- vapply(1:2000, function(i) kw("derive_seed")(7, paste(i)), 1L)
  expect_true(all(seeds >= 0))
  expect_gt(length(unique(seeds)), 1998)
  expect_lt(abs(mean(seeds) / 2^31 - 0.5), 0.03)
})

test_that("stratified folds hold every class evenly, folds differ by at most one row a class", {
  outcome <- factor(rep(c("a", "b", "c"), c(61, 33, 6)))
  fold <- withr::with_seed(3, kw("deal_rows")(100, rep(0.2, 5), as.integer(outcome)))
  counts <- table(outcome, fold)
  expect_true(all(apply(counts, 1, function(x) diff(range(x))) <= 1))
  expect_lte(diff(range(colSums(counts))), 1)
  # groups of unequal size: classes still close to even
  group <- rep(1:60, times = withr::with_seed(1, sample(5:20, 60, TRUE)))
  classes <- withr::with_seed(2, factor(runif(length(group)) < 0.2))
  fold <- withr::with_seed(
    3, kw("deal_rows")(length(group), rep(0.1, 10), as.integer(classes), group)
  )
  expect_true(all(tapply(fold, group, function(f) length(unique(f))) == 1))
  expect_lt(diff(range(table(fold))), 0.35 * length(group) / 10)
})
