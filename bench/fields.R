# Fields of settings that were scored once, in full, as look-up tables: six made-up tables of
# different kinds, at least 2,000 settings each. Searches and screens are judged on them without
# fitting anything; eight more tables (`practice`) are there to try changes of searches on, so that
# the six stay apart from what was changed to do well. The tables are kept in build/fields, since
# making them takes some minutes.

source("bench/common.R")

# Numbers, classes; linear, additive, interacting, thresholds, noise columns, many levels.
made_up <- list(
  linear = function(n = 1000) {
    x <- as.data.frame(matrix(stats::rnorm(n * 12), n))
    x$y <- x$V1 - 0.7 * x$V2 + 0.5 * x$V3 + stats::rnorm(n, sd = 1.5)
    list(table = x, kind = "number")
  },
  additive = function(n = 600) {
    x <- as.data.frame(matrix(stats::runif(n * 8, -2, 2), n))
    x$y <- sin(2 * x$V1) + x$V2^2 / 2 + abs(x$V3) + stats::rnorm(n, sd = 0.5)
    list(table = x, kind = "number")
  },
  interacting = function(n = 2000) {
    x <- as.data.frame(matrix(stats::rnorm(n * 6), n))
    odds <- 1.5 * x$V1 * x$V2 + x$V3 * (x$V4 > 0)
    x$y <- factor(ifelse(stats::runif(n) < stats::plogis(odds), "yes", "no"))
    list(table = x, kind = "two_class")
  },
  thresholds = function(n = 1500) {
    x <- as.data.frame(matrix(stats::runif(n * 10), n))
    p <- ifelse(x$V1 > 0.6, 0.7, ifelse(x$V2 < 0.3 & x$V3 > 0.5, 0.6, 0.15))
    x$y <- factor(ifelse(stats::runif(n) < p, "yes", "no"))
    list(table = x, kind = "two_class")
  },
  noise = function(n = 200) {
    x <- as.data.frame(matrix(stats::rnorm(n * 100), n))
    x$y <- x$V1 + x$V2 + x$V3 * x$V4 + stats::rnorm(n)
    list(table = x, kind = "number")
  },
  levels = function(n = 4000) {
    level <- sample(60, n, replace = TRUE)
    effect <- stats::rnorm(60)
    x <- data.frame(
      town = sprintf("t%02d", level), size = stats::rlnorm(n), age = stats::runif(n),
      other = sample(letters[1:8], n, replace = TRUE)
    )
    odds <- effect[level] + log(x$size) * (x$age > 0.5)
    x$y <- factor(ifelse(stats::runif(n) < stats::plogis(odds), "yes", "no"))
    list(table = x, kind = "two_class")
  }
)

practice <- list(
  curved = function(n = 500) {
    x <- as.data.frame(matrix(stats::rnorm(n * 5), n))
    x$y <- x$V1^2 + x$V1 * x$V2 - x$V3 + stats::rnorm(n)
    list(table = x, kind = "number")
  },
  skewed = function(n = 800) {
    x <- as.data.frame(matrix(stats::rlnorm(n * 10, sdlog = 1.2), n))
    x$y <- log(x$V1) + log(x$V2) - 0.5 * log(x$V3) + stats::rnorm(n)
    list(table = x, kind = "number")
  },
  hidden = function(n = 300) {
    behind <- matrix(stats::rnorm(n * 5), n)
    x <- behind %*% matrix(stats::rnorm(150), 5) + matrix(stats::rnorm(n * 30, sd = 0.7), n)
    x <- as.data.frame(x)
    x$y <- behind[, 1] - behind[, 2] + 0.5 * behind[, 3] + stats::rnorm(n)
    list(table = x, kind = "number")
  },
  groups = function(n = 600) {
    group <- sample(3, n, replace = TRUE)
    x <- as.data.frame(matrix(stats::rnorm(n * 8), n))
    x$V1 <- x$V1 + group
    x$V2 <- x$V2 + 2 * (group == 2)
    x$y <- factor(c("a", "b", "c")[group])
    list(table = x, kind = "class")
  },
  outliers = function(n = 700) {
    x <- as.data.frame(matrix(stats::rnorm(n * 8), n))
    odds <- 1.2 * x$V1 - x$V2 + 0.6 * x$V3
    y <- factor(ifelse(stats::runif(n) < stats::plogis(odds), "yes", "no"))
    for (one in names(x)) {
      far <- sample(n, 30)
      x[[one]][far] <- x[[one]][far] * stats::rlnorm(30, 2.5)
    }
    x$y <- y
    list(table = x, kind = "two_class")
  },
  sparse = function(n = 150) {
    x <- as.data.frame(matrix(stats::rnorm(n * 60), n))
    odds <- 1.5 * x$V1 - 1.5 * x$V2 + x$V3
    x$y <- factor(ifelse(stats::runif(n) < stats::plogis(odds), "yes", "no"))
    list(table = x, kind = "two_class")
  },
  mixed = function(n = 1200) {
    x <- data.frame(
      a = sample(letters[1:6], n, replace = TRUE), b = sample(LETTERS[1:12], n, replace = TRUE),
      u = stats::runif(n), v = stats::rlnorm(n), w = stats::rnorm(n)
    )
    effect <- c(-1, 0, 1, 0.5, 2, -0.5)[match(x$a, letters)]
    x$y <- effect + 3 * x$u * (x$b > "F") + log(x$v) + stats::rnorm(n)
    list(table = x, kind = "number")
  },
  circles = function(n = 900) {
    x <- as.data.frame(matrix(stats::rnorm(n * 8), n))
    odds <- 1.5 * (x$V1^2 + x$V2^2 + x$V3^2 - 2.5)
    x$y <- factor(ifelse(stats::runif(n) < stats::plogis(odds), "yes", "no"))
    list(table = x, kind = "two_class")
  }
)

# The same field for all: linear, tree, neighbours and boosted, with choices of preparation.
field_candidates <- function(one) {
  categories <- any(vapply(one$table, is.character, NA))
  ready <- if (categories) {
    list(either(mean = pre_target_mean(), indicators = pre_onehot()))
  } else {
    list(optional(pre_skew()))
  }
  candidates(
    penalised = pipeline(ready, pre_scale(), fam_penalised(
      penalty = from_to(1e-4, 1, "log", points = 20), lasso_share = from_to(0, 1, points = 11)
    )),
    tree = fam_tree(
      pruning = from_to(1e-4, 0.1, "log", points = 16),
      min_leaf = from_to(2, 100, "log", points = 12),
      depth = among(3, 6, 12, 30)
    ),
    near = pipeline(ready, pre_scale(), fam_neighbours(
      neighbours = from_to(1, 60, "log", points = 12),
      weighting = among("equal", "inverse", "fading")
    )),
    boosted = pipeline(ready, fam_boosted(
      trees = among(30, 60, 120, 240), depth = among(1, 2, 3, 4, 6),
      rate = from_to(0.02, 0.5, "log", points = 6), row_share = among(0.5, 0.75, 1)
    ))
  )
}

# A field in which mostly steps are chosen: six choices before each of three families.
structured_candidates <- function(one) {
  ready <- list(
    pre_onehot(), optional(pre_skew()), optional(pre_outliers()), optional(pre_drop_correlated()),
    either(plain = as_is(), squares = pre_polynomial(), bins = pre_bins()),
    either(sd = pre_scale(), range = pre_scale(by = "range")),
    either(all = as_is(), parts = pre_components(), best = pre_keep_top(top = 5))
  )
  candidates(
    penalised = pipeline(ready, fam_penalised(lasso_share = among(0, 0.3, 0.7, 1))),
    near = pipeline(ready, fam_neighbours(neighbours = among(3, 9, 27))),
    tree = pipeline(ready, fam_tree(min_leaf = among(2, 5, 12, 30), depth = among(4, 12)))
  )
}

field_kinds <- list(values = field_candidates, steps = structured_candidates)

field_plan <- function(name, folds = 5, repeats = 1, field = "values", ...) {
  tables <- c(made_up, practice)
  set.seed(match(name, names(tables)))
  one <- tables[[name]]()
  plan_comparison(
    if (one$kind == "two_class") brief(one$table, "y", event = "yes") else brief(one$table, "y"),
    field_kinds[[field]](one),
    splits = split_kfold(folds, repeats), seed = 1, ...
  )
}

# A comparison of the whole field, made once.
scored_field <- function(name, folds = 5, repeats = 1, field = "values") {
  dir.create("build/fields", showWarnings = FALSE, recursive = TRUE)
  file <- file.path(
    "build/fields", paste0(name, "-", field, "-", folds, "x", repeats, ".rds")
  )
  if (!file.exists(file)) {
    cmp <- run_comparison(field_plan(name, folds, repeats, field), quiet = TRUE)
    saveRDS(cmp[c("plan", "results", "rounds", "ledger", "seconds")], file)
  }
  readRDS(file)
}
