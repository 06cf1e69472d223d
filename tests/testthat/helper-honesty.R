# Simulations of what scores, ties and intervals claim. The tests run a few of each, bench/
# honesty.R many.

simulate <- function(runs, one) vapply(seq_len(runs), one, numeric(1))

# Two candidates that are alike: each has one of two columns of equal worth. Is a pair of them
# called different?
alike_called_different <- function(seed, splits, n = 60) {
  as.numeric(compare_pairs(alike_compared(seed, splits, n), margin = 0)$answer != "cannot tell")
}

# The same after more repeats, as long as they cannot be told apart: is any look deceived?
alike_settled_different <- function(seed, splits, repeats, n = 60) {
  settled <- settle(alike_compared(seed, splits, n), repeats, margin = 0, quiet = TRUE, workers = 1)
  as.numeric(any(settled$settled$worse > 0))
}

alike_compared <- function(seed, splits, n) {
  set.seed(seed)
  table <- data.frame(x1 = stats::rnorm(n), x2 = stats::rnorm(n))
  table$y <- table$x1 + table$x2 + stats::rnorm(n)
  alike <- candidates(
    a = pipeline(pre_drop(columns = "x2"), fam_linear()),
    b = pipeline(pre_drop(columns = "x1"), fam_linear())
  )
  quiet_run(brief(table, "y"), alike, splits = splits, metrics = "rmse", seed = seed)
}

# Balanced accuracy, truth 0.5, of a threshold that is chosen on noise.
threshold_on_noise <- function(seed, splits, n = 80) {
  set.seed(seed)
  table <- data.frame(x = stats::rnorm(n), y = rep(c("no", "yes"), n / 2))
  cmp <- quiet_run(
    brief(table, "y"), candidates(l = fam_linear()),
    splits = splits, metrics = "log_loss", seed = seed
  )
  choice <- set_threshold(select_final(cmp, "best_mean"), best = "balanced_accuracy")
  choice$threshold$scores["balanced_accuracy", "mean"]
}

# Does the set-aside interval hold the model's true mean absolute error? Rows of a group share
# an error.
set_aside_covers <- function(seed, groups) {
  set.seed(seed)
  made <- function(groups) {
    group <- rep(seq_len(groups), each = 8)
    data.frame(
      g = paste0("g", group), x = stats::rnorm(8 * groups),
      y = stats::rnorm(groups, sd = 1)[group] + stats::rnorm(8 * groups, sd = 0.5)
    )
  }
  # so many sealed groups, and as many to learn from
  job <- set_aside(brief(made(2 * groups), "y", group = "g"), share = 0.5, seed = seed)
  cmp <- quiet_run(
    job, candidates(b = fam_baseline()),
    splits = split_kfold(2), metrics = "mae", seed = seed
  )
  model <- fit_final(select_final(cmp, "best_mean"))
  found <- suppressWarnings(score_set_aside(model, draws = 200))
  truth <- made(2000)
  error <- mean(abs(truth$y - predict(model, truth)$value))
  found$low <= error && error <= found$high
}

# The correction of the bootstrap with one setting, which must be none.
correction_of_one <- function(seed, kind, metric) {
  cmp <- quiet_run(
    toy_brief(kind, toy(120, seed)), candidates(t = fam_tree()),
    splits = split_kfold(5), metrics = metric, seed = seed, keep = "all_predictions"
  )
  found <- optimism(cmp, draws = 100)
  found$optimism[found$estimate == "bootstrap"]
}

# Place of a column without any worth that has 40 levels, among others of which half matter.
place_of_noise <- function(seed, by, n = 300) {
  set.seed(seed)
  table <- data.frame(
    noise = factor(sample(sprintf("l%02d", 1:40), n, replace = TRUE)),
    real = factor(sample(letters[1:3], n, replace = TRUE)),
    a = stats::rnorm(n), b = stats::rnorm(n)
  )
  y <- factor(stats::runif(n) < stats::plogis(table$a + 1.5 * (table$real == "a") - 0.5))
  score <- kw("judge_columns")(kw("new_frame")(table), names(table), y, by)
  rank(-score)[["noise"]]
}

# What searches and screens find on pure noise, where every AUC is 0.5: the mean of the outer
# scores, and the leader's mean, which is the best of many.
selected_on_noise <- function(seed, search, screen, nested = TRUE) {
  set.seed(seed)
  table <- as.data.frame(matrix(stats::rnorm(100 * 5), 100))
  table$y <- rep(c("no", "yes"), 50)
  plan <- plan_comparison(
    brief(table, "y", event = "yes"),
    candidates(
      tree = fam_tree(pruning = from_to(0.001, 0.1, "log"), min_leaf = from_to(2, 20)),
      near = pipeline(optional(pre_skew()), pre_scale(), fam_neighbours(
        neighbours = from_to(1, 25)
      ))
    ),
    splits = split_kfold(6), search = search, metrics = "auc", seed = seed, screen = screen
  )
  if (!nested) return(standings(quiet_run(plan, workers = 1))$mean[1])
  found <- assess_selection(plan, split_kfold(5), "best_mean", workers = 1, quiet = TRUE)
  mean(found$scores$outer)
}

# How much larger the true error of a rule's choice is than that of the best candidate, on ten
# sites that are alike, or unlike in difficulty, left out in turn.
regret_of_rule <- function(seed, rule, unlike) {
  set.seed(seed)
  made <- function(per) {
    site <- rep(1:10, each = per)
    x <- stats::rnorm(10 * per)
    noise <- stats::rnorm(10 * per, sd = if (unlike) site / 3 else 1.5)
    data.frame(site = paste0("s", site), x = x, k = stats::rnorm(10 * per), y = x / 2 + noise)
  }
  table <- made(20)
  truth <- made(2000)
  cmp <- quiet_run(brief(table, "y", group = "site"),
    candidates(mean = fam_baseline(), line = fam_linear(), tree = fam_tree()),
    splits = split_leave_group(), metrics = "rmse", seed = seed, workers = 1
  )
  error <- function(...) {
    model <- fit_final(select_final(cmp, ...))
    sqrt(mean((predict(model, truth)$value - truth$y)^2))
  }
  best <- min(vapply(names(cmp$plan$spaces), function(one) error("best_mean", candidate = one), 1))
  error(rule) - best
}

# Tables of which little is known: `kind` says what is hard about them.
hard_table <- function(kind, n) {
  table <- as.data.frame(matrix(stats::rnorm(n * 8), n))
  outcome <- function(p) factor(ifelse(stats::runif(n) < p, "yes", "no"), c("no", "yes"))
  group <- rep(seq_len(ceiling(n / 8)), each = 8)[seq_len(n)]
  table$y <- switch(kind,
    noise = outcome(0.5),
    signal = outcome(stats::plogis(table$V1 + table$V2 * table$V3)),
    imbalance = outcome(stats::plogis(-1.8 + table$V1)),
    tails = table$V1 + table$V2 * (table$V3 > 0) + stats::rt(n, 4),
    groups = table$V1 + stats::rnorm(max(group), sd = 0.7)[group] + stats::rnorm(n)
  )
  if (kind == "groups") table$g <- paste0("g", group)
  table
}

# What share of fresh rows intervals of 90 %, or sets of classes, hold.
intervals_hold <- function(seed, kind, n = 104, fresh = 4000) {
  set.seed(seed)
  table <- hard_table(kind, n)
  truth <- hard_table(kind, fresh)
  job <- brief(table, "y", group = if (kind == "groups") "g")
  cmp <- quiet_run(job, candidates(f = fam_forest(trees = 50)), seed = seed, workers = 1,
    splits = split_kfold(8), metrics = if (is.factor(table$y)) "log_loss" else "rmse"
  )
  model <- fit_final(select_final(cmp), intervals = TRUE)
  found <- predict(model, truth, type = "interval", level = 0.9)
  if (!is.factor(table$y)) return(mean(found$low <= truth$y & truth$y <= found$high))
  mean(ifelse(truth$y == "yes", found$may_be_yes, found$may_be_no))
}

# Does the interval of honest_score() hold the final model's true score, or that of nested
# resampling, if `outer` splits are given?
honest_covers <- function(seed, kind, splits, rule, n = 104, fresh = 8000, outer = NULL) {
  set.seed(seed)
  table <- hard_table(kind, n)
  truth <- hard_table(kind, fresh)
  classes <- is.factor(table$y)
  job <- do.call(brief, c(
    list(table, "y"), if (classes) list(event = "yes"), if (kind == "groups") list(group = "g")
  ))
  metric <- c(
    noise = "auc", signal = "log_loss", imbalance = "auc", tails = "rmse", groups = "rmse"
  )
  rivals <- candidates(
    penalised = fam_penalised(
      penalty = from_to(1e-3, 1, spacing = "log", points = 20), lasso_share = among(0, 0.5, 1)
    ),
    tree = fam_tree(
      pruning = from_to(1e-3, 0.1, spacing = "log", points = 20), min_leaf = among(3, 10)
    ),
    baseline = fam_baseline()
  )
  cmp <- quiet_run(job, rivals,
    splits = splits, search = search_grid(), metrics = metric[[kind]], seed = seed, workers = 1
  )
  choice <- select_final(cmp, rule)
  found <- predict(fit_final(choice), truth, type = if (classes) "probability" else "value")
  yes <- truth$y == "yes"
  error <- switch(metric[[kind]],
    auc = (mean(rank(found$p_yes)[yes]) - (sum(yes) + 1) / 2) / sum(!yes),
    log_loss = -mean(log(ifelse(yes, found$p_yes, 1 - found$p_yes))),
    rmse = sqrt(mean((truth$y - found$value)^2))
  )
  at <- if (is.null(outer)) {
    honest_score(choice)
  } else {
    nested <- assess_selection(cmp, outer = outer, rule = rule, workers = 1, quiet = TRUE)
    utils::tail(optimism(cmp, nested = nested, draws = 20), 1)
  }
  as.numeric(at$low <= error + 1e-9 && error - 1e-9 <= at$high)
}

# Two candidates whose true difference is just the margin: each has one of two columns, of which one
# is worth more; or, not `learned`, two constants of which one misses. Are they called practically
# the same?
apart_called_same <- function(seed, splits, learned = TRUE, n = 150) {
  set.seed(seed)
  table <- data.frame(x1 = stats::rnorm(n), x2 = stats::rnorm(n))
  table$y <- if (learned) table$x1 + 0.7 * table$x2 + stats::rnorm(n) else stats::rnorm(n)
  constant <- define_family("constant",
    kinds = "number", fit = function(x, y, weights, settings, seed, threads) settings$value,
    predict = function(model, x) rep(model, nrow(x)), defaults = list(value = 0)
  )
  rivals <- if (learned) {
    candidates(
      a = pipeline(pre_drop(columns = "x2"), fam_linear()),
      b = pipeline(pre_drop(columns = "x1"), fam_linear())
    )
  } else {
    candidates(near = constant(), far = constant(value = sqrt(0.21)))
  }
  cmp <- quiet_run(brief(table, "y"), rivals,
    splits = splits, metrics = "rmse", seed = seed, workers = 1
  )
  margin <- if (learned) sqrt(2) - sqrt(1.49) else 0.1
  as.numeric(compare_pairs(cmp, margin = margin)$answer == "the same")
}

log_loss_on <- function(model, truth) {
  p <- predict(model, truth, type = "probability")$p_yes
  -mean(log(pmin(pmax(ifelse(truth$y == "yes", p, 1 - p), 1e-15), 1)))
}

# c(bias, gain): the blend's mean log loss less that on fresh rows, and what a blend loses on fresh
# rows less what the best single candidate by mean loses.
blend_on_fresh <- function(seed, n = 200, fresh = 8000) {
  set.seed(seed)
  table <- hard_table("signal", n)
  truth <- hard_table("signal", fresh)
  cmp <- quiet_run(brief(table, "y", event = "yes"), candidates(
    penalised = fam_penalised(penalty = among(0.1, 0.03, 0.01)), forest = fam_forest(trees = 100),
    near = pipeline(pre_scale(), fam_neighbours(neighbours = among(10, 30)))
  ), splits = split_kfold(8), metrics = "log_loss", seed = seed, workers = 1,
  keep = "all_predictions")
  single <- select_final(cmp, "best_mean")
  choice <- select_final(blend(cmp), "best_mean", candidate = "blend")
  found <- log_loss_on(fit_final(choice), truth)
  c(bias = choice$mean - found, gain = found - log_loss_on(fit_final(single), truth))
}

# Slope of the log odds on fresh rows (1: neither too certain nor not certain enough), of naive
# Bayes on columns that repeat one another.
slope_on_fresh <- function(seed, by, n = 400, fresh = 8000) {
  set.seed(seed)
  made <- function(n) {
    table <- hard_table("imbalance", n)
    for (name in paste0("twin", 1:3)) table[[name]] <- table$V1 + stats::rnorm(n, sd = 0.3)
    table
  }
  cmp <- quiet_run(brief(made(n), "y", event = "yes"),
    candidates(b = pipeline(pre_recalibrate(by = by), fam_naive_bayes())),
    splits = split_holdout(0.2, draws = 1), metrics = "log_loss", seed = seed, workers = 1
  )
  truth <- made(fresh)
  p <- predict(fit_final(select_final(cmp, "best_mean")), truth, type = "probability")$p_yes
  odds <- stats::qlogis(pmin(pmax(p, 1e-6), 1 - 1e-6))
  stats::coef(stats::glm(truth$y == "yes" ~ odds, family = stats::binomial()))[[2]]
}
