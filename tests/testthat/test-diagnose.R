# What is odd, from coarse to fine, and which search was better.

# A family whose score depends on its values in a known way.
known_family <- function() {
  define_family("known", "number", function(x, y, weights, settings, seed, threads) {
    mean(y) + 0.5 * abs(settings$a - 3) + 1e-9 * settings$b
  }, function(model, x) rep(model, nrow(x)), defaults = list(a = 1, b = 1), factors = TRUE)
}

test_that("edges, values that hardly matter and shares of variance are told", {
  fam_known <- known_family()
  cmp <- quiet_run(
    toy_brief("number"),
    candidates(k = pipeline(fam_known(a = among(4, 5, 6, 8), b = among(1, 2, 3)))),
    splits = split_kfold(5),
    seed = 1
  )
  found <- diagnose(cmp)
  edge <- found[found$code == "at_the_edge" & grepl(", a", found$where), ]
  expect_match(edge$detail, "the best value, 4, is the lowest")
  expect_match(edge$remedy, "lower")
  # b makes no difference, but its best value lies at an edge: that is said, not both
  expect_false("hardly_matters" %in% found$code)
  inside <- quiet_run(
    toy_brief("number"),
    candidates(k = pipeline(fam_known(a = among(4, 5, 6, 8), b = among(1, 2)))),
    splits = split_kfold(5), seed = 1
  )
  expect_identical(
    diagnose(inside)$where[diagnose(inside)$code == "hardly_matters"], "k, b"
  )
  shares <- hyperparameter_importance(cmp)
  expect_gt(shares$share[shares$hyperparameter == "a"], 0.999)
  expect_lt(shares$share[shares$hyperparameter == "b"], 1e-6)
  # an analysis of variance by the standard function
  table <- standings(cmp)
  parts <- suppressWarnings(anova(lm(mean ~ factor(a) + factor(b), table)))[["Sum Sq"]]
  expect_equal(shares$share, (parts / sum(parts))[1:2], tolerance = 1e-6)
  expect_output(print(summary(cmp)), "at the edge")
})

test_that("a fold whose outcomes are broken is found, with what is different about its rows", {
  table <- toy(200)
  table$machine <- "old"
  plan <- plan_comparison(
    toy_brief("number", table),
    candidates(l = fam_linear(), b = fam_baseline()),
    splits = split_kfold(10),
    metrics = "rmse",
    seed = 2
  )
  broken <- rows_by_split(plan)[[4]]$validation
  table$number[broken] <- table$number[broken] + rnorm(length(broken), 30)
  table$machine[broken] <- "new"
  names <- paste0("fold_", 1:10)
  table[names] <- lapply(rows_by_split(plan), function(r) {
    ifelse(seq_len(200) %in% r$validation, "validation", "training")
  })
  job <- brief(table, "number", ignore = c("two", "three", "batch", names))
  cmp <- quiet_run(
    job,
    candidates(
      l = pipeline(pre_drop(columns = "machine"), pre_onehot(), fam_linear()), b = fam_baseline()
    ),
    splits = split_columns(names),
    metrics = "rmse",
    seed = 2
  )
  odd <- diagnose(cmp)
  odd <- odd[odd$code == "odd_split", ]
  expect_identical(odd$where, "split 4")
  expect_match(
    odd$detail, "differ most in machine \\((new 100|old 0) % against (0|100) %\\), number"
  )
  expect_match(odd$detail, "worse there")
})

test_that(
  paste(
    "ranges are refined around the best region and widened at edges, and extending runs only",
    "what is new"
  ),
  {
    fam_known <- known_family()
    cmp <- quiet_run(
      toy_brief("number"),
      candidates(k = pipeline(fam_known(a = among(4, 6, 8, 10, 20), b = 1)), base = fam_baseline()),
      splits = split_kfold(5),
      seed = 1
    )
    finer <- refine_ranges(cmp, points = 4)
    expect_identical(names(finer$pipelines), "k_finer")
    range <- finer$pipelines$k_finer$family$settings$a
    expect_equal(range$from, 2)
    fits <- 0
    both <- extend_comparison(cmp, finer, quiet = TRUE, workers = 1)
    expect_identical(nrow(standings(both)), nrow(standings(cmp)) + 4L)
    old <- scores_by_split(cmp)
    kept <- scores_by_split(both)
    kept <- kept[kept$candidate %in% c("k", "base"), ]
    expect_equal(
      kept[order(kept$candidate, kept$setting, kept$split), 1:6],
      old[order(old$candidate, old$setting, old$split), 1:6],
      ignore_attr = TRUE
    )
    whole <- quiet_run(
      toy_brief("number"),
      c(
        candidates(
          k = pipeline(fam_known(a = among(4, 6, 8, 10, 20), b = 1)), base = fam_baseline()
        ),
        finer
      ),
      splits = split_kfold(5),
      seed = 1
    )
    drop <- function(table) table[setdiff(names(table), "seconds")]
    expect_equal(drop(standings(both)), drop(standings(whole)))
    expect_s3_class(predict(fit_final(select_final(both)), toy()), "tbl_df")
    expect_error(
      extend_comparison(cmp, candidates(k = fam_tree()), quiet = TRUE),
      "already",
      class = "kw_error_argument"
    )
    expect_error(
      refine_ranges(quiet_run(
        toy_brief(), candidates(b = fam_baseline()),
        splits = split_kfold(3), seed = 1
      )),
      class = "kw_error_select"
    )
  }
)

test_that("searches are compared by what they found and spent; other data or splits are refused", {
  run <- function(search, seed = 1, brief = toy_brief("number")) {
    quiet_run(
      brief,
      candidates(t = fam_tree(pruning = from_to(1e-4, 0.5, "log"), min_leaf = among(2, 5))),
      search = search,
      splits = split_kfold(3),
      seed = seed
    )
  }
  grid <- run(search_grid(4))
  random <- run(search_random(6))
  joined <- join_comparisons(grid = grid, random = random)
  expect_setequal(joined$search, c("grid", "random"))
  expect_identical(joined$mean, sort(joined$mean))
  expect_identical(joined$settings[joined$search == "grid"], 8L)
  expect_true(all(joined$fits_to_best <= joined$fits))
  expect_s3_class(draw_search(joined), "ggplot")
  stopped <- local({
    local_interruption()
    suppressWarnings(quiet_run(grid$plan, workers = 1))
  })
  expect_error(
    join_comparisons(a = grid, b = stopped),
    "No setting of 'b' is ranked",
    class = "kw_error_select"
  )
  expect_error(
    join_comparisons(a = grid, b = run(search_grid(4), seed = 2)),
    "splits",
    class = "kw_error_select"
  )
  other <- toy(seed = 5)
  expect_error(
    join_comparisons(a = grid, b = run(search_grid(4), brief = toy_brief("number", other))),
    "data",
    class = "kw_error_select"
  )
})

test_that(
  paste(
    "variance shares, shortlist and Tibshirani's correction of 10,000 settings x 50 splits",
    "take seconds"
  ),
  {
    cmp <- toy_comparison()
    n <- 10000
    withr::local_seed(2)
    big <- cmp
    big$results$candidate <- rep(2L, n)
    big$results$row <- seq_len(n)
    big$results$tables[[2]] <- kw("plain_frame")(
      list(pruning = rep(seq_len(100), 100),
        impurity = rep(c("gini", "information"), each = n / 2)),
      n
    )
    split <- cmp$plan$splits[[1]]
    big$plan$splits <- lapply(1:50, function(i) {
      modifyList(split, list(rep = (i - 1) %/% 10 + 1, part = (i - 1) %% 10 + 1))
    })
    big$plan$undefined <- lapply(cmp$plan$undefined, function(u) rep(NA_character_, 50))
    big$results$scores <- lapply(cmp$results$scores, function(s) matrix(runif(n * 50), n))
    big$results$training <- NULL
    big$results$seconds <- matrix(0, n, 50)
    took <- system.time({
      list <- shortlist(big, all = TRUE)
      found <- optimism(big)
      shares <- hyperparameter_importance(big)
    })[["elapsed"]]
    expect_identical(nrow(list), as.integer(n))
    expect_identical(nrow(shares), 2L)
    expect_gt(found$optimism[found$estimate == "fold_corrected"], 0.1)
    message("10,000 x 50: ", round(took, 1), " s")
  }
)
