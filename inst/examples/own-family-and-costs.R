# A family of one's own beside shipped ones, a cost for each mistake, and the decision
# threshold that follows from it. Run it with:
#   Rscript inst/examples/own-family-and-costs.R

library(kilnwright)

job <- brief(demo_pots(),
  outcome = "cracked", event = "yes", id = "pot_id", group = "firing_id",
  ignore = c("shrinkage_pct", "grade"),
  missing_codes = list(glaze = "n/r", drying_days = -999)
) |>
  set_aside(share = 0.2, seed = 7)

# What does a hyperparameter mean, and what would be sensible for this table?
print(describe_family("boosted", job))

# Predicts the share of events among the training rows with the nearest value of the
# best single column. One fit serves every width, so `width` is a path.
fam_one_column <- define_family("one_column",
  kinds = "two_class", path = "width",
  fit = function(x, y, weights, settings, seed, threads) {
    event <- as.integer(y) == 2L
    apart <- abs(colMeans(x[event, , drop = FALSE]) - colMeans(x[!event, , drop = FALSE])) / (apply(
      x, 2, stats::sd
    ) + 1e-9)
    best <- which.max(apart)
    order <- order(x[, best])
    list(column = best, x = x[order, best], event = event[order])
  },
  predict = function(model, x, values) {
    sums <- cumsum(c(0, model$event))
    n <- length(model$x)
    at <- findInterval(x[, model$column], model$x)
    p <- sapply(values, function(width) {
      from <- pmax(0, at - width)
      to <- pmin(n, at + width)
      (sums[to + 1] - sums[from + 1]) / pmax(1, to - from)
    })
    p <- matrix(p, nrow(x))
    aperm(array(c(1 - p, p), c(nrow(x), length(values), 2)), c(1, 3, 2))
  },
  defaults = list(width = 50)
)
print(try_out(fam_one_column, job))

ready <- list(pre_missing(), pre_rare_levels(at_least = 20), pre_onehot())
rivals <- candidates(
  baseline = fam_baseline(),
  one_column = pipeline(ready, fam_one_column(width = among(25, 50, 100, 200))),
  neighbours = pipeline(
    ready,
    pre_scale(),
    fam_neighbours(neighbours = from_to(5, 100, "log", 6), weighting = among("equal", "fading"))
  ),
  boosted = fam_boosted(trees = from_to(20, 200, points = 10), depth = among(1, 3))
)

# A cracked pot that is sold costs ten times as much as a good one fired again.
plan <- plan_comparison(
  job,
  rivals,
  splits = split_kfold(5),
  metrics = list("auc", "log_loss", metric_cost(missed = 10, false_alarm = 1)),
  decide = "auc",
  provided = "log_loss < 0.6",
  seed = 41
)
print(preview(plan))
print(check_splits(plan))
cmp <- run_comparison(plan, keep = "training_scores", quiet = TRUE)
print(cmp)

choice <- set_threshold(select_final(cmp), costs = c(missed = 10, false_alarm = 1))
print(choice)
model <- fit_final(choice)
print(score_set_aside(model))
