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
    guided = function() search_guided(10, at_once = 3),
    evolve = function() search_evolve(10, population = 4, at_once = 3)
  )
  expect_setequal(names(with_arguments), names(kw("exported_members")("search_")))
  with_arguments$forest <- function() search_guided(10, at_once = 3, surrogate = "forest")
  for (name in names(with_arguments)) {
    plan <- conversation_plan(with_arguments[[name]]())
    file <- journal_file()
    cmp <- quiet_run(plan, workers = 1, journal = file)
    for (candidate in names(plan$spaces)) {
      settings <- cmp$results$tables[[candidate]]
      checked <- kw("check_proposal")(plan$spaces[[candidate]], settings)
      expect_identical(checked, settings, info = paste(name, candidate))
    }
    # two that learn from scores
    if (name %in% c("forest", "evolve")) {
      expect_identical(proposals_of(quiet_run(plan, workers = 2)), proposals_of(cmp), info = name)
    }
    if (name %in% c("random", "guided", "evolve")) {
      other <- quiet_run(conversation_plan(with_arguments[[name]](), seed = 3), workers = 1)
      expect_false(identical(proposals_of(other), proposals_of(cmp)), info = name)
    }
    # half of a journal gone, the rest is asked for as before
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
  # a point that is as good as expected, known by now
  more <- found$imagine(2, c(4, 1, 5))
  again <- kw("solve_process")(rbind(x, new[2, ]), c(y, found$mean[2]), c(noise, 0.1), theta)
  expect_equal(more[c("mean", "sd")], again$predict(new[c(4, 1, 5), ])[c("mean", "sd")])
  again <- kw("solve_process")(
    rbind(x, new[c(2, 1), ]), c(y, found$mean[2:1]), c(noise, 0.1, 0.1), theta
  )
  expect_equal(more$imagine(2, 1)[1:2], again$predict(new[4, , drop = FALSE])[1:2])
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

# What the trees of a forest say that another package grows.
forest_elsewhere <- function(x, y, new) {
  names <- paste0("x", seq_len(ncol(x)))
  plain <- ranger::ranger(x = `colnames<-`(x, names), y = y, num.trees = 60, min.node.size = 3,
    mtry = ncol(x), seed = 1, num.threads = 1)
  predict(plain, `colnames<-`(new, names), predict.all = TRUE, num.threads = 1)$predictions
}

test_that("the forest of a search splits where the error falls most, and says what others say", {
  set.seed(11)
  x <- cbind(round(runif(80) * 3) / 3, runif(80), sample(0:1, 80, TRUE), runif(80))
  y <- 2 * x[, 1] + (x[, 2] > 0.4) * (1 + x[, 3]) + rnorm(80, sd = 0.2)
  grown <- withr::with_seed(7, kw("grow_forest")(x, y, 1L, 4L, 3L))
  rows <- withr::with_seed(7, floor(runif(80) * 80) + 1)
  # every node by hand, from the rows that the tree has drawn
  walk <- function(node, rows) {
    expect_equal(grown$value[node], mean(y[rows]))
    at <- grown$feature[node]
    if (at == 0L) return(length(rows))
    error <- function(left) {
      sum((y[rows][left] - mean(y[rows][left]))^2) + sum((y[rows][!left] - mean(y[rows][!left]))^2)
    }
    least <- min(unlist(lapply(1:4, function(j) {
      values <- sort(unique(x[rows, j]))
      cuts <- utils::head(values, -1) + diff(values) / 2
      vapply(cuts, function(cut) error(x[rows, j] <= cut), 1)
    })))
    left <- x[rows, at] <= grown$cut[node]
    expect_equal(error(left), least)
    child <- grown$child[node]
    c(walk(child, rows[left]), walk(child + 1L, rows[!left]))
  }
  leaves <- walk(1L, rows)
  expect_length(leaves, sum(grown$feature == 0L))
  expect_identical(grown, withr::with_seed(7, kw("grow_forest")(x, y, 1L, 4L, 3L)))
  # no split where there is nothing to gain, or no more rows than are asked for
  expect_identical(kw("grow_forest")(x, rep(1, 80), 2L, 4L, 3L)$feature, c(0L, 0L))
  expect_identical(kw("grow_forest")(x, y, 1L, 4L, 80L)$feature, 0L)
  new <- matrix(runif(800), 200)
  own <- kw("fit_surrogate_forest")(x, y)$predict(new)
  elsewhere <- forest_elsewhere(x, y, new)
  expect_gt(stats::cor(own$mean, rowMeans(elsewhere)), 0.97)
  spread <- sqrt(rowMeans((elsewhere - rowMeans(elsewhere))^2))
  expect_equal(mean(own$sd), mean(spread), tolerance = 0.2)
})

test_that("a point imagined in a forest moves the leaves that it falls into, and no others", {
  set.seed(4)
  x <- matrix(runif(120), 60)
  y <- 3 * (x[, 1] > 0.5) + rnorm(60, sd = 0.3)
  forest <- withr::with_seed(2, kw("fit_surrogate_forest")(x, y))
  grown <- withr::with_seed(2, kw("grow_forest")(x, y, 60L, 2L, 3L))
  new <- matrix(runif(200), 100)
  leaf_of <- function(row, node) {
    at <- grown$feature[node]
    if (at == 0L) return(node)
    leaf_of(row, grown$child[node] + (row[at] > grown$cut[node]))
  }
  leaves_of <- function(rows) {
    vapply(grown$root, function(root) apply(rows, 1L, leaf_of, node = root), integer(nrow(rows)))
  }
  leaves <- leaves_of(new)
  known <- leaves_of(x)
  each <- matrix(grown$value[leaves], 100)
  before <- forest$predict(new)
  expect_equal(before$mean, rowMeans(each))
  expect_equal(before$sd, sqrt(rowMeans((each - rowMeans(each))^2)))
  # by hand: one more in every leaf of the point, of as many as the tree has there
  at <- which.max(new[, 1])
  for (tree in 1:60) {
    same <- leaves[, tree] == leaves[at, tree]
    n <- sum(known[, tree] == leaves[at, tree])
    each[same, tree] <- (n * each[same, tree] + before$mean[at]) / (n + 1)
  }
  rows <- c(at, 50:1)
  after <- before$imagine(at, rows)
  expect_equal(after$mean, rowMeans(each)[rows])
  far <- new[rows, 1] < 0.4
  expect_identical(after$mean[far], before$mean[rows][far])
  # as good as it is expected to be: its spread goes down, and the less the second time
  twice <- after$imagine(1, 1)
  expect_lt(after$sd[1], before$sd[at])
  expect_true(twice$sd < after$sd[1] && twice$sd > after$sd[1]^2 / before$sd[at])
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

# A run of hills on rows that do not matter: the score is how far the setting is from the top.
climb <- function(rivals, search, seed, folds = 5) {
  table <- data.frame(x = seq(-1, 1, length.out = 60), y = seq(-1, 1, length.out = 60) * 1e-3)
  plan <- plan_comparison(brief(table, "y"), rivals,
    splits = split_kfold(folds), metrics = "rmse", search = search, seed = seed
  )
  quiet_run(plan, workers = 1)
}

reached <- function(cmp) min(standings(cmp)$mean)

# Settings that differ from one before them in steps only.
twins_of_hill <- function(cmp) {
  tried <- cmp$results$tables$hill
  sum(duplicated(data.frame(tried$a, tried$b)))
}

test_that("a guided search climbs a hill with fewer settings than random ones, leaving a bad one", {
  rivals <- candidates(
    good = hill_family("good")(a = from_to(0, 1), b = from_to(0, 1)),
    bad = hill_family("bad")(a = from_to(0, 1), b = from_to(0, 1), top = 3)
  )
  best <- function(search, seed) reached(climb(rivals, search, seed))
  guided <- vapply(1:3, function(seed) best(search_guided(24), seed), 1)
  random <- vapply(1:3, function(seed) best(search_random(48), seed), 1)
  expect_lt(max(guided), 0.005)
  expect_lt(stats::median(guided), stats::median(random) / 2)
  cmp <- climb(rivals, search_guided(24), 1)
  tried <- table(factor(cmp$results$candidate[cmp$results$round > 1], 1:2))
  expect_gt(tried[[1]], 10)
  expect_lt(tried[[2]], 4)
})

test_that("a choice of a step does not keep a guided search from climbing", {
  hill <- pipeline(optional(pre_scale()), hill_family("hill")(a = from_to(0, 1), b = from_to(0, 1)))
  runs <- lapply(1:3, function(seed) climb(candidates(hill = hill), search_guided(24), seed))
  expect_lt(max(vapply(runs, reached, 1)), 0.005)
})

test_that("a guided search that knows little changes one thing of the best setting at a time", {
  rivals <- candidates(hill = hill_family("hill")(
    a = from_to(0, 1), b = from_to(0, 1), top = among(0, 1, 2)
  ))
  cmp <- climb(rivals, search_guided(20), 1)
  tried <- cmp$results$tables$hill
  changes <- function(round) {
    before <- which(cmp$results$round < round)
    best <- tried[before[which.min(rowMeans(cmp$results$scores$rmse)[before])], ]
    now <- tried[cmp$results$round == round, ]
    (now$a != best$a) + (now$b != best$b) + (now$top != best$top)
  }
  expect_identical(as.numeric(changes(2)), rep(1, 4))
  # of more that is known more may differ
  expect_lte(max(changes(3)), 2)
  expect_gt(max(unlist(lapply(3:5, changes))), 1)
})

test_that("a guided search leaves for the end what would score as a known setting does", {
  values <- among(seq(0, 1, by = 0.1))
  # none of the steps has anything to do
  steps <- list(optional(pre_drop_constant()), optional(pre_missing()), optional(pre_rare_levels()))
  hill <- pipeline(steps, hill_family("hill")(a = values, b = values))
  runs <- lapply(1:3, function(seed) climb(candidates(hill = hill), search_guided(48), seed, 2))
  expect_lt(max(vapply(runs, twins_of_hill, 1)), 16)
  expect_lt(max(vapply(runs, reached, 1)), 0.005)
  # of 24 settings there are 3 different ones: the others come in the end
  few <- pipeline(steps, hill_family("hill")(a = among(0.1, 0.4, 0.7)))
  cmp <- climb(candidates(hill = few), search_guided(24), 1, 2)
  expect_identical(nrow(cmp$results$tables$hill), 24L)
})

test_that("a guided search that finds nothing better looks again at what it took for hopeless", {
  # of twelve values one is the best of all, all others are bad
  hidden <- define_family("hidden", "number",
    defaults = list(a = 1, c = 1),
    fit = function(x, y, weights, settings, seed, threads) 3 * (settings$c != 7) + settings$a / 10,
    predict = function(model, x) rep(model, nrow(x))
  )
  values <- among(seq(0, 1, by = 0.1))
  rivals <- candidates(
    ahead = hill_family("ahead")(a = values, b = values, top = among(1, 2)),
    behind = hidden(a = values, c = among(1:12))
  )
  runs <- lapply(1:6, function(seed) {
    climb(rivals, search_guided(80, surrogate = "forest"), seed, 2)
  })
  found <- vapply(runs, reached, 1) < 0.9
  expect_gt(sum(found), 3)
  # what was best before anything met the constraints does not keep it from finding better ones
  progress <- function(state, good) kw("with_progress")(state, list(one = list(good = good)))
  state <- progress(list(best = -Inf, stalled = 0L), c(5, NA))
  expect_identical(progress(progress(state, c(NA, 1)), c(NA, 2))$stalled, 0L)
  looks <- vapply(runs, function(cmp) sum(cmp$results$candidate == 2L), 1)
  expect_gt(min(looks), 8)
})

test_that("a guided search begins with something plain", {
  first <- function(search) {
    cmp <- quiet_run(conversation_plan(search), workers = 1)
    fits <- kw("work_of")(cmp)$settings$fit
    lapply(1:2, function(round) {
      of_round <- !duplicated(fits) & cmp$results$round == round
      names(cmp$results$tables)[cmp$results$candidate[of_round]]
    })
  }
  # a tree is simpler than neighbours
  expect_identical(first(search_guided(12)), list(c("base", "tree"), c("tree", "near", "near")))
})

test_that("where rules leave a candidate little, searches find it; where nothing, it is said", {
  table <- toy(120)
  rivals <- candidates(
    tree = pipeline(pre_missing(), fam_tree(min_leaf = among(seq(2, 30, by = 2)))),
    near = pipeline(pre_missing(), pre_onehot(), fam_neighbours(neighbours = from_to(1, 25)))
  )
  plan <- function(rivals, search) {
    plan_comparison(toy_brief(table = table), rivals,
      splits = split_kfold(3), metrics = "auc", search = search, seed = 1
    )
  }
  # neither the usual value nor most others
  little <- rule_out(rivals, min_leaf < 28, candidate = "tree")
  nothing <- rule_out(rivals, min_leaf > 0, candidate = "tree")
  for (search in list(search_guided(6), search_evolve(6))) {
    tried <- standings(quiet_run(plan(little, search), workers = 1))
    expect_setequal(unique(tried$candidate), c("tree", "near"))
    expect_true(all(tried$min_leaf[tried$candidate == "tree"] >= 28))
    expect_error(plan(nothing, search), "No setting of the candidate 'tree'.*ruled out",
      class = "kw_error_rule"
    )
  }
})

test_that("evolution spends little on choices that never make a difference", {
  values <- among(seq(0, 1, by = 0.1))
  # neither step has anything to do
  hill <- pipeline(optional(pre_drop_constant()), optional(pre_missing()),
    hill_family("hill")(a = values, b = values)
  )
  runs <- lapply(1:3, function(seed) climb(candidates(hill = hill), search_evolve(48), seed, 3))
  expect_lt(mean(vapply(runs, twins_of_hill, 1)), 11)
  expect_lt(max(vapply(runs, reached, 1)), 0.005)
})

# What evolution knows of settings, by candidate.
known_settings <- function(spaces, settings) {
  kw("grown_known")(NULL, list(spaces = spaces), lapply(settings, function(one) {
    list(settings = one)
  }), c("simple", "features"))
}

# What is told of the scores of settings, one or some of each; NA: it failed.
told_scores <- function(scores, failed = is.na(scores)) {
  list(scores = as.matrix(scores), failed = failed)
}

test_that("what made no difference among some values is tried with the others all the same", {
  # of four values of a only the last one is any good
  ledge <- define_family("ledge", "number",
    defaults = list(a = 1, b = 1),
    fit = function(x, y, weights, settings, seed, threads) (settings$a < 30) + settings$b / 10,
    predict = function(model, x) rep(model, nrow(x))
  )
  rivals <- candidates(ledge = ledge(a = among(2, 5, 12, 30), b = among(0:19)))
  runs <- lapply(1:6, function(seed) climb(rivals, search_evolve(16), seed, 2))
  expect_lt(mean(vapply(runs, reached, 1)), 0.1)
  points <- data.frame(a = c(2, 5, 12, 2), b = c(0, 0, 0, 1))
  known <- known_settings(runs[[1]]$plan$spaces, list(ledge = points))
  one <- known$points$ledge
  twin <- function(a, b, good = -c(1, 1, 1, 1.1), ..., enough = 1L) {
    code <- kw("codes_of")(known$spaces$ledge, data.frame(a = a, b = b), one$ranges)
    alike <- kw("pairs_alike")(one, told_scores(good, ...), enough)
    kw("likely_twins")(code, one$codes, one$pairs, alike)
  }
  # 2, 5 and 12 were alike with another b; of 30 nothing is known
  expect_identical(
    c(twin(5, 1), twin(12, 1), twin(30, 1), twin(30, 0)), c(TRUE, TRUE, FALSE, FALSE)
  )
  # that both failed with the other b says nothing of this one; that one did, that they differ
  expect_false(twin(5, 1, c(NA, NA, NA, -1.1)))
  expect_false(twin(5, 1, c(-1, NA, -1, -1.1)))
  # nor do scores on other splits, whatever they are
  looks <- cbind(c(1, NA, 1, 1.1), c(NA, 1, NA, 1.1))
  expect_false(twin(5, 1, looks, failed = logical(4)))
  looks[1, 2] <- 1
  expect_true(twin(5, 1, looks, failed = logical(4)))
  # where classes are predicted one split is not enough
  expect_false(twin(5, 1, looks, failed = logical(4), enough = 3L))
})

test_that("values are alike where several pairs that differ in nothing else scored the same", {
  family <- hill_family("hill")(a = among(1, 2, 3), b = among(1:3), top = from_to(0, 1))
  plan <- plan_comparison(brief(data.frame(x = 1:30, y = 1:30), "y"), candidates(hill = family),
    splits = split_kfold(2), search = search_guided(4), seed = 1
  )
  points <- expand.grid(a = c(1, 2, 3), b = 1:3, top = 0.5)
  known <- known_settings(plan$spaces, list(hill = points))
  one <- known$points$hill
  alike <- function(good) {
    kw("alike_values")(known$spaces$hill, one, told_scores(good), 1L)[c("a", "b", "top")]
  }
  # a does nothing, b does
  expect_identical(alike(points$b), list(a = c(1L, 1L, 1L), b = 1:3, top = NULL))
  # 1 and 2 are alike, but for one of three pairs
  good <- ifelse(points$a == 3, 5, points$b)
  expect_identical(alike(good)$a, c(1L, 1L, 3L))
  good[2] <- 7
  expect_identical(alike(good)$a, 1:3)
  # two that failed say nothing
  expect_identical(alike(ifelse(points$b == 1, 1, NA))$a, 1:3)
  # new points: one of those that are alike, none like a known one; what varies on a range is new
  new <- data.frame(a = c(1, 2, 3, 3), b = 1L, top = c(0.1, 0.1, 0.5, 0.5))
  left <- function(seen_rows, new) {
    some <- known_settings(plan$spaces, list(hill = points[seen_rows, ]))$points$hill
    seen <- list(codes = some$codes, ranges = some$ranges, alike = alike(points$b))
    pool <- kw("pool_of_points")(known$spaces$hill, new, seen$ranges)
    kw("without_twins")(pool, seen)$points
  }
  expect_identical(left(1:9, new)$top, c(0.1, 0.1))
  # nothing else left: all of it
  expect_identical(nrow(left(1:9, new[3:4, ])), 2L)
  expect_identical(nrow(left(4:9, new[3:4, ])), 1L)
})

test_that("equal rows of codes have one number, and rows next to a known one are found", {
  set.seed(1)
  few <- matrix(sample(-1:2, 600, TRUE), 200)
  # more than one number has room for
  many <- matrix(sample(c(-1L, 0L, 7L, .Machine$integer.max - 1L), 1400, TRUE), 200)
  many <- many[sample(200, 300, TRUE), ]
  for (codes in list(few, many, few[0, ], few[, 0])) {
    texts <- apply(codes, 1L, paste, collapse = " ")
    expect_identical(kw("group_codes")(codes), match(texts, unique(texts)))
  }
  x <- matrix(runif(300), 100)
  known <- x[1:20, ] + rnorm(60, sd = 0.02)
  distance <- as.matrix(stats::dist(rbind(x, known)))[1:100, 101:120]
  expect_identical(kw("points_apart")(x, known, 0.03), unname(apply(distance, 1L, min) > 0.03))
  expect_lt(sum(kw("points_apart")(x, known, 0.03)), 100)
})

test_that("what evolution knows round after round is what it would know of all at once", {
  rivals <- candidates(
    near = pipeline(pre_missing(), pre_onehot(), optional(pre_scale()), fam_neighbours(
      neighbours = among(1, 5, 9), weighting = among("equal", "inverse")
    )),
    tree = pipeline(pre_missing(), either(a = as_is(), b = pre_skew()), fam_tree(
      pruning = from_to(0.001, 0.1), min_leaf = among(2, 5, 12)
    ))
  )
  plan <- plan_comparison(toy_brief("number"), rivals, search = search_random(30),
    splits = split_kfold(3), seed = 4)
  all <- lapply(plan$round, `[[`, "settings")
  some <- function(n) lapply(all, function(table) list(settings = utils::head(table, n)))
  field <- list(spaces = plan$spaces)
  wants <- c("simple", "features")
  grown <- Reduce(function(known, n) {
    kw("grown_known")(known, field, some(n), wants)
  }, c(3, 3, 4, 20, 40), NULL)
  at_once <- kw("grown_known")(NULL, field, some(40), wants)
  expect_identical(grown$points, at_once$points)
  expect_gt(length(at_once$points$tree$pairs$first), 5)
  good <- lapply(at_once$points, function(one) sin(seq_along(one$keys)))
  ranked <- function(known) {
    parents <- kw("parents_of")(known, good, 6)
    parents[order(parents$candidate, parents$row), ]
  }
  expect_equal(ranked(grown), ranked(at_once), ignore_attr = "row.names")
})

test_that("first settings beside the usual one are a hypercube, evenly spread", {
  field <- candidates(hill = hill_family("hill")(a = among(1:8), b = from_to(0, 1)))
  for (search in list(search_guided(18, first = 9), search_evolve(18, population = 18))) {
    first <- head(climb(field, search, 1, 2)$results$tables[[1]], 9)
    spread <- first[-1, ]
    expect_setequal(spread$a, 1:8)
    expect_setequal(floor(spread$b * 8), 0:7)
  }
})

test_that("evolution moves ordered values to others, mostly near ones", {
  space <- plan_comparison(brief(data.frame(x = 1:9, y = 1:9), "y"),
    candidates(hill = hill_family("hill")(a = among(c(1, 5, 12, 30)))), splits = split_kfold(2)
  )$spaces$hill
  set.seed(2)
  parents <- data.frame(candidate = 1L, row = 1L, good = 0, front = FALSE)
  bred <- kw("bred_places")(400, parents, list(matrix(0.125)), list(kw("chances_of_moves")(space)),
    list(list(matrix(1L, 2))), 1L, 5, 0.5, FALSE)
  expect_equal(mean(bred$fresh), 0.05, tolerance = 0.6)
  moved <- unlist(bred$place[!bred$fresh])
  expect_setequal(moved, c(0.375, 0.625, 0.875))
  # the next of three is 0.53 of what is as likely as a normal density of 1.5 levels says
  expect_equal(mean(moved == 0.375), dnorm(1 / 1.5) / sum(dnorm(1:3 / 1.5)), tolerance = 0.1)
})

test_that("values are worth what the scores with them are above their candidate's mean", {
  rivals <- candidates(
    one = hill_family("one")(a = among(1, 2, 3), b = from_to(0, 1)),
    other = hill_family("other")(a = among(1, 2, 3)),
    unlike = hill_family("unlike")(a = among(1, 2))
  )
  table <- data.frame(x = 1:20, y = 1:20)
  spaces <- plan_comparison(brief(table, "y"), rivals, splits = split_kfold(2))$spaces
  known <- known_settings(spaces, list(
    one = data.frame(a = c(1, 1, 2, NA), b = c(0.5, 0.6, 0.5, 0.5)),
    other = data.frame(a = c(1, 2)), unlike = data.frame(a = c(1, 2))
  ))
  merits <- kw("merits_of_field")(known, list(c(3, 5, 1, -1), c(0, 4), c(-9, 9)))
  # 1: 1 and 3 above the mean of 2, half of -2 with the other one; 3 was never tried
  expect_equal(merits$one$a, c((1 + 3 - 1) / 3.5, (-1 + 1) / 2.5, 0))
  expect_null(merits$one$b)
})

test_that("evolution asks families how simple settings are, never of none", {
  asked <- define_family("asked", "number",
    defaults = list(a = 0), simplicity = function(settings) {
      if (length(settings$a) == 0L) stop("there are no settings")
      list(settings$a)
    },
    fit = function(x, y, weights, settings, seed, threads) abs(settings$a - 0.4),
    predict = function(model, x) rep(model, nrow(x))
  )
  rivals <- candidates(asked = asked(a = among(0:9 / 10)), hill = hill_family("hill")(
    a = from_to(0, 1), b = from_to(0, 1)
  ))
  run <- climb(rivals, search_evolve(20), 1, 2)
  expect_identical(length(run$results$candidate), 20L)
})

test_that("evolution takes long lists of values", {
  long <- candidates(long = hill_family("long")(a = among(seq_len(8000) / 8000), b = among(1:3)))
  run <- climb(long, search_evolve(24), 1, 2)
  expect_identical(length(run$results$candidate), 24L)
  # not one number for every pair of values, which would be 500 MB
  expect_lt(length(serialize(kw("chances_of_moves")(run$plan$spaces$long), NULL)), 5e6)
})

test_that("evolution goes on with a candidate that is behind", {
  rivals <- candidates(
    ahead = hill_family("ahead")(a = from_to(0, 1), b = from_to(0, 1)),
    behind = hill_family("behind")(a = from_to(0, 1), b = from_to(0, 1), top = 2)
  )
  later <- vapply(1:3, function(seed) {
    results <- climb(rivals, search_evolve(48), seed, 3)$results
    sum(results$candidate == 2L & results$round > 1L)
  }, 1)
  expect_gt(mean(later), 4)
})

test_that("evolution tries with one candidate what served another, where both vary it alike", {
  children <- function(values) {
    rivals <- candidates(
      ahead = hill_family("ahead")(a = among(0:9 / 10), b = from_to(0, 1)),
      behind = hill_family("behind")(a = among(values), b = from_to(0, 1))
    )
    table <- data.frame(x = 1:20, y = 1:20)
    spaces <- plan_comparison(brief(table, "y"), rivals, splits = split_kfold(2))$spaces
    known <- known_settings(spaces, list(
      ahead = data.frame(a = 0.7, b = 0.2), behind = data.frame(a = 0, b = 0.9)
    ))
    parents <- data.frame(candidate = 1:2, row = 1L, good = c(0, -2), front = FALSE)
    set.seed(3)
    made <- kw("bred_places")(1200, parents, lapply(known$points, `[[`, "cube"),
      lapply(spaces, kw("chances_of_moves")), known$shared, 1:2, 5, 0.5, FALSE)
    behind <- do.call(rbind, made$place[made$candidate == 2L & !made$fresh])
    mean(kw("settings_from_cube")(spaces$behind, behind)$a == 0.7)
  }
  expect_gt(children(0:9 / 10), 0.09)
  expect_lt(children(0:8 / 10), 0.02)
})

test_that("a preview times candidates that come after the first round", {
  seen <- preview(conversation_plan(search_guided(12)))
  found <- seen$candidates
  expect_identical(found$candidate[found$settings == 0L], "near")
  expect_true(all(found$fit_seconds > 0))
  expect_equal(found$seconds, found$fit_seconds * found$fits * 5)
  expect_match(capture.output(print(seen)), "near +later", all = FALSE)
  expect_match(capture.output(print(seen$plan)), "near: later", all = FALSE)
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

guided_and_screened <- function(...) {
  plan <- conversation_plan(search_guided(14, at_once = 3))
  plan_comparison(
    plan$brief, plan$candidates, splits = split_kfold(6), metrics = c("auc", "log_loss"),
    search = search_guided(14, at_once = 3), screen = screen_splits(level = 0.7, at_least = 2),
    seed = 5, ...
  )
}

test_that("figures of a search show what was proposed when, what was dropped, and the front", {
  cmp <- quiet_run(guided_and_screened(), workers = 1)
  dropped <- nrow(cmp$results$dropped)
  expect_gt(dropped, 0)
  # a cross for everything that was scored in part
  layers <- ggplot2::ggplot_build(draw_search(cmp))$data
  crosses <- Filter(function(layer) all(layer$shape == 4), layers)[[1]]
  curve <- kw("search_curve")(cmp, kw("cmp_metric")(cmp))
  expect_identical(nrow(crosses), sum(!is.na(curve$partly) & !is.na(curve$best)))
  expect_identical(sum(!is.na(curve$partly)), dropped)
  # the front: nothing simpler is as good
  data <- kw("front_data")(cmp, kw("cmp_metric")(cmp), "simplicity")
  table <- standings(cmp)
  expect_identical(nrow(data), nrow(table))
  front <- vapply(seq_len(nrow(data)), function(i) {
    simpler <- data$x < data$x[i]
    !any(simpler & data$mean >= data$mean[i])
  }, NA)
  expect_identical(data$front, front)
  expect_true(data$front[which.max(data$mean)])
  expect_match(data$label[data$front][1], "^1 .*base")
  spread <- kw("front_data")(cmp, kw("cmp_metric")(cmp), "spread")
  expect_setequal(spread$x, table$sd)
  best <- spread[spread$front, ]
  expect_false(is.unsorted(best$x, strictly = TRUE) || is.unsorted(best$mean, strictly = TRUE))
  for (against in c("simplicity", "spread", "seconds")) {
    expect_s3_class(ggplot2::ggplot_build(draw_front(cmp, against)), "ggplot_built")
  }
  # where the search went: every setting once, in the order of the rounds
  field <- kw("field_data")(cmp, "tree", c("min_leaf", "depth"), kw("cmp_metric")(cmp))
  mine <- which(cmp$results$candidate == 2)
  expect_identical(nrow(field), length(mine))
  expect_setequal(field$turn, seq_along(mine))
  expect_identical(order(field$turn), order(cmp$results$round[mine], cmp$results$row[mine]))
  expect_s3_class(ggplot2::ggplot_build(draw_field(cmp, "tree")), "ggplot_built")
  expect_error(draw_field(cmp, "base"), "No hyperparameter varies", class = "kw_error_draw")
  expect_error(draw_field(cmp, "tree", c("min_leaf", "nothing")), class = "kw_error_argument")
})

test_that("what was looked at in part is said, and corrections say which settings they know", {
  cmp <- quiet_run(guided_and_screened(), workers = 1)
  said <- paste(summary(cmp), collapse = " ")
  done <- rowSums(cmp$results$done)
  expect_match(said, paste0(sum(done == 6), " scored on all splits, ", sum(done %in% 1:5),
    " in part"))
  expect_match(said, paste0("the best of ", sum(done == 6), " settings \\(from the "))
  note <- optimism(cmp)$note[2]
  expect_match(note, paste("from the", nrow(standings(cmp)), "of", length(done), "settings"))
  whole <- quiet_run(conversation_plan(search_grid(2)), workers = 1)
  expect_false(any(grepl("in part", summary(whole))))
  expect_identical(optimism(whole)$note[2], "")
})

test_that("a search that learns prefers what meets the constraints", {
  # what fits all rows alike has the best mean of one metric and fails the other
  shift <- define_family("shift", "number",
    defaults = list(by = 0),
    fit = function(x, y, weights, settings, seed, threads) mean(y) + settings$by,
    predict = function(model, x) rep(model, nrow(x))
  )
  table <- withr::with_seed(1, data.frame(x = rnorm(60), y = rnorm(60, 10)))
  run <- function(provided) {
    quiet_run(plan_comparison(brief(table, "y"), candidates(s = shift(by = from_to(-3, 3))),
      splits = split_kfold(3), search = search_guided(15, at_once = 3),
      metrics = c("mae", "mape"), decide = "mae", provided = provided, seed = 2
    ), workers = 1)
  }
  free <- run(NULL)
  bound <- run("mape >= 15")
  late <- function(cmp) {
    at <- utils::tail(order(cmp$results$round), 9)
    cmp$results$tables$s$by[at]
  }
  expect_lt(stats::median(abs(late(free))), 1)
  mape <- rowMeans(bound$results$scores$mape)
  expect_gt(mean(utils::tail(mape[order(bound$results$round)], 9) >= 15), 0.4)
})

test_that("try_out() leads a search through a conversation, and finds what is wrong with it", {
  for (kind in c("number", "two_class")) {
    for (search in list(search_grid(2), search_random(5), search_hypercube(5), search_guided(12),
      search_evolve(12))) {
      tried <- try_out(search, toy_brief(kind))
      expect_true(all(tried$passed), info = paste(search$name, paste(tried$detail, collapse = " ")))
    }
  }
  trouble <- function(propose) {
    tried <- try_out(define_search("mine", propose), toy_brief("number"))
    tried[!tried$passed, ]
  }
  expect_match(trouble(function(field, history, arguments, memory) {
    list(settings = list(tree = data.frame(pruning = 7, min_leaf = 2, depth = 2)))
  })$detail, "pruning = 7")
  expect_identical(trouble(function(field, history, arguments, memory) {
    list(settings = list(tree = field$from_cube("tree", matrix(stats::runif(60), 20))))
  })$check, "ends")
  expect_match(trouble(function(field, history, arguments, memory) {
    if (length(history) == 0L) {
      return(list(settings = list(tree = field$from_cube("tree", matrix(0.5, 1, 3)))))
    }
    if (is.na(history$tree$mean[1])) stop("no mean")
    NULL
  })$check, "everything failed")
})

test_that("a search repeated on the same splits is drawn with a band from its worst to its best", {
  run <- function(search, search_seed) {
    plan <- conversation_plan(search)
    quiet_run(plan_comparison(plan$brief, plan$candidates,
      splits = split_kfold(5), metrics = "auc", search = search, seed = 2,
      search_seed = search_seed
    ), workers = 1)
  }
  random <- lapply(1:3, function(seed) run(search_random(6), seed))
  keys <- lapply(random, function(cmp) vapply(cmp$plan$splits, `[[`, "", "key"))
  expect_identical(keys[[1]], keys[[3]])
  expect_false(identical(random[[1]]$results$tables, random[[2]]$results$tables))
  expect_output(print(preview(random[[2]]$plan)), "Seed: 2, of the searches 2", fixed = TRUE)
  joined <- join_comparisons(
    random = random[[1]], random = random[[2]], random = random[[3]],
    grid = run(search_grid(2), NULL)
  )
  expect_identical(sum(joined$search == "random"), 3L)
  layers <- ggplot2::ggplot_build(draw_search(joined))$data
  band <- Filter(function(layer) "ymin" %in% names(layer), layers)[[1]]
  last <- vapply(random, function(cmp) max(standings(cmp)$mean), 1)
  ends <- band[band$group == 1 & band$x == max(band$x[band$group == 1]), ]
  expect_lte(max(ends$ymax), max(last))
  expect_gte(min(band$ymax - band$ymin), 0)
  expect_length(unique(band$group), 2L)
  # the same journal is not gone on with by another search seed
  file <- journal_file()
  plan <- random[[1]]$plan
  quiet_run(plan, workers = 1, journal = file)
  expect_identical(open_comparison(file)$plan$search_seed, 1L)
  expect_error(quiet_run(random[[2]]$plan, workers = 1, journal = file), class = "kw_error_journal")
})

test_that("what promises the same is tried first where its steps are there already", {
  plan <- plan_comparison(toy_brief(), candidates(
    p = pipeline(pre_onehot(), optional(pre_skew()), fam_penalised(lasso_share = among(0, 0.5, 1)))
  ), splits = split_kfold(3), metrics = "log_loss", seed = 1)
  space <- plan$spaces$p
  points <- kw("points_of")(space, plan$round$p$settings)
  skew <- points[[setdiff(names(points), c("lasso_share", "penalty"))]]
  codes <- kw("pool_of_points")(kw("with_values")(space), points, kw("no_ranges")(space))$codes
  costs <- kw("point_costs")(space, codes, codes[1, , drop = FALSE])
  expect_identical(costs, ifelse(skew == skew[1], 1, 1.1))
})
