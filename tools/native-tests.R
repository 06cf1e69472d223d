# Reaches all of the compiled code through the public functions, over tables of random shape with
# gaps, infinite and repeated values, levels that only some rows have, weights; for
# tools/check-native.sh, which watches the memory meanwhile.

suppressPackageStartupMessages(library(kilnwright))

odd_table <- function(seed) {
  set.seed(seed)
  n <- sample(c(36, 60, 77, 160), 1)
  gaps <- function(x) replace(x, sample(n, n %/% 6), NA)
  data.frame(
    y = rep_len(sample(c("a", "b", "c"), 3), n)[sample(n)], z = round(rnorm(n), sample(0:3, 1)),
    one = gaps(rnorm(n)), tied = gaps(sample(0:2, n, TRUE)),
    huge = rnorm(n) * 10^sample(-5:5, n, TRUE),
    level = gaps(sample(c(letters, "\u00e9", "it's"), n, TRUE)),
    flag = sample(c(TRUE, FALSE), n, TRUE),
    w = sample(c(0.5, 1, 2), n, TRUE)
  )
}

# Every metric that there is for a kind of outcome, but for those that want more from the brief.
metrics_for <- function(kind) {
  table <- list_metrics()
  setdiff(table$metric[grepl(kind, table$for_outcome)], c("case_cost", "mape", "rmsle", "smape",
    "poisson_deviance", "gamma_deviance"))
}

rivals_for <- function(classes) {
  filled <- list(
    pre_missing(fill = "nearest", neighbours = 3), pre_rare_levels(at_least = 3), pre_onehot()
  )
  named <- list(
    tree = fam_tree(pruning = among(0, 0.01, 0.3), min_leaf = among(1, 4)),
    forest = pipeline(filled, fam_forest(trees = among(1, 7, 20))),
    near = pipeline(filled, pre_scale(), fam_neighbours(
      neighbours = among(1, 3, 50), weighting = among("equal", "fading")
    )),
    linear = pipeline(filled, fam_penalised(penalty = among(0.01, 1)))
  )
  if (classes) named$balanced <- pipeline(filled, pre_balance(by = "synthetic"), fam_tree())
  do.call(candidates, named)
}

run_one <- function(seed, kind) {
  table <- odd_table(seed)
  classes <- kind != "numbers"
  if (kind == "two classes") table$y <- ifelse(table$y == "c", "a", table$y)
  job <- brief(table, if (classes) "y" else "z",
    weight = if (seed %% 2 == 0) "w", ignore = c(if (seed %% 2 == 1) "w", if (classes) "z" else "y")
  )
  journal <- tempfile(fileext = ".sqlite")
  on.exit(unlink(journal))
  run <- function() {
    run_comparison(job, rivals_for(classes),
      splits = if (seed %% 3 == 0) split_bootstrap(4) else split_kfold(3),
      metrics = metrics_for(kind),
      seed = seed, journal = journal, limits = limits(fit_seconds = 60), keep = "training_scores",
      quiet = TRUE, workers = 1
    )
  }
  cmp <- suppressWarnings(run())
  again <- suppressWarnings(run())
  stopifnot(identical(standings(cmp)$mean, standings(again)$mean))
  model <- suppressWarnings(fit_final(select_final(cmp, rule = "best_mean")))
  new <- table[c(1, 1, nrow(table)), ]
  new$level <- c("never seen", NA, "a")
  stopifnot(nrow(suppressWarnings(predict(model, new))) == 3L)
  file <- tempfile(fileext = ".kilnwright")
  save_model(model, file)
  suppressWarnings(predict(open_model(file, trust = TRUE), new[1, ]))
  sum(!is.na(standings(cmp)$place))
}

# A search whose forest learns from settings of all kinds, and one that breeds them.
searched <- function(seed) {
  table <- odd_table(seed)
  field <- candidates(
    tree = pipeline(optional(pre_outliers()), fam_tree(
      pruning = from_to(1e-4, 0.1, "log"), min_leaf = among(1, 4, 9), depth = from_to(2, 9)
    )),
    base = fam_baseline()
  )
  searches <- list(search_guided(16, surrogate = "forest"), search_evolve(40))
  sum(vapply(searches, function(search) {
    cmp <- suppressWarnings(run_comparison(brief(table, "z", ignore = c("w", "y")), field,
      splits = split_kfold(5), search = search, seed = seed, quiet = TRUE, workers = 1
    ))
    nrow(standings(cmp))
  }, 1L))
}

seeds <- if (nzchar(Sys.getenv("KILNWRIGHT_NATIVE_SHORT"))) 2 else 1:8
for (kind in c("two classes", "many classes", "numbers")) {
  ranked <- vapply(seeds, run_one, 1, kind = kind)
  cat(kind, ": ranked settings", ranked, "\n")
  stopifnot(any(ranked > 0))
}
cat("searched : settings", vapply(seeds, searched, 1L), "\n")
