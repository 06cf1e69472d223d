# What every search keeps to, and what the guided one learns.

conversation_plan <- function(search, seed = 2) {
  table <- toy(120)
  plan_comparison(toy_brief(table = table),
    candidates(
      base = fam_baseline(),
      tree = pipeline(pre_missing(), optional(pre_skew()), fam_tree(
        pruning = from_to(1e-3, 0.1, "log"), min_leaf = from_to(2, 30), depth = among(2, 5, 10),
        impurity = among("gini", "information")
      )),
      near = pipeline(pre_missing(), pre_onehot(), pre_scale(by = among("sd", "range")),
        fam_neighbours(neighbours = from_to(1, 25)))
    ),
    splits = split_kfold(5), metrics = c("auc", "log_loss"), search = search, seed = seed
  )
}

# What the search proposed, told in the order of the rounds.
proposals_of <- function(cmp) list(cmp$results$round, cmp$results$tables)

test_that("every search proposes what is in the field, once, and the same whoever does the fits", {
  with_arguments <- list(
    grid = function() search_grid(2), random = function() search_random(6),
    hypercube = function() search_hypercube(6),
    guided = function() search_guided(14, at_once = 3),
    evolve = function() search_evolve(14, population = 4, at_once = 3)
  )
  expect_setequal(names(with_arguments), names(kw("exported_members")("search_")))
  for (name in names(with_arguments)) {
    plan <- conversation_plan(with_arguments[[name]]())
    cmp <- quiet_run(plan, workers = 1)
    for (candidate in names(plan$spaces)) {
      settings <- cmp$results$tables[[candidate]]
      checked <- kw("check_proposal")(plan$spaces[[candidate]], settings)
      expect_identical(checked, settings, info = paste(name, candidate))
    }
    expect_identical(proposals_of(quiet_run(plan, workers = 2)), proposals_of(cmp), info = name)
    again <- quiet_run(conversation_plan(with_arguments[[name]]()), workers = 1)
    expect_identical(proposals_of(again), proposals_of(cmp), info = name)
    if (name != "grid") {
      other <- quiet_run(conversation_plan(with_arguments[[name]](), seed = 3), workers = 1)
      expect_false(identical(proposals_of(other), proposals_of(cmp)), info = name)
    }
    # half of a journal gone, the rest is asked for as before
    file <- journal_file()
    quiet_run(plan, workers = 1, journal = file)
    change_rows(file, "DELETE FROM fits WHERE substr(fit, 1, 1) < '8'")
    resumed <- quiet_run(plan, workers = 1, journal = file)
    same_numbers(resumed, cmp)
    expect_identical(proposals_of(resumed), proposals_of(cmp), info = name)
    same_numbers(open_comparison(file), cmp)
  }
})

test_that("settings go to the cube and come back", {
  spaces <- conversation_plan(search_grid(2))$spaces
  for (space in spaces) {
    settings <- withr::with_seed(1, kw("random_settings")(space, 60))
    settings <- kw("clean_settings")(space, settings)$settings
    cube <- kw("settings_to_cube")(space, settings)
    expect_true(all(is.na(cube) | (cube >= 0 & cube <= 1)))
    cube[is.na(cube)] <- 0.5
    back <- kw("clean_settings")(space, kw("settings_from_cube")(space, cube))$settings
    expect_equal(back, settings, tolerance = 1e-5)
  }
  # a range on the log scale is even in the logarithm
  at <- kw("settings_from_cube")(spaces$tree, matrix(c(0.5, 0.5, 0, 0, 0), 1, 5))
  expect_equal(at$pruning, if (at$skew == "as_is") 1e-2 else at$pruning, tolerance = 1e-4)
})

test_that("the process agrees with its formulas, and its gradient with differences", {
  set.seed(4)
  x <- matrix(runif(24), 12)
  y <- rnorm(12)
  noise <- rep(0.1, 12)
  theta <- c(log(0.4), log(0.9), log(1.3))
  k <- function(a, b) {
    r <- sqrt(outer(a[, 1], b[, 1], `-`)^2 / 0.4^2 + outer(a[, 2], b[, 2], `-`)^2 / 0.9^2)
    1.3 * (1 + sqrt(5) * r + 5 * r^2 / 3) * exp(-sqrt(5) * r)
  }
  new <- matrix(runif(10), 5)
  inverse <- solve(k(x, x) + diag(0.1 + 1e-6, 12))
  found <- kw("solve_process")(x, y, noise, theta)$predict(new)
  expect_equal(found$mean, as.vector(k(new, x) %*% inverse %*% y), tolerance = 1e-8)
  expect_equal(
    found$sd, sqrt(1.3 - diag(k(new, x) %*% inverse %*% k(x, new))), tolerance = 1e-8
  )
  value <- kw("process_likelihood")(x, y, noise)
  by_hand <- vapply(1:3, function(i) {
    step <- replace(numeric(3), i, 1e-5)
    (value$of(theta + step) - value$of(theta - step)) / 2e-5
  }, 1)
  expect_equal(value$gradient(theta), by_hand, tolerance = 1e-5)
  # expected improvement, by drawing
  draws <- rnorm(2e5, 0.3, 0.7)
  expect_equal(
    kw("expected_improvement")(list(mean = 0.3, sd = 0.7), 0.5), mean(pmax(draws - 0.5, 0)),
    tolerance = 0.02
  )
})

# A field in which a formula stands for the fits.
hill_family <- function(name) {
  define_family(name, "number",
    defaults = list(a = 1, b = 1, top = 0),
    fit = function(x, y, weights, settings, seed, threads) {
      settings$top + (settings$a - 0.7)^2 + (settings$b - 0.2)^2
    },
    predict = function(model, x) rep(model, nrow(x))
  )
}

test_that("a guided search climbs a hill with fewer settings than random ones, leaving a bad one", {
  table <- data.frame(x = rnorm(60), y = 0)
  table$y <- table$x * 1e-3
  plan <- function(search, seed) {
    plan_comparison(brief(table, "y"),
      candidates(
        good = hill_family("good")(a = from_to(0, 1), b = from_to(0, 1)),
        bad = hill_family("bad")(a = from_to(0, 1), b = from_to(0, 1), top = 3)
      ),
      splits = split_kfold(5), metrics = "rmse", search = search, seed = seed
    )
  }
  best <- function(search, seed) min(standings(quiet_run(plan(search, seed), workers = 1))$mean)
  guided <- vapply(1:3, function(seed) best(search_guided(24), seed), 1)
  random <- vapply(1:3, function(seed) best(search_random(48), seed), 1)
  expect_lt(max(guided), 0.005)
  expect_lt(stats::median(guided), stats::median(random) / 2)
  cmp <- quiet_run(plan(search_guided(24), 1), workers = 1)
  tried <- table(factor(cmp$results$candidate[cmp$results$round > 1], 1:2))
  expect_gt(tried[[1]], 10)
  expect_lt(tried[[2]], 4)
})

test_that("of a setting with some scores a search is told what its mean would be", {
  scores <- rbind(c(1, 2, 3), c(2, 3, 5), c(0.5, 2, NA), c(NA, NA, NA))
  expected <- kw("expected_means")(scores, rowMeans(scores))
  # the usual scores are 1.5, 2.5, 4; the third setting is 0.75 below them
  expect_equal(expected, c(2, 10 / 3, 8 / 3 - 0.75, NA))
})

test_that("a guided search tries all values along a path with each fit", {
  plan <- conversation_plan(search_guided(10))
  cmp <- quiet_run(plan, workers = 1)
  near <- cmp$results$tables$near
  expect_identical(as.vector(table(near$by)), c(15L, 15L))
  expect_length(unique(near$neighbours), 15L)
  # a point is a fit
  work <- kw("work_of")(cmp)
  expect_identical(length(work$fits$node), 10L)
})

test_that("with nothing to vary, few settings or only failures a guided search ends by itself", {
  table <- toy(80)
  alone <- plan_comparison(
    toy_brief(table = table), candidates(b = fam_baseline()),
    splits = split_kfold(3), search = search_guided(20), seed = 1
  )
  expect_identical(nrow(standings(quiet_run(alone, workers = 1))), 1L)
  few <- plan_comparison(
    toy_brief(table = table), candidates(t = pipeline(
      pre_missing(), fam_tree(min_leaf = among(2, 9, 20))
    )),
    splits = split_kfold(3), search = search_guided(50), seed = 1
  )
  expect_identical(nrow(standings(quiet_run(few, workers = 1))), 3L)
  fails <- define_family("fails", "two_class",
    defaults = list(a = 1),
    fit = function(x, y, weights, settings, seed, threads) stop("never"),
    predict = function(model, x) NULL
  )
  never <- plan_comparison(
    toy_brief(table = table), candidates(f = fails(a = from_to(0, 1))),
    splits = split_kfold(3), search = search_guided(20), seed = 1
  )
  expect_error(quiet_run(never, workers = 1), "never", class = "kw_error_run")
  expect_error(search_guided(0), "settings", class = "kw_error_argument")
  expect_error(search_guided(surrogate = "magic"), "surrogate", class = "kw_error_argument")
})
