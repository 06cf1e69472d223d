ready <- list(pre_missing(), pre_rare_levels(at_least = among(5, 30)), pre_onehot())
rivals <- candidates(
  baseline = fam_baseline(),
  penalised = pipeline(
    ready,
    pre_scale(),
    fam_penalised(penalty = from_to(0.001, 1, "log", 4), lasso_share = among(0, 1))
  ),
  tree = pipeline(
    optional(pre_missing()), fam_tree(pruning = among(0, 0.01, 0.1), min_leaf = among(3, 10))
  ),
  forest = pipeline(ready, fam_forest(trees = among(5, 20), min_node = among(2, 8)))
)
plan_for <- function(rivals, ...) {
  plan_comparison(
    toy_brief("two_class", toy(160, missing = TRUE), group = "batch"),
    rivals,
    splits = split_kfold(3, repeats = 2),
    seed = 8,
    ...
  )
}
scores_of <- function(cmp) {
  found <- scores_by_split(cmp)
  found <- found[order(found$candidate, found$setting, found$metric, found$`repeat`, found$split), ]
  found[setdiff(names(found), "seconds")]
}

test_that("sharing work changes no score", {
  plan <- plan_for(rivals)
  shared <- kw("execute_plan")(plan)
  alone <- kw("execute_plan")(plan, share = FALSE)
  expect_identical(c(alone$results$fits, shared$results$fits), c(37L, 13L))
  expect_identical(scores_of(shared), scores_of(alone))
})

test_that("the order of units changes no score", {
  plan <- plan_for(rivals)
  expect_identical(
    scores_of(kw("execute_plan")(plan, shuffle = TRUE)), scores_of(kw("execute_plan")(plan))
  )
})

test_that("neither the order of candidates nor the company they keep matters", {
  whole <- scores_of(quiet_run(plan_for(rivals)))
  backwards <- scores_of(quiet_run(plan_for(do.call(candidates, rev(rivals$pipelines)))))
  expect_identical(whole, backwards)
  alone <- scores_of(quiet_run(plan_for(do.call(candidates, rivals$pipelines["forest"]))))
  expect_identical(whole[whole$candidate == "forest", ], alone)
})

test_that("the same seed gives the same comparison, another seed another one", {
  job <- toy_brief()
  run <- function(seed) {
    quiet_run(job, candidates(f = fam_forest(trees = 10)), splits = split_kfold(3), seed = seed)
  }
  expect_identical(scores_of(run(4)), scores_of(run(4)))
  expect_false(identical(scores_of(run(4)), scores_of(run(5))))
})

test_that("integer or double storage of the table makes no difference", {
  table <- toy()
  table$x2 <- round(table$x2)
  whole <- table
  whole$x2 <- as.integer(whole$x2)
  run <- function(t) {
    quiet_run(
      toy_brief("number", t),
      candidates(f = fam_forest(trees = 10)),
      splits = split_kfold(3),
      seed = 1
    )
  }
  expect_identical(scores_of(run(table)), scores_of(run(whole)))
})

test_that("the caller's random numbers and their kind are untouched", {
  withr::with_preserve_seed({
    suppressWarnings(RNGkind("Wichmann-Hill", "Box-Muller", "Rounding"))
    set.seed(99)
    before <- list(.Random.seed, RNGkind())
    job <- set_aside(toy_brief(), share = 0.2)
    cmp <- quiet_run(
      job,
      candidates(f = fam_forest(trees = 5)),
      splits = split_bootstrap(3),
      search = search_random(3)
    )
    model <- fit_final(select_final(cmp))
    score_set_aside(model)
    predict(model, toy())
    expect_identical(list(.Random.seed, RNGkind()), before)
    suppressWarnings(RNGkind("default", "default", "default"))
  })
})

test_that("the session's RNG kind does not change the scores", {
  job <- toy_brief()
  run <- function() {
    scores_of(quiet_run(
      job, candidates(f = fam_forest(trees = 5)),
      splits = split_kfold(3), seed = 2
    ))
  }
  usual <- run()
  withr::with_preserve_seed({
    suppressWarnings(RNGkind("Wichmann-Hill", "Box-Muller", "Rounding"))
    expect_identical(run(), usual)
    suppressWarnings(RNGkind("default", "default", "default"))
  })
})

test_that("preview counts what the run then does", {
  plan <- plan_for(rivals)
  counted <- preview(plan)
  cmp <- kw("execute_plan")(plan)
  expect_identical(counted$fits, cmp$results$fits * 6L)
  expect_identical(counted$settings, nrow(standings(cmp)))
  expect_identical(counted$steps, cmp$results$nodes * 6L)
})

test_that("preview's counts are those of a plain count by hand", {
  counted <- preview(plan_for(rivals))
  # penalised: 2 levels x 2 shares (one path each); tree: 2 optional x 2 leaves; forest: 2 x 2
  expect_identical(counted$candidates$fits, c(1L, 4L, 4L, 4L))
  expect_identical(unname(counted$candidates$settings), c(1L, 16L, 12L, 8L))
  # a chain for baseline none; ready twice: missing shared, then 2 x (rare, onehot); scale twice;
  # the tree's missing is the one that is there already
  expect_identical(counted$steps / counted$splits, 1 + 2 * 2 + 2)
})

test_that("groups never straddle training and validation rows, also under repeats", {
  for (splits in list(split_kfold(4, repeats = 2), split_bootstrap(6), split_holdout(0.3, 5))) {
    job <- pots_brief()
    plan <- plan_comparison(job, candidates(b = fam_baseline()), splits = splits, seed = 1)
    for (rows in rows_by_split(plan)) {
      expect_length(
        intersect(demo_pots()$firing_id[rows$training], demo_pots()$firing_id[rows$validation]),
        0
      )
      expect_gt(length(rows$validation), 0)
    }
  }
})
